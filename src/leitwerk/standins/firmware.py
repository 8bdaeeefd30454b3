"""The firmware of a simulated device: registers in, registers out. No socket in here.

It knows its own registers and what it measures, and nothing else: a wrong setting gives a wrong
reading, as on a real device. Which register means what it takes from its datasheet, like the firmware
of any device is built from its register map.
"""

from __future__ import annotations

import enum
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.register_points import BIT_TABLES, RegisterPoint, registers
from leitwerk.datasheet.vocabulary import (
    BUS_UNIT,
    COMMAND,
    COMMANDS,
    LOGIN,
    SET_CLOCK,
    KnownPoint,
)
from leitwerk.standins.clock import DeviceClock
from leitwerk.standins.faults import Troubles

_TABLE_SIZES = {"holding": 1000, "input": 500, "coil": 64, "discrete": 64}
_LOGIN_LASTS_S = 300.0
_STARTS_S = 0.5  # after a restart it answers nothing for this time


class Refusal(enum.IntEnum):
    """The exception codes of Modbus that these devices use (V1.1b3, clause 7)."""

    NOT_ALLOWED = 1
    NO_SUCH_SETTING = 2
    BAD_VALUE = 3
    FAILED = 4
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
    kind: str = "logger"
    unit: str = "1"


def factory_value(point: Point, text: str) -> Stored:
    """A factory setting as its point holds it: a text, or a number in the point's unit."""
    return text if point.is_text or point.is_time or point.choice_names else float(text)


