"""How a value becomes 16-bit words and back: numbers, BCD, versions, texts."""

from __future__ import annotations

import math
import re
import struct

import numpy as np

from leitwerk.errors import QuantityError

# Register types: struct code (big-endian) and number of 16-bit words.
NUMBER_TYPES = {
    "u16": ("H", 1), "i16": ("h", 1), "u32": ("I", 2), "i32": ("i", 2), "u64": ("Q", 4),
    "i64": ("q", 4), "f32": ("f", 2), "f64": ("d", 4),
}  # fmt: skip
# IEEE 754: the largest, as its shortest decimal that comes back.
FLOATS = {"f32": 3.4028235e38, "f64": 1.7976931348623157e308}
INTEGER_SPANS = {
    kind: (-(2 ** (16 * words - 1)), 2 ** (16 * words - 1) - 1)
    if kind.startswith("i")
    else (0, 2 ** (16 * words) - 1)
    for kind, (_, words) in NUMBER_TYPES.items()
    if kind not in FLOATS
}
EXACT = 2**53  # IEEE 754 binary64 holds every whole number up to here


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


def pack_version(text: str) -> tuple[int, ...]:
    """A version such as 2.13 in one register, in BCD: major and minor, a byte each.

    Raises
    ------
    QuantityError
        The text is not such a version.

    """
    match = re.fullmatch(r"(\d{1,2})\.(\d{2})", text)
    if match is None:
        raise QuantityError(f"{text[:40]!r} is not a version", valid="2.13")
    return (int(match[1], 16) << 8 | int(match[2], 16),)


def unpack_version(words: tuple[int, ...]) -> str:
    """A version in BCD as text; other codes in hexadecimal."""
    if unpack_bcd(words) is None:
        return f"code {words[0]:04X}"
    return f"{words[0] >> 8:x}.{words[0] & 0xFF:02x}"


def readable(text: str) -> str:
    """A device may send anything; no control character of it reaches a terminal or a file."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else "�" for c in text)


def round_steps(number: float, step: float, offset: float) -> float | int:
    """Whole steps as a value without needless digits: 783 steps of 0.1 are 78.3.

    A whole number that a float could not hold exactly stays an int.
    """
    if step == 1.0 and float(offset).is_integer():
        exact = number + int(offset)
        return exact if abs(exact) > EXACT else float(exact)
    value = number * step + offset
    digits = max(0, 1 - math.floor(math.log10(step)))
    if offset:
        # The offset may have more digits than the step.
        digits = max(digits, len(f"{offset:.12g}".partition(".")[2]))
    return round(value, digits)
