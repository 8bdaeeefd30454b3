"""Files: reading setups and datasheets, and writing what is kept. The core reads no file itself."""

from __future__ import annotations

import difflib
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import Any

from leitwerk.check.assignment import Assignment
from leitwerk.check.compile import check_into, check_link
from leitwerk.check.outputs import OutputAssignment, assign_outputs
from leitwerk.datasheet.model import Datasheet
from leitwerk.errors import QuantityError, SetupError
from leitwerk.findings import Finding, Findings, count_findings
from leitwerk.parsing.yaml_text import collector_paused
from leitwerk.project.files import read_bytes
from leitwerk.project.library import Library, find_datasheet, known_models
from leitwerk.setup.model import Setup, draft_setup


@dataclass(frozen=True)
class CheckedFile:
    """A setup file after checking: what could be read of it, and everything there is to say."""

    file: str
    setup: Setup | None
    findings: tuple[Finding, ...]

    @property
    def ok(self) -> bool:
        """Whether the setup can be uploaded: no finding is an error."""
        return self.setup is not None and not any(f.is_error for f in self.findings)

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        return {
            "file": self.file,
            "ok": self.ok,
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
    with collector_paused():
        setup, findings = _draft_file(path)
        if setup is not None:
            datasheet = datasheet or _datasheet_for(setup, findings)
            if datasheet is not None:
                check_link(setup, datasheet, findings)
                check_into(setup, datasheet, findings, today=today or local_today())
    return CheckedFile(str(path), setup, tuple(findings.sorted()))


def local_today() -> date:
    """The day where this runs: calibrations fall due by the calendar on the wall."""
    return datetime.now().astimezone().date()


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


def read_setup(path: str | Path) -> Setup:
    """The setup in a file.

    Raises
    ------
    FileProblem
        The file cannot be read.
    SetupError
        It holds no complete setup; ``findings`` says everything that is wrong.

    """
    return _complete(*_draft_file(path))


def _complete(setup: Setup | None, findings: Findings) -> Setup:
    if setup is None or findings.has_errors:
        raise SetupError(findings.file, findings.sorted())
    return setup


def assign_setup(setup: Setup, datasheet: Datasheet | None = None) -> list[Assignment]:
    """The channels of a setup as they are on its device.

    Raises
    ------
    SetupError
        The setup has errors on its model.
    FileProblem
        There is no datasheet for the model.

    """
    findings = Findings(setup.source.file, setup.source.root)
    assignments = check_into(setup, datasheet or find_datasheet(setup.device.model), findings)
    if findings.has_errors:
        raise SetupError(findings.file, findings.sorted())
    return assignments


def setup_outputs(setup: Setup) -> list[OutputAssignment]:
    """The outputs of a setup as they are on its device.

    Raises
    ------
    SetupError
        The setup has errors on its model.
    FileProblem
        There is no datasheet for the model.

    """
    channels = assign_setup(setup)
    quiet = Findings(setup.source.file)
    return assign_outputs(setup, find_datasheet(setup.device.model), channels, quiet)


def assign_draft(setup: Setup, datasheet: Datasheet) -> list[Assignment]:
    """As ``assign_setup``, but whatever is wrong: the channels that can be assigned."""
    return check_into(setup, datasheet, Findings(setup.source.file, setup.source.root))


def find_assignment(setup: Setup, channel: str, datasheet: Datasheet | None = None) -> Assignment:
    """A channel of a setup as it is on its device.

    Raises
    ------
    SetupError
        The setup has errors on its model.
    FileProblem
        There is no datasheet for the model.
    QuantityError
        The setup has no such channel; the nearest is named.

    """
    for assignment in assign_setup(setup, datasheet):
        if assignment.name == channel:
            return assignment
    near = difflib.get_close_matches(channel[:60], list(setup.channels), n=1)
    remedy = f"did you mean {near[0]!r}?" if near else ""
    raise QuantityError(
        f"there is no channel {channel[:60]!r} in {setup.source.file}",
        valid=", ".join(setup.channels),
        remedy=remedy,
    )


def _draft_file(path: str | Path) -> tuple[Setup | None, Findings]:
    return draft_setup(read_bytes(path), file=str(path), library=Library(Path(path).parent))


def _datasheet_for(setup: Setup, findings: Findings) -> Datasheet | None:
    model = setup.device.model
    if model in known_models():
        return find_datasheet(model)
    if findings.mentions(("device", "model")):
        findings.error(
            "unknown-model",
            ("device", "model"),
            f"there is no datasheet for the model {model!r}",
            valid=", ".join(known_models()),
        )
    return None
