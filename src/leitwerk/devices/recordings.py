"""Recordings in a device: which there are, and fetching one through its window of registers."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.vocabulary import (
    CHANNEL_LABEL,
    CHANNEL_SENSOR,
    CHANNEL_UNIT,
    CHECK_SUM,
    COLUMN_NAME,
    COLUMNS,
    FIRST_ROW,
    INTERVAL,
    OVERWRITTEN,
    RECORDING,
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
_TRIES = 20  # for one window, while a memory goes round


@dataclass(frozen=True, slots=True)
class RecordingInfo:
    """One recording in a device: its number from 1, and what it holds.

    ``started`` is when its oldest row was stored. ``overwritten`` are older ones that made room for newer;
    ``check_sum`` is that of the rows that are held, None where the device gives none; ``names`` the readings
    that its columns hold, where the device says that.
    """

    number: int
    started: str
    interval_s: float
    rows: int
    columns: int
    overwritten: int = 0
    check_sum: int | None = None
    names: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{self.number}: {self.rows} rows since {self.started}, every {self.interval_s:g} s"


@dataclass(frozen=True)
class RowBlock:
    """Rows that were read together: ``values`` of shape (n, n_slots), in the device's own units.

    ``first`` is the number of the first of them, counted from the oldest row when the fetch began. ``lost``
    are rows before it that were overwritten before they were read.
    """

    first: int
    values: NDArray[np.float64]
    lost: int = 0


@dataclass(frozen=True)
class Recording:
    """A fetched recording; ``values`` has the shape (n_rows, n_slots), in the device's own units.

    ``first`` is the number of its first row, counted from the oldest one that the device held; ``lost`` are
    rows that were overwritten while it was fetched: (number of the first, how many).
    """

    info: RecordingInfo
    values: NDArray[np.float64]
    clock_zone: ClockZone
    first: int = 0
    lost: tuple[tuple[int, int], ...] = ()

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
        if self.info.names:
            return [(slot, name, "") for slot, name in zip(every, self.info.names, strict=False)]
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
        """The time of each row in s from the start, of shape (n_rows,); lost rows are a gap."""
        numbers = self.first + np.arange(self.values.shape[0], dtype=np.float64)
        for begin, count in self.lost:
            numbers[numbers >= begin] += count
        return self.info.interval_s * numbers

    def __repr__(self) -> str:
        return f"<Recording {self.info}>"


# What its status must say when a command was carried out.
_AFTER = {
    "start": ("recording", "waiting"), "stop": (), "pause": ("paused",),
    "continue": ("recording", "waiting"), "erase back": ("recording", "paused"),
}  # fmt: skip


def control_recording(device: Device, command: str, *, passwords: Mapping[str, str]) -> str:
    """Start, stop or pause recording, and verify it.

    Parameters
    ----------
    device : Device
    command : str
        *start*, *stop*, *pause*, *continue*, or *erase back*, which takes the last piece away.
    passwords : mapping
        By role.

    Returns
    -------
    str
        What its status said before; for a start, a stop, a pause and a continue, nothing was sent if that was
        so already.

    Raises
    ------
    QuantityError
        The device has no such command.
    DeviceRefused, LinkError
        It did not do it, or was not reached.

    """
    if command not in device.datasheet.commands:
        raise QuantityError(
            f"{device.datasheet.model} has no command to {command} recording",
            valid=", ".join(device.datasheet.commands) or "no commands",
        )
    before = _state(device)
    has_run = before in RECORDING.choices
    is_so = has_run if command == "start" else not has_run if command == "stop" else (
        before in _AFTER[command]
    )  # fmt: skip
    if is_so and command != "erase back":
        return before
    if not has_run and command != "start":
        raise DeviceRefused(f"the device does not record: there is nothing to {command}")
    with device.staying_the_same(), device.logged_in(device.datasheet.role, passwords):
        device.command(command)
        now = _state(device)
    done = now not in RECORDING.choices if command == "stop" else now in _AFTER[command]
    if not done:
        raise DeviceRefused(
            f"the device took the command to {command}, and its status is {now!r}",
            remedy="is its memory full, or does something else control it?",
        )
    return before


def _state(device: Device) -> str:
    """What the device says of its recording."""
    return str(device.status_points().get(RECORDING.name, ""))


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

    Raises
    ------
    QuantityError
        The device shows no recordings, or none of this number.
    LinkError
        The device shows other rows than those asked for.
    WrongDevice
        Another device answers now than before.

    """
    with device.staying_the_same():
        info = look_at_recording(device, number)
        blocks = []
        for block in read_rows(device, info):
            blocks.append(block)
            progress(min(block.first + len(block.values), info.rows), info.rows)
    values = [block.values for block in blocks] or [np.empty((0, info.columns))]
    lost = tuple((block.first - block.lost, block.lost) for block in blocks if block.lost)
    return Recording(info, np.concatenate(values), device.clock_zone, lost=lost)


