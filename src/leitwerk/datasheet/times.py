"""How devices lay out times: in registers, in BCD or binary, and in texts.

A layout names its fields by letters: ``YYYY`` or ``YY``, ``MM``, ``DD``, ``hh``, ``mm``, ``ss``. It has a
date and a time, or one of both. As text, the value is ``2026-03-02 08:40:15``, or the part of it.
"""

from __future__ import annotations

import re
import struct
from datetime import datetime, timedelta
from functools import lru_cache
from typing import NamedTuple

from leitwerk.errors import QuantityError

UNIX_TIME = "unix time"
USUAL_TIME = "bcd date-time"
_FIELDS = {"YYYY": "%Y", "YY": "%y", "MM": "%m", "DD": "%d", "hh": "%H", "mm": "%M", "ss": "%S"}
_FIELD = re.compile("|".join(_FIELDS))
_GROUP = "(?:YYYY|(?:YY|MM|DD|hh|mm|ss){1,2})"
_REGISTERS = re.compile(rf"(bcd )?({_GROUP}(?: {_GROUP})*)")
_FORMS = {"DDMMYY": "%Y-%m-%d", "hhmmss": "%H:%M:%S", "DDMMYYhhmmss": "%Y-%m-%d %H:%M:%S"}
_EPOCH = datetime(1970, 1, 1)  # noqa: DTZ001 - the device's own time, no zone
_CENTURY = 2000  # a year of two digits


class Layout(NamedTuple):
    """A time in registers: in BCD or binary, a group of fields for each register."""

    is_bcd: bool
    groups: tuple[str, ...]


@lru_cache(maxsize=256)  # asked for every value of every point
def register_layout(kind: str) -> Layout | None:
    """The layout that a type names, such as ``bcd YYYY MMDD hhmm ss``; None for another type."""
    match = _REGISTERS.fullmatch("bcd YYMM DDhh mmss" if kind == USUAL_TIME else kind)
    if match is None or not time_form(match[2]):
        return None
    return Layout(bool(match[1]), tuple(match[2].split()))


def time_form(layout: str) -> str:
    """How a time of a layout is written as text; empty when a field is missing or there twice."""
    fields = [field[:2] for field in _FIELD.findall(layout)]
    return _FORMS.get("".join(sorted(fields)), "")


def pack_time(text: str, kind: str) -> tuple[int, ...]:
    """The registers of a time.

    Raises
    ------
    QuantityError
        The text is not a time, or one that the device cannot hold.

    """
    if kind == UNIX_TIME:
        moment = _moment(text, _FORMS["DDMMYYhhmmss"])
        seconds = int((moment - _EPOCH).total_seconds())
        if not 0 <= seconds < 2**32:
            raise QuantityError(f"{text} is outside what it can hold", valid="1970 to 2106")
        return struct.unpack(">2H", struct.pack(">I", seconds))
    layout = register_layout(kind)
    assert layout is not None
    moment = _moment(text, time_form(" ".join(layout.groups)))
    has_century = "YYYY" in layout.groups or "YY" not in "".join(layout.groups)
    if not has_century and not _CENTURY <= moment.year < _CENTURY + 100:
        raise QuantityError(f"{text} is outside what it can hold", valid="the years 2000 to 2099")
    words = []
    for group in layout.groups:
        values = [int(moment.strftime(_FIELDS[field])) for field in _FIELD.findall(group)]
        if layout.is_bcd:
            words.append(int("".join(f"{value:02d}" for value in values), 16))
        else:
            words.append(values[0] if len(values) == 1 else values[0] << 8 | values[1])
    return tuple(words)


def unpack_time(words: tuple[int, ...], kind: str) -> str:
    """A device's time as text; an invalid time as its words in hexadecimal."""
    raw = "code " + " ".join(f"{w:04X}" for w in words)
    if kind == UNIX_TIME:
        seconds: int = struct.unpack(">I", struct.pack(">2H", *words))[0]
        return (_EPOCH + timedelta(seconds=seconds)).strftime(_FORMS["DDMMYYhhmmss"])
    layout = register_layout(kind)
    assert layout is not None
    numbers: list[int] = []
    for group, word in zip(layout.groups, words, strict=True):
        fields = _FIELD.findall(group)
        if layout.is_bcd:
            digits = f"{word:x}".zfill(2 * len(fields) if "YYYY" not in fields else 4)
            if not digits.isdecimal():
                return raw
            numbers += [int(digits)] if len(fields) == 1 else [int(digits[:-2]), int(digits[-2:])]
        else:
            numbers += [word] if len(fields) == 1 else [word >> 8, word & 0xFF]
    return _shown(numbers, " ".join(layout.groups)) or raw


def time_to_text(text: str, layout: str) -> str:
    """A time as a device writes it in texts: ``2026,03,02`` for the layout ``YYYY,MM,DD``.

    Raises
    ------
    QuantityError
        The text is not a time.

    """
    moment = _moment(text, time_form(layout))
    return _FIELD.sub(lambda field: moment.strftime(_FIELDS[field[0]]), layout)


def time_from_text(text: str, layout: str) -> str:
    """A time out of a device's text, by the order of its numbers; ``code …`` for another text."""
    numbers = [int(digits) for digits in re.findall(r"\d{1,6}", text)]
    return _shown(numbers, layout) or f"code {text}"


def _moment(text: str, form: str) -> datetime:
    try:
        return datetime.strptime(text, form)  # noqa: DTZ007 - the device's own time, no zone
    except ValueError:
        valid = datetime(2026, 3, 2, 8, 40).strftime(form)  # noqa: DTZ001
        raise QuantityError(f"{text[:40]!r} is not a time", valid=valid) from None


def _shown(numbers: list[int], layout: str) -> str:
    """The numbers of the fields of a layout, as text; empty when they are no time."""
    fields = _FIELD.findall(layout)
    if len(numbers) != len(fields):
        return ""
    found = {field[:2]: number for field, number in zip(fields, numbers, strict=True)}
    year = found.get("YY", _CENTURY) + (_CENTURY if "YY" in fields else 0)
    date = (year, found.get("MM", 1), found.get("DD", 1))
    try:
        moment = datetime(*date, *(found.get(f, 0) for f in ("hh", "mm", "ss")))  # type: ignore[arg-type] # noqa: DTZ001
    except ValueError:
        return ""
    return moment.strftime(time_form(layout))
