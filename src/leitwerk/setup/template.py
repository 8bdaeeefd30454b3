"""Templates of setups: what is fixed, what may be chosen, and what must be wired where."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any, TypeAlias

from pydantic import Field

from leitwerk.errors import QuantityError, SetupError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.models import Model, text_of, validate
from leitwerk.parsing.quantities import format_value, parse_quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.parsing.yaml_text import List, Map, Value, parse_yaml
from leitwerk.setup.fields import (
    CellField,
    FormatVersion,
    Line,
    RangeField,
    text_schema,
    whole_number,
)

MOST_REPEATS, _MOST_VERSION = 64, 9999
PLACEHOLDER = re.compile(r"<([a-z]\w{0,39})(?:\.([a-z]\w{0,39}))?>")
_NAME = re.compile(r"[a-z]\w{0,39}")
NUMBER = "number"  # <limit.number> is a quantity without its unit
# What is asked for every template: which device it is.
DEVICE = ("model", "at", "serial")


TemplateVersion = Annotated[
    int, whole_number(_MOST_VERSION, "a version", least=1),
    text_schema("Version of the template, 1 and up", "1", numbers=True),
]  # fmt: skip


class TemplateParameter(Model):
    """What may be chosen: a quantity within ``span``, one of ``choices``, a ``text``, or a number of repeats.

    Each choice brings entries of the setup, which stand where a key ``<name>`` stands.
    """

    ask: Line = Field(description="The question")
    help: Line = Field(description="A sentence of help")
    default: CellField = Field(description="What holds where nothing is answered")
    span: RangeField | None = None
    choices: dict[str, dict[str, Any]] = Field(default_factory=dict)
    text: Annotated[
        int | None, whole_number(200, "a number of characters", least=1),
        text_schema("A text of so many characters at most", "60", numbers=True),
    ] = None  # fmt: skip
    repeats: RangeField | None = Field(
        None, description="How often the entries are repeated whose key holds <name>"
    )
    each: dict[str, list[Line]] = Field(
        default_factory=dict, description="What is different in each repeat: <name.terminal>"
    )


class TemplateFile(Model):
    """The file of a template, but for the setup that it makes, which stands last in it."""

    template: FormatVersion
    name: Line
    version: TemplateVersion
    summary: Line
    fits: list[Line] = Field(min_length=1, description="The device models that it is for")
    wiring: dict[str, Line] = Field(
        default_factory=dict, description="What must be wired to each terminal"
    )
    changes: dict[str, Line] = Field(
        default_factory=dict, description="What came with each version"
    )
    parameters: dict[str, TemplateParameter] = Field(default_factory=dict)


class MadeFrom(Model):
    """The template that a setup was made from."""

    template: Line
    version: TemplateVersion
    parameters: dict[str, CellField] = Field(default_factory=dict)


ParameterValues: TypeAlias = Mapping[str, str]


@dataclass(frozen=True)
class Template:
    """A template of setups.

    ``body`` is the text of the setup with its placeholders, ``content`` that of its whole file.
    """

    file: str
    entry: TemplateFile
    body: str
    first_line: int
    root: Map

    def __repr__(self) -> str:
        return f"<Template {self}: {self.entry.summary}>"

    def __str__(self) -> str:
        return f"{self.entry.name}, version {self.entry.version}"

    @property
    def defaults(self) -> dict[str, str]:
        """The parameters that hold where nothing else is said."""
        return {name: one.default for name, one in self.entry.parameters.items()}

    def checked(self, values: ParameterValues) -> dict[str, str]:
        """All parameters, with these values in place of the defaults.

        Raises
        ------
        QuantityError
            There is no such parameter, or it cannot have this value.

        """
        for name in values:
            if name not in self.entry.parameters:
                raise QuantityError(
                    f"the template {self.entry.name} has no parameter {name[:40]!r}",
                    valid=", ".join(self.entry.parameters),
                )
        return {
            name: check_value(name, one, values.get(name, one.default))
            for name, one in self.entry.parameters.items()
        }


def valid_values(parameter: TemplateParameter) -> str:
    """What a parameter may be, for people."""
    if parameter.choices:
        return " | ".join(parameter.choices)
    if parameter.text is not None:
        return f"a text of at most {parameter.text} characters"
    span = parameter.span or parameter.repeats
    return str(span)


def check_value(name: str, parameter: TemplateParameter, typed: str) -> str:
    """The value of a parameter as it is kept: in its unit, within its span.

    Raises
    ------
    QuantityError
        The parameter cannot have it.

    """
    typed, valid = typed.strip(), valid_values(parameter)
    if parameter.choices:
        found = [choice for choice in parameter.choices if choice.casefold() == typed.casefold()]
        if not found:
            raise QuantityError(f"{name}: {typed[:60]!r} is not among the choices", valid=valid)
        return found[0]
    if parameter.text is not None:
        if not 1 <= len(typed) <= parameter.text or not typed.isprintable():
            raise QuantityError(f"{name}: {typed[:60]!r} does not fit", valid=valid)
        return typed
    span = parameter.span or parameter.repeats
    if span is None:
        raise QuantityError(f"{name} has no span, choices, text or repeats")
    given = parse_quantity(typed)
    try:
        value = given.value_in(span.unit or parse_unit(""))
    except QuantityError as error:
        raise QuantityError(f"{name}: {error.message}", valid=valid) from None
    if not min(span.low, span.high) <= value <= max(span.low, span.high):
        raise QuantityError(f"{name}: {typed} is out of the span", valid=valid)
    if parameter.repeats is not None and value != int(value):
        raise QuantityError(f"{name}: {typed} is not a whole number", valid=valid)
    return format_value(value, span.unit)


def parse_template(text: str | bytes, *, file: str = "template") -> Template:
    """The template that a text holds.

    Raises
    ------
    SetupError
        It has mistakes; ``findings`` says them all.

    """
    findings = Findings(file)
    root = parse_yaml(text, findings)
    if root is None:
        raise SetupError(file, findings.sorted())
    setup = root.get("setup")
    if not isinstance(setup, Map) or [*root][-1] != "setup":
        valid = "'setup:' as the last key of the file, with the setup below it"
        findings.error("bad-template", ("setup",), "a template ends with its setup", valid=valid)
        raise SetupError(file, findings.sorted())
    entry = _entry(root, findings)
    if entry is None:
        raise SetupError(file, findings.sorted())
    for name, one in entry.parameters.items():
        _check_parameter(name, one, findings)
    _check_body(setup, ("setup",), entry, findings)
    if findings.has_errors:
        raise SetupError(file, findings.sorted())
    content = text if isinstance(text, str) else text.decode("utf-8-sig")
    first = root.places["setup"][0] + 1
    return Template(file, entry, _dedented(content.splitlines()[first:]), first, root)


def _entry(root: Map, findings: Findings) -> TemplateFile | None:
    raw: dict[str, Any] = {key: value for key, value in root.items() if key != "setup"}
    if isinstance(fits := raw.get("fits"), List):
        raw["fits"] = list(fits)
    if isinstance(written := root.get("parameters"), Map):
        parameters: dict[str, Any] = {}
        for name, content in written.items():
            path = ("parameters", name)
            if not _NAME.fullmatch(name) or name in DEVICE:
                findings.error(
                    "bad-name", path, f"{name[:40]!r} is not a name for a parameter", at_key=True,
                    valid=f"small letters, digits and _; not {', '.join(DEVICE)}",
                )  # fmt: skip
            if not isinstance(content, Map):
                findings.error("bad-value", path, "a parameter is a group of keys",
                               valid="{ask: …, span: 40..95 °C, default: 78 °C}")  # fmt: skip
                continue
            one = validate(TemplateParameter, _with_plain_lists(content), path, findings)
            if one is not None:
                parameters[name] = one
        raw["parameters"] = parameters
    return validate(TemplateFile, raw, (), findings)


def _with_plain_lists(content: Map) -> dict[str, Any]:
    raw: dict[str, Any] = dict(content)
    if isinstance(choices := content.get("choices"), List):
        raw["choices"] = {text_of(choice, "a choice"): {} for choice in choices if choice}
    elif isinstance(choices, Map):
        raw["choices"] = {k: v if isinstance(v, Map) else {} for k, v in choices.items()}
    if isinstance(each := content.get("each"), Map):
        raw["each"] = {k: list(v) if isinstance(v, List) else v for k, v in each.items()}
    return raw


def _check_parameter(name: str, one: TemplateParameter, findings: Findings) -> None:
    path = ("parameters", name)
    kinds = [bool(one.choices), one.span is not None, one.text is not None, one.repeats is not None]
    if sum(kinds) != 1:
        message = f"{name} needs one of span, choices, text, repeats"
        findings.error("bad-template", path, message, at_key=True)
        return
    if one.repeats is not None and not 0 <= one.repeats.low <= one.repeats.high <= MOST_REPEATS:
        valid = f"0..{MOST_REPEATS}, low end first"
        message = f"{one.repeats} is not a number of repeats"
        findings.error("bad-template", (*path, "repeats"), message, valid=valid)
        return
    for choice, entries in one.choices.items():
        if PLACEHOLDER.search(str(entries)):
            message = f"the entries of {choice!r} hold a placeholder, which is not filled in there"
            findings.error("bad-template", (*path, "choices", choice), message)
    for key, texts in one.each.items():
        if one.repeats is None or len(texts) < one.repeats.high:
            message = f"{key}: {len(texts)} values for up to {one.repeats} repeats"
            findings.error("bad-template", (*path, "each", key), message, valid="one for each")
    try:
        check_value(name, one, one.default)
    except QuantityError as error:
        findings.error("bad-template", (*path, "default"), error.message, valid=error.valid)


def _check_body(
    value: Value, path: KeyPath, entry: TemplateFile, findings: Findings, repeated: str = ""
) -> None:
    """Whether each placeholder of the setup names a parameter that can stand there."""
    if isinstance(value, str):
        _check_placeholders(value, path, entry, findings, repeated)
    elif isinstance(value, List):
        for number, item in enumerate(value):
            _check_body(item, (*path, str(number)), entry, findings, repeated)
    else:
        for key, item in value.items():
            place, again = (*path, key), repeated
            match = PLACEHOLDER.search(key)
            one = entry.parameters.get(match[1]) if match else None
            if match and one is not None and one.choices and match[0] == key:
                continue  # the entries of the choice stand here
            if match and (one is None or one.repeats is None or match[2]):
                message = f"the key {key!r} names no parameter that repeats or has choices"
                findings.error("bad-template", place, message, at_key=True)
            elif match:
                again = match[1]
            _check_body(item, place, entry, findings, again)


def _check_placeholders(
    text: str, path: KeyPath, entry: TemplateFile, findings: Findings, repeated: str
) -> None:
    for match in PLACEHOLDER.finditer(text):
        name, part = match[1], match[2]
        one = entry.parameters.get(name)
        if part == NUMBER and one is not None and one.span is not None:
            continue
        if part is not None:
            if one is None or part not in one.each or name != repeated:
                message = f"{match[0]} stands for nothing here"
                valid = "what 'each' of a parameter has, below a key that it repeats"
                findings.error("bad-template", path, message, valid=valid)
        elif one is None and name not in DEVICE:
            message = f"there is no parameter {name!r}"
            valid = ", ".join([*entry.parameters, *DEVICE])
            findings.error("bad-template", path, message, valid=valid)


def _dedented(lines: list[str]) -> str:
    """The lines of the setup, as far to the left as they can stand."""
    depths = [len(line) - len(line.lstrip(" ")) for line in lines if line.strip()]
    depth = min(depths, default=0)
    return "\n".join(line[depth:].rstrip() for line in lines).strip("\n") + "\n"
