"""Telegrams of wireless transmitters, as a receiver passes them on: bytes in, values out."""

from __future__ import annotations

import binascii
import math
import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property, reduce
from operator import xor
from typing import Any, Literal, NamedTuple

# Of three bytes, struct has no number: they are taken as they are.
TYPES = {
    "u8": "B", "i8": "b", "u16": "H", "i16": "h", "u24": "3s", "i24": "3s", "u32": "I", "i32": "i", "f32": "f"
}  # fmt: skip
LONGEST = 255  # bytes of a telegram
DIRECT, _BY_RELAY = "direct", "relay"
_THREE_BYTES = {"u24", "i24"}
_ONE_BYTE = {"u8": range(256), "i8": range(-128, 128)}
_Meaning = Callable[[Any], Any]
_Unpack = Callable[..., tuple[Any, ...]]
_ByteOrder = Literal["little", "big"]
_Check = tuple[int, int, int, Callable[[bytes], int], _ByteOrder, bytes]


class Telegram(NamedTuple):
    """What a transmitter has sent, and how it came.

    ``value`` is None where there is no value, a text where the value is a choice. ``strength`` is in the unit
    of the datasheet, None if it is not said. ``way`` is empty if it is not said. ``relay`` is the number of
    the relay that it came over, 0 without one. ``operated`` is whether somebody has operated the transmitter,
    None if it does not say that. ``counter`` counts its telegrams.
    """

    number: int
    kind: str
    value: float | str | None
    strength: float | None
    way: str
    relay: int
    battery_low: bool | None
    operated: bool | None
    counter: int | None


@dataclass(frozen=True, slots=True)
class TelegramField:
    """A field of a telegram: its first byte from 0, its type, and what its numbers mean.

    ``bits`` are the lowest and the highest bit of a part of it. ``no_value`` is the number that stands for no
    value.
    """

    at: int
    type: str
    step: float = 1.0
    choices: Mapping[int, str] = field(default_factory=dict)
    bits: tuple[int, int] | None = None
    unit: str = ""
    offset: float = 0.0
    no_value: float | None = None

    @property
    def end(self) -> int:
        """The byte behind it."""
        return self.at + struct.calcsize(f"<{TYPES[self.type]}")

    @property
    def numbers(self) -> int:
        """How many numbers it can hold."""
        if self.bits is None:
            return 1 << 8 * (self.end - self.at)
        return 1 << self.bits[1] - self.bits[0] + 1

    def number(self, raw: float) -> float:
        """The number of a field or of its part."""
        if self.bits is None:
            return raw
        low, high = self.bits
        return int(raw) >> low & (1 << (high - low + 1)) - 1

    def value(self, raw: float) -> float | str | None:
        """What a number means; None where it stands for no value."""
        number = self.number(raw)
        if number == self.no_value or not math.isfinite(number):
            return None
        if self.choices:
            return self.choices.get(int(number), f"code {number:g}")
        return round(number * self.step + self.offset, 9)


_CHECKS: Mapping[str, tuple[int, Callable[[bytes], int]]] = {
    # CRC-16/IBM-3740: polynomial 0x1021, begins with 0xFFFF.
    "crc16-ccitt": (2, lambda data: binascii.crc_hqx(data, 0xFFFF)),
    "crc16-modbus": (2, lambda data: reduce(_modbus_byte, data, 0xFFFF)),
    "sum8": (1, lambda data: sum(data) & 0xFF),
    "xor8": (1, lambda data: reduce(xor, data, 0)),
    "none": (0, lambda data: 0),
}
CHECKS = tuple(_CHECKS)


def _modbus_byte(crc: int, byte: int) -> int:
    """One byte of the CRC of MODBUS over Serial Line V1.02, 6.2.2."""
    crc ^= byte
    for _ in range(8):
        crc = crc >> 1 ^ (0xA001 if crc & 1 else 0)
    return crc


