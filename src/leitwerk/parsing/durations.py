"""Lengths of time and times of day, as text and back."""

from __future__ import annotations

import re

from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import Quantity, format_number, parse_quantity

DAY_S = 86_400
# Two times are compared with this slack, in s, everywhere: times of today, as seconds since 1970, are good to
# 0.24 µs, so that 0.3 s between two of them may come out as less than 0.3.
CLOSE_S = 1e-6
LEAST_S, MOST_S = 1e-6, 3.2e10  # 1 µs to about 1000 years
_TIME_OF_DAY = re.compile(r"(\d\d):(\d\d)")


def parse_duration(text: str) -> Quantity:
    """A length of time with its unit, 0 or more.

    Raises
    ------
    QuantityError
        The text is not one.

    """
    quantity = parse_quantity(text)
    if quantity.unit is None or quantity.unit.dimension != "time" or quantity.value < 0:
        raise QuantityError(
            f"{text!r} is not a duration", valid="a time, such as 500 ms, 30 s, 5 min"
        )
    if quantity.value and not LEAST_S <= quantity.seconds <= MOST_S:
        raise QuantityError(
            f"{text[:40]!r} is no length of time that can be kept", valid="0 s, or 1 µs to 1000 a"
        )
    return quantity


def parse_time_of_day(text: str) -> int:
    """A time on the clock, ``00:00`` to ``24:00``, in s since midnight.

    Raises
    ------
    QuantityError
        The text is not one.

    """
    match = _TIME_OF_DAY.fullmatch(text.strip())
    seconds = int(match[1]) * 3600 + int(match[2]) * 60 if match else 0
    if match is None or int(match[2]) > 59 or seconds > DAY_S:
        raise QuantityError(f"{text[:20]!r} is not a time of day", valid="00:00 to 24:00")
    return seconds


def format_time_of_day(seconds: int) -> str:
    """A time on the clock: ``06:00``."""
    return f"{seconds // 3600:02}:{seconds % 3600 // 60:02}"


def duration_text(seconds: float) -> str:
    """A length of time for people, in its two largest units."""
    if seconds < 1.0:
        return f"{format_number(seconds * 1e3, 3)} ms"
    if seconds < 60.0:
        return f"{format_number(seconds, 3)} s"
    parts: list[str] = []
    for unit, length in (("d", DAY_S), ("h", 3600.0), ("min", 60.0), ("s", 1.0)):
        count, seconds = divmod(seconds, length)
        if count or parts:
            parts.append(f"{count:.0f} {unit}")
        if len(parts) == 2:
            break
    return " ".join(part for part in parts if not part.startswith("0 "))