def look_at_recording(device: Device, number: int) -> RecordingInfo:
    """What a recording holds, by its number from 1; it is chosen in the device.

    Raises
    ------
    QuantityError
        The device shows no recordings, or none of this number.
    LinkError
        The device was not reached, or says what cannot be.

    """
    sheet = device.datasheet
    if sheet.family(WINDOW_VALUE) is None or sheet.family(SELECT) is None:
        raise QuantityError(f"{sheet.model} shows no recordings", valid="a model that keeps some")
    count = device.status().recordings
    if not 1 <= number <= count:
        raise QuantityError(f"there is no recording {number}", valid=f"1..{count}")
    return _look(device, number)


def read_rows(device: Device, info: RecordingInfo, first: int = 0) -> Iterator[RowBlock]:
    """The rows of the recording that was looked at last, from a number on, window by window.

    Every window says where it stands, so that one is never taken for another. In a memory that goes round,
    the oldest row may be another one from window to window: what was read meanwhile is read again, and rows
    that were overwritten before they were read are counted as lost.

    Parameters
    ----------
    device : Device
    info : RecordingInfo
        As ``look_at_recording`` gave it.
    first : int
        The number of the first row that is wanted, from the oldest one at that look.

    Raises
    ------
    LinkError
        The device shows other rows than those asked for; or its memory goes round faster than it is read.

    """
    window = device.datasheet.family(WINDOW_VALUE)
    assert window is not None
    # Whole rows only: a window may end in the middle of one.
    rows_each = max(1, len(window.indices) // max(1, info.columns))
    gone, again = _gone(device, info), 0
    readers: dict[int, Callable[[], NDArray[np.float64]]] = {}  # of windows, by their rows
    lost = max(0, gone - first)
    number = first + lost
    while number < info.rows:
        wanted = min(rows_each, info.rows - number)
        if wanted not in readers:
            points = [window.point(w) for w in window.indices[: wanted * info.columns]]
            readers[wanted] = device.reader([device.datasheet.point(SHOWN), *points])
        values = _read_window(device, readers[wanted], info, number - gone, wanted)
        now = _gone(device, info)
        if now != gone:
            # Which rows were read is not known.
            gone, again = now, again + 1
            lost += max(0, gone - number)
            number = max(number, gone)
            if again > _TRIES:
                raise LinkError(
                    f"{device.address}: its memory goes round faster than it is read",
                    remedy="stop its recording, then fetch",
                )
            continue
        yield RowBlock(number, values, lost)
        number, lost, again = number + wanted, 0, 0


def _gone(device: Device, info: RecordingInfo) -> int:
    """How many rows were overwritten since a recording was looked at."""
    sheet = device.datasheet
    if sheet.has(OVERWRITTEN):
        point = sheet.point(OVERWRITTEN)
        return int(float(device.read_points([point])[point.name] or 0.0)) - info.overwritten
    point = sheet.point(STARTED)
    begin = str(device.read_points([point])[point.name])
    if begin == info.started:
        return 0
    try:
        moved = datetime.fromisoformat(begin) - datetime.fromisoformat(info.started)
    except ValueError:
        raise LinkError(f"{device.address}: the recording begins at {begin!r} now") from None
    return round(moved.total_seconds() / info.interval_s)


def _read_window(
    device: Device,
    read: Callable[[], NDArray[np.float64]],
    info: RecordingInfo,
    first: int,
    rows: int,
) -> NDArray[np.float64]:
    sheet = device.datasheet
    device.write_point(sheet.point(FIRST_ROW), float(first))
    numbers = read()
    if numbers[0] != first:
        raise LinkError(
            f"{device.address}: it shows row {numbers[0]:g} of recording {info.number}, row {first} "
            "was asked for",
            remedy="does another program read recordings? Try again when it has finished",
        )
    return numbers[1:].reshape(rows, info.columns)


def _look(device: Device, number: int) -> RecordingInfo:
    sheet = device.datasheet
    device.write_point(sheet.point(SELECT), float(number))
    shown = [STARTED, INTERVAL, ROWS, COLUMNS]
    more = [known for known in (OVERWRITTEN, CHECK_SUM) if sheet.has(known)]
    found = device.read_points([sheet.point(known) for known in (*shown, *more)])
    interval, rows, columns = (float(found[known.name] or 0.0) for known in shown[1:])
    if not (0 <= rows <= _ROWS_AT_MOST and 1 <= columns <= _COLUMNS_AT_MOST):
        raise LinkError(
            f"{device.address}: recording {number} is said to have {rows:g} rows of {columns:g}",
            remedy="does the datasheet fit this device?",
        )
    check_sum = found.get(CHECK_SUM.name)
    names: tuple[str, ...] = ()
    family = sheet.family(COLUMN_NAME)
    if family is not None:
        points = [family.point(n) for n in family.indices if n <= columns]
        names = tuple(str(name) for name in device.read_points(points).values())
    return RecordingInfo(
        number, str(found[STARTED.name]), interval, int(rows), int(columns),
        int(float(found.get(OVERWRITTEN.name) or 0.0)),
        None if check_sum is None else int(float(check_sum)), names,
    )  # fmt: skip
