"""The course of a channel, drawn by hand: ``21.5; to 85 in 2 min; stay 5 min; to 60 in 10 min``.

Pieces follow one another: ``to VALUE in TIME``, ``jump VALUE``, ``stay TIME``, ``missing
TIME`` (no reading), ``swing ±AMPLITUDE every TIME for TIME`` and ``noise SIGMA`` from there on.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import QuantityError
from leitwerk.parsing.durations import parse_duration
from leitwerk.parsing.quantities import Quantity, parse_quantity
from leitwerk.parsing.units import Unit, convert_difference

if TYPE_CHECKING:
    from numpy.typing import NDArray

MAX_PIECES = 1000
_VALID = (
    "21.5 °C; to 85 °C in 2 min; jump 20; stay 5 min; missing 10 s; swing ±3 every 40 s for 10 min; "
    "noise 0.2"
)
_TO = re.compile(r"to +(.+?) +in +(.+)")
_SWING = re.compile(r"swing +(?:±|\+/-|\+-) *(.+?) +every +(.+?) +for +(.+)")


@dataclass(frozen=True, slots=True)
class Piece:
    """From ``start`` to ``end`` in ``lasts_s``, with a swing and noise on it; NaN is not a reading."""

    lasts_s: float
    start: float
    end: float
    amplitude: float = 0.0
    period_s: float = 1.0
    noise: float = 0.0


@dataclass(frozen=True, slots=True)
class Course:
    """Pieces, one after the other; the last value stays for ever."""

    pieces: tuple[Piece, ...]

    @property
    def lasts_s(self) -> float:
        """How long all of it takes, in s."""
        return sum(piece.lasts_s for piece in self.pieces)

    def at(
        self,
        times_s: NDArray[np.float64],
        normal: Callable[[int], NDArray[np.float64]] | None = None,
    ) -> NDArray[np.float64]:
        """The values at times in s from its start; NaN where there is no reading.

        ``normal`` gives that many numbers of a standard normal distribution, for noise.

        Examples
        --------
        >>> parse_course("20; to 80 in 1 min").at(np.array([0.0, 30.0, 90.0])).tolist()
        [20.0, 50.0, 80.0]

        """
        values = np.empty(times_s.shape)
        begins, last = 0.0, len(self.pieces) - 1
        for k, piece in enumerate(self.pieces):
            here = times_s >= begins
            since = np.minimum(times_s[here] - begins, piece.lasts_s)
            part = since / piece.lasts_s if piece.lasts_s > 0 else np.ones_like(since)
            x = piece.start + part * (piece.end - piece.start)
            if piece.amplitude:
                x = x + piece.amplitude * np.sin(2.0 * math.pi * since / piece.period_s)
            if piece.noise and normal is not None:
                x = x + piece.noise * normal(x.size)
            values[here] = x
            begins += piece.lasts_s
            if k == last:
                break
        return values


def parse_course(text: str, unit: Unit | None = None) -> Course:
    """The course that a text draws, in ``unit``.

    Raises
    ------
    QuantityError
        It draws none.

    """
    parts = [" ".join(part.split()) for part in text.split(";") if part.strip()]
    if not parts or len(parts) > MAX_PIECES:
        raise QuantityError("this is not a course", valid=_VALID)
    drawing = _Drawing(_number(parts[0], unit, parts[0]), unit)
    for part in parts[1:]:
        drawing.add(part)
    if not drawing.pieces:
        drawing.stay(0.0)
    return Course(tuple(drawing.pieces))


class _Drawing:
    def __init__(self, start: float, unit: Unit | None) -> None:
        self.value, self.unit, self.noise = start, unit, 0.0
        self.pieces: list[Piece] = []

    def stay(self, seconds: float) -> None:
        self.pieces.append(Piece(seconds, self.value, self.value, noise=self.noise))

    def add(self, part: str) -> None:
        word, _, rest = part.partition(" ")
        if match := _TO.fullmatch(part):
            end = _number(match[1], self.unit, part)
            self.pieces.append(Piece(_seconds(match[2], part), self.value, end, noise=self.noise))
            self.value = end
        elif match := _SWING.fullmatch(part):
            period = _seconds(match[2], part)
            if period <= 0:
                raise QuantityError(f"{part!r}: a swing lasts longer than that", valid="every 40 s")
            self.pieces.append(
                Piece(
                    _seconds(match[3], part),
                    self.value,
                    self.value,
                    _number(match[1], self.unit, part, difference=True),
                    period,
                    self.noise,
                )
            )
        elif word == "jump":
            self.value = _number(rest, self.unit, part)
            self.stay(0.0)
        elif word == "stay":
            self.stay(_seconds(rest, part))
        elif word == "missing":
            self.pieces.append(Piece(_seconds(rest, part), math.nan, math.nan))
            self.stay(0.0)
        elif word == "noise":
            self.noise = _number(rest, self.unit, part, difference=True)
        else:
            raise QuantityError(f"{part[:60]!r} is not a piece of a course", valid=_VALID)


def _number(text: str, unit: Unit | None, part: str, *, difference: bool = False) -> float:
    quantity = _quantity(text, part)
    if unit is None or quantity.unit is None:
        return quantity.value
    if difference:
        return convert_difference(quantity.value, quantity.unit, unit)
    return quantity.value_in(unit)


def _seconds(text: str, part: str) -> float:
    try:
        return parse_duration(text).seconds
    except QuantityError as error:
        raise QuantityError(f"{part[:60]!r}: {error.message}", valid="30 s, 5 min") from None


def _quantity(text: str, part: str) -> Quantity:
    try:
        return parse_quantity(text)
    except QuantityError as error:
        raise QuantityError(f"{part[:60]!r}: {error.message}", valid=_VALID) from None
