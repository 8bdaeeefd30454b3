"""Setups in files: read, checked, held against the datasheet of their model."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import Any

from leitwerk.check.checked import CheckedSetup
from leitwerk.check.compile import check_setup
from leitwerk.datasheet.model import Datasheet
from leitwerk.errors import SetupError
from leitwerk.findings import Finding, Findings, count_findings
from leitwerk.parsing.yaml_text import collector_paused
from leitwerk.project.files import read_bytes
from leitwerk.project.library import Library, find_datasheet, known_models
from leitwerk.setup.model import Setup, draft_setup


@dataclass(frozen=True)
class CheckedFile:
    """A setup file after checking: everything there is to say, and the checked setup.

    ``checked`` is None where the file could not be read as a setup, or names an unknown model.
    """

    file: str
    checked: CheckedSetup | None
    findings: tuple[Finding, ...]

    @property
    def ok(self) -> bool:
        """Whether the setup can be used: no finding is an error."""
        return self.checked is not None and self.checked.ok

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        if self.checked is not None:
            return self.checked.to_dict()
        return {
            "file": self.file,
            "ok": False,
            "counts": count_findings(self.findings),
            "findings": [finding.to_dict() for finding in self.findings],
        }


def check_file(
    path: str | Path, *, datasheet: Datasheet | None = None, today: date | None = None
) -> CheckedFile:
    """Check a setup file; all findings, in the order of the file.

    Parameters
    ----------
    path : str or Path
        The setup file.
    datasheet : Datasheet, optional
        Used instead of the one that belongs to the setup's model.
    today : date, optional
        The day for which calibrations are held to be due; the real one if not given.

    Raises
    ------
    FileProblem
        The file cannot be read. What is wrong *in* it is a finding.

    """
    return check_text(read_bytes(path), path, datasheet=datasheet, today=today)


def check_text(
    text: str | bytes,
    path: str | Path,
    *,
    datasheet: Datasheet | None = None,
    today: date | None = None,
) -> CheckedFile:
    """Check a text that is, or would be, the setup file at ``path``; as for ``check_file``."""
    with collector_paused():
        setup, findings = draft_setup(text, file=str(path), library=Library(Path(path).parent))
        sheet = datasheet or (_datasheet_for(setup, findings) if setup else None)
        if setup is None or sheet is None:
            return CheckedFile(str(path), None, tuple(findings.sorted()))
        if setup.made_from is not None:
            from leitwerk.project.templates import check_template_of  # noqa: PLC0415 - many have none

            check_template_of(setup, findings)
        if setup.places:
            from leitwerk.project.other_receivers import warn_of_bound_elsewhere  # noqa: PLC0415 - few have any

            warn_of_bound_elsewhere(setup, sheet, findings)
        checked = check_setup(setup, sheet, today=today or local_today(), findings=findings)
    return CheckedFile(str(path), checked, checked.findings)


def local_today() -> date:
    """The day where this runs: calibrations fall due by the calendar on the wall."""
    return datetime.now().astimezone().date()


def read_setup(path: str | Path, *, datasheet: Datasheet | None = None) -> CheckedSetup:
    """The setup in a file, checked and ready to be used.

    Parameters
    ----------
    path : str or Path
        The setup file.
    datasheet : Datasheet, optional
        Used instead of the one that belongs to the setup's model.

    Raises
    ------
    FileProblem
        The file cannot be read, or there is no datasheet for the model.
    SetupError
        The setup cannot be used; ``findings`` says everything that is wrong.

    """
    result = check_file(path, datasheet=datasheet)
    if result.checked is None:
        raise SetupError(result.file, result.findings)
    return result.checked.require()


def load_setup(path: str | Path) -> Setup:
    """The setup in a file, not yet held against a datasheet.

    Raises
    ------
    FileProblem
        The file cannot be read.
    SetupError
        It holds no complete setup; ``findings`` says everything that is wrong.

    """
    return _complete(*_draft_file(path))


def parse_setup(text: str | bytes, *, file: str = "setup", folder: str | Path = ".") -> Setup:
    """The setup that a text holds.

    Parameters
    ----------
    text : str or bytes
        YAML in UTF-8.
    file : str
        The name to use in findings.
    folder : path
        Where a contact list that the setup names is looked for.

    Raises
    ------
    SetupError
        The text holds no complete setup; ``findings`` says everything that is wrong. What the
        device can and cannot do is another question, answered by ``check_setup``.

    """
    return _complete(*draft_setup(text, file=file, library=Library(Path(folder))))


def _complete(setup: Setup | None, findings: Findings) -> Setup:
    if setup is None or findings.has_errors:
        raise SetupError(findings.file, findings.sorted())
    return setup


def _draft_file(path: str | Path) -> tuple[Setup | None, Findings]:
    return draft_setup(read_bytes(path), file=str(path), library=Library(Path(path).parent))


def datasheet_of(setup: Setup) -> Datasheet:
    """The datasheet of a setup's model: one of its project, or a shipped one.

    That of a device which is known by what it says has the readings of the setup's exchange.

    Raises
    ------
    FileProblem
        There is none for this model.

    """
    found = find_datasheet(setup.device.model, Path(setup.source.file).parent)
    if not setup.exchanges:
        return found
    from leitwerk.check.talker import with_exchange  # noqa: PLC0415 - most setups have none

    return with_exchange(setup, found, Findings(setup.source.file))


def _datasheet_for(setup: Setup, findings: Findings) -> Datasheet | None:
    model = setup.device.model
    known = known_models(Path(setup.source.file).parent)
    if model in known:
        return datasheet_of(setup)
    if findings.mentions(("device", "model")):
        findings.error(
            "unknown-model",
            ("device", "model"),
            f"there is no datasheet for the model {model!r}",
            valid=", ".join(known),
        )
    return None
