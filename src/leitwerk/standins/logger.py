"""The simulated universal logger: inputs that are switched by its registers, alarms, memory."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import datetime, timedelta
from typing import Any

from leitwerk.datasheet.model import Datasheet, Input, Range
from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.register_points import registers
from leitwerk.datasheet.vocabulary import (
    CHANNEL_RANGE,
    CHANNEL_SENSOR,
    DRIVE_RELAY,
    FIRST_ROW,
    PULSE_FILTER,
    PULSE_GATE,
    PULSE_MISSING,
    PULSE_MISSING_AFTER,
    SAMPLE_INTERVAL,
    SELECT,
    SIGNAL_HIGH,
    SIGNAL_LOW,
    STORAGE_INTERVAL,
    VALUE_HIGH,
    VALUE_LOW,
    WHEN_FULL,
    WINDOW_VALUE,
    KnownPoint,
)
from leitwerk.errors import QuantityError
from leitwerk.signals.linear import TwoPoint
from leitwerk.signals.pulse_inputs import PULSED
from leitwerk.signals.quality import Quality
from leitwerk.signals.sensors import SENSORS
from leitwerk.standins.clock import CLOCK_FORM
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.firmware import Firmware, Profile, Refusal, RefusedError
from leitwerk.standins.guard import RELAYS, Guard
from leitwerk.standins.memory import StoredRows
from leitwerk.standins.plant import TERMINALS_C, Plant, Signal, parse_spot
from leitwerk.standins.pulses import PulseInput, PulseSettings

_SCAN_S = 0.05  # from one scan of the converter to the next
_CATCH_UP = 600  # rows that are measured each at its own time
_MEMORY_ROWS = 100_000
# A row has no place for a quality: in place of a value that is none, its memory holds one of these.
_IN_PLACE = {
    Quality.BELOW_RANGE: -1e10,
    Quality.ABOVE_RANGE: 1e10,
    Quality.NOT_IN_USE: 0.0,
}
_WINDOW = 100  # values of a recording that can be read at once
# A Pt100 that is not there, or a loop without supply, is seen by these.
_OPEN_LOOP_MA = 0.5


class Logger(Firmware):
    """A logger in factory condition, wired to a plant."""

    def __init__(
        self,
        datasheet: Datasheet,
        profile: Profile,
        plant: Plant,
        clock: Callable[[], float],
        disturbances: Disturbances | None = None,
        **more: Any,
    ) -> None:
        super().__init__(datasheet, profile, clock, **more)
        self.plant = plant
        self.disturbances = disturbances or Disturbances()
        self.recording_since_s: float | None = None
        self.recordings: list[StoredRows] = []
        self._window: dict[KnownPoint, int] = {SELECT: 0, FIRST_ROW: 0}
        self._scanned_s = clock() - _SCAN_S
        self._scan: list[tuple[float, Quality]] = []
        self._guard = Guard(self.setting, clock())
        self._pulses: dict[int, PulseInput] = {}
        # What a terminal sees of another device, for the quantity that its input is switched to.
        self.wires: dict[str, Callable[[str], Signal | None]] = {}

    def operate(self, line: str) -> str:
        """Carry out ``air_top: 60``, ``open 2``, ``short 3``, ``reverse 3`` or ``mend 2``; what happened."""
        verb, _, terminal = line.strip().partition(" ")
        wrong = self.disturbances
        faults = {"open": wrong.open, "short": wrong.shorted, "reverse": wrong.reversed}
        if terminal in self.datasheet.terminals and (verb in faults or verb == "mend"):
            for one in faults.values():
                one.discard(terminal)
            faults.get(verb, set()).add(terminal)
            return f"terminal {terminal}: {verb}"
        try:
            spot, course = parse_spot(line)
        except QuantityError as error:
            return f"{error}; or 'open 2', 'short 3', 'reverse 3', 'mend 2'"
        self.plant.follow(spot, course, self.clock())
        return f"{spot} goes along {line.partition(':')[2].strip()}"

    @property
    def is_busy(self) -> bool:
        """Settings are taken only while it is not recording."""
        return self.recording_since_s is not None

    def taken_over(self) -> None:
        """Measure anew with the new settings."""
        self._scanned_s = self.clock() - _SCAN_S
        self._guard.restart(self.clock())

    def carry_out(self, command: Stored) -> None:
        """Start, stop, or erase recordings."""
        if command == "start" and self.recording_since_s is None:
            if self.troubles.full_memory:
                raise RefusedError(Refusal.FAILED)
            self.record()
        elif command == "stop":
            self.tick()
            self.recording_since_s = None
        elif command == "erase recordings" and self.recording_since_s is None:
            self.recordings.clear()
        else:
            raise RefusedError(Refusal.BAD_VALUE)

    def tick(self) -> None:
        """Watch, and add the samples that have fallen due."""
        self._guard.look(self.clock(), self._inputs)
        if self.recording_since_s is None:
            return
        recording = self.recordings[-1]
        due = int((self.clock() - self.recording_since_s) / recording.interval_s) + 1
        free = _MEMORY_ROWS - sum(len(r.rows) for r in self.recordings[:-1])
        ring = self.setting(WHEN_FULL) == "overwrite"
        while recording.taken < (due if ring else min(due, free)):
            recording.add(self._row(recording))
            if len(recording.rows) > free:
                del recording.rows[0]  # the memory goes round: the oldest row makes room

    def _row(self, recording: StoredRows) -> list[float]:
        """The next row of a recording, measured at its own time unless very many are due."""
        assert self.recording_since_s is not None
        at_s = self.recording_since_s + recording.taken * recording.interval_s
        if self.clock() - at_s < _SCAN_S or self.clock() - at_s > _CATCH_UP * recording.interval_s:
            return [_kept(*reading) for reading in self._readings()]
        terminals = sorted(self.datasheet.terminals.values(), key=lambda t: t.slot)
        return [_kept(*self._measure(t.name, t.slot, at_s)) for t in terminals]

    def record(self, rows: int = 0, runs_ago: int = 0) -> None:
        """Begin a recording, as if ``rows`` rows had been taken already, so many such runs ago."""
        self.recording_since_s = self.clock()
        interval = max(
            0.1, float(self.setting(SAMPLE_INTERVAL)), float(self.setting(STORAGE_INTERVAL))
        )
        started = self.device_clock.text()
        with suppress(ValueError):
            ago = timedelta(seconds=runs_ago * rows * interval)
            started = (datetime.fromisoformat(started) - ago).strftime(CLOCK_FORM)
        self.recordings.append(StoredRows(started, interval))
        for _ in range(rows):
            self.recordings[-1].add([_kept(*reading) for reading in self._readings()])

    def read(self, table: str, start: int, count: int) -> list[int]:
        """As every device. A recording counts as fetched when the last of its values has been read."""
        words = super().read(table, start, count)
        number, first = self._window[SELECT], self._window[FIRST_ROW]
        if self.recording_since_s is None and 1 <= number <= len(self.recordings):
            recording = self.recordings[number - 1]
            columns = len(self.datasheet.terminals)
            last = (len(recording.rows) - first) * columns
            family = self.datasheet.family(WINDOW_VALUE)
            if family is not None and last in family.indices:
                (point,) = registers([family.point(last)])
                if point.table == table and start <= point.start < start + count:
                    recording.fetched = True
        return words

    def write(self, start: int, words: Sequence[int]) -> None:
        """As every device, and the window onto recordings."""
        for known in self._window:
            chosen = self.written(known, None, start, words)
            if chosen is not None:
                self._window[known] = int(chosen)
                return
        for r in range(1, RELAYS + 1):
            drive = self.written(DRIVE_RELAY, r, start, words)
            if drive is not None:
                self.require(self.datasheet.role)
                self._guard.drive(r, drive, self.clock())
                return
        super().write(start, words)

    def measured(self) -> dict[str, Stored]:
        """Status and readings."""
        recording = self.recording_since_s is not None
        unfetched = sum(not r.fetched for r in self.recordings)
        used = sum(len(r.rows) for r in self.recordings) / _MEMORY_ROWS
        shown: dict[str, Stored] = {
            "recording": "recording" if recording else "stopped",
            "logged_in": self.roles[self.role],
            "uncommitted": float(len(self.staged)),
            "recordings": float(len(self.recordings)),
            "recordings.unfetched": float(unfetched),
            "battery.voltage": 2.31 if self.troubles.flat_battery else 3.58,
            "memory.used": 100.0 if self.troubles.full_memory else 100.0 * used,
            **self._shown_rows(),
            "cold_junction": TERMINALS_C,
            **self._guard.shown(),
        }
        for slot, (value, quality) in enumerate(self._readings(), start=1):
            shown[f"channel.{slot}.value"] = value
            shown[f"channel.{slot}.quality"] = quality.reason
        return shown

    def _shown_rows(self) -> dict[str, Stored]:
        """What the window shows of the recording that is chosen."""
        number, first = self._window[SELECT], self._window[FIRST_ROW]
        if not 1 <= number <= len(self.recordings):
            return {}
        recording = self.recordings[number - 1]
        columns = len(self.datasheet.terminals)
        values = [
            value for row in recording.rows[first : first + _WINDOW // columns] for value in row
        ]
        return {
            "started": recording.oldest,
            "overwritten": float(recording.taken - len(recording.rows)),
            "check_sum": float(recording.check_sum),
            "interval": recording.interval_s,
            "rows": float(len(recording.rows)),
            "columns": float(columns),
            "shown": float(first),
            **{
                f"value.{w}": Quality.OPEN_SENSOR.reason if math.isnan(value) else value
                for w, value in enumerate(values, start=1)
            },
        }

    # ------------------------------------------------------------------ measuring

    def _inputs(self, at_s: float) -> list[tuple[float, bool]]:
        """Value and goodness of each slot at a time."""
        terminals = sorted(self.datasheet.terminals.values(), key=lambda t: t.slot)
        found = (self._measure(t.name, t.slot, at_s) for t in terminals)
        return [(value, quality is Quality.GOOD) for value, quality in found]

    def _readings(self) -> list[tuple[float, Quality]]:
        """Value and quality of each slot, as fresh as the converter makes them."""
        now = self.clock()
        if now - self._scanned_s >= _SCAN_S:
            self._scanned_s = now
            terminals = sorted(self.datasheet.terminals.values(), key=lambda t: t.slot)
            self._scan = [self._measure(t.name, t.slot, now) for t in terminals]
        return self._scan

    def _measure(self, terminal: str, slot: int, now: float) -> tuple[float, Quality]:
        kind = str(self.setting(CHANNEL_SENSOR, slot))
        if kind == "off":
            return 0.0, Quality.NOT_IN_USE
        sensor = SENSORS.get(kind)
        quantity = sensor.quantity if sensor else kind
        signal = self._signal(terminal, quantity, now)
        if quantity in {"counter", *PULSED}:
            return self._count(terminal, quantity, slot, now)
        if quantity == "contact":
            return (signal.value if signal else 0.0), Quality.GOOD
        entry = self.datasheet.inputs[quantity]
        chosen = self._range(entry, str(self.setting(CHANNEL_RANGE, slot)))
        if signal is None or chosen is None:
            return 0.0, Quality.OPEN_SENSOR
        x, quality = _convert(signal.value, entry, chosen)
        if sensor is None:
            if quantity == "current" and x < _OPEN_LOOP_MA:
                quality = Quality.OPEN_SENSOR
            return self._scaled(x, slot), quality
        value, found = sensor.at_junction(TERMINALS_C).convert([x])
        if quality is Quality.GOOD:
            quality = Quality(int(found[0]))
        return (0.0 if math.isnan(value[0]) else float(value[0])), quality

    def _count(self, terminal: str, quantity: str, slot: int, now: float) -> tuple[float, Quality]:
        """What an input for pulses shows: how fast they come, or how many came."""
        settings = PulseSettings(
            max(0.01, float(self.setting(PULSE_GATE, slot))),
            1e-3 * float(self.setting(PULSE_FILTER, slot)),
            self.setting(PULSE_MISSING, slot) == "lost",
            float(self.setting(PULSE_MISSING_AFTER, slot)),
        )
        pulses = self._pulses.setdefault(slot, PulseInput())
        signal = self._signal(terminal, "frequency", now)
        pulses.look(None if signal is None else signal.value, now, settings)
        if quantity == "counter":
            return pulses.count, Quality.GOOD
        shown, quality = pulses.measured(quantity, settings)
        chosen = self._range(
            self.datasheet.inputs[quantity], str(self.setting(CHANNEL_RANGE, slot))
        )
        if chosen is not None and shown > chosen.high:
            shown = chosen.high
            quality = Quality.ABOVE_RANGE if quality is Quality.GOOD else quality
        return self._scaled(shown, slot), quality

    def _signal(self, terminal: str, quantity: str, now: float) -> Signal | None:
        """What the input sees when it is switched to a quantity; None for an open input."""
        spot, wire = self.profile.wiring.get(terminal), self.wires.get(terminal)
        wrong = self.disturbances
        if terminal in wrong.open:
            return None
        if wire is not None:
            signal = wire(quantity)
        else:
            signal = None if spot is None else self.plant.signal(spot, now)
        if signal is None or signal.quantity != quantity:
            # An ohmmeter on a voltage, a voltmeter on a loop: nothing that could be read.
            return None
        if terminal in wrong.shorted:
            return Signal(quantity, 0.0)
        return Signal(quantity, -signal.value) if terminal in wrong.reversed else signal

    def _range(self, entry: Input, name: str) -> Range | None:
        return next((r for r in entry.ranges if r.name == name), None)

    def _scaled(self, x: float, slot: int) -> float:
        points = [
            float(self.setting(end, slot))
            for end in (SIGNAL_LOW, SIGNAL_HIGH, VALUE_LOW, VALUE_HIGH)
        ]
        if points[0] == points[1] or points[2] == points[3]:
            return x
        return float(TwoPoint(*points).value(x))


def _convert(signal: float, entry: Input, chosen: Range) -> tuple[float, Quality]:
    """The signal as the converter sees it: clipped to the range, in whole steps."""
    if signal < chosen.low:
        return chosen.low, Quality.BELOW_RANGE
    if signal > chosen.high:
        return chosen.high, Quality.ABOVE_RANGE
    step = entry.step(chosen)
    return chosen.low + round((signal - chosen.low) / step) * step, Quality.GOOD


def _kept(value: float, quality: Quality) -> float:
    """What a row of the memory holds of a reading."""
    return value if quality is Quality.GOOD else _IN_PLACE.get(quality, math.nan)
