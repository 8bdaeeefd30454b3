"""Proving a datasheet on a device: what it says is read, adopted, written, and given back."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from leitwerk.check.compile import check_setup
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.register_points import RegisterPoint
from leitwerk.datasheet.settings import (
    DeviceSettings,
    diff_settings,
    is_documented,
    same_stored,
    show_setting,
)
from leitwerk.datasheet.vocabulary import BUS_UNIT
from leitwerk.devices.device import Device
from leitwerk.errors import DeviceRefused, LeitwerkError, QuantityError, SetupError, UploadError
from leitwerk.identity import Identity
from leitwerk.project.setups import parse_setup
from leitwerk.results import Outcome, overall
from leitwerk.transfer.adopt import adopt
from leitwerk.transfer.give_back import give_back
from leitwerk.transfer.settings_state import SettingsState
from leitwerk.transfer.task import TaskSource, UploadOptions, UploadTask
from leitwerk.transfer.transaction import carry

_SHOWN = 5  # of many, that are worth naming


@dataclass(frozen=True, slots=True)
class DatasheetStep:
    """One step of the proof: what was looked at, how it ended, and what was seen."""

    name: str
    outcome: Outcome
    seen: str

    def __str__(self) -> str:
        return f"{self.outcome.value.upper():10}  {self.name}: {self.seen}"


@dataclass(frozen=True)
class DatasheetProof:
    """What came of it. ``wrote`` says whether settings were written, too."""

    model: str
    identity: Identity
    wrote: bool
    steps: tuple[DatasheetStep, ...]

    @property
    def outcome(self) -> Outcome:
        """Passed when every step was; what was not tried is unknown."""
        return overall(step.outcome for step in self.steps)

    @property
    def reasons(self) -> tuple[str, ...]:
        """The steps that did not pass."""
        return tuple(f"{s.name}: {s.seen}" for s in self.steps if s.outcome is not Outcome.PASSED)

    def to_dict(self) -> dict[str, Any]:
        """The proof as plain data for JSON."""
        return {
            "model": self.model,
            "device": self.identity.to_dict(),
            "wrote": self.wrote,
            "outcome": self.outcome.value,
            "reasons": list(self.reasons),
            "steps": [
                {"step": s.name, "outcome": s.outcome.value, "seen": s.seen} for s in self.steps
            ],
        }

    def __repr__(self) -> str:
        return f"<DatasheetProof of {self.model}: {self.outcome.value}>"

    def __str__(self) -> str:
        how = "settings were written and given back" if self.wrote else "nothing was written"
        head = f"datasheet of {self.model} on {self.identity}: {how}"
        return "\n".join([head, *map(str, self.steps), self.outcome.value.upper()])


def prove_datasheet(
    device: Device,
    options: UploadOptions,
    *,
    write: bool = False,
    on_step: Callable[[DatasheetStep], None] = lambda step: None,
) -> DatasheetProof:
    """Hold a datasheet against the device that it describes.

    Reading: the device says its model, all settings are read twice and are the same, each could be
    written back as it is, and the adopted setup changes nothing. Writing, where it is allowed: the first
    and the last setting of each name get another value that the datasheet documents, one by one, and are
    read back with all others unchanged; in the end the device has what it had.

    Parameters
    ----------
    device : Device
    options : UploadOptions
        Where backups, journals and receipts are kept, and the passwords.
    write : bool
        Whether settings may be written. They count while it runs: nothing must depend on the device.
    on_step : callable
        Called after each step.

    Raises
    ------
    LinkError
        The device was not reached at the start.

    """
    identity = device.identify()
    steps: list[DatasheetStep] = []

    def take(found: Iterator[DatasheetStep]) -> None:
        for step in found:
            steps.append(step)
            on_step(step)

    take(_read_steps(device, identity))
    if write and steps[0].outcome is Outcome.PASSED:  # never to another device
        take(_write_steps(device, identity, options))
    return DatasheetProof(device.datasheet.model, identity, write, tuple(steps))


def _step(name: str, wrong: list[str], fine: str) -> DatasheetStep:
    """Failed with the first things that are wrong, or passed."""
    more = f" and {len(wrong) - _SHOWN} more" if len(wrong) > _SHOWN else ""
    seen = "; ".join(wrong[:_SHOWN]) + more if wrong else fine
    return DatasheetStep(name, Outcome.FAILED if wrong else Outcome.PASSED, seen)


# ---------------------------------------------------------------------- reading


def _read_steps(device: Device, identity: Identity) -> Iterator[DatasheetStep]:
    sheet = device.datasheet
    wrong = [] if identity.model == sheet.model else [f"it says that it is {identity.model!r}"]
    wrong += [] if identity.serial.strip() else ["it says no serial number"]
    yield _step("identify", wrong, str(identity))
    one, two = device.read_settings().values, device.read_settings().values
    moved = [
        f"{n} was {v!r}, then {two[n]!r}" for n, v in one.items() if not same_stored(v, two[n])
    ]
    yield _step("read all settings twice", moved, f"{len(one)} settings, both times the same")
    lost = [name for name, value in one.items() if not _is_kept(sheet.settings[name], value)]
    yield _step("turn each into what is sent, and back", lost, "each comes back as it was")
    yield _adopt_step(device, identity, DeviceSettings(sheet.model, one))


def _is_kept(point: Point, value: Stored) -> bool:
    """Whether a value that was read can be written back as it is."""
    if not isinstance(point, RegisterPoint):
        return True
    try:
        return same_stored(point.decode(point.encode(value)), value)
    except QuantityError:
        return False


def _adopt_step(device: Device, identity: Identity, present: DeviceSettings) -> DatasheetStep:
    """The device as a setup, and whether its upload would change anything."""
    name = "adopt, and plan the upload of that"
    sheet = device.datasheet
    text = adopt(present, identity, str(device.address), sheet)
    try:
        checked = check_setup(parse_setup(text, file="adopted"), sheet).require()
    except SetupError as error:
        return _step(name, [f.message for f in error.findings if f.is_error], "")
    changes = diff_settings(present, checked.settings, sheet)
    left = len(re.findall(r"^# (?!Setup of)", text, re.MULTILINE))
    count = f"{len(checked.settings.values)} of {len(present.values)}"
    fine = f"changes nothing; {count} settings are in the setup"
    return _step(name, [str(c) for c in changes], fine + (f", {left} remarks" if left else ""))


# ---------------------------------------------------------------------- writing


def _write_steps(
    device: Device, identity: Identity, options: UploadOptions
) -> Iterator[DatasheetStep]:
    sheet = device.datasheet
    before = device.read_settings()
    for point in _tried(sheet):
        other = another_value(point, before.values[point.name])
        if other is None:
            unknown = "no other value of it is known to be allowed"
            yield DatasheetStep(f"write {point.name}", Outcome.UNKNOWN, unknown)
            continue
        yield _write_step(device, identity, options, point, other)
    yield _give_back_step(device, identity, options, before)


def _tried(sheet: Datasheet) -> Iterator[Point]:
    """The first and the last setting of each name, except what would move the device away."""
    for family in sheet.groups["settings"].values():
        every = list(family.points())
        for point in dict.fromkeys((every[0], every[-1])):
            if not point.read_only and point.name != BUS_UNIT.name:
                yield point


def another_value(point: Point, present: Stored) -> Stored | None:
    """A value that the datasheet documents and that is not the present one; None if none is found."""
    candidates: list[Stored] = []
    if point.choice_names:
        candidates += point.choice_names
    elif point.is_text:
        candidates += ["TEST", "A"]
    elif point.is_time:
        candidates += ["2030-01-02 03:04:05", "2030-01-02", "03:04:05"]
    else:
        low, high = point.limits or point.span()
        low, high = max(low, -1e6), min(high, 1e6)
        number = present if isinstance(present, int | float) else low
        step = point.resolution or 1.0
        candidates += [number + step, number - step, low, high, (low + high) / 2.0]
    for value in candidates:
        try:
            stored = point.storable(value)
        except QuantityError:
            continue
        if is_documented(point, stored) and not same_stored(stored, present):
            return stored
    return None


def _write_step(
    device: Device, identity: Identity, options: UploadOptions, point: Point, value: Stored
) -> DatasheetStep:
    shown = show_setting(value, point.fixed_unit)
    try:
        carry(device, _task(device, identity, {point.name: value}), options)
    except UploadError as error:
        # It may refuse because of another setting, or of its state: nothing is proven against the datasheet.
        refused = (
            isinstance(error.__cause__, DeviceRefused) or error.state == SettingsState.UNTOUCHED
        )
        outcome = Outcome.UNKNOWN if refused else Outcome.FAILED
        return DatasheetStep(f"write {point.name}", outcome, f"{shown}: {error.message}")
    return DatasheetStep(
        f"write {point.name}", Outcome.PASSED, f"{shown} read back, all others unchanged"
    )


def _give_back_step(
    device: Device, identity: Identity, options: UploadOptions, before: DeviceSettings
) -> DatasheetStep:
    name = "give back all settings"
    points = device.datasheet.settings
    writable = {
        n: v for n, v in before.values.items() if not points[n].read_only and n != BUS_UNIT.name
    }
    try:
        receipt = give_back(device, _task(device, identity, writable), options)
    except LeitwerkError as error:
        return DatasheetStep(name, Outcome.FAILED, error.message)
    now = device.read_settings()
    wrong = [str(change) for change in diff_settings(now, before, device.datasheet)]
    return _step(name, [*receipt.left, *wrong], f"{len(before.values)} settings as before")


def _task(device: Device, identity: Identity, values: dict[str, Stored]) -> UploadTask:
    model = device.datasheet.model
    source = TaskSource("restore", "the proof of a datasheet", f"datasheet of {model}", "")
    return UploadTask(DeviceSettings(model, values), source, identity.serial)
