"""How a value becomes 16-bit words and back: numbers, BCD, bit fields, texts, times."""

from __future__ import annotations

import math
import re
import struct
from datetime import datetime

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
_TIME = "%Y-%m-%d %H:%M:%S"
# How a device lays a time out: a group for each register, in BCD or binary (two fields: a byte each).
_FIELDS = {"YYYY": "%Y", "YY": "%y", "MM": "%m", "DD": "%d", "hh": "%H", "mm": "%M", "ss": "%S"}
_FIELD = re.compile("|".join(_FIELDS))
_LAYOUT = re.compile(
    r"(bcd )?((?:YYYY|(?:YY|MM|DD|hh|mm|ss){1,2})(?: (?:YYYY|(?:YY|MM|DD|hh|mm|ss){1,2}))*)"
)
_USUAL_LAYOUT = "bcd YYMM DDhh mmss"
EXACT = 2**53  # IEEE 754 binary64 holds every whole number up to here
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


def time_layout(kind: str) -> tuple[bool, tuple[str, ...]] | None:
    """Whether a kind of time is in BCD, and its groups of fields, one for each register.

    None when the kind is not such a layout, or lacks a field or has one twice.
    """
    match = _LAYOUT.fullmatch(_USUAL_LAYOUT if kind == "bcd date-time" else kind)
    if match is None:
        return None
    fields = sorted(field[:2] for field in _FIELD.findall(match[2]))
    is_whole = fields == sorted(["YY", "MM", "DD", "hh", "mm", "ss"])
    return (bool(match[1]), tuple(match[2].split())) if is_whole else None


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
    layout = time_layout(kind)
    assert layout is not None
    words = []
    for group in layout[1]:
        values = [int(moment.strftime(_FIELDS[field])) for field in _FIELD.findall(group)]
        if layout[0]:
            words.append(int("".join(f"{value:02d}" for value in values), 16))
        else:
            words.append(values[0] if len(values) == 1 else values[0] << 8 | values[1])
    return tuple(words)


def unpack_time(words: tuple[int, ...], kind: str) -> str:
    """A device's time as text; an invalid time as its raw words in hexadecimal."""
    raw = "code " + " ".join(f"{w:04X}" for w in words)
    if kind == "unix time":
        seconds = int(unpack_number("u32", words))
        moment = datetime(1970, 1, 1) + np.timedelta64(seconds, "s").item()  # noqa: DTZ001
        return moment.strftime(_TIME)
    layout = time_layout(kind)
    assert layout is not None
    is_bcd, groups = layout
    if is_bcd and unpack_bcd(words) is None:
        return raw
    found: dict[str, int] = {}
    for group, word in zip(groups, words, strict=True):
        fields = _FIELD.findall(group)
        if is_bcd:
            digits = f"{word:x}".zfill(4 if len(group) > 2 else 2)
            values = [int(digits)] if len(fields) == 1 else [int(digits[:-2]), int(digits[-2:])]
        else:
            values = [word] if len(fields) == 1 else [word >> 8, word & 0xFF]
        found |= {field[:2]: value for field, value in zip(fields, values, strict=True)}
    year = found["YY"] if "YYYY" in " ".join(groups) else _CENTURY + found["YY"]
    try:
        moment = datetime(year, *(found[f] for f in ("MM", "DD", "hh", "mm", "ss")))  # type: ignore[arg-type] # noqa: DTZ001
    except ValueError:
        return raw
    return moment.strftime(_TIME)


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