@dataclass(frozen=True)
class TelegramFormat:
    """How telegrams look: what they begin with, their length, their fields, their check.

    ``values`` are the fields of the value by the name of the kind. ``check`` covers all before it, from the
    byte ``check_from`` on; behind it stand only the bytes that a telegram ``ends`` with.
    """

    begins: bytes
    length: int
    number: TelegramField
    kind: TelegramField
    values: Mapping[str, TelegramField]
    further: Mapping[str, TelegramField]
    check: str = "none"
    little: bool = False
    check_from: int = 0
    ends: bytes = b""

    @property
    def counts(self) -> int:
        """How many telegrams a transmitter counts until it begins anew."""
        count = self.further.get("count")
        return 1 << 8 if count is None else count.numbers

    @property
    def check_at(self) -> int:
        """The first byte of the check, or what stands in its place."""
        return self.length - len(self.ends) - _CHECKS[self.check][0]

    def is_right(self, frame: bytes) -> bool:
        """Whether the check of a whole telegram is right, and its end."""
        begin, at, behind, work, order, ends = self._check
        if ends and not frame.endswith(ends):
            return False
        return at == behind or work(frame[begin:at]) == int.from_bytes(frame[at:behind], order)

    def decode(self, frame: bytes) -> Telegram:
        """What a whole telegram says; its check is not looked at."""
        parts = self._common.unpack_from(frame)
        meanings, own_values = self._meanings
        number, kind, strength, way, relay, low, operated, count = [
            meaning(parts[place]) for meaning, place in meanings
        ]
        own = own_values.get(kind)
        value = None if own is None else own[0](own[1](frame)[0])
        return Telegram(number, kind, value, strength, way, relay, low, operated, count)

    def shown(self, telegram: Telegram) -> str:
        """The value of a telegram in words, with its unit."""
        if telegram.value is None:
            return "no value"
        field = self.values.get(telegram.kind)
        unit = "" if field is None or isinstance(telegram.value, str) else field.unit
        return f"{telegram.value} {unit}".rstrip()

    def encode(self, values: Mapping[str, float], kind: str, value: float) -> bytes:
        """A telegram from raw numbers, by the names of its fields: what a simulated transmitter sends."""
        frame = bytearray(self.length)
        frame[: len(self.begins)] = self.begins
        fields = {"number": self.number, "kind": self.kind, **self.further}
        parts = [(fields[name], number) for name, number in values.items() if name in fields]
        code = next(code for code, name in self.kind.choices.items() if name == kind)
        parts.append((self.kind, code))
        if kind in self.values:
            parts.append((self.values[kind], value))
        for one, number in parts:
            if one.type == "f32":
                struct.pack_into(f"{self._order}f", frame, one.at, number)
                continue
            held = int.from_bytes(frame[one.at : one.end], self._bytes)
            whole = int(number) if one.bits is None else held | int(number) << one.bits[0]
            size = one.end - one.at
            frame[one.at : one.end] = whole.to_bytes(size, self._bytes, signed=whole < 0)
        begin, at, behind, work, order, ends = self._check
        frame[behind:] = ends
        frame[at:behind] = work(bytes(frame[begin:at])).to_bytes(behind - at, order)
        return bytes(frame)

    @cached_property
    def _check(self) -> _Check:
        behind = self.length - len(self.ends)
        work = _CHECKS[self.check][1]
        return self.check_from, self.check_at, behind, work, self._bytes, self.ends

    @cached_property
    def _bytes(self) -> _ByteOrder:
        return "little" if self.little else "big"

    @cached_property
    def _order(self) -> str:
        return "<" if self.little else ">"

    @cached_property
    def _parts(self) -> list[tuple[int, str]]:
        """Each place of a common field once, in order."""
        every = [self.number, self.kind, *self.further.values()]
        return sorted({(one.at, one.type) for one in every})

    @cached_property
    def _common(self) -> struct.Struct:
        text, at = self._order, 0
        for start, kind in self._parts:
            text += f"{start - at}x{TYPES[kind]}"
            at = start + struct.calcsize(TYPES[kind])
        return struct.Struct(text)

    @cached_property
    def _meanings(self) -> tuple[list[tuple[_Meaning, int]], dict[str, tuple[_Meaning, _Unpack]]]:
        """What the common fields mean, each with its place among the parts; and the value of each kind."""
        more, place = self.further, {part: k for k, part in enumerate(self._parts)}

        def one(own: TelegramField | None, work: _Meaning, absent: object) -> tuple[_Meaning, int]:
            if own is None:
                return lambda raw: absent, 0
            return self._meaning(own, work), place[own.at, own.type]

        def whole(own: TelegramField | None) -> _Meaning:
            return lambda raw: int(own.number(raw)) if own else None

        def yes(own: TelegramField | None) -> _Meaning:
            return lambda raw: bool(own.number(raw)) if own else None

        strength, way, relay = more.get("strength"), more.get("way"), more.get("relay")
        low, operated, count = more.get("battery_low"), more.get("operated"), more.get("count")
        common = [
            one(self.number, whole(self.number), 0),
            one(self.kind, lambda raw: _text(self.kind.value(raw)), ""),
            one(strength, strength.value if strength else bool, None),
            one(way or relay, lambda raw: _way(way, relay, raw), ""),
            one(relay, whole(relay), 0),
            one(low, yes(low), None),
            one(operated, yes(operated), None),
            one(count, whole(count), None),
        ]
        values = {
            name: (
                self._meaning(own, own.value),
                struct.Struct(f"{self._order}{own.at}x{TYPES[own.type]}").unpack_from,
            )
            for name, own in self.values.items()
        }
        return common, values

    def _meaning(self, own: TelegramField, work: _Meaning) -> _Meaning:
        """``work`` for each number of a field: looked up where there are few."""
        if own.type in _THREE_BYTES:
            order, signed = self._bytes, own.type == "i24"
            return lambda raw: work(int.from_bytes(raw, order, signed=signed))
        few = _ONE_BYTE.get(own.type)
        return work if few is None else {raw: work(raw) for raw in few}.__getitem__


