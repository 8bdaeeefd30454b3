"""Points: single values in a device, where each lives, and how it is stored there.

A point's value is a text (also for choices), or a number in the point's unit. ``encode`` turns it
into 16-bit words as the device will store them, ``decode`` turns words back; what comes back after
a round trip is what the device *could* store.
"""

from __future__ import annotations

import math
import re
import struct
from dataclasses import dataclass, replace
from typing import TypeAlias

import numpy as np

from leitwerk.errors import QuantityError
from leitwerk.quantities import format_number

Stored: TypeAlias = float | str

INDEX = re.compile(r"\{(\w+)\}")
TABLES = ("holding", "input")
# Register types: struct code (big-endian, high word first) and number of 16-bit words.
NUMBER_TYPES = {"u16": ("H", 1), "i16": ("h", 1), "u32": ("I", 2), "i32": ("i", 2), "f32": ("f", 2)}
_INTEGER_SPANS = {"u16": (0, 2**16 - 1), "i16": (-(2**15), 2**15 - 1)} | {
    "u32": (0, 2**32 - 1),
    "i32": (-(2**31), 2**31 - 1),
}
_F32_MAX = 3.4028234663852886e38  # IEEE 754 binary32


@dataclass(frozen=True, slots=True)
class Point:
    """One value in a device. ``words`` 16-bit registers from ``start`` in ``table``."""

    name: str
    table: str
    start: int
    words: int
    kind: str
    step: float = 1.0
    unit: str = ""
    choices: tuple[tuple[str, int], ...] = ()
    characters: str = "ascii"
    read_only: bool = False
    role: str = ""

    @property
    def end(self) -> int:
        """The register after the last one of this point."""
        return self.start + self.words

    @property
    def is_text(self) -> bool:
        """Whether the value is a free text."""
        return self.kind == "text"

    @property
    def capacity(self) -> int:
        """How many characters a text may have."""
        return 2 * self.words

    def span(self) -> tuple[float, float]:
        """The smallest and the largest number that can be stored."""
        if self.kind == "f32":
            return -_F32_MAX, _F32_MAX
        low, high = _INTEGER_SPANS[self.kind]
        return low * self.step, high * self.step

    def storable(self, value: Stored) -> Stored:
        """What the device has in memory when it is told ``value``.

        Raises
        ------
        QuantityError
            It cannot store that: a number outside its span, an unknown choice, a text that is too
            long or has characters it does not have.

        """
        return self.decode(self.encode(value))

    def encode(self, value: Stored) -> tuple[int, ...]:
        """The words that stand for a value, rounded to the device's resolution.

        Raises
        ------
        QuantityError
            As for ``storable``.

        """
        if self.is_text:
            return self._encode_text(str(value))
        if self.choices:
            number: float = self._code(str(value))
        elif isinstance(value, str):
            raise QuantityError(f"{value!r} is no number", valid="a number")
        elif self.kind == "f32":
            number = value
        else:
            number = round(value / self.step) if math.isfinite(value) else value
        low, high = _INTEGER_SPANS.get(self.kind, (-_F32_MAX, _F32_MAX))
        if not low <= number <= high:
            low, high = self.span()
            raise QuantityError(
                f"{format_number(float(value))} is outside what it can hold",
                valid=f"{format_number(low)}..{format_number(high)}",
            )
        code, words = NUMBER_TYPES[self.kind]
        return struct.unpack(f">{words}H", struct.pack(f">{code}", number))

    def decode(self, words: tuple[int, ...]) -> Stored:
        """The value that words stand for; an unknown choice is shown as ``code 17``."""
        packed = struct.pack(f">{len(words)}H", *words)
        if self.is_text:
            text = packed.split(b"\0")[0].decode("latin-1").rstrip()
            # A device may send anything; no control character of it reaches a terminal or a file.
            if text.isprintable():
                return text
            return "".join(c if c.isprintable() else "�" for c in text)
        number: float = struct.unpack(f">{NUMBER_TYPES[self.kind][0]}", packed)[0]
        if self.choices:
            names = {code: name for name, code in self.choices}
            return names.get(int(number), f"code {number}")
        if self.kind == "f32":
            # The shortest decimal that is the same binary32: 22.9, not 22.8999996.
            return float(str(np.float32(number)))
        if self.step == 1.0:
            return float(number)
        # 783 steps of 0.1 are 78.3, not 78.30000000000001.
        return round(number * self.step, max(0, 1 - math.floor(math.log10(self.step))))

    def _code(self, name: str) -> int:
        for known, code in self.choices:
            if known == name:
                return code
        valid = ", ".join(known for known, _ in self.choices)
        raise QuantityError(f"it knows no {name!r} here", valid=valid)

    def _encode_text(self, text: str) -> tuple[int, ...]:
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
        raw = text.encode("latin-1").ljust(self.capacity, b"\0")
        return struct.unpack(f">{self.words}H", raw)

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


@dataclass(frozen=True, slots=True)
class PointFamily:
    """Points that differ by one index: ``channel.{n}.range`` lives at ``start + stride * n``."""

    template: Point
    indices: range
    stride: int = 0

    def point(self, index: int | None = None) -> Point:
        """The point of one index (None: the family is a single point).

        Raises
        ------
        KeyError
            The device has no such index.

        """
        if index is None or not self.indices:
            return self.template
        if index not in self.indices:
            raise KeyError(index)
        return replace(
            self.template,
            name=INDEX.sub(str(index), self.template.name),
            start=self.template.start + self.stride * index,
        )

    def storable(self, value: Stored) -> Stored:
        """As ``Point.storable``; every member of the family stores alike."""
        return self.template.storable(value)

    def points(self) -> list[Point]:
        """All points of the family, in order."""
        return [self.point(index) for index in self.indices] or [self.template]
