"""Sampled voltages and currents evaluated as a wiring says: rows of values, events, and their table."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.analysis.series import Column, Series
from leitwerk.errors import QuantityError
from leitwerk.parsing.units import parse_unit
from leitwerk.power.aggregation import TICK_S, aggregate, flag
from leitwerk.power.cycles import HalfCycleRms
from leitwerk.power.definitions import powers_of
from leitwerk.power.event_table import EventTable, count_events
from leitwerk.power.harmonics import cycles_of, harmonics_of
from leitwerk.power.phasors import unbalance
from leitwerk.power.system import PHASES, System
from leitwerk.power.transients import TransientFinder
from leitwerk.power.voltage_events import (
    EventFinder,
    InrushFinder,
    RapidChangeFinder,
    Thresholds,
    VoltageEvent,
)
from leitwerk.power.window_stream import Windows, WindowStream
from leitwerk.setup.model import Setup
from leitwerk.setup.triggers import Triggers
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_GONE = 0.05  # a fundamental below this part of the nominal one counts as gone
_OFF_NOMINAL = 0.05
_MOST = 1e9  # V and A: what is beyond it is no sample
_MEANS = ("p", "q", "frequency")  # arithmetic means; all others are root mean squares


@dataclass(frozen=True)
class WaveformOptions:
    """What is sampled: ``channels`` are names such as u1, i1; ``begin_s`` is the time of the first sample.

    ``thresholds``, ``change`` and ``transient`` are parts of the nominal voltage or its peak; ``inrush_a`` is
    a current, None where inrush is not looked for.
    """

    system: System
    nominal_v: float
    nominal_hz: float
    channels: tuple[str, ...]
    rate_hz: float
    begin_s: float = 0.0
    dated: bool = False
    thresholds: Thresholds = field(default_factory=Thresholds)
    change: float = 0.05
    transient: float = 0.3
    inrush_a: float | None = None


@dataclass(frozen=True)
class Waveforms:
    """What sampled waveforms showed.

    ``windows`` has a row for each window of 10 or 12 cycles, ``intervals`` one for each ten minutes of the
    clock; in both, what an event fell into is ``FLAGGED``, so that verdicts leave it out.
    """

    windows: Series
    intervals: Series
    events: tuple[VoltageEvent, ...]
    table: EventTable
    open_events: bool
    notes: tuple[str, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """The events and the last values as plain data for JSON."""
        return {
            "windows": int(self.windows.times_s.size),
            "intervals": int(self.intervals.times_s.size),
            "events": [
                {
                    "kind": e.kind,
                    "begin_s": e.begin_s,
                    "duration_s": e.duration_s,
                    "extreme": e.extreme,
                    "channels": list(e.channels),
                }
                for e in self.events
            ],
            "open_events": self.open_events,
            "notes": list(self.notes),
            "dips": {k: dict(v) for k, v in self.table.dips.items()},
            "swells": {k: dict(v) for k, v in self.table.swells.items()},
            "interruptions": {
                "short": self.table.short_interruptions,
                "long": self.table.long_interruptions,
            },
            "other": dict(self.table.other),
        }


def options_of(
    setup: Setup,
    channels: Sequence[str] | None,
    *,
    rate_hz: float,
    count: int,
    begin_s: float | None = None,
) -> WaveformOptions:
    """What a setup says of a recording of so many channels.

    Raises
    ------
    QuantityError
        The setup has no wiring, or the channels are not those of it.

    """
    entry = setup.wiring
    if entry is None:
        raise QuantityError(f"{setup.source.file} has no wiring", remedy="add the section 'wiring'")
    known = [*entry.voltage_names, *(f"i{k + 1}" for k in entry.system.sensors)]
    names = list(channels) if channels is not None else known[:count]
    if len(names) != count or not {*names} <= {*known} or len({*names}) != count:
        raise QuantityError(
            f"the recording has {count} channels, and {' '.join(names) or 'none'} are named",
            valid=f"{count} of: {' '.join(known)}",
        )
    triggers = setup.triggers or Triggers()
    dip, swell, interruption, hysteresis, change, transient = (
        quantity.value_in(parse_unit("%")) / 100.0
        for quantity in (
            triggers.dip, triggers.swell, triggers.interruption, triggers.hysteresis,
            triggers.change, triggers.transient,
        )
    )  # fmt: skip
    return WaveformOptions(
        entry.system,
        entry.nominal.value_in(parse_unit("V")),
        setup.mains.value_in(parse_unit("Hz")),
        tuple(names),
        rate_hz,
        begin_s or 0.0,
        begin_s is not None,
        Thresholds(dip, swell, interruption, hysteresis),
        change,
        transient,
        triggers.inrush.value_in(parse_unit("A")) if triggers.inrush else None,
    )


def scaled(
    blocks: Iterable[Array], options: WaveformOptions, volts: float, amperes: float
) -> Iterator[Array]:
    """Samples as parts of full scale, in V and A."""
    factors = np.array([volts if name.startswith("u") else amperes for name in options.channels])
    for block in blocks:
        yield block * factors


def evaluate_waveforms(options: WaveformOptions, blocks: Iterable[Array]) -> Waveforms:
    """Evaluate samples of voltages and currents, block by block; memory is that of the rows.

    Parameters
    ----------
    options : WaveformOptions
    blocks : iterable of array of shape (n, channels)
        In V and A.

    Raises
    ------
    QuantityError
        There is no voltage among the channels, too few samples, or not one whole window.

    """
    worker = _Worker(options)
    for block in blocks:
        worker.take(block)
    return worker.result()


class _Worker:
    def __init__(self, options: WaveformOptions) -> None:
        self._of = options
        self._u = [k for k, name in enumerate(options.channels) if name.startswith("u")]
        self._i = [k for k, name in enumerate(options.channels) if name.startswith("i")]
        if not self._u:
            raise QuantityError("there is no voltage among the channels", valid="u1 u2 u3 i1 i2 i3")
        peak = math.sqrt(2.0) * options.nominal_v
        rate, hertz, least = options.rate_hz, options.nominal_hz, _GONE * peak
        # The reference stands first.
        self._order = [*self._u, *self._i]
        self._stream: WindowStream | None = None
        self._half = [HalfCycleRms(rate, hertz, least) for _ in self._u]
        self._finder = EventFinder(options.nominal_v, len(self._u), options.thresholds)
        steady = 100 if hertz == 50.0 else 120
        self._rapid = [
            RapidChangeFinder(
                options.nominal_v,
                threshold=options.change,
                hysteresis=options.change / 2.0,
                half_cycles=steady,
                thresholds=options.thresholds,
            )
            for _ in self._u
        ]
        self._transients = [TransientFinder(rate, hertz, options.transient * peak) for _ in self._u]
        amperes = options.inrush_a
        self._inrush = [] if amperes is None else [InrushFinder(amperes) for _ in self._i]
        # A current may be nearly nothing; its half cycles are those of the net all the same.
        self._half_i = [HalfCycleRms(rate, hertz, 1e-3) for _ in self._inrush]
        self._lives = [False] * len(self._u)
        self._reference = 0
        self._events: list[VoltageEvent] = []
        self._begins: list[Array] = []
        self._ends: list[Array] = []
        self._values: list[Array] = []
        self._names: list[str] = []

    def take(self, block: Array) -> None:
        block = np.where(np.abs(block) < _MOST, block, np.nan)
        for place, k in enumerate(self._u):
            for t in self._transients[place].take(block[:, k]):
                self._events.append(
                    VoltageEvent("transient", self._of.begin_s + t.begin_s, t.duration_s, t.peak, (place,))
                )  # fmt: skip
        values = []
        for place, k in enumerate(self._u):
            times, rms = self._half[place].take(block[:, k])
            times = times + self._of.begin_s
            values.append((times, rms))
            self._lives[place] |= bool(times.size)
            for event in self._rapid[place].take(times, rms):
                self._events.append(
                    VoltageEvent(event.kind, event.begin_s, event.duration_s, event.extreme, (place,))
                )  # fmt: skip
        self._events += self._finder.take(values)
        for half, k, finder in zip(self._half_i, self._i, self._inrush, strict=False):
            times, rms = half.take(block[:, k])
            for event in finder.take(times + self._of.begin_s, rms):
                self._events.append(
                    VoltageEvent(event.kind, event.begin_s, event.duration_s, event.extreme, (k,))
                )
        windows = self._windows(block)
        if windows.begins_s.size:
            self._begins.append(windows.begins_s)
            self._ends.append(windows.ends_s)
            self._values.append(self._rows(windows.points, windows.ends_s - windows.begins_s))

    def _windows(self, block: Array) -> Windows:
        """Windows by the first voltage that is there, as the recording begins."""
        if self._stream is None:
            of, peak = self._of, math.sqrt(2.0) * self._of.nominal_v
            amounts = np.nanmax(np.abs(np.nan_to_num(block[:, self._u])), axis=0, initial=0.0)
            reference = int(np.argmax(amounts > 0.5 * peak))
            self._reference = reference
            self._stream = WindowStream(
                of.rate_hz, of.nominal_hz, _GONE * peak, len(self._order), of.begin_s
            )
        return self._stream.take(block[:, self._order], self._reference)

    def _rows(self, points: Array, spent_s: Array) -> Array:
        """Values of some windows, a row each."""
        cycles, names = cycles_of(self._of.nominal_hz), [self._of.channels[k] for k in self._order]
        found: dict[str, Array] = {"frequency": cycles / spent_s}
        spectra = []
        for place, name in enumerate(names):
            own = points[:, place]
            found[name] = np.sqrt((own**2).mean(axis=1))
            found[f"thd_{name}"] = harmonics_of(own, cycles).thd_of_subgroups
            spectra.append(np.fft.rfft(own, axis=1)[:, cycles] * math.sqrt(2.0) / own.shape[1])
        if len(self._u) == len(PHASES):
            u2, u0 = unbalance(np.stack(spectra[: len(PHASES)], axis=1))
            found["unbalance"] = u2
            if self._of.system.has_neutral:
                found["unbalance_zero"] = u0
        if self._of.system.has_neutral:
            self._powers(points, names, cycles, found)
        self._names = [*found]
        return np.stack([*found.values()], axis=1)

    def _powers(
        self, points: Array, names: Sequence[str], cycles: int, found: dict[str, Array]
    ) -> None:
        """Powers of each phase that has a voltage and a current, and their sums."""
        pairs = [
            (name[1:], place, names.index(f"i{name[1:]}"))
            for place, name in enumerate(names)
            if name.startswith("u") and f"i{name[1:]}" in names
        ]
        for number, u, i in pairs:
            p = powers_of(points[:, u], points[:, i], cycles)
            found[f"p{number}"] = p.active / 1e3
            found[f"q{number}"] = p.reactive_of_fundamental / 1e3
            found[f"s{number}"] = p.apparent / 1e3
        for kind in ("p", "q") if pairs else ():
            found[kind] = np.sum([found[f"{kind}{number}"] for number, _, _ in pairs], axis=0)

    def result(self) -> Waveforms:
        if not self._values:
            raise QuantityError(
                "the samples hold not one window of whole cycles of a voltage",
                valid="half a second or more, with the nominal voltage and frequency of the setup",
            )
        begins, ends = np.concatenate(self._begins), np.concatenate(self._ends)
        values = np.concatenate(self._values)
        events = tuple(sorted(self._events, key=lambda event: event.begin_s))
        flagged = flag(begins, ends, events)
        columns = tuple(Column(name, _unit(name)) for name in self._names)
        dated = self._of.dated
        return Waveforms(
            windows=Series(columns, begins, values, _codes(values, flagged[:, None]), dated),
            intervals=self._intervals(columns, begins, ends, values, flagged),
            events=events,
            table=count_events(events, self._of.nominal_v),
            open_events=self._finder.is_open,
            notes=tuple(self._notes(values)),
        )

    def _notes(self, values: Array) -> Iterator[str]:
        """What the values do not say by themselves."""
        for k, lives in zip(self._u, self._lives, strict=True):
            if not lives:
                yield f"{self._of.channels[k]} has no voltage in the whole recording"
        hertz = float(np.nanmean(values[:, self._names.index("frequency")]))
        if abs(hertz / self._of.nominal_hz - 1.0) > _OFF_NOMINAL:
            yield f"the frequency is {hertz:.2f} Hz, {self._of.nominal_hz:g} Hz is nominal"
        sampled = [self._names.index(self._of.channels[k]) for k in self._order]
        missing = int((~np.isfinite(values[:, sampled])).any(axis=1).sum())
        if missing:
            yield f"{missing} windows hold samples that are no number: events in them are not seen"

    def _intervals(
        self, columns: tuple[Column, ...], begins: Array, ends: Array, values: Array, flagged: Any
    ) -> Series:
        """Ten minutes of the clock each; one that windows cover for less than 99 % is incomplete, too."""
        each = [
            aggregate(
                begins, ends, values[:, k], flagged, TICK_S, plain=c.name.rstrip("123") in _MEANS
            )
            for k, c in enumerate(columns)
        ]
        first = each[0]
        found = np.stack([one.values for one in each], axis=1)
        short = np.stack([one.share < 0.99 for one in each], axis=1)
        marked = np.stack([one.flagged for one in each], axis=1)
        codes = _codes(found, marked, short)
        return Series(columns, first.begins_s, found, codes, self._of.dated)


def _codes(values: Array, flagged: Any, short: Any = False) -> NDArray[np.uint8]:  # noqa: FBT002
    codes = np.where(flagged, np.uint8(Quality.FLAGGED), np.uint8(Quality.GOOD))
    codes = np.where(short, np.uint8(Quality.INCOMPLETE), codes)
    codes = np.broadcast_to(codes, values.shape)
    found: NDArray[np.uint8] = np.where(np.isfinite(values), codes, np.uint8(Quality.NO_NUMBER))
    return found


def _unit(name: str) -> str:
    head = name.rstrip("0123456789")
    return {"u": "V", "i": "A", "p": "kW", "q": "kvar", "s": "kV·A", "frequency": "Hz"}.get(
        head, "%"
    )
