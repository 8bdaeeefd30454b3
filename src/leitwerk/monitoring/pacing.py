"""When samples are due."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator

from leitwerk.errors import QuantityError

MAX_SAMPLES = 1_000_000  # values and qualities of 8 channels then take 72 MB


def sample_count(duration_s: float, rate_hz: float) -> int:
    """How many samples a duration in s at a rate in 1/s comes to, the first and the last included.

    Raises
    ------
    QuantityError
        Duration or rate cannot be used, or the samples are too many.

    """
    for name, number in (("duration", duration_s), ("rate", rate_hz)):
        if not (math.isfinite(number) and number > 0):
            raise QuantityError(f"a {name} of {number:g} cannot be used", valid="more than 0")
    count = int(duration_s * rate_hz + 1e-9) + 1
    if count > MAX_SAMPLES:
        raise QuantityError(
            f"{count:,} samples are too many for a live check", valid=f"at most {MAX_SAMPLES:,}"
        )
    return count


def paced(
    count: int, rate_hz: float, clock: Callable[[], float], wait: Callable[[float], None]
) -> Iterator[float]:
    """The times of ``count`` samples, in s from the first, each when it has come.

    A sample that comes late does not shift those after it.
    """
    start = clock()
    for k in range(count):
        pause = start + k / rate_hz - clock()
        if pause > 0:
            wait(pause)
        yield clock() - start
