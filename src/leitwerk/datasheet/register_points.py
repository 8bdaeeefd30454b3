"""Points in registers: where each lives, and how its value becomes 16-bit words.

``encode`` turns a value into words as the device will store them, ``decode`` turns words back.
"""

from __future__ import annotations

import math
import re
import struct
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import NoReturn

from leitwerk.datasheet.points import Point, Stored, name_at
from leitwerk.datasheet.registers import (
    FLOATS,
    INTEGER_SPANS,
    pack_bcd,
    pack_number,
    pack_version,
    readable,
    reorder,
    round_steps,
    unpack_bcd,
    unpack_number,
    unpack_version,
)
from leitwerk.datasheet.times import UNIX_TIME, pack_time, register_layout, unpack_time
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import format_number

TABLES = ("holding", "input", "coil", "discrete")
BIT_TABLES = ("coil", "discrete")
BCD_VERSION = "bcd version"
_CODE = re.compile(r"code ([0-9A-F]+(?: [0-9A-F]+)*)")


@dataclass(frozen=True, slots=True)
class RegisterPoint(Point):
    """One value in ``words`` 16-bit registers (or bits) from ``start`` in ``table``.

    A number is ``step`` · raw + ``offset``. ``bits`` (lowest, highest) is for a field inside one
    register. A text is filled up with the character ``filler``.
    """

    table: str
    start: int
    words: int
    kind: str
    step: float = 1.0
    offset: float = 0.0
    choices: tuple[tuple[str, int], ...] = ()
    characters: str = "ascii"
    filler: int = 0
    low_word_first: bool = False
    bytes_swapped: bool = False
    bits: tuple[int, int] | None = None

    @property
    def end(self) -> int:
        """The register after the last one of this point."""
        return self.start + self.words

    @property
    def place(self) -> str:
        """Where it lives, for people."""
        return f"{self.table} {self.start}"

    def at(self, index: int, stride: int) -> RegisterPoint:
        """The same for another index, ``index`` strides on."""
        return replace(self, name=name_at(self.name, index), start=self.start + stride * index)

    @property
    def is_text(self) -> bool:
        """Whether the value is a free text."""
        return self.kind in {"text", BCD_VERSION}

    @property
    def is_time(self) -> bool:
        """Whether the value is a moment, written as a text."""
        return self.kind == UNIX_TIME or register_layout(self.kind) is not None

    @property
    def choice_numbers(self) -> tuple[tuple[str, float], ...]:
        """Each choice with its code."""
        return tuple((name, float(code)) for name, code in self.choices)

    @property
    def is_plain_number(self) -> bool:
        """Whether many such points can be decoded at once: a number, high word first, no field."""
        plain = self.kind in INTEGER_SPANS or self.kind in FLOATS
        swapped = self.low_word_first or self.bytes_swapped
        return plain and not swapped and self.bits is None and self.table not in BIT_TABLES

    @property
    def capacity(self) -> int:
        """How many characters a text may have."""
        return 2 * self.words

    def special_name(self, value: float) -> str:
        """What a number stands for that is not a value, empty when it is one."""
        if math.isnan(value):
            return next((name for code, name in self.special if math.isnan(code)), "")
        near = self.resolution / 2.0
        at = ((abs(value - (code * self.step + self.offset)), name) for code, name in self.special)
        return next((name for distance, name in at if distance <= near), "")

    @property
    def resolution(self) -> float:
        """The smallest difference between two values; 0 where numbers float."""
        return 0.0 if self.kind in FLOATS else self.step

    def span(self) -> tuple[float, float]:
        """The smallest and the largest number that can be stored."""
        if self.limits is not None:
            return self.limits
        low, high = self._raw_span()
        if self.kind in FLOATS:
            return low, high
        return low * self.step + self.offset, high * self.step + self.offset

    def _raw_span(self) -> tuple[float, float]:
        if self.table in BIT_TABLES:
            return 0, 1
        if self.bits is not None:
            return 0, (1 << (self.bits[1] - self.bits[0] + 1)) - 1
        if self.kind == "bcd":
            return 0, 10 ** (4 * self.words) - 1
        if self.kind in FLOATS:
            return -FLOATS[self.kind], FLOATS[self.kind]
        return INTEGER_SPANS[self.kind]

    def storable(self, value: Stored) -> Stored:
        """What the device has in memory when ``value`` is written.

        Raises
        ------
        QuantityError
            It cannot store that: a number outside its span, an unknown choice, a text that is too
            long or has characters it does not have.

        """
        if self.kind == "text":  # the same as below, without packing and unpacking it
            text = str(value)
            self._require_text(text)
            return text.rstrip()
        if not (self.is_text or self.is_time):
            self._require(value)
        return self.decode(self.encode(value))

    def _require(self, value: Stored) -> None:
        """Insist on a value that the device accepts; what it may show besides is not one."""
        if isinstance(value, str):
            valid = [*self.choice_names, *self.special_words]
            if value not in valid:
                what = f"it knows no {value!r} here" if valid else f"{value!r} is not a number"
                raise QuantityError(what, valid=", ".join(valid) or "a number")
        elif self.limits is not None:
            # Half a step; for floating point numbers, what rounding to 32 bits leaves.
            slack = self.resolution / 2 or 1e-7 * max(map(abs, self.limits))
            if not self.limits[0] - slack <= value <= self.limits[1] + slack:
                self._report_outside(value)

    def encode(self, value: Stored) -> tuple[int, ...]:
        """The words that stand for a value, rounded to the device's resolution.

        Every value that ``decode`` gives can be written back, also one that the device does not document.
        A field inside a register gives the register with only this field in it.

        Raises
        ------
        QuantityError
            No words stand for it.

        """
        if (self.is_time or self.kind == "bcd") and (code := _CODE.fullmatch(str(value))):
            words = tuple(int(word, 16) for word in code[1].split())
            return reorder(words, low_first=self.low_word_first, swapped=self.bytes_swapped)
        if self.kind == BCD_VERSION:
            words = pack_version(str(value))
        elif self.is_text:
            words = self._encode_text(str(value))
        elif self.is_time:
            words = pack_time(str(value), self.kind)
        else:
            number = self._raw(value)
            if self.bits is not None:
                return (int(number) << self.bits[0],)
            if self.table in BIT_TABLES:
                return (int(number),)
            if self.kind == "bcd":
                words = pack_bcd(int(number), self.words)
            else:
                words = pack_number(self.kind, number)
        return reorder(words, low_first=self.low_word_first, swapped=self.bytes_swapped)

    def _raw(self, value: Stored) -> float:
        if isinstance(value, str):
            return self._code(value)
        number = value
        if self.kind not in FLOATS and math.isfinite(value):
            is_exact = isinstance(value, int) and self.step == 1.0 and self.offset.is_integer()
            steps = (value - self.offset) / self.step
            if not math.isfinite(steps):
                self._report_outside(value)
            number = value - int(self.offset) if is_exact else round(steps)
        low, high = self._raw_span()
        if not low <= number <= high:
            self._report_outside(value)
        return number

    def _report_outside(self, value: float) -> NoReturn:
        low, high = self.span()
        raise QuantityError(
            f"{format_number(value)} is outside what it can hold",
            valid=f"{format_number(low)}..{format_number(high)}",
        )

    def decode(self, words: tuple[int, ...]) -> Stored:
        """The value that words stand for; an unknown choice is shown as ``code 17``."""
        words = reorder(words, low_first=self.low_word_first, swapped=self.bytes_swapped)
        if self.kind == BCD_VERSION:
            return unpack_version(words)
        if self.is_text:
            packed = struct.pack(f">{len(words)}H", *words)
            return readable(packed.split(b"\0")[0].decode("latin-1").rstrip())
        if self.is_time:
            return unpack_time(words, self.kind)
        number = self.raw_number(words)
        if number is None:
            return "code " + " ".join(f"{w:04X}" for w in words)
        for code, name in self.special:
            if code == number or (math.isnan(code) and math.isnan(number)):
                return name
        if self.choices:
            names = {code: name for name, code in self.choices}
            return names.get(int(number), f"code {int(number)}")
        return number if self.kind in FLOATS else round_steps(number, self.step, self.offset)

    def raw_number(self, words: tuple[int, ...]) -> float | None:
        """The stored number before step and offset, None when the words are not a number."""
        if self.bits is not None:
            low, high = self.bits
            return words[0] >> low & ((1 << (high - low + 1)) - 1)
        if self.table in BIT_TABLES:
            return words[0] & 1
        if self.kind == "bcd":
            return unpack_bcd(words)
        return unpack_number(self.kind, words)

    @property
    def mask(self) -> int:
        """The bits of its register that belong to this point."""
        if self.bits is None:
            return 0xFFFF
        low, high = self.bits
        return ((1 << (high - low + 1)) - 1) << low

    def _code(self, name: str) -> float:
        """The code of a choice, of a word for no value, or of what was shown as ``code 17``."""
        known = {**{word: code for code, word in self.special}, **dict(self.choices)}
        if name in known:
            return known[name]
        shown = name.removeprefix("code ")
        if self.choices and shown != name and shown.removeprefix("-").isdecimal():
            return int(shown)
        raise QuantityError(f"it knows no {name!r} here", valid=", ".join(known) or "a number")

    def _encode_text(self, text: str) -> tuple[int, ...]:
        self._require_text(text)
        raw = text.encode("latin-1").ljust(self.capacity, bytes([self.filler]))
        return struct.unpack(f">{self.words}H", raw)

    def _require_text(self, text: str) -> None:
        bad = self.unknown_characters(text)
        wrong = [f"it does not have {' '.join(map(repr, bad))}"] if bad else []
        if len(text) > self.capacity:
            wrong.append(f"the text has {len(text)} characters")
        if wrong:
            charset = "Latin-1 (ISO 8859-1)" if self.characters == "latin-1" else "ASCII"
            raise QuantityError(
                f"{text[:80]!r}: {' and '.join(wrong)}",
                valid=f"at most {self.capacity} printable characters of {charset}",
            )

    def unknown_characters(self, text: str) -> list[str]:
        """The characters of a text that the device does not have, each once."""
        if text.isascii() and text.isprintable():
            return []  # the usual case, without a search
        return list(dict.fromkeys(_FOREIGN[self.characters].findall(text)))


# What is not in a set of characters: all but its printable ones.
_FOREIGN = {
    "ascii": re.compile(r"[^\x20-\x7e]"),
    "latin-1": re.compile(r"[^\x20-\x7e\xa0-\xff]"),
}


def registers(points: Iterable[Point]) -> list[RegisterPoint]:
    """The same points, for a link that reads registers.

    Raises
    ------
    TypeError
        One of them does not lie in registers.

    """
    every = list(points)
    found = [point for point in every if isinstance(point, RegisterPoint)]
    if len(found) < len(every):
        raise TypeError("a link for registers was given a point that is queried in texts")
    return found
