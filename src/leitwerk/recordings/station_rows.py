"""Rows that a station which sleeps has sent: into the store, and then confirmed to the station."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.analysis.series import Column, Series, utc_text
from leitwerk.devices.device import Device
from leitwerk.devices.recordings import Recording, RecordingInfo
from leitwerk.errors import LinkError, UnitError
from leitwerk.parsing.units import convert, parse_unit
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.recordings.about import about_setup
from leitwerk.recordings.fetch import RecordedWith
from leitwerk.recordings.fetch_notes import FetchNote, keep_note, note_of
from leitwerk.recordings.store import Store

if TYPE_CHECKING:
    from leitwerk.protocols.station import StationRows

_RUN = "sent"
_UNITS = {"Cel": "°C", "": ""}  # of RFC 8428, 12.1, where they differ from ours


@dataclass(frozen=True)
class KeptRows:
    """What came of one message. Times are in s since 1970-01-01 UTC.

    ``lost`` are rows before it that the station had overwritten before they were kept. ``anew`` says that the
    station counts its rows anew: what it lost then is not known.
    """

    begin_s: float
    end_s: float
    rows: int
    lost: int
    anew: bool = False

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        return {"from": utc_text(self.begin_s), "to": utc_text(self.end_s), "new": self.rows,
                "lost": self.lost, "counts_anew": self.anew}  # fmt: skip

    def __str__(self) -> str:
        span = f"{utc_text(self.begin_s)} to {utc_text(self.end_s)}"
        text = f"{span}: {self.rows:,} new rows, verified by their numbers"
        if self.lost:
            text += (
                f"\n   {self.lost:,} rows before them were overwritten in the station, and are lost"
            )
        if self.anew:
            text += "\n   the station counts its rows anew: rows before them may be lost"
        return text


def keep_rows(
    device: Device,
    recorded_with: RecordedWith,
    store: Store,
    *,
    for_s: float = 0.0,
    clock: Clock = REAL_TIME,
) -> Iterator[KeptRows]:
    """Keep the rows that a station has sent, and those that it sends within the next ``for_s``.

    The rows of a message are in the store before the station is told that it may give them up. They are
    numbered by the station: a number that is missing is a row that was lost, and said so.

    Raises
    ------
    LinkError
        The broker was not reached, or what it keeps are no rows of the station.
    FileProblem
        The store cannot be written.

    """
    identity = device.identify()
    note = note_of(store, identity.serial, _RUN)
    ends_s = clock.monotonic() + for_s
    while True:
        rows, anew = device.link.rows(note.end, max(0.0, ends_s - clock.monotonic())), False
        if rows is None:
            rows = device.link.rows()
            # The store has whole milliseconds.
            newest = _newest(store, identity.serial) + 1e-3
            if rows is None or not rows.times_s or rows.times_s[-1] <= newest:
                return
            # Its numbers are lower than before, and its rows are newer.
            note, anew = FetchNote(begin=rows.first, end=rows.first, lost=0, crc=0), True
        if not rows.times_s:
            return
        lost = max(0, rows.first - note.end) if note.end else 0
        begin = note.begin if note.end else rows.first
        end = rows.first + len(rows.times_s)
        rows = rows.since(note.end)
        series = _series(rows, recorded_with, device)
        about = about_setup(
            recorded_with.setup, identity, series.columns, source="recording", run=_RUN
        )
        added = store.append(series, about)
        known = store.run_rows(identity.serial, _RUN)
        note = FetchNote(begin=begin, end=end, lost=max(0, end - begin - known), crc=0)
        keep_note(store, identity.serial, _RUN, note)
        device.link.confirm(end)
        yield KeptRows(rows.times_s[0], rows.times_s[-1], added.rows, lost, anew)


def _newest(store: Store, serial: str) -> float:
    """The time of the newest row of the station that is kept, in s since 1970-01-01 UTC."""
    held = store.holdings(device=serial)
    return max((one.end_s for one in held if one.run == _RUN), default=-math.inf)


def _series(rows: StationRows, recorded_with: RecordedWith, device: Device) -> Series:
    """The rows as channels of the setup, in the units of the datasheet."""
    values = np.array(
        [[math.nan if x is None else x for x in row] for row in rows.values], np.float64
    ).reshape(len(rows.times_s), len(rows.names))
    own = {point.name: point.unit for point in device.datasheet.points("readings")}
    for k, (name, unit) in enumerate(zip(rows.names, rows.units, strict=True)):
        if name in own:
            values[:, k] = _in_unit(name, values[:, k], _UNITS.get(unit, unit), own[name])
    info = RecordingInfo(1, "", 1.0, len(rows.times_s), len(rows.names), names=rows.names)
    made = recorded_with.measured(
        Recording(info, values, device.clock_zone), device.datasheet, stored_too=True
    )
    return replace(made, times_s=np.array(rows.times_s), dated=True, columns=tuple(
        Column(column.name, column.unit) for column in made.columns
    ))  # fmt: skip


def _in_unit(name: str, values: Any, sent: str, own: str) -> Any:
    if sent == own or not sent or not own:
        return values
    try:
        unit = parse_unit(sent)
    except UnitError:
        unit = None
    if unit is None or unit.powers != parse_unit(own).powers:
        raise LinkError(
            f"the station sends {name} in {sent!r:.24}, its datasheet has {own}",
            remedy="does the datasheet fit this station?",
        )
    return convert(values, unit, parse_unit(own))
