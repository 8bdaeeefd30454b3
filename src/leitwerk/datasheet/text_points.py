"""Points in texts: values of a device that is queried and written in lines (SCPI, SDI-12, text)."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import NamedTuple

from leitwerk.datasheet.points import INDEX, Point, Stored, name_at
from leitwerk.datasheet.registers import EXACT, readable, round_steps
from leitwerk.datasheet.times import time_from_text, time_to_text
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import format_number

# SCPI-1999 volume 1, 7.2.1.4 and 7.2.1.5: these numbers stand for infinity and for no number.
INFINITE, NO_NUMBER = 9.9e37, 9.91e37
_CODE_DIGITS = 9
_PLAIN = re.compile(r"code [\w.+-]{1,40}")
# IEEE 488.2, 7.7.2.4 and the names that some devices answer with in place of a number.
_NUMBER = re.compile(
    r"[+-]?(?:(?:\d+(?:\.\d*)?|\.\d+)(?:e[+-]?\d+)?|inf|infinity|nan)", re.ASCII | re.IGNORECASE
)
FIELD_BY_INDEX = -1  # the field of a family's answer is that of its index
MAX_TEXT = 256  # characters of a text that anybody stores in an instrument


class Dialect(NamedTuple):
    """How a protocol has its texts: in quotes or not, and what would end or change a message."""

    quoted: bool = False
    forbids: str = ""


DIALECTS = {"scpi": Dialect(quoted=True, forbids='"'), "sdi12": Dialect(forbids="!")}


@dataclass(frozen=True, slots=True)
class TextPoint(Point):
    """One value that a device gives when it is asked with ``query``, and takes with ``write``.

    Of an answer of several fields, ``field`` (from 1, or ``FIELD_BY_INDEX``) is the one that is meant; of
    one with fixed columns, ``columns`` (first and last, from 1). In ``write``, ``{}`` stands for the value.
    ``kind`` is ``number``, ``text`` or ``block`` (of bytes, for files); choices are written as their codes'
    texts; a time has a ``layout``.
    ``codes`` are texts that stand for no value, each with its name.
    """

    query: str
    write: str = ""
    field: int = 0
    kind: str = "number"
    step: float = 0.0
    choices: tuple[tuple[str, str], ...] = ()
    max_length: int = MAX_TEXT
    columns: tuple[int, int] | None = None
    layout: str = ""
    codes: tuple[tuple[str, str], ...] = ()
    dialect: Dialect = DIALECTS["scpi"]

    @property
    def is_text(self) -> bool:
        """Whether the value is a free text."""
        return self.kind == "text"

    @property
    def is_time(self) -> bool:
        """Whether the value is a moment, written as a text."""
        return bool(self.layout)

    @property
    def choice_numbers(self) -> tuple[tuple[str, float], ...]:
        """Each choice with its position among them; its code is a text."""
        return tuple((name, float(k)) for k, (name, _) in enumerate(self.choices))

    @property
    def special_words(self) -> tuple[str, ...]:
        """What its codes for no value are called."""
        return tuple(name for _, name in (*self.special, *self.codes))

    @property
    def place(self) -> str:
        """Where it lives, for people."""
        return self.query or self.write

    def at(self, index: int, stride: int) -> TextPoint:
        """The same for another index; ``{n}`` in its texts becomes the number."""
        del stride
        number = str(index)
        return replace(
            self,
            name=name_at(self.name, index),
            query=INDEX.sub(number, self.query),
            write=INDEX.sub(number, self.write),
            field=index if self.field == FIELD_BY_INDEX else self.field,
        )

    @property
    def resolution(self) -> float:
        """The smallest difference between two values, 0 when it is not known."""
        return self.step

    def special_name(self, value: float) -> str:
        """What a number stands for that is not a value, empty when it is one."""
        return next((name for code, name in self.special if value == code), "")

    def span(self) -> tuple[float, float]:
        """The smallest and the largest number that can be stored."""
        return self.limits or (-INFINITE, INFINITE)

    def storable(self, value: Stored) -> Stored:
        """What the device has in memory when ``value`` is written.

        Raises
        ------
        QuantityError
            It cannot store that.

        """
        is_free = self.is_text or self.is_time
        if isinstance(value, str) and not is_free and value not in self._words():
            valid = ", ".join(self._words())
            what = f"it knows no {value!r} here" if valid else f"{value!r} is not a number"
            raise QuantityError(what, valid=valid or "a number")
        if not isinstance(value, str):
            low, high = self.span()
            if not low - self.step / 2 <= value <= high + self.step / 2:
                raise QuantityError(
                    f"{format_number(value)} is outside what it can hold",
                    valid=f"{format_number(low)}..{format_number(high)}",
                )
        return self.decode(self.encode(value))

    def _words(self) -> dict[str, str]:
        """The words that stand for codes: choices, and what a special code is called."""
        special = {name: _digits(code) for code, name in self.special}
        return {**special, **{name: code for code, name in self.codes}, **dict(self.choices)}

    def encode(self, value: Stored) -> str:
        """The text that stands for a value.

        Every value that ``decode`` gives can be written back, also one that the device does not document.

        Raises
        ------
        QuantityError
            No text stands for it: a word without a code, a text that is too long or has characters
            that would end or change the message.

        """
        if self.layout and not str(value).startswith("code "):
            return time_to_text(str(value), self.layout)
        if self.is_text and not self.choices:
            return self._safe(str(value))
        if isinstance(value, str):
            words = self._words()
            if value in words:
                return words[value]
            if value.startswith("code ") and _PLAIN.fullmatch(value):
                return value.removeprefix("code ")
            raise QuantityError(f"it knows no {value!r} here", valid=", ".join(words) or "a number")
        if isinstance(value, int):
            return str(value)
        if not math.isfinite(value):
            raise QuantityError(f"{value!r} is not a number", valid="a number")
        return _digits(round(value / self.step) * self.step if self.step else value)

    def _safe(self, text: str) -> str:
        spoils = next((c for c in text if c in self.dialect.forbids), "")
        if len(text) > self.max_length or not text.isascii() or not text.isprintable() or spoils:
            without = f", none of {self.dialect.forbids}" if self.dialect.forbids else ""
            raise QuantityError(
                f"{text[:80]!r} cannot be stored in the device",
                valid=f"at most {self.max_length} printable characters of ASCII{without}",
            )
        return f'"{text}"' if self.dialect.quoted else text

    def decode(self, text: str) -> Stored:
        """The value that an answer stands for; an unknown choice is shown as ``code X``."""
        text = readable(text.strip())
        if self.layout:
            return time_from_text(text, self.layout)
        named = [(code, name) for name, code in self.choices] + list(self.codes)
        for code, name in named:
            if code.casefold() == text.casefold():
                return name
        if self.is_text and not self.choices:
            return text.removeprefix('"').removesuffix('"')
        number = None if self.choices else _number(text)
        return f"code {text}" if number is None else self._value(number)

    def _value(self, number: float) -> Stored:
        if name := self.special_name(float(number)):
            return name
        if isinstance(number, int) or not math.isfinite(number) or not self.step:
            return number
        return round_steps(round(number / self.step), self.step, 0.0)

    def number(self, text: str) -> float:
        """An answer as a number: a choice by its position; NaN when it is neither."""
        if self.choices:
            return dict(self.choice_numbers).get(str(self.decode(text)), math.nan)
        number = _number(text)
        return math.nan if number is None else float(number)


def _number(text: str) -> float | int | None:
    """The number in an answer, None for another text; a long whole number is exact."""
    text = text.strip()
    if not _NUMBER.fullmatch(text):
        return None  # float() would take more, such as 1_000 and the digits of other scripts
    number = float(text)
    if abs(number) >= INFINITE:
        return math.nan if number == NO_NUMBER else math.copysign(math.inf, number)
    if abs(number) > EXACT and text.removeprefix("+").removeprefix("-").isdecimal():
        return int(text)
    return number


def _digits(number: float) -> str:
    return f"{number:.12g}"


@dataclass(frozen=True, slots=True)
class HeardPoint(TextPoint):
    """A value that another end says in an exchange: ``query`` is the line, ``field`` the value in it."""

    exchange: str = ""


@dataclass(frozen=True, slots=True)
class Replies:
    """How a device ends and divides its lines, and how it confirms and refuses a message.

    ``refuses`` is a text in which ``{}`` stands for a number, such as ``ERR {}``.
    """

    end: bytes = b"\n"
    confirms: str = ""
    refuses: str = ""
    separator: str = ","

    def refusal(self, answer: str) -> int | None:
        """The code with which an answer refuses, 0 for one without a code; None when it does not."""
        if not self.refuses:
            return None
        head, _, tail = self.refuses.partition("{}")
        if not answer.startswith(head) or not answer.endswith(tail):
            return None
        code = answer[len(head) : len(answer) - len(tail)].strip()
        if code.isdecimal() and len(code) <= _CODE_DIGITS:
            return int(code)
        # A sign alone is no word: "---" or "-3.5;2" are values of a device that refuses with "-1".
        return 0 if any(c.isalpha() for c in head) or "{}" not in self.refuses else None


def texts(points: Iterable[Point]) -> list[TextPoint]:
    """The same points, for a link that speaks in texts.

    Raises
    ------
    TypeError
        One of them lies in registers.

    """
    every = list(points)
    found = [point for point in every if isinstance(point, TextPoint)]
    if len(found) < len(every):
        raise TypeError("a link for texts was given a point in registers")
    return found
