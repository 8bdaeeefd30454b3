"""A setup brought up to date with its template."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from leitwerk.check.departures import base_of
from leitwerk.errors import FileProblem
from leitwerk.findings import Finding
from leitwerk.project.setups import check_text, load_setup
from leitwerk.project.templates import find_template
from leitwerk.setup.model import Setup
from leitwerk.setup.template import Template
from leitwerk.setup.template_text import Renewal, device_of, fill_in, renew_text


def wiring_of(setup: Setup) -> Mapping[str, str]:
    """What must be wired to each terminal, as the template of a setup says it; nothing without one."""
    if setup.made_from is None:
        return {}
    made = setup.made_from
    return find_template(made.template, made.version, Path(setup.source.file).parent).entry.wiring


@dataclass(frozen=True)
class RenewedSetup:
    """A setup as it would be with another version of its template, or other parameters.

    ``errors`` are what would be wrong with it.
    """

    template: Template
    text: str
    changes: tuple[Renewal, ...]
    errors: tuple[Finding, ...]
    is_new: bool


def renew_setup(path: str | Path, values: Mapping[str, str]) -> RenewedSetup:
    """A setup with the newest version of its template, and other parameters.

    Parameters
    ----------
    path : path
        The setup file; it is not written.
    values : mapping
        Parameters that are to be others than so far.

    Raises
    ------
    FileProblem
        It cannot be read, was not made from a template, or the template is not there.
    SetupError
        The setup cannot be read.
    QuantityError
        A parameter cannot have its value.

    """
    setup = load_setup(path)
    made, root = setup.made_from, setup.source.root
    if made is None or root is None:
        raise FileProblem(
            f"{path} was not made from a template",
            remedy="'leitwerk begin' makes a setup from one",
        )
    near = Path(path).parent
    newest = find_template(made.template, near=near)
    base = base_of(setup, find_template(made.template, made.version, near))
    known = {k: v for k, v in made.parameters.items() if k in newest.entry.parameters}
    after = fill_in(newest, {**known, **values}, device_of(root))
    before = setup.source.content.decode("utf-8-sig")
    text, changes = renew_text(before, base.text, after.text)
    checked = check_text(text, path)
    errors = tuple(finding for finding in checked.findings if finding.is_error)
    return RenewedSetup(newest, text, tuple(changes), errors, is_new=text != before)
