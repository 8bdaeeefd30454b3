"""How a value becomes 16-bit words and back: numbers, BCD, bit fields, texts, times."""

from __future__ import annotations

import math
import struct
from datetime import datetime

import numpy as np

from leitwerk.errors import QuantityError

# Register types: struct code (big-endian) and number of 16-bit words.
NUMBER_TYPES = {
    "u16": ("H", 1), "i16": ("h", 1), "u32": ("I", 2), "i32": ("i", 2), "u64": ("Q", 4),
    "i64": ("q", 4), "f32": ("f", 2), "f64": ("d", 4),
}  # fmt: skip
FLOATS = {"f32": 3.4028234663852886e38, "f64": 1.7976931348623157e308}  # IEEE 754: the largest
INTEGER_SPANS = {
    kind: (-(2 ** (16 * words - 1)), 2 ** (16 * words - 1) - 1)
    if kind.startswith("i")
    else (0, 2 ** (16 * words) - 1)
    for kind, (_, words) in NUMBER_TYPES.items()
    if kind not in FLOATS
}
_TIME = "%Y-%m-%d %H:%M:%S"
_CENTURY = 2000  # a BCD year has two digits


def reorder(words: tuple[int, ...], *, low_first: bool, swapped: bool) -> tuple[int, ...]:
    """Words from or to the order of a device: its low word first, its bytes swapped."""
    if low_first:
        words = words[::-1]
    if swapped:
        words = tuple((w >> 8) | (w & 0xFF) << 8 for w in words)
    return words


def pack_number(kind: str, number: float) -> tuple[int, ...]:
    """The words of a number, high word first."""
    code, words = NUMBER_TYPES[kind]
    raw = number if kind in FLOATS else int(number)
    return struct.unpack(f">{words}H", struct.pack(f">{code}", raw))


def unpack_number(kind: str, words: tuple[int, ...]) -> float:
    """The number that words stand for, high word first."""
    number: float = struct.unpack(
        f">{NUMBER_TYPES[kind][0]}", struct.pack(f">{len(words)}H", *words)
    )[0]
    # The shortest decimal that is the same binary32: 22.9, not 22.8999996.
    return float(str(np.float32(number))) if kind == "f32" else number


def pack_bcd(number: int, words: int) -> tuple[int, ...]:
    """A whole number as binary-coded decimal, four digits in each word."""
    digits = f"{number:0{4 * words}d}"
    return tuple(int(digits[k : k + 4], 16) for k in range(0, 4 * words, 4))


def unpack_bcd(words: tuple[int, ...]) -> int | None:
    """The number that BCD words stand for, None when a nibble is not a digit."""
    digits = "".join(f"{w:04x}" for w in words)
    return int(digits) if digits.isdecimal() else None


def pack_time(text: str, kind: str) -> tuple[int, ...]:
    """A time, ``2026-03-02 08:40:00``, as a device keeps it.

    Raises
    ------
    QuantityError
        The text is not a time, or one that the device cannot hold.

    """
    try:
        moment = datetime.strptime(text, _TIME)  # noqa: DTZ007 - the device's own time, no zone
    except ValueError:
        raise QuantityError(f"{text[:40]!r} is not a time", valid="2026-03-02 08:40:00") from None
    if kind == "unix time":
        seconds = int((moment - datetime(1970, 1, 1)).total_seconds())  # noqa: DTZ001
        if not 0 <= seconds < 2**32:
            raise QuantityError(f"{text} is outside what it can hold", valid="1970 to 2106")
        return pack_number("u32", seconds)
    if not _CENTURY <= moment.year < _CENTURY + 100:
        raise QuantityError(f"{text} is outside what it can hold", valid="the years 2000 to 2099")
    return pack_bcd(int(moment.strftime("%y%m%d%H%M%S")), 3)


def unpack_time(words: tuple[int, ...], kind: str) -> str:
    """A device's time as text; an invalid time as its raw words in hexadecimal."""
    raw = "code " + " ".join(f"{w:04X}" for w in words)
    if kind == "unix time":
        seconds = int(unpack_number("u32", words))
        moment = datetime(1970, 1, 1) + np.timedelta64(seconds, "s").item()  # noqa: DTZ001
        return moment.strftime(_TIME)
    number = unpack_bcd(words)
    if number is None:
        return raw
    digits = f"{number:012d}"
    fields = [int(digits[k : k + 2]) for k in range(0, 12, 2)]
    try:
        return datetime(_CENTURY + fields[0], *fields[1:]).strftime(_TIME)  # type: ignore[arg-type] # noqa: DTZ001
    except ValueError:
        return raw


def readable(text: str) -> str:
    """A device may send anything; no control character of it reaches a terminal or a file."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else "�" for c in text)


def round_steps(number: float, step: float, offset: float) -> float:
    """Whole steps as a value without needless digits: 783 steps of 0.1 are 78.3."""
    value = number * step + offset
    if step == 1.0 and float(offset).is_integer():
        return float(value)
    digits = max(0, 1 - math.floor(math.log10(step)))
    if offset:
        # The offset may have more digits than the step.
        digits = max(digits, len(f"{offset:.12g}".partition(".")[2]))
    return round(value, digits)
