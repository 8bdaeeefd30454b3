"""Recordings fetched from a device into files, before anything may erase them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.series import Column, Series
from leitwerk.analysis.steps import usual_intervals
from leitwerk.check.channels import (
    CheckedChannel,
    DerivedChannel,
    MeasuredChannel,
    ReadingChannel,
    WiredChannel,
    measured,
)
from leitwerk.check.checked import CheckedSetup
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.own_quality import own_qualities
from leitwerk.datasheet.points import Point
from leitwerk.datasheet.settings import DeviceSettings, diff_settings
from leitwerk.datasheet.vocabulary import CHANNEL_VALUE, FLAGGED, SUPPLY_READINGS, WINDOW_VALUE
from leitwerk.devices.device import Device
from leitwerk.devices.recordings import Recording, fetch_recording, list_recordings
from leitwerk.evaluation.channel_values import ChannelValues
from leitwerk.evaluation.host_values import HostValues
from leitwerk.links.drive import DriveLink
from leitwerk.project.files import write_atomic
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray

AS_STORED = "as stored"


@dataclass(frozen=True)
class RecordedWith:
    """The settings with which a device records, and the setup that they come from, if it is known.

    Without a setup, columns are values as the device stored them: what Leitwerk works of a scale, corrections
    and tare are not in them, and their headings say ``as stored``. So are the columns of channels that the
    device is set otherwise for than the setup says.
    """

    settings: DeviceSettings
    setup: CheckedSetup | None = None

    def differing(self, datasheet: Datasheet) -> list[CheckedChannel]:
        """The channels that the device is set otherwise for than the setup says."""
        if self.setup is None:
            return []
        changes = diff_settings(self.settings, self.setup.settings, datasheet)
        return [
            channel
            for channel in self.setup.channels
            if any(channel.owns(change.setting) for change in changes)
        ]

    def series(self, recording: Recording, datasheet: Datasheet) -> Series:
        """A recording as a series, with a column for each slot in use, and the derived channels."""
        series = self.measured(recording, datasheet)
        return series if self.setup is None else with_derived(series, self.setup.channels)

    def measured(
        self, recording: Recording, datasheet: Datasheet, *, stored_too: bool = False
    ) -> Series:
        """A recording as a series, with a column for each slot in use.

        With ``stored_too``, a channel that Leitwerk works has a second column with what the device stored.
        """
        known = self._channels(datasheet, recording)
        own = {point.name: point.unit for point in datasheet.points("readings")}
        flagged, of_voltage = _flags(recording), _flagged_with(datasheet)
        columns, shown, qualities = [], [], []
        for slot, label, unit in self._slots(recording, every=stored_too):
            values = recording.values[:, slot - 1]
            channel = known.get(slot)
            point = _point_of(datasheet, slot, recording.info.names)
            quality = own_qualities(point, values)
            if point.name in of_voltage:
                quality[flagged & (quality == Quality.GOOD)] = Quality.FLAGGED
            if channel is None:
                columns.append(Column(f"{label} {AS_STORED}", unit or own.get(label, "")))
            else:
                one = HostValues([channel]).work(values[:, None], quality[:, None])
                if stored_too and not np.array_equal(one[0][:, 0], values, equal_nan=True):
                    columns.append(Column(f"{channel.name} {AS_STORED}", unit))
                    shown.append(values)
                    qualities.append(quality)
                columns.append(Column(channel.name, channel.symbol))
                values, quality = one[0][:, 0], one[1][:, 0]
            shown.append(values)
            qualities.append(quality)
        start = recording.start()
        times_s = (0.0 if start is None else start.timestamp()) + recording.times_s()
        shape = (times_s.size, len(columns))
        return Series(
            tuple(columns),
            times_s,
            np.array(shown).T.reshape(shape),
            np.array(qualities, dtype=np.uint8).T.reshape(shape),
            dated=start is not None,
        )

    def _slots(self, recording: Recording, *, every: bool) -> list[tuple[int, str, str]]:
        """Slot, name and unit of each column: those in use, and of ``every`` one that holds something.

        A slot that is off now may have been in use when the rows were stored.
        """
        found = recording.columns(self.settings)
        if not every:
            return found
        used = {slot for slot, *_ in found}
        others = [entry for entry in recording.columns(None) if entry[0] not in used]
        holds = [entry for entry in others if np.any(recording.values[:, entry[0] - 1])]
        return found + (holds if found or holds else others)

    def _channels(self, datasheet: Datasheet, recording: Recording) -> dict[int, MeasuredChannel]:
        """The channels of the setup, by slot: those whose slot is set as the setup says."""
        if self.setup is None:
            return {}
        other = self.differing(datasheet)
        wired: Sequence[WiredChannel] = [
            c for c in self.setup.channels if isinstance(c, WiredChannel) and c not in other
        ]
        by_name: dict[str, MeasuredChannel] = {
            c.point.name: c for c in self.setup.channels if isinstance(c, ReadingChannel)
        }
        named = {
            slot: by_name[name]
            for slot, name in enumerate(recording.info.names, start=1)
            if name in by_name
        }
        return {**{channel.slot: channel for channel in wired}, **named}


class DerivedRows:
    """Adds the derived channels to rows, piece by piece: what they remember goes on from piece to piece.

    Parameters
    ----------
    channels : sequence of CheckedChannel
    head : sequence of Series
        The first pieces of the rows: which columns there are, and how far apart their values.

    """

    def __init__(self, channels: Sequence[CheckedChannel], head: Sequence[Series]) -> None:
        self._place = {column.name: k for k, column in enumerate(head[0].columns)}
        self._derived = [
            c
            for c in channels
            if isinstance(c, DerivedChannel) and self._place.keys() >= {*c.inputs}
        ]
        used = {name for c in self._derived for name in c.inputs}
        self._inputs = [c for c in measured(channels) if c.name in used]
        names = [c.name for c in self._inputs]
        intervals = usual_intervals(head, [self._place[name] for name in names])
        self._worked = ChannelValues(
            [*self._inputs, *self._derived], dict(zip(names, intervals, strict=True))
        )

    def take(self, series: Series) -> Series:
        """The rows with the channels that can be computed from their columns."""
        if not self._derived:
            return series
        places = [self._place[c.name] for c in self._inputs]
        known = series.qualities
        codes = np.zeros(series.values.shape, np.uint8) if known is None else known
        values, qualities = self._worked.derive(
            series.times_s, series.values[:, places], codes[:, places]
        )
        own = slice(len(self._inputs), None)
        return Series(
            (*series.columns, *(Column(c.name, c.symbol) for c in self._derived)),
            series.times_s,
            np.hstack([series.values, values[:, own]]),
            np.hstack([codes, qualities[:, own]]),
            dated=series.dated,
        )


def with_derived(series: Series, channels: Sequence[CheckedChannel]) -> Series:
    """A series with the derived channels that can be computed from its columns, in their units."""
    return DerivedRows(channels, [series]).take(series)


def _flags(recording: Recording) -> NDArray[np.bool_]:
    """The rows into which an event fell, by what the device stored with them; of shape (n_rows,)."""
    values, names = recording.values, recording.info.names
    if FLAGGED.name not in names:
        return np.zeros(values.shape[0], dtype=bool)
    flagged: NDArray[np.bool_] = values[:, names.index(FLAGGED.name)] > 0.0
    return flagged


def _flagged_with(datasheet: Datasheet) -> set[str]:
    """The readings that an event of the voltage flags (IEC 61000-4-30:2015, 4.7)."""
    families = (datasheet.family(known) for known in SUPPLY_READINGS)
    return {point.name for family in families if family is not None for point in family.points()}


def _point_of(datasheet: Datasheet, slot: int, names: Sequence[str]) -> Point:
    """Where the codes of a slot are described: at its reading, else at the window of rows."""
    if slot <= len(names):
        own = [point for point in datasheet.points("readings") if point.name == names[slot - 1]]
        if own:
            return own[0]
    window = datasheet.family(WINDOW_VALUE)
    if window is not None and _tells_quality(window.template):
        return window.point(1)
    family = datasheet.family(CHANNEL_VALUE)
    if family is not None and slot in family.indices:
        return family.point(slot)
    return datasheet.point(WINDOW_VALUE, 1)


def _tells_quality(point: Point) -> bool:
    """Whether a value says itself that it is none, by a code or by what stands in for it."""
    return bool(point.special) or point.substitute is not None


def without_quality(datasheet: Datasheet, recording: Recording, slots: Iterable[int]) -> bool:
    """Whether nothing that a device stores in some slots says what a value is worth."""
    points = [_point_of(datasheet, slot, recording.info.names) for slot in slots]
    return not any(p.tells_missing_values or p.choice_numbers for p in points)


def fetch_reports(device: Device, folder: Path) -> list[Path]:
    """Copy the reports that a device has written itself: one that appears as a drive holds them as files.

    A copy that is there already is not written again; one with another content gets a number.

    Raises
    ------
    LinkError
        The device was not reached, or is still writing.
    FileProblem
        A file cannot be written.

    """
    if not isinstance(device.link, DriveLink):
        return []
    copied = []
    for path in device.link.reports():
        content, target, number = path.read_bytes(), folder / path.name, 2
        while target.exists() and target.read_bytes() != content:
            target = folder / f"{path.stem} ({number}){path.suffix}"
            number += 1
        if not target.exists():
            write_atomic(target, content)
            copied.append(target)
    return copied


def fetch_recordings(
    device: Device,
    recorded_with: RecordedWith,
    stem: Path,
    progress: Callable[[str, int, int], None] = lambda step, done, total: None,
    *,
    only: Collection[int] = (),
) -> list[Path]:
    """Fetch the recordings of a device, each into a CSV file of its own; nothing is erased.

    Parameters
    ----------
    device : Device
    recorded_with : RecordedWith
        What the columns are.
    stem : Path
        The beginning of the files' names.
    progress : callable
        Called with the step, how many rows are done, and how many there are.
    only : collection of int, optional
        The numbers of the recordings; all, if not given.

    Raises
    ------
    LinkError
        The device was not reached, or showed something else.
    QuantityError
        There is no recording of that number.
    FileProblem
        A file cannot be written.

    """
    files = []
    numbers = only or [info.number for info in list_recordings(device)]
    for number in numbers:
        step = f"fetch recording {number}"
        progress(step, 0, 1)
        recording = fetch_recording(device, number, partial(progress, step))
        path = stem.with_name(f"{stem.name}-recording-{number}.csv")
        write_atomic(path, recorded_with.series(recording, device.datasheet).csv())
        progress(step, 1, 1)
        files.append(path)
    return files
