"""The firmware of a simulated logger: registers in, readings out. No socket in here.

It knows the plant's signals and its own registers, and nothing else: a wrong setting gives a wrong
reading, as on a real device. Which register means what it takes from its datasheet, like the
firmware of any device is built from its register map.
"""

from __future__ import annotations

import enum
import math
import struct
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from leitwerk.datasheet import Datasheet, Input, Point, Range, Stored
from leitwerk.signals import SENSORS, Quality, TwoPoint
from leitwerk.standins.plant import TERMINALS_C, Plant, Signal

_TABLE_SIZES = {"holding": 1000, "input": 200}
_SCAN_S = 0.05  # the converter goes round its inputs so often
_LOGIN_LASTS_S = 300.0
_MEMORY_ROWS = 100_000
_ROLES = ("nobody", "operator", "administrator")
# A Pt100 that is not there, or a loop without supply, is seen by these.
_OPEN_LOOP_MA = 0.5


class Refusal(enum.IntEnum):
    """The exception codes of Modbus that this device uses (V1.1b3, clause 7)."""

    NOT_ALLOWED = 1
    NO_SUCH_SETTING = 2
    BAD_VALUE = 3
    BUSY = 6


class RefusedError(Exception):
    """The device says no."""

    def __init__(self, code: Refusal) -> None:
        super().__init__(code.name)
        self.code = code


@dataclass(frozen=True)
class Profile:
    """One simulated unit: who it is, its passwords, its factory settings, what it is wired to."""

    model: str
    serial: str
    firmware: str
    passwords: Mapping[str, str]
    factory: Mapping[str, str]
    wiring: Mapping[str, str]


@dataclass
class Disturbances:
    """What can be wrong at the terminals, by terminal name."""

    open: set[str] = field(default_factory=set)
    shorted: set[str] = field(default_factory=set)
    reversed: set[str] = field(default_factory=set)


