"""A threshold between rest and response, with its hysteresis: so that noise crosses neither by chance."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

from leitwerk.errors import DomainError
from leitwerk.lots.measures import noise, rest

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

MARGIN = 6.0  # standard deviations of the noise that are wanted on either side
_LEAST = 20  # samples of each


@dataclass(frozen=True, slots=True)
class SuggestedThreshold:
    """A threshold and its hysteresis, in the unit of the samples, and what margins they have.

    Margins are in standard deviations of the noise: ``below`` from rest to where it releases, ``above`` from
    the response to the threshold.
    """

    threshold: float
    hysteresis: float
    below: float
    above: float
    rest: float
    touched: float
    noise: float
    wanted: float = MARGIN

    @property
    def ok(self) -> bool:
        """Whether both margins are what is wanted."""
        return min(self.below, self.above) >= self.wanted

    def margins_of(self, threshold: float) -> tuple[float, float]:
        """The margins of another threshold, to rest and to response; below 0 on the wrong side."""
        noise = self.noise or 1e-9
        way = 1.0 if self.touched > self.rest else -1.0
        return way * (threshold - self.rest) / noise, way * (self.touched - threshold) / noise


def suggest_threshold(at_rest: ArrayLike, stimulated: ArrayLike) -> SuggestedThreshold:
    """The threshold with the same margin to rest and to response, each in its own noise.

    With noise s0 at rest and s1 stimulated, means m0 and m1: m0 + (m1 - m0) s0 / (s0 + s1). The hysteresis is
    six times the larger noise, at most half of the way from rest to the threshold: noise at the threshold
    then does not switch to and fro.

    Parameters
    ----------
    at_rest, stimulated : array_like of shape (n,)
        At least 20 samples each. The response may go up or down.

    Raises
    ------
    DomainError
        Too few samples, or nothing responds.

    """
    before, during = rest(at_rest), rest(stimulated)
    noises = noise(at_rest).value, noise(stimulated).value
    if min(before.count, during.count) < _LEAST:
        raise DomainError(
            f"{before.count} samples at rest and {during.count} with a stimulus are too few",
            remedy=f"take at least {_LEAST} of each",
        )
    way, larger = during.value - before.value, max(noises)
    if abs(way) <= 2.0 * larger or way == 0.0:
        raise DomainError(
            f"the response of {way:g} is not larger than the noise ({larger:g})",
            remedy="is it the right channel, and was it stimulated?",
        )
    share = noises[0] / (noises[0] + noises[1]) if larger else 0.5
    step = way * min(0.8, max(0.2, share))  # of noises that differ much, one would decide alone
    hysteresis = math.copysign(min(MARGIN * larger, abs(step) / 2.0), way)
    return SuggestedThreshold(
        threshold=before.value + step,
        hysteresis=abs(hysteresis),
        below=_margin(step - hysteresis, noises[0]),
        above=_margin(way - step, noises[1]),
        rest=before.value,
        touched=during.value,
        noise=larger,
    )


def _margin(distance: float, spread: float) -> float:
    return abs(distance) / spread if spread else math.inf
