"""When samples are due."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator

from leitwerk.errors import QuantityError
from leitwerk.project.clock import Clock

MAX_SAMPLES = 1_000_000  # values and qualities of 8 channels then take 72 MB


def sample_count(duration_s: float, period_s: float) -> int:
    """The number of samples in a duration, the first and the last included.

    Parameters
    ----------
    duration_s, period_s : float, in s
        How long, and the time from one sample to the next.

    Raises
    ------
    QuantityError
        Duration or period cannot be used, or the samples are too many.

    """
    for name, number in (("duration", duration_s), ("period", period_s)):
        if not (math.isfinite(number) and number > 0):
            message = f"a {name} of {number:g} s cannot be used"
            raise QuantityError(message, valid="more than 0 s")
    steps = duration_s / period_s + 1e-9
    if steps >= MAX_SAMPLES:
        raise QuantityError(
            f"{duration_s:g} s with a sample every {period_s:g} s are too many samples",
            valid=f"at most {MAX_SAMPLES:,}",
        )
    return int(steps) + 1


def paced(numbers: Iterable[int], period_s: float, clock: Clock) -> Iterator[float]:
    """The times of samples with these numbers from 0, in s from the first, each when it has come.

    A sample that comes late does not shift those after it.
    """
    start = clock.monotonic()
    for k in numbers:
        pause = start + k * period_s - clock.monotonic()
        if pause > 0:
            clock.wait(pause)
        yield clock.monotonic() - start