class Logger:
    """A logger in factory condition. ``clock`` gives the time in s and never goes back."""

    def __init__(
        self,
        datasheet: Datasheet,
        profile: Profile,
        plant: Plant,
        clock: Callable[[], float],
        disturbances: Disturbances | None = None,
    ) -> None:
        self.datasheet = datasheet
        self.profile = profile
        self.plant = plant
        self.clock = clock
        self.disturbances = disturbances or Disturbances()
        self.holding = [0] * _TABLE_SIZES["holding"]
        self.staged: dict[int, int] = {}
        self.role = 0
        self.role_until_s = 0.0
        self.recording_since_s: float | None = None
        self.rows: list[list[float]] = []
        self.recordings: list[list[list[float]]] = []
        self._scanned_s = clock() - _SCAN_S
        self._scan: list[tuple[float, Quality]] = []
        self._owner = self._map_registers()
        self._load_factory_settings()

    # ------------------------------------------------------------------ what the link asks for

    def read(self, table: str, start: int, count: int) -> list[int]:
        """The words of a table; registers that hold nothing read as 0.

        Raises
        ------
        RefusedError
            The table ends before.

        """
        if table not in _TABLE_SIZES or start + count > _TABLE_SIZES[table]:
            raise RefusedError(Refusal.NO_SUCH_SETTING)
        self._record()
        if table == "holding":
            return self.holding[start : start + count]
        words = [0] * _TABLE_SIZES["input"]
        for group in ("identity", "status", "readings"):
            for point, value in self._inputs(group):
                words[point.start : point.end] = point.encode(value)
        return words[start : start + count]

    def write(self, start: int, words: Sequence[int]) -> None:
        """Take words for holding registers: a login, a command, or settings to be committed.

        Raises
        ------
        RefusedError
            Nothing of the request was taken.

        """
        self._record()
        for name in ("login", "command"):
            point = self.datasheet.point("access", name)
            if point.start == start and point.words == len(words):
                if name == "login":
                    self._log_in(int(struct.unpack(">I", struct.pack(">2H", *words))[0]))
                else:
                    self._command(point.decode(tuple(words)))
                return
        for address in range(start, start + len(words)):
            owner = self._owner.get(address)
            if owner is None or owner.read_only:
                raise RefusedError(Refusal.NO_SUCH_SETTING)
            self._require(owner.role or self.datasheet.role)
        if self.recording_since_s is not None:
            raise RefusedError(Refusal.BUSY)
        self.staged.update(zip(range(start, start + len(words)), words, strict=True))

    # ------------------------------------------------------------------ rights and commands

    def _require(self, role: str) -> None:
        now = self.clock()
        if now > self.role_until_s:
            self.role = 0
        if self.role < _ROLES.index(role):
            raise RefusedError(Refusal.NOT_ALLOWED)
        self.role_until_s = now + _LOGIN_LASTS_S

    def _log_in(self, number: int) -> None:
        self.role = 0
        if number == 0:
            return
        for role, password in self.profile.passwords.items():
            if number == int(password):
                self.role = _ROLES.index(role)
                self.role_until_s = self.clock() + _LOGIN_LASTS_S
                return
        raise RefusedError(Refusal.NOT_ALLOWED)

    def _command(self, command: Stored) -> None:
        self._require(self.datasheet.role)
        if command == "commit":
            self._commit()
        elif command == "drop":
            self.staged.clear()
        elif command == "start" and self.recording_since_s is None:
            self.recording_since_s, self.rows = self.clock(), []
        elif command == "stop":
            self._stop()
        elif command == "erase recordings" and self.recording_since_s is None:
            self.recordings.clear()
        else:
            raise RefusedError(Refusal.BAD_VALUE)

    def _commit(self) -> None:
        """All staged registers come into force together, or none of them."""
        if self.recording_since_s is not None:
            raise RefusedError(Refusal.BUSY)
        after = list(self.holding)
        for address, word in self.staged.items():
            after[address] = word
        for point in {self._owner[address] for address in self.staged}:
            value = point.decode(tuple(after[point.start : point.end]))
            if point.choices and value not in dict(point.choices):
                raise RefusedError(Refusal.BAD_VALUE)
        self.holding = after
        self.staged.clear()
        self._scanned_s = self.clock() - _SCAN_S

    # ------------------------------------------------------------------ memory

    def _stop(self) -> None:
        if self.recording_since_s is not None:
            self.recordings.append(self.rows)
            self.recording_since_s, self.rows = None, []

    def _record(self) -> None:
        """Add the samples that have fallen due; called before anything is answered."""
        if self.recording_since_s is None:
            return
        interval = max(0.1, float(self._setting("sample.interval")))
        due = int((self.clock() - self.recording_since_s) / interval) + 1
        while len(self.rows) < min(due, _MEMORY_ROWS):
            self.rows.append([value for value, _ in self._readings()])

    # ------------------------------------------------------------------ registers

    def _map_registers(self) -> dict[int, Point]:
        settings = self.datasheet.points("settings")
        return {address: p for p in settings for address in range(p.start, p.end)}

    def _load_factory_settings(self) -> None:
        for name, text in self.profile.factory.items():
            point = self.datasheet.settings[name]
            value: Stored = text if point.is_text or point.choices else float(text)
            self.holding[point.start : point.end] = point.encode(value)
        # What is a choice must be one: the first of each is what an empty memory means.
        for point in self.datasheet.points("settings"):
            if point.choices and self.holding[point.start] not in dict(point.choices).values():
                self.holding[point.start] = point.choices[0][1]

    def _setting(self, family: str, index: int | None = None) -> Stored:
        point = self.datasheet.point("settings", family, index)
        return point.decode(tuple(self.holding[point.start : point.end]))

    def _inputs(self, group: str) -> list[tuple[Point, Stored]]:
        if group == "readings":
            return self._reading_words()
        recording = self.recording_since_s is not None
        recordings = len(self.recordings) + recording
        values: dict[str, Stored] = {
            "maker": self.datasheet.maker,
            "model": self.profile.model,
            "serial": self.profile.serial,
            "firmware": self.profile.firmware,
            "recording": "recording" if recording else "stopped",
            "logged_in": _ROLES[self.role],
            "uncommitted": float(len(self.staged)),
            "recordings": float(recordings),
            "recordings.unfetched": float(recordings),
        }
        return [(point, values[point.name]) for point in self.datasheet.points(group)]

    def _reading_words(self) -> list[tuple[Point, Stored]]:
        junction = self.datasheet.point("readings", "cold_junction")
        words: list[tuple[Point, Stored]] = [(junction, TERMINALS_C)]
        for slot, (value, quality) in enumerate(self._readings(), start=1):
            point = self.datasheet.point("readings", "channel.{n}.value", slot)
            words.append((point, value))
            point = self.datasheet.point("readings", "channel.{n}.quality", slot)
            words.append((point, quality.reason))
        return words

    # ------------------------------------------------------------------ measuring

    def _readings(self) -> list[tuple[float, Quality]]:
        """Value and quality of each slot, as fresh as the converter makes them."""
        now = self.clock()
        if now - self._scanned_s >= _SCAN_S:
            self._scanned_s = now
            terminals = sorted(self.datasheet.terminals.values(), key=lambda t: t.slot)
            self._scan = [self._measure(t.name, t.slot, now) for t in terminals]
        return self._scan

    def _measure(self, terminal: str, slot: int, now: float) -> tuple[float, Quality]:
        kind = str(self._setting("channel.{n}.sensor", slot))
        if kind == "off":
            return 0.0, Quality.NOT_IN_USE
        sensor = SENSORS.get(kind)
        quantity = sensor.quantity if sensor else kind
        signal = self._signal(terminal, quantity, now)
        if quantity == "contact":
            return (signal.value if signal else 0.0), Quality.GOOD
        entry = self.datasheet.inputs[quantity]
        chosen = self._range(entry, str(self._setting("channel.{n}.range", slot)))
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

    def _signal(self, terminal: str, quantity: str, now: float) -> Signal | None:
        """What the input sees when it is switched to a quantity; None for an open input."""
        spot = self.profile.wiring.get(terminal)
        wrong = self.disturbances
        if spot is None or terminal in wrong.open:
            return None
        signal = self.plant.signal(spot, now)
        if signal.quantity != quantity:
            # An ohmmeter on a voltage, a voltmeter on a loop: nothing that could be read.
            return None
        if terminal in wrong.shorted:
            return Signal(quantity, 0.0)
        return Signal(quantity, -signal.value) if terminal in wrong.reversed else signal

    def _range(self, entry: Input, name: str) -> Range | None:
        return next((r for r in entry.ranges if r.name == name), None)

    def _scaled(self, x: float, slot: int) -> float:
        points = [
            float(self._setting(f"channel.{{n}}.scale.{name}", slot))
            for name in ("signal_low", "signal_high", "value_low", "value_high")
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