def _text(value: float | str | None) -> str:
    return value if isinstance(value, str) else "" if value is None else f"{value:g}"


def _way(way: TelegramField | None, relay: TelegramField | None, raw: float) -> str:
    """The way in words; where a telegram only says the relay, that says it."""
    if way is not None:
        return _text(way.value(raw))
    return _BY_RELAY if relay is not None and relay.number(raw) else DIRECT


class TelegramReader:
    """Telegrams from bytes as they arrive, in pieces of any size; bytes of no telegram are counted.

    It holds at most one telegram that is not complete.
    """

    def __init__(self, form: TelegramFormat) -> None:
        self._form = form
        self._rest = b""
        self.good = self.wrong = self.skipped = 0

    def feed(self, data: bytes) -> list[Telegram]:
        """The telegrams that are complete now."""
        form, found = self._form, list[Telegram]()
        begins, length = form.begins, form.length
        buffer, at = self._rest + data, 0
        while True:
            start = buffer.find(begins, at)
            if start < 0:
                # The last bytes may be the first ones of what a telegram begins with.
                keep = _overlap(buffer[at:], begins)
                self.skipped += len(buffer) - at - keep
                self._rest = buffer[len(buffer) - keep :]
                return found
            self.skipped += start - at
            if len(buffer) - start < length:
                self._rest = buffer[start:]
                return found
            frame = buffer[start : start + length]
            if form.is_right(frame):
                self.good += 1
                at = start + length
                found.append(form.decode(frame))
            else:
                # Another one may begin inside of what was disturbed.
                self.wrong += 1
                self.skipped += 1
                at = start + 1


def _overlap(tail: bytes, begins: bytes) -> int:
    """How many of the last bytes are the first of ``begins``."""
    for size in range(min(len(begins) - 1, len(tail)), 0, -1):
        if begins.startswith(tail[-size:]):
            return size
    return 0
