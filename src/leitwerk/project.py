"""Files: reading setups and datasheets, and writing what is kept. The core reads no file itself."""

from __future__ import annotations

import difflib
import os
import tempfile
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime
from functools import lru_cache
from importlib import resources
from importlib.resources.abc import Traversable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from platformdirs import user_data_dir

from leitwerk.check import Assignment, check_into, check_link
from leitwerk.check.outputs import OutputAssignment, assign_outputs
from leitwerk.collector import collector_paused
from leitwerk.datasheet import Datasheet, parse_datasheet
from leitwerk.errors import FileProblem, QuantityError, SetupError
from leitwerk.findings import Finding, Findings, Severity, count_findings
from leitwerk.needs import Needs, require_known, why_not
from leitwerk.setup import Contact, LimitSet, Setup, parse_contacts, parse_limits
from leitwerk.setup.limits import FOLDER as LIMIT_SETS
from leitwerk.setup.model import draft_setup
from leitwerk.yamltext import MAX_BYTES

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint


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


def read_setup(path: str | Path) -> Setup:
    """The setup in a file.

    Raises
    ------
    FileProblem
        The file cannot be read.
    SetupError
        It holds no complete setup; ``findings`` says everything that is wrong.

    """
    setup, findings = _draft_file(path)
    if setup is None or findings.has_errors:
        raise SetupError(str(path), findings.sorted())
    return setup


@dataclass(frozen=True)
class ModelFit:
    """Whether a setup fits a model, and what stands against it."""

    model: str
    summary: str
    errors: tuple[Finding, ...]
    warnings: int

    @property
    def ok(self) -> bool:
        """Whether nothing stands against it."""
        return not self.errors

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        reasons = [finding.to_dict() for finding in self.errors]
        return {"model": self.model, "fits": self.ok, "warnings": self.warnings, "errors": reasons}

    def __str__(self) -> str:
        if self.ok:
            more = f", {self.warnings} warnings" if self.warnings else ""
            return f"fits      {self.model}: {self.summary}{more}"
        reasons = [
            f"            {f.channel or f.path}: {f.message}" for f in self.errors[:_REASONS]
        ]
        if len(self.errors) > _REASONS:
            reasons.append(f"            and {len(self.errors) - _REASONS} more")
        return "\n".join([f"does not  {self.model}: {self.summary}", *reasons])


def choose_model(setup: Setup) -> list[ModelFit]:
    """Every known model, those first that a setup fits, with what stands against the others.

    Which device the setup names plays no part; what its channels, alarms and settings ask for does.
    """
    fits = []
    for model in known_models():
        datasheet = find_datasheet(model)
        findings = Findings(setup.source.file, setup.source.root)
        check_into(setup, datasheet, findings)
        every = findings.sorted()
        errors = tuple(f for f in every if f.is_error)
        warnings = sum(f.severity is Severity.WARNING for f in every)
        fits.append(ModelFit(model, datasheet.summary, errors, warnings))
    return sorted(fits, key=lambda fit: (len(fit.errors), fit.warnings))


@dataclass(frozen=True)
class NeedsFit:
    """Whether a model meets needs, and what stands against it."""

    model: str
    summary: str
    reasons: tuple[str, ...]

    @property
    def ok(self) -> bool:
        """Whether nothing stands against it."""
        return not self.reasons

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        return {"model": self.model, "fits": self.ok, "reasons": list(self.reasons)}

    def __str__(self) -> str:
        head = f"{'fits' if self.ok else 'does not':8}  {self.model}: {self.summary}"
        return "\n".join([head, *(f"            {reason}" for reason in self.reasons)])


def choose_by_needs(needs: Needs) -> list[NeedsFit]:
    """Every known model, those first that meet the needs, with what stands against the others.

    Raises
    ------
    QuantityError
        A need is not understood.

    """
    sheets = [find_datasheet(model) for model in known_models()]
    require_known(needs, sheets)
    fits = [NeedsFit(s.model, s.summary, tuple(why_not(needs, s))) for s in sheets]
    return sorted(fits, key=lambda fit: len(fit.reasons))


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
    def find_contacts(name: str) -> dict[str, Contact]:
        beside = Path(path).parent / name
        return parse_contacts(read_bytes(beside), file=str(beside))

    return draft_setup(
        read_bytes(path), file=str(path), find_limits=find_limits, find_contacts=find_contacts
    )


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


FOLDER = "datasheets"
_REASONS = 4  # of one model, that are worth a line each


def own_folders(kind: str = FOLDER) -> list[Path]:
    """Where users keep files of their own of a kind (datasheets, limit sets), the nearest first.

    The folder of that name in this one or one above it, then the same in the user's data folder.
    """
    here = Path.cwd()
    near = [folder / kind for folder in (here, *here.parents) if (folder / kind).is_dir()]
    return [*near[:1], Path(user_data_dir("leitwerk", appauthor=False)) / kind]


def known_models() -> dict[str, Path | Traversable]:
    """The datasheet file of each model that there is one for.

    One of the user's own stands before a shipped one of the same name.
    """
    return _found_files(FOLDER)


