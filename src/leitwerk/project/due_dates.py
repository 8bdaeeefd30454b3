"""When calibrations are due: of channels, and of sensors of one's own, in one list."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any, TypeAlias

from leitwerk.errors import FileProblem, SetupError
from leitwerk.findings import Finding
from leitwerk.project.library import find_own_sensor, is_shipped, known_sensors
from leitwerk.project.setups import load_setup
from leitwerk.setup.calibration import Calibration
from leitwerk.setup.model import Channel, Setup

Pieces: TypeAlias = Mapping[str, Sequence[Calibration]]


@dataclass(frozen=True, slots=True)
class DueDate:
    """When a calibration is due, and what it touches: channels, alarms, outputs and formulas that use it.

    ``due`` is None for a sensor that has no calibration.
    """

    what: str
    file: str
    due: date | None
    reference: str
    touches: tuple[str, ...]

    def days_left(self, today: date) -> int | None:
        """Days until it is due, negative when it is overdue; None without a calibration."""
        return None if self.due is None else (self.due - today).days

    def to_dict(self) -> dict[str, Any]:
        """The entry as plain data for JSON."""
        due = None if self.due is None else self.due.isoformat()
        return {"what": self.what, "file": self.file, "due": due, "reference": self.reference,
                "touches": list(self.touches)}  # fmt: skip


def due_dates(places: Iterable[str | Path]) -> tuple[list[DueDate], list[Finding]]:
    """All due dates of the setups in some files and folders, and of sensors of one's own; the next one first.

    Returns
    -------
    dates, findings
        The findings are those of files that could not be read.

    """
    found: list[DueDate] = []
    problems: list[Finding] = []
    used: dict[tuple[str, str], list[str]] = {}
    folders = {Path()}
    for file in _setup_files(places):
        folders.add(file.parent)
        try:
            setup = load_setup(file)
        except SetupError as error:
            problems += [finding for finding in error.findings if finding.is_error][:1]
            continue
        for name, channel in setup.channels.items():
            touches = (f"{file}: {name}", *_touched(setup, name, channel))
            own = channel.own_sensor
            if own is not None and channel.sensor_serial:
                used.setdefault((own.name, channel.sensor_serial), []).extend(touches)
            elif channel.calibration is not None:
                held = channel.calibration
                found.append(
                    DueDate(f"channel {name}", str(file), held.due, held.reference, touches[1:])
                )
    for name, pieces, shipped in _sensors(folders):
        for serial, calibrations in pieces.items():
            if shipped and (name, serial) not in used:
                continue  # an example, and not the user's
            last = calibrations[-1] if calibrations else None
            found.append(
                DueDate(
                    f"sensor {name} {serial}", name, last.due if last else None,
                    last.reference if last else "", tuple(used.get((name, serial), ())),
                )
            )  # fmt: skip
    return sorted(found, key=lambda one: (one.due or date.max, one.what)), problems


def _setup_files(places: Iterable[str | Path]) -> Iterator[Path]:
    for place in map(Path, places):
        if place.is_dir():
            for file in sorted(place.rglob("*.yaml")):
                with file.open("rb") as opened:
                    if b"\nleitwerk: " in b"\n" + opened.read(4000):
                        yield file
        elif place.is_file():
            yield place
        else:
            raise FileProblem(f"{place} is neither a setup nor a folder", remedy="check the name")


def _sensors(folders: Iterable[Path]) -> Iterator[tuple[str, Pieces, bool]]:
    """Each sensor with its pieces, and whether it ships with Leitwerk."""
    found: dict[str, tuple[Path, bool]] = {}
    for folder in folders:
        for name, file in known_sensors(folder).items():
            found[name] = folder, is_shipped(file)
    for name, (folder, shipped) in sorted(found.items()):
        yield name, find_own_sensor(name, folder).pieces, shipped


def _touched(setup: Setup, name: str, channel: Channel) -> Iterator[str]:
    """What rests on the values of a channel."""
    yield from (f"alarm {name}.{alarm}" for alarm in channel.alarms)
    for other, entry in setup.channels.items():
        if entry.computed is not None and name in _words(entry.computed):
            yield f"channel {other}"
        yield from (
            f"alarm {other}.{alarm}"
            for alarm, held in entry.alarms.items()
            if held.differs_from == name
        )
    yield from (f"output {key}" for key, held in setup.outputs.items() if held.shows == name)


def _words(formula: str) -> set[str]:
    return set("".join(c if c.isidentifier() or c.isdigit() else " " for c in formula).split())
