"""Tare: an offset captured at rest, so that the rest value reads as nominal."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import NotAtRest
from leitwerk.signals.scale import Scale

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray


@dataclass(frozen=True, slots=True)
class TareStage(Scale):
    """The stage of a scale chain that takes a tare off; ``Chain.without`` puts it back."""

    offset: float

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Less the tare."""
        np.subtract(x, self.offset, out=out)

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """With the tare."""
        np.add(y, self.offset, out=out)

    def __str__(self) -> str:
        return f"less {self.offset:g}"


@dataclass(frozen=True, slots=True)
class Tare:
    """What is taken off, in the channel's unit, and since when."""

    offset: float
    on: datetime

    @property
    def stage(self) -> TareStage:
        """The stage of the scale chain that takes it off."""
        return TareStage(self.offset)


@dataclass(frozen=True, slots=True)
class TareHistory:
    """All tares of a channel, the one in force last. Plain data: ``take`` and ``undo`` make new ones."""

    tares: tuple[Tare, ...] = field(default=())

    @property
    def current(self) -> Tare | None:
        """The tare in force, or None."""
        return self.tares[-1] if self.tares else None

    def take(self, tare: Tare) -> TareHistory:
        """The history with one more tare, which is in force from now on."""
        return TareHistory((*self.tares, tare))

    def undo(self) -> TareHistory:
        """The history without the last tare; the one before it is in force again."""
        return TareHistory(self.tares[:-1])


def capture_tare(
    times: ArrayLike,
    values: ArrayLike,
    now: datetime,
    *,
    spread: float,
    drift: float,
    most: float,
    nominal: float = 0.0,
    good: ArrayLike | Sequence[bool] | None = None,
) -> Tare:
    """The tare that makes readings at rest show the nominal value.

    Parameters
    ----------
    times : array_like of shape (n,), in s
    values : array_like of shape (n,), in the channel's unit, without any earlier tare
    now : datetime
        Kept with the tare.
    spread : float
        The standard deviation that readings at rest may have, around their straight line.
    drift : float
        How far that line may lead from the first reading to the last.
    most : float
        The largest offset that is plausible; a larger one is a mistake, not a tare.
    nominal : float
        What the readings should show.
    good : array_like of shape (n,), bool, optional
        Which readings can be trusted; all must.

    Raises
    ------
    NotAtRest
        Fewer than three readings, a bad one among them, or any of the limits passed; the message has
        the numbers.

    Examples
    --------
    >>> from datetime import UTC
    >>> now = datetime(2026, 3, 2, tzinfo=UTC)
    >>> limits = {"spread": 0.2, "drift": 0.3, "most": 50.0}
    >>> capture_tare([0, 1, 2, 3], [12.1, 12.2, 12.0, 12.1], now, **limits).offset
    12.1

    """
    t = np.asarray(times, dtype=np.float64)
    x = np.asarray(values, dtype=np.float64)
    count = x.size
    bad = ~np.isfinite(x) if good is None else ~np.isfinite(x) | ~np.asarray(good, dtype=bool)
    if count < 3 or bad.any():
        raise NotAtRest(
            f"{int(bad.sum())} of {count} readings are bad"
            if bad.any()
            else f"{count} readings are too few to see whether anything moves",
            remedy="take at least three good readings",
        )
    middle = t - t.mean()
    length = float(np.dot(middle, middle))
    slope = float(np.dot(middle, x)) / length if length > 0.0 else 0.0
    moved = abs(slope) * float(t.max() - t.min())
    deviation = float(np.std(x - slope * middle, ddof=2)) if count > 2 else 0.0
    offset = float(x.mean()) - nominal
    for what, found, limit in (
        ("the readings spread by", deviation, spread),
        ("the readings drifted by", moved, drift),
        ("the offset would be", abs(offset), most),
    ):
        if not found <= limit:
            raise NotAtRest(
                f"{what} {found:.4g}, at most {limit:.4g} is allowed",
                remedy="wait until nothing moves and take it again"
                if what != "the offset would be"
                else "is the right thing at rest? look at scale and wiring",
            )
    return Tare(float(f"{offset:.9g}"), now)
