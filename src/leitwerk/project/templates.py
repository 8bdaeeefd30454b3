"""Templates in files: one's own and those shipped, each in all of its versions."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from importlib.resources.abc import Traversable
from pathlib import Path

from leitwerk.check.departures import check_departures
from leitwerk.errors import FileProblem, SetupError
from leitwerk.findings import Findings
from leitwerk.project.library import content_of, name_in, own_files, shipped_files
from leitwerk.setup.model import Setup
from leitwerk.setup.template import Template, parse_template

TEMPLATES = "templates"  # folder


def _files(near: Path) -> Iterator[Path | Traversable]:
    """All files of templates; a later one stands before an earlier one of the same name and version."""
    yield from shipped_files(TEMPLATES)
    yield from own_files(TEMPLATES, near)


def _versions(name: str, near: Path) -> dict[int, Template]:
    found = [_parse_once(*content_of(f)) for f in _files(near) if name_in(f, "name") == name]
    return {template.entry.version: template for template in found}


@lru_cache(maxsize=64)
def _parse_once(content: bytes, file: str) -> Template:
    return parse_template(content, file=file)


def known_templates(near: Path = Path()) -> list[str]:
    """The names of all templates, one's own (from the folder ``near`` on) and those shipped."""
    return sorted({name_in(file, "name") for file in _files(near)})


def find_template(name: str, version: int | None = None, near: Path = Path()) -> Template:
    """A template by its name, the newest version unless one is named.

    Raises
    ------
    FileProblem
        The name is not known, or not in this version.
    SetupError
        It has mistakes.

    """
    versions = _versions(name, near)
    if not versions:
        raise FileProblem(
            f"there is no template {name[:40]!r}",
            remedy=f"known templates: {', '.join(known_templates(near))}; or write one in a folder "
            f"'{TEMPLATES}'",
        )
    wanted = max(versions) if version is None else version
    if wanted not in versions:
        raise FileProblem(
            f"there is no version {version} of the template {name}",
            remedy=f"known versions: {', '.join(map(str, sorted(versions)))}; keep the file of the "
            "old version beside that of the new one, under another file name",
        )
    return versions[wanted]


def check_template_of(setup: Setup, findings: Findings) -> None:
    """Say where a setup has left its template, and whether there is a newer one."""
    made = setup.made_from
    if made is None:
        return
    near = Path(setup.source.file).parent
    try:
        template = find_template(made.template, made.version, near)
        newest = find_template(made.template, near=near)
    except (FileProblem, SetupError) as error:
        place = ("made_from", "version" if "version" in error.message else "template")
        findings.warning(
            "template-missing", place, error.message.splitlines()[0], remedy=error.remedy
        )
        return
    check_departures(setup, template, newest, findings)