def _found_files(kind: str) -> dict[str, Path | Traversable]:
    """The YAML files of a kind, by name: shipped ones, and before them the user's own."""
    shipped = resources.files("leitwerk") / kind
    found: dict[str, Path | Traversable] = {f.name: f for f in shipped.iterdir()}
    for folder in reversed(own_folders(kind)):
        if folder.is_dir():
            found |= {f.name: f for f in folder.iterdir() if f.is_file()}
    return {
        name.removesuffix(".yaml"): found[name] for name in sorted(found) if name.endswith(".yaml")
    }


def _content_of(file: Path | Traversable) -> tuple[bytes, str]:
    if isinstance(file, Path):
        return read_bytes(file), str(file)
    return file.read_bytes(), file.name


def find_datasheet(model: str) -> Datasheet:
    """The datasheet of a model, the user's own or a shipped one.

    Raises
    ------
    FileProblem
        There is none.
    SetupError
        It has mistakes.

    """
    models = known_models()
    if model not in models:
        raise FileProblem(
            f"there is no datasheet for the model {model!r}",
            remedy=f"known models: {', '.join(models)}; or describe it yourself in a folder "
            f"'{FOLDER}'",
        )
    return _parse_once(*_content_of(models[model]))


@lru_cache(maxsize=64)
def _parse_once(content: bytes, file: str) -> Datasheet:
    return parse_datasheet(content, file=file, further=further_protocols)


def known_limits() -> dict[str, Path | Traversable]:
    """The file of each limit set, by its name; one's own stand before shipped ones."""
    return _found_files(LIMIT_SETS)


def find_limits(name: str) -> LimitSet:
    """The limit set of a name, the user's own or a shipped one.

    Raises
    ------
    FileProblem
        There is none.
    SetupError
        It has mistakes.

    """
    sets = known_limits()
    if name not in sets:
        raise FileProblem(
            f"there is no limit set {name[:40]!r}",
            remedy=f"known sets: {', '.join(sets)}; or write one in a folder '{LIMIT_SETS}'",
        )
    return _parse_limits_once(*_content_of(sets[name]))


@lru_cache(maxsize=64)
def _parse_limits_once(content: bytes, file: str) -> LimitSet:
    return parse_limits(content, file=file)


def read_datasheet(path: str | Path) -> Datasheet:
    """The datasheet in a file.

    Raises
    ------
    FileProblem
        The file cannot be read.
    SetupError
        It holds no complete datasheet.

    """
    return parse_datasheet(read_bytes(path), file=str(path), further=further_protocols)


def further_protocols() -> dict[str, EntryPoint]:
    """The protocols that installed packages bring, by name; see ``links/kinds.py``."""
    from importlib.metadata import entry_points  # noqa: PLC0415 - 60 ms, and seldom needed

    return {point.name: point for point in entry_points(group="leitwerk.links")}


def read_bytes(path: str | Path) -> bytes:
    """A file's content, one byte more than is allowed at most: enough to see that it is too much.

    Raises
    ------
    FileProblem
        The file cannot be read.

    """
    path = Path(path)
    try:
        size = path.stat().st_size if path.is_file() else 0
        if path.exists() and not path.is_file():
            raise FileProblem(f"{path} is no file", remedy="name a setup file")
        with path.open("rb") as file:
            content = file.read(MAX_BYTES + 1)
    except OSError as error:
        remedy = "check the name and the folder" if isinstance(error, FileNotFoundError) else ""
        reason = error.strerror or type(error).__name__
        raise FileProblem(f"cannot read {path}: {reason}", remedy=remedy) from error
    if size > MAX_BYTES:
        message = f"{path} has {size / 1e6:.0f} MB; nothing of that size is a setup"
        raise FileProblem(message, remedy=f"at most {MAX_BYTES / 1e6:.0f} MB are read")
    return content


def write_atomic(path: Path, text: str) -> None:
    """Write a file whole or not at all; on disk when this returns.

    Raises
    ------
    FileProblem
        It cannot be written; what was there before still is.

    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        descriptor, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        try:
            with os.fdopen(descriptor, "w", encoding="utf-8") as file:
                file.write(text)
                file.flush()
                os.fsync(file.fileno())
            Path(temporary).replace(path)
        except BaseException:
            Path(temporary).unlink(missing_ok=True)
            raise
    except OSError as error:
        reason = error.strerror or type(error).__name__
        remedy = "is the folder there, writable, and the disk not full?"
        raise FileProblem(f"cannot write {path}: {reason}", remedy=remedy) from error


def remove_file(path: Path) -> None:
    """Remove a file that may be gone already; it is gone from the disk when this returns.

    Raises
    ------
    FileProblem
        It cannot be removed.

    """
    try:
        path.unlink(missing_ok=True)
    except OSError as error:
        reason = error.strerror or type(error).__name__
        remedy = "is the folder writable?"
        raise FileProblem(f"cannot remove {path}: {reason}", remedy=remedy) from error


def free_path(folder: Path, stem: str, suffixes: Iterable[str]) -> Path:
    """A path in ``folder`` (without suffix) that no file with any of the suffixes has yet."""
    every = tuple(suffixes)
    for number in range(1, 10_000):
        path = folder / (stem if number == 1 else f"{stem}-{number}")
        if not any(path.with_name(path.name + suffix).exists() for suffix in every):
            return path
    raise FileProblem(f"{folder} holds thousands of files named {stem}", remedy="tidy up there")
