"""Recordings in a device: which there are, and fetching one through its window of registers."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.datasheet.points import Point, PointFamily
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.vocabulary import (
    CHANNEL_LABEL,
    CHANNEL_SENSOR,
    CHANNEL_UNIT,
    COLUMNS,
    FIRST_ROW,
    INTERVAL,
    ROWS,
    SELECT,
    SHOWN,
    STARTED,
    WINDOW_VALUE,
)
from leitwerk.devices.clock import ClockZone
from leitwerk.devices.device import Device
from leitwerk.errors import DeviceRefused, LinkError, QuantityError
from leitwerk.parsing.frames import dataframe

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import NDArray

_GROUP = "recordings"
_ROWS_AT_MOST = 10_000_000  # nothing that is asked for here has more
_COLUMNS_AT_MOST = 1000


@dataclass(frozen=True, slots=True)
class RecordingInfo:
    """One recording in a device: its number from 1, and what it holds."""

    number: int
    started: str
    interval_s: float
    rows: int
    columns: int

    def __str__(self) -> str:
        return f"{self.number}: {self.rows} rows since {self.started}, every {self.interval_s:g} s"


@dataclass(frozen=True)
class Recording:
    """A fetched recording; ``values`` has the shape (n_rows, n_slots), in the device's own units."""

    info: RecordingInfo
    values: NDArray[np.float64]
    clock_zone: ClockZone

    def to_dataframe(self, settings: DeviceSettings | None = None) -> pd.DataFrame:
        """A row for each stored row: its time in UTC as the index, then the slots as the device stored them.

        ``settings`` are as for ``columns``; ``attrs["units"]`` has the units.
        """
        start = self.start()
        times_s = self.times_s()
        columns: dict[str, Any] = {"time_s": times_s}
        if start is not None:
            columns = {"time": [start + timedelta(seconds=t) for t in times_s.tolist()]}
        units: dict[str, str] = {}
        for slot, name, unit in self.columns(settings):
            columns[name], units[name] = self.values[:, slot - 1], unit
        return dataframe(columns, units, next(iter(columns)))

    def columns(self, settings: DeviceSettings | None) -> list[tuple[int, str, str]]:
        """Slot, name and unit of each column, by the settings with which it was recorded.

        Only slots in use, named by their labels; without settings all slots, by their numbers.
        """
        every = range(1, self.info.columns + 1)
        if settings is None:
            return [(slot, f"slot {slot}", "") for slot in every]
        # A device whose slots are not set records what it records: each of them is shown.
        is_set = any(settings.get(CHANNEL_SENSOR, slot) is not None for slot in every)
        unused = {None, CHANNEL_SENSOR.cleared} if is_set else set()
        return [
            (
                slot,
                str(settings.get(CHANNEL_LABEL, slot) or f"slot {slot}"),
                str(settings.get(CHANNEL_UNIT, slot) or ""),
            )
            for slot in every
            if settings.get(CHANNEL_SENSOR, slot) not in unused
        ]

    def start(self) -> datetime | None:
        """When it began, in UTC; None if the clock of the device was never set."""
        try:
            shown = datetime.fromisoformat(self.info.started)
            return self.clock_zone.instant(shown.replace(tzinfo=None))
        except (ValueError, OverflowError):
            return None

    def times_s(self) -> NDArray[np.float64]:
        """The time of each row in s from the start, of shape (n_rows,)."""
        return self.info.interval_s * np.arange(self.values.shape[0], dtype=np.float64)

    def __repr__(self) -> str:
        return f"<Recording {self.info}>"


def control_recording(device: Device, *, start: bool, passwords: Mapping[str, str]) -> bool:
    """Start or stop recording, and verify it; False when the device did so already.

    Raises
    ------
    QuantityError
        The device has no such command.
    DeviceRefused, LinkError
        It did not do it, or was not reached.

    """
    command = "start" if start else "stop"
    if command not in device.datasheet.commands:
        raise QuantityError(
            f"{device.datasheet.model} has no command to {command} recording",
            valid=", ".join(device.datasheet.commands) or "no commands",
        )
    if device.status().recording == start:
        return False
    with device.staying_the_same(), device.logged_in(device.datasheet.role, passwords):
        device.command(command)
        now = device.status().recording
    if now != start:
        raise DeviceRefused(
            f"the device took the command to {command}, and {'still records' if now else 'does not record'}",
            remedy="is its memory full, or does something else control it?",
        )
    return True


def list_recordings(device: Device) -> list[RecordingInfo]:
    """The recordings of a device; none where it keeps none or shows none."""
    if device.datasheet.family(SELECT) is None:
        return []
    return [_look(device, number) for number in range(1, device.status().recordings + 1)]


def fetch_recording(
    device: Device,
    number: int,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> Recording:
    """A recording with its rows, by its number from 1; nothing is erased.

    It is read window by window. Every window says where it stands, so that one is never taken for
    another.

    Raises
    ------
    QuantityError
        The device shows no recordings, or none of this number.
    LinkError
        The device shows other rows than those asked for.
    WrongDevice
        Another device answers now than before.

    """
    sheet = device.datasheet
    window = sheet.family(WINDOW_VALUE)
    if window is None or sheet.family(SELECT) is None:
        raise QuantityError(f"{sheet.model} shows no recordings", valid="a model that keeps some")
    with device.staying_the_same():
        return _fetch(device, number, window, progress)


def _fetch(
    device: Device,
    number: int,
    window: PointFamily[Point],
    progress: Callable[[int, int], None],
) -> Recording:
    sheet = device.datasheet
    count = device.status().recordings
    if not 1 <= number <= count:
        raise QuantityError(f"there is no recording {number}", valid=f"1..{count}")
    info = _look(device, number)
    # Whole rows only: a window may end in the middle of one.
    rows_each = max(1, len(window.indices) // max(1, info.columns))
    rows = []
    for first in range(0, info.rows, rows_each):
        wanted = min(rows_each, info.rows - first)
        device.write_point(sheet.point(FIRST_ROW), float(first))
        points = [window.point(w) for w in window.indices[: wanted * info.columns]]
        shown = sheet.point(SHOWN)
        numbers = device.reader([shown, *points])()
        if numbers[0] != first:
            raise LinkError(
                f"{device.address}: it shows row {numbers[0]:g} of recording {number}, row {first} "
                "was asked for",
                remedy="does another program read recordings? Try again when it has finished",
            )
        rows.append(numbers[1:].reshape(wanted, info.columns))
        progress(first + wanted, info.rows)
    values = np.concatenate(rows) if rows else np.empty((0, info.columns))
    return Recording(info, values, device.clock_zone)


def _look(device: Device, number: int) -> RecordingInfo:
    sheet = device.datasheet
    device.write_point(sheet.point(SELECT), float(number))
    shown = (STARTED, INTERVAL, ROWS, COLUMNS)
    found = device.read_points([sheet.point(known) for known in shown])
    interval, rows, columns = (float(found[known.name]) for known in shown[1:])
    if not (0 <= rows <= _ROWS_AT_MOST and 1 <= columns <= _COLUMNS_AT_MOST):
        raise LinkError(
            f"{device.address}: recording {number} is said to have {rows:g} rows of {columns:g}",
            remedy="does the datasheet fit this device?",
        )
    return RecordingInfo(number, str(found[STARTED.name]), interval, int(rows), int(columns))
