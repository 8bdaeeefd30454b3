"""The setup that a template makes, and a setup brought up to date with another version of its template."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from leitwerk.errors import QuantityError, SetupError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import format_number, parse_quantity
from leitwerk.parsing.yaml_edit import YamlText, entry_lines, flow_text
from leitwerk.parsing.yaml_text import Map, Value, comparable, parse_yaml
from leitwerk.setup.template import DEVICE, NUMBER, PLACEHOLDER, Template


@dataclass(frozen=True)
class FilledTemplate:
    """The setup that a template makes with some parameters.

    ``chosen`` says which parameter gave the entry at a path; what is not in it is fixed.
    """

    text: str
    chosen: Mapping[KeyPath, str]


def fill_in(
    template: Template, values: Mapping[str, str], device: Mapping[str, str]
) -> FilledTemplate:
    """The setup of a template.

    Parameters
    ----------
    values : mapping
        Parameters in place of their defaults.
    device : mapping
        ``model``, ``at`` and ``serial``.

    Raises
    ------
    QuantityError
        A parameter cannot have its value, or the template cannot be filled in.

    """
    checked = template.checked(values)
    chosen: dict[KeyPath, str] = {}
    body = _fill(template, template.body, {**checked, **device}, chosen, ())
    held = {
        "template": template.entry.name,
        "version": str(template.entry.version),
        "parameters": checked,
    }
    tail = "\n".join(entry_lines("made_from", held, 0))
    return FilledTemplate(f"{body.rstrip()}\n\n{tail}\n", chosen)


def _fill(
    template: Template,
    text: str,
    values: Mapping[str, str],
    chosen: dict[KeyPath, str],
    above: KeyPath,
) -> str:
    edit = YamlText(text)
    done: set[KeyPath] = set()
    for path, scalar in edit.texts():
        place = next((path[: k + 1] for k, key in enumerate(path) if PLACEHOLDER.search(key)), None)
        if place is not None:
            if place not in done:
                done.add(place)
                edit.replace_lines(place, _special(template, edit, place, values, chosen, above))
        elif PLACEHOLDER.search(scalar):
            edit.set(path, _filled(scalar, values))
            names = [match[1] for match in PLACEHOLDER.finditer(scalar)]
            chosen[(*above, *path)] = names[0]
    return edit.edited()


def _filled(text: str, values: Mapping[str, str]) -> str:
    def value(match: re.Match[str]) -> str:
        if match[2] == NUMBER:
            return format_number(parse_quantity(values[match[1]]).value)
        return values[match[1] if match[2] is None else f"{match[1]}.{match[2]}"]

    return PLACEHOLDER.sub(value, text)


def _special(
    template: Template, edit: YamlText, place: KeyPath, values: Mapping[str, str],
    chosen: dict[KeyPath, str], above: KeyPath,
) -> list[str]:  # fmt: skip
    """The lines in place of a key with a placeholder: those of a choice, or repeats of its own."""
    match = PLACEHOLDER.search(place[-1])
    assert match is not None
    parameter = template.entry.parameters[match[1]]
    indent = edit.indent_below(place[:-1])
    if parameter.choices:
        lines = []
        for key, content in parameter.choices[values[match[1]]].items():
            lines += entry_lines(key, content, indent)
            for way in _ways(content, (key,)):
                chosen[(*above, *place[:-1], *way)] = match[1]
        return lines
    count = int(parse_quantity(values[match[1]]).value)
    lines = []
    for number in range(1, count + 1):
        own = {f"{match[1]}.{key}": each[number - 1] for key, each in parameter.each.items()}
        key = PLACEHOLDER.sub(str(number), place[-1])
        part = edit.slice(place).replace(place[-1], key, 1)
        one = _fill(
            template, part, {**values, match[1]: str(number), **own}, chosen, (*above, *place[:-1])
        )
        lines += [f"{' ' * indent}{line}".rstrip() for line in one.splitlines()]
    return lines


def _ways(content: Any, path: KeyPath) -> list[KeyPath]:
    if isinstance(content, Mapping) and content:
        return [way for key, value in content.items() for way in _ways(value, (*path, key))]
    return [path]


# ---------------------------------------------------------------------- another version


@dataclass(frozen=True, slots=True)
class Renewal:
    """One difference between two versions of a template, and what becomes of it in a setup.

    ``done`` is one of ``taken over``, ``added``, ``removed`` and ``kept``: what was changed by hand stays.
    """

    path: str
    done: str
    before: str
    after: str

    def __str__(self) -> str:
        if self.done == "kept":
            other = (
                f"the template has {self.after}" if self.after else "the template has it no more"
            )
            return f"{self.done:10} {self.path}: {self.before or 'removed by hand'}; {other}"
        if self.done == "added":
            return f"{self.done:10} {self.path}: {self.after}"
        if self.done == "removed":
            return f"{self.done:10} {self.path}: {self.before}"
        return f"{self.done:10} {self.path}: {self.before} → {self.after}"


def renew_text(text: str, base: str, newer: str) -> tuple[str, list[Renewal]]:
    """The text of a setup with what is different between two versions of what its template makes.

    Parameters
    ----------
    text : str
        The setup as it is.
    base, newer : str
        What the template made when the setup was made, and what it makes now.

    Returns
    -------
    text, renewals
        Comments, order, and whatever was changed by hand stay.

    """
    edit = YamlText(text)
    mine, old, new = (_parsed(one) for one in (text, base, newer))
    renewals: list[Renewal] = []
    _merge(edit, YamlText(newer), mine, old, new, (), renewals.append)
    edit.set(("made_from",), new["made_from"])
    return edit.edited(), renewals


def _parsed(text: str) -> Map:
    root = parse_yaml(text, Findings("setup"))
    if root is None:
        raise QuantityError("the setup cannot be read", remedy="run 'leitwerk check' on it")
    return root


def _shown(value: Value | None) -> str:
    return "" if value is None else flow_text(value)


def _same(one: Value | None, other: Value | None) -> bool:
    if one is None or other is None:
        return one is other
    return comparable(one) == comparable(other)


def _merge(
    edit: YamlText, source: YamlText, mine: Map, base: Map, newer: Map, path: KeyPath,
    tell: Callable[[Renewal], None],
) -> None:  # fmt: skip
    before = None
    for key, new in newer.items():
        old, own, place = base.get(key), mine.get(key), (*path, key)
        name = ".".join(place)
        if path == () and key in {"device", "made_from"}:
            pass  # which device it is stands in the setup; what it was made from is written anew
        elif _same(old, new) or _same(own, new):
            pass
        elif isinstance(new, Map) and isinstance(own, Map) and isinstance(old, Map | None):
            _merge(edit, source, own, old or Map(), new, place, tell)
        elif own is None and old is None:
            _add(edit, source, place, new, before)
            tell(Renewal(name, "added", "", _shown(new)))
        elif own is not None and _same(own, old):
            edit.set(place, new)
            tell(Renewal(name, "taken over", _shown(own), _shown(new)))
        else:
            tell(Renewal(name, "kept", _shown(own), _shown(new)))
        before = key if key in mine else before
    for key, old in base.items():
        own, place = mine.get(key), (*path, key)
        if key in newer or own is None or (path == () and key == "made_from"):
            continue
        if _same(own, old):
            edit.remove(place)
            tell(Renewal(".".join(place), "removed", _shown(own), ""))
        else:
            tell(Renewal(".".join(place), "kept", _shown(own), ""))


def _add(edit: YamlText, source: YamlText, place: KeyPath, new: Value, after: str | None) -> None:
    """Add an entry; one on lines of its own with the comments that the template has there."""
    if edit.stands_on_lines(place[:-1]) and source.stands_on_lines(place[:-1]):
        indent = " " * edit.indent_below(place[:-1])
        lines = [f"{indent}{line}".rstrip() for line in source.slice(place).splitlines()]
        edit.insert_lines(place[:-1], lines, after=after)
    else:
        edit.insert(place, new, after=after)


def parse_answers(text: bytes, file: str) -> dict[str, str]:
    """Parameters of a template from a file of lines ``name: value``.

    Raises
    ------
    SetupError
        The text has something else.

    """
    findings = Findings(file)
    root = parse_yaml(text, findings) or Map()
    for name, value in root.items():
        if not isinstance(value, str):
            findings.error("bad-value", (name,), f"{name} is a text, a number or a quantity")
    if findings.has_errors:
        raise SetupError(file, findings.sorted())
    return {name: str(value) for name, value in root.items()}


def device_of(root: Mapping[str, Any]) -> dict[str, str]:
    """Which device a setup is for, as its file has it."""
    section = root.get("device")
    held = section if isinstance(section, Mapping) else {}
    return {key: str(held.get(key, "?")) for key in DEVICE}