class Firmware(ABC):
    """A device in factory condition. ``clock`` gives the time in s and never goes back.

    With a commit command, settings are staged and come into force together; without one, each counts
    as soon as it is written.
    """

    def __init__(
        self,
        datasheet: Datasheet,
        profile: Profile,
        clock: Callable[[], float],
        *,
        device_clock: DeviceClock | None = None,
        troubles: Troubles | None = None,
    ) -> None:
        self.datasheet = datasheet
        self.profile = profile
        self.clock = clock
        self.device_clock = device_clock or DeviceClock()
        self.troubles = troubles or Troubles()
        self._sizes = dict(_TABLE_SIZES)
        for point in registers(p for group in datasheet.groups for p in datasheet.points(group)):
            self._sizes[point.table] = max(self._sizes[point.table], point.end)
        self.holding = [0] * self._sizes["holding"]
        self.staged: dict[int, int] = {}
        self.roles = ("none", *datasheet.writing.roles)
        self.role = 0
        self.role_until_s = 0.0
        self.starting_until_s = float("-inf")
        self._settings = {point.name: point for point in registers(datasheet.points("settings"))}
        self._secrets = registers(datasheet.points("secrets"))
        self._settings |= {point.name: point for point in self._secrets}
        self._owners = self._map_registers()
        groups = ("identity", "status", "readings", "recordings")
        self._shown = registers(point for group in groups for point in datasheet.points(group))
        self._load_factory_settings()

    @abstractmethod
    def measured(self) -> dict[str, Stored]:
        """What its input registers show now, by the names of their points."""

    def tick(self) -> None:  # noqa: B027 - most devices have nothing to do
        """What has fallen due since the last request; called before anything is answered."""

    @property
    def is_busy(self) -> bool:
        """Whether it takes no settings now."""
        return False

    def carry_out(self, command: Stored) -> None:
        """Carry out a command of its own.

        Raises
        ------
        RefusedError
            There is no such command, or not now.

        """
        del command
        raise RefusedError(Refusal.BAD_VALUE)

    def taken_over(self) -> None:  # noqa: B027 - most devices have nothing to do
        """Called when other settings have come into force."""

    @property
    def unit(self) -> int:
        """The unit identifier that it answers to."""
        family = self.datasheet.family(BUS_UNIT)
        return int(self.setting(BUS_UNIT)) if family else int(self.profile.unit)

    @property
    def announced_unit(self) -> int:
        """The unit identifier that its address says."""
        return self.unit

    def lose_power(self, start: int, words: Sequence[int]) -> None:
        """The power fails in the middle of a write, and comes back.

        What waits for a commit is gone. Without a commit, half of the words have arrived.
        """
        if not self._commits:
            for address, word in list(zip(range(start, start + len(words)), words, strict=True))[
                : (len(words) + 1) // 2
            ]:
                if address in self._owners:
                    self.holding[address] = word
        self.staged.clear()
        self.role = 0

    # ------------------------------------------------------------------ what the link asks for

    def read(self, table: str, start: int, count: int) -> list[int]:
        """The words of a table; registers that hold nothing read as 0.

        Raises
        ------
        RefusedError
            The table ends before.

        """
        if table not in self._sizes or start + count > self._sizes[table]:
            raise RefusedError(Refusal.NO_SUCH_SETTING)
        self.tick()
        if table == "holding":
            words = list(self.holding)
            for point in self._secrets:
                words[point.start : point.end] = [0] * point.words  # they are never shown
            return words[start : start + count]
        words = [0] * self._sizes[table]
        measured = {**self._identity(), "clock": self.device_clock.text(), **self.measured()}
        for point in self._shown:
            is_asked = point.start < start + count and point.end > start
            if is_asked and point.table == table and point.name in measured:
                encoded = point.encode(measured[point.name])
                if point.bits is not None:
                    encoded = (encoded[0] | words[point.start],)
                words[point.start : point.end] = encoded
        return words[start : start + count]

    def write(self, start: int, words: Sequence[int]) -> None:
        """Take words for holding registers: a login, a command, or settings.

        Raises
        ------
        RefusedError
            Nothing of the request was taken.

        """
        self.tick()
        for known, act in (
            (LOGIN, self._log_in),
            (SET_CLOCK, self._set_clock),
            (COMMAND, self._command),
        ):
            value = self.written(known, None, start, words)
            if value is not None:
                act(value)
                return
        for name, known in COMMANDS.items():
            if self.written(known, None, start, words) is not None:
                self._command(name)
                return
        self._take_settings(dict(zip(range(start, start + len(words)), words, strict=True)))

    def written(
        self, known: KnownPoint, index: int | None, start: int, words: Sequence[int]
    ) -> Stored | None:
        """The value that a request writes to a point; None when it is for another."""
        if not self.datasheet.has(known):
            return None
        (point,) = registers([self.datasheet.point(known, index)])
        is_it = point.start == start and point.words == len(words)
        return point.decode(tuple(words)) if is_it else None

    def _set_clock(self, text: Stored) -> None:
        self.require(self.datasheet.role)
        try:
            self.device_clock.set(str(text))
        except ValueError:
            raise RefusedError(Refusal.BAD_VALUE) from None

    def _take_settings(self, words: dict[int, int]) -> None:
        for address in words:
            owners = self._owners.get(address, [])
            if not owners or any(owner.read_only for owner in owners):
                raise RefusedError(Refusal.NO_SUCH_SETTING)
            for owner in owners:
                self.require(owner.role or self.datasheet.role)
        if self.is_busy:
            raise RefusedError(Refusal.BUSY)
        if self._commits:
            self.staged.update(words)
        else:
            self._put_into_force(words)

    # ------------------------------------------------------------------ rights and commands

    @property
    def _commits(self) -> bool:
        return "commit" in self.datasheet.commands

    def require(self, role: str) -> None:
        """Raise RefusedError unless a user with the rights of a role is logged in."""
        if not role:
            return
        now = self.clock()
        if now > self.role_until_s:
            self.role = 0
        if self.role < self.roles.index(role):
            raise RefusedError(Refusal.NOT_ALLOWED)
        self.role_until_s = now + _LOGIN_LASTS_S

    def _log_in(self, number: Stored) -> None:
        self.role = 0
        if number == 0:
            return
        if self.troubles.refuses_passwords:
            raise RefusedError(Refusal.NOT_ALLOWED)
        for role, password in self.profile.passwords.items():
            if number == float(password):
                self.role = self.roles.index(role)
                self.role_until_s = self.clock() + _LOGIN_LASTS_S
                return
        raise RefusedError(Refusal.NOT_ALLOWED)

    def _command(self, command: Stored) -> None:
        self.require(self.datasheet.role)
        if command == "commit":
            if self.is_busy:
                raise RefusedError(Refusal.BUSY)
            self._put_into_force(self.staged)
            self.staged.clear()
        elif command == "drop":
            self.staged.clear()
        elif command == "restart":
            self.staged.clear()
            self.role = 0
            self.starting_until_s = self.clock() + _STARTS_S
        else:
            self.carry_out(command)

    def _put_into_force(self, words: Mapping[int, int]) -> None:
        """All of them together, or none: a value that it does not know spoils the whole."""
        if self.troubles.flat_battery:
            raise RefusedError(Refusal.FAILED)
        after = list(self.holding)
        for address, word in words.items():
            after[address] = word
        for point in dict.fromkeys(owner for address in words for owner in self._owners[address]):
            value = point.decode(tuple(after[point.start : point.end]))
            known = {*dict(point.choices), *point.special_words}
            unknown = point.choices and value not in known
            low, high = point.limits or (float("-inf"), float("inf"))
            if unknown or (isinstance(value, float) and not low <= value <= high):
                raise RefusedError(Refusal.BAD_VALUE)
        self.holding = after
        self.taken_over()

    # ------------------------------------------------------------------ registers

    def _map_registers(self) -> dict[int, list[RegisterPoint]]:
        owners: dict[int, list[RegisterPoint]] = {}
        for point in self._settings.values():
            if point.table not in BIT_TABLES:
                for address in range(point.start, point.end):
                    owners.setdefault(address, []).append(point)
        return owners

    def _load_factory_settings(self) -> None:
        for name, text in self.profile.factory.items():
            self._set(self._settings[name], factory_value(self._settings[name], text))
        # What is a choice must be one: the first of each is what an empty memory means.
        for point in self._settings.values():
            words = tuple(self.holding[point.start : point.end])
            if point.choices and point.decode(words) not in dict(point.choices):
                self._set(point, point.choices[0][0])

    def _set(self, point: RegisterPoint, value: Stored) -> None:
        words = point.encode(value)
        if point.bits is not None:
            words = ((self.holding[point.start] & ~point.mask) | words[0],)
        self.holding[point.start : point.end] = words

    def setting(self, name: KnownPoint | str, index: int | None = None) -> Stored:
        """What a setting is now: one of the vocabulary, or one of its own by its name."""
        point = self._settings[name if isinstance(name, str) else name.at(index)]
        return point.decode(tuple(self.holding[point.start : point.end]))

    def _identity(self) -> dict[str, Stored]:
        points = {p.name: p for p in self.datasheet.points("identity")}
        said: dict[str, Stored] = {
            "maker": self.datasheet.maker,
            "model": self.profile.model,
            "serial": self.profile.serial,
            "firmware": self.profile.firmware,
        }
        return {n: v if points[n].is_text else float(v) for n, v in said.items() if n in points}
