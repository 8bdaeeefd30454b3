"""Range and resolution: does a signal fit an input's range, and how large is one step."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from leitwerk.datasheet.model import Input, Range
from leitwerk.signals.scale import Scale

Ends = tuple[float, float]
WASTEFUL = 10.0  # a range this many times as wide as one that would do wastes a decade


@dataclass(frozen=True, slots=True)
class RangeFit:
    """How one range of an input serves a channel.

    Signals in the input's unit; resolutions in the channel's. ``needed`` is the signal that must
    pass, ``headroom`` what is left of the range on its tighter side, as a part of its width
    (negative when the signal clips). ``noise_free`` is the resolution that stands still.
    """

    range: Range
    needed: Ends
    clips: bool
    resolution: float
    noise_free: float
    headroom: float
    wasteful: bool


@dataclass(frozen=True, slots=True)
class Ranging:
    """All ranges of an input for one channel, smallest first, and which of them is recommended."""

    fits: tuple[RangeFit, ...]
    recommended: RangeFit | None

    def fit(self, chosen: Range) -> RangeFit:
        """The fit of one range."""
        return next(f for f in self.fits if f.range == chosen)


def is_wasteful(chosen: Range, best: Range) -> bool:
    """Whether a range gives away a decade of resolution or more against one that would do."""
    return chosen.width >= WASTEFUL * best.width * (1 - 1e-9)


def assess_ranges(kind: Input, scale: Scale, needed: Ends, at: float) -> Ranging:
    """How each range of an input serves a channel.

    Parameters
    ----------
    kind : Input
    scale : Scale
        From the input's unit to the channel's.
    needed : (low, high)
        The signal that must pass, in the input's unit.
    at : float
        The signal at which the resolution is stated; a curved scale has another one elsewhere.

    Examples
    --------
    >>> from leitwerk.signals.linear import TwoPoint
    >>> from leitwerk.parsing.units import parse_unit
    >>> kind = Input("voltage", parse_unit("V"), (Range("±1 V", -1, 1), Range("±10 V", -10, 10)), 16)
    >>> ranging = assess_ranges(kind, TwoPoint(0.0, 1.0, 0.0, 100.0), (0.0, 1.0), 0.5)
    >>> ranging.recommended.range.name, round(ranging.recommended.resolution, 4)
    ('±1 V', 0.0031)

    """
    holding = [r for r in kind.ranges if r.holds(*needed)]
    best = holding[0] if holding else None
    fits = tuple(
        RangeFit(
            range=r,
            needed=needed,
            clips=not r.holds(*needed),
            resolution=_step_at(scale, at, kind.step(r)),
            noise_free=_step_at(scale, at, kind.noise_free_step(r)),
            headroom=min(needed[0] - r.low, r.high - needed[1]) / r.width,
            wasteful=best is not None and is_wasteful(r, best),
        )
        for r in kind.ranges
    )
    return Ranging(fits, next((f for f in fits if f.range is best), None))


def _step_at(scale: Scale, at: float, step: float) -> float:
    """By how much the value changes when the signal does by one step."""
    # Over many steps, or a 32-bit rounding would show; but never out of the scale's domain.
    for reach in (64.0, 1.0):
        low, high = scale.value(np.array([at - reach * step / 2, at + reach * step / 2])).tolist()
        if math.isfinite(low) and math.isfinite(high):
            return float(abs(high - low)) / reach
    near = scale.value(np.array([at, at + step])).tolist()
    return float(abs(near[1] - near[0]))
