"""Where a setup has left the template that it was made from."""

from __future__ import annotations

from collections.abc import Mapping

from leitwerk.check.account import leaves
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.yaml_text import List, Map, Value, parse_yaml
from leitwerk.setup.model import Setup
from leitwerk.setup.template import Template
from leitwerk.setup.template_text import FilledTemplate, device_of, fill_in

_NOT_COMPARED = ("leitwerk", "device", "made_from")
_MOST_NAMED = 6


def base_of(setup: Setup, template: Template) -> FilledTemplate:
    """What a template made when a setup was made from it.

    Raises
    ------
    QuantityError
        Its parameters do not fit the template, or it was not made from one.

    """
    if setup.made_from is None or setup.source.root is None:
        raise QuantityError(f"{setup.source.file} was not made from a template")
    return fill_in(template, setup.made_from.parameters, device_of(setup.source.root))


def check_departures(
    setup: Setup, template: Template, newest: Template, findings: Findings
) -> None:
    """Say where a setup differs from its template, and whether that has a newer version.

    A fixed entry that was changed is a warning, a chosen one a note.
    """
    root, place = setup.source.root, ("made_from",)
    if setup.made_from is None or root is None:
        return
    try:
        base = base_of(setup, template)
    except QuantityError as error:
        findings.warning(
            "template-unusable", (*place, "parameters"), error.message, valid=error.valid,
            remedy="correct the parameters as the template has them",
        )  # fmt: skip
        return
    made = parse_yaml(base.text, Findings(template.file)) or Map()
    wanted, held = _texts(made), _texts(root)
    fixed: dict[KeyPath, list[KeyPath]] = {}
    for path, text in wanted.items():
        if path[0] in _NOT_COMPARED or held.get(path) == text:
            continue
        if path in base.chosen:
            _report_chosen(path, text, held.get(path), base.chosen[path], template, findings)
        else:
            fixed.setdefault(path[:2] if len(path) > 2 else path, []).append(path)
    for group, paths in fixed.items():
        _report_fixed(group, paths, wanted, held, template, findings)
    if more := [path for path in held if path not in wanted and path[0] not in _NOT_COMPARED]:
        groups = list(dict.fromkeys(".".join(path[:3]) for path in more))
        dots = ", …" if len(groups) > _MOST_NAMED else ""
        findings.note(
            "more-than-template", more[0],
            f"entries that the template does not have: {', '.join(groups[:_MOST_NAMED])}{dots}",
            at_key=True,
        )  # fmt: skip
    version = template.entry.version
    if newest.entry.version > version:
        changes = "; ".join(
            text for number, text in newest.entry.changes.items()
            if number.isdecimal() and version < int(number) <= newest.entry.version
        )  # fmt: skip
        findings.note(
            "newer-template", (*place, "version"),
            f"there is version {newest.entry.version} of the template {newest.entry.name}"
            + (f": {changes}" if changes else ""),
            remedy=f"'leitwerk renew {setup.source.file}' shows what would change",
        )  # fmt: skip


def _report_chosen(
    path: KeyPath,
    text: str,
    own: str | None,
    parameter: str,
    template: Template,
    findings: Findings,
) -> None:
    way = ".".join(path[2:] if path[0] == "channels" else path)
    has = f"the setup has {own!r}" if own is not None else "the setup does not have it"
    findings.note(
        "changed-parameter", path,
        f"{way}: by its parameter {parameter!r}, the template {template} has {text!r}; {has}",
        remedy="change the parameter with 'leitwerk renew --with', or leave it",
    )  # fmt: skip


def _report_fixed(
    group: KeyPath, paths: list[KeyPath], wanted: Mapping[KeyPath, str], held: Mapping[KeyPath, str],
    template: Template, findings: Findings,
) -> None:  # fmt: skip
    """One finding for each part of a setup in which fixed entries were changed."""
    inside = len(group) if group != paths[0] else max(0, len(group) - 1)
    parts = [
        f"{'.'.join(path[inside:])}: {wanted[path]!r} there, "
        + (f"{held[path]!r} here" if path in held else "missing here")
        for path in paths[:_MOST_NAMED]
    ]
    more = f"; and {len(paths) - _MOST_NAMED} more" if len(paths) > _MOST_NAMED else ""
    findings.warning(
        "left-template", paths[0],
        f"not as the template {template} fixes it: {'; '.join(parts)}{more}",
        remedy="its wiring sheet may no longer be right; correct it, or leave it",
    )  # fmt: skip


def _texts(root: Map) -> Mapping[KeyPath, str]:
    """Each text of a file by the way to it."""
    found = {}
    for path in leaves(root):
        here: Value = root
        for step in path:
            here = here[int(step)] if isinstance(here, List) else here[step]  # type: ignore[index]
        found[path] = here if isinstance(here, str) else ""
    return found
