"""A lot of simulated touch-button boards with planted faults, and the fixture that takes them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.vocabulary import DRIVE_LINES
from leitwerk.standins.panel import Panel

if TYPE_CHECKING:
    from numpy.typing import NDArray

BUTTONS = 6
GROUND, SUPPLY = "ground", "supply"
# What boards of a lot have: mean, and standard deviation between boards.
REST, NOISE, TOUCH = (212.0, 4.0), (3.0, 0.15), (640.0, 12.0)
CAPACITANCE_PF, CURRENT_MA, SUPPLY_V = (11.0, 0.25), (16.0, 0.4), (5.02, 0.01)
_BORDER_EVERY, BORDER_PF = 50, 12.45
FIRMWARE, OLD_FIRMWARE = "1.0", "0.9"
FAULTS = (
    "short", "short to ground", "short to supply", "open electrode", "capacitance high", "noisy",
    "drifting", "wrong firmware", "swapped",
)  # fmt: skip


@dataclass
class Board:
    """One board. Arrays have shape (6,); ``fault`` is what was planted, and ``at`` the button, from 0."""

    serial: str
    rest: NDArray[np.float64]
    noise: NDArray[np.float64]
    touch: NDArray[np.float64]
    picofarad: NDArray[np.float64]
    milliampere: float
    volt: float
    firmware: str = FIRMWARE
    drift_per_s: NDArray[np.float64] = field(default_factory=lambda: np.zeros(BUTTONS))
    shorts: tuple[tuple[int | str, int | str], ...] = ()
    swapped: tuple[int, int] | None = None
    fault: str = ""
    at: int = 0

    def levels(self, driven: int) -> list[bool]:
        """Which lines read high while the bits of ``driven`` are: through every short."""
        group: list[int | str] = [*range(BUTTONS), GROUND, SUPPLY]
        names = {name: k for k, name in enumerate(group)}
        root = list(range(len(group)))
        for one, other in self.shorts:
            old, new = root[names[one]], root[names[other]]
            root = [new if r == old else r for r in root]
        high = []
        for line in range(BUTTONS):
            mine = [k for k in range(BUTTONS) if root[k] == root[line]]
            if root[names[GROUND]] == root[line]:
                high.append(False)
            elif root[names[SUPPLY]] == root[line]:
                high.append(True)
            else:
                high.append(any(driven >> k & 1 for k in mine))
        return high


def make_lot(count: int, seed: int, *, faulty: float = 0.05, first: int = 1) -> list[Board]:
    """So many boards, ``faulty`` of them (as a share) with one planted fault each, in turn of all kinds."""
    random = np.random.default_rng(seed)
    bad = (
        set(random.choice(count, round(faulty * count), replace=False).tolist())
        if faulty
        else set()
    )
    boards = []
    for k in range(count):
        board = _good(f"TB-{first + k:04d}", random)
        if k in bad:
            board = _plant(board, FAULTS[sorted(bad).index(k) % len(FAULTS)], random)
        elif k % _BORDER_EVERY == _BORDER_EVERY // 2:
            board.picofarad[0] = BORDER_PF  # a good one, close to the limit
        boards.append(board)
    return boards


def _good(serial: str, random: np.random.Generator) -> Board:
    def six(what: tuple[float, float]) -> NDArray[np.float64]:
        return random.normal(*what, BUTTONS)

    return Board(
        serial, six(REST), np.abs(six(NOISE)), six(TOUCH), six(CAPACITANCE_PF),
        float(random.normal(*CURRENT_MA)), float(random.normal(*SUPPLY_V)),
    )  # fmt: skip


def _plant(board: Board, fault: str, random: np.random.Generator) -> Board:
    at = int(random.integers(BUTTONS))
    other = at + 1 if at < BUTTONS - 1 else at - 1
    change: dict[str, Any] = {"fault": fault, "at": at}
    one = np.arange(BUTTONS) == at
    if fault == "short":
        change["shorts"] = ((at, other),)
    elif fault == "short to ground":
        change["shorts"] = ((at, GROUND),)
    elif fault == "short to supply":
        change["shorts"] = ((at, SUPPLY),)
    elif fault == "open electrode":
        change["picofarad"] = np.where(one, 2.1, board.picofarad)
        change["touch"] = np.where(one, 1.0, board.touch)
    elif fault == "capacitance high":
        change["picofarad"] = np.where(one, 14.5, board.picofarad)
    elif fault == "noisy":
        change["noise"] = np.where(one, 24.0, board.noise)
    elif fault == "drifting":
        change["drift_per_s"] = np.where(one, 900.0, 0.0)
    elif fault == "wrong firmware":
        change["firmware"] = OLD_FIRMWARE
    else:
        change["swapped"] = (at, other)
    return replace(board, **change)


class Fixture(Panel):
    """A gateway with a socket for boards: none answers until one is inserted.

    It is operated by lines: ``insert``, ``remove``, ``back`` (the same one comes again), ``touch 3``,
    ``release``.
    """

    def __init__(self, boards: Sequence[Board], *args: Any, seed: int = 9, **more: Any) -> None:
        super().__init__(*args, seed=seed, **more)
        self.boards = list(boards)
        self.board: Board | None = None
        self.next = 0
        self._touched: int | None = None
        self._driven = 0
        self._since_s = 0.0
        self._fresh: list[int] = []  # what each board holds when it comes

    @property
    def unit(self) -> int:
        """The unit identifier; one that no board has while the socket is empty."""
        return super().unit if self.board is not None else -1

    @property
    def announced_unit(self) -> int:
        """The unit identifier of a board that is inserted."""
        return super().unit

    def operate(self, line: str) -> str:
        """What an operator does."""
        word, _, rest = line.strip().partition(" ")
        if word == "insert" and self.board is not None:
            return f"{self.board.serial} is in the socket"
        if word == "insert" and self.next < len(self.boards):
            self._fresh = self._fresh or list(self.holding)
            self.holding = list(self._fresh)
            self.board, self.next = self.boards[self.next], self.next + 1
            self._touched, self._driven, self._since_s = None, 0, self.clock()
            return f"{self.board.serial} is inserted"
        if word == "remove":
            self.board = None
            return "the socket is empty"
        if word == "back" and self.next:
            self.next -= 1
            return f"{self.boards[self.next].serial} is the next one again"
        if word == "touch" and rest.isdecimal() and 1 <= int(rest) <= BUTTONS:
            self._touched = int(rest) - 1
            return f"button {rest} is touched"
        if word == "release":
            self._touched = None
            return "no button is touched"
        return (
            "insert, remove, back, touch N, release"
            if self.next < len(self.boards)
            else "no board is left"
        )

    def write(self, start: int, words: Sequence[int]) -> None:
        """As a panel, and the lines that a test drives."""
        driven = self.written(DRIVE_LINES, None, start, words)
        if driven is None:
            super().write(start, words)
        else:
            self._driven = int(float(driven))

    def measured(self) -> dict[str, Stored]:
        """Supply, current, and what each button and its line show."""
        board = self.board
        if board is None:
            return {}
        signals = board.rest + board.noise * self._noise.standard_normal(BUTTONS)
        signals += board.drift_per_s * math.sin((self.clock() - self._since_s) * 4.0)
        if self._touched is not None:
            at = self._touched
            if board.swapped is not None and at in board.swapped:
                at = sum(board.swapped) - at
            signals[at] += board.touch[self._touched]
        numbers = range(1, BUTTONS + 1)
        return {
            "supply.voltage": board.volt,
            "supply.current": board.milliampere,
            **{f"button.{n}.signal": max(0.0, float(signals[n - 1])) for n in numbers},
            **{f"pad.{n}.capacitance": float(board.picofarad[n - 1]) for n in numbers},
            **{
                f"line.{n}.level": "high" if is_high else "low"
                for n, is_high in zip(numbers, board.levels(self._driven), strict=True)
            },
        }

    def _identity(self) -> dict[str, Stored]:
        said = super()._identity()
        if self.board is not None:
            said |= {"serial": self.board.serial, "firmware": self.board.firmware}
        return said
