"""How a datasheet describes the telegrams that a receiver passes on."""

from __future__ import annotations

import re
from itertools import pairwise
from typing import Annotated, Literal

from pydantic import Field, WithJsonSchema

from leitwerk.datasheet.entries import (
    Amount,
    BitsField,
    CodeField,
    Count,
    NumberField,
    Text,
)
from leitwerk.datasheet.model import ReceivedTelegrams
from leitwerk.errors import QuantityError
from leitwerk.parsing.models import Model, reader, text_of
from leitwerk.wireless.ids import IdForm
from leitwerk.wireless.telegrams import LONGEST, TelegramField, TelegramFormat

_HEX = re.compile(r"(?:[0-9A-Fa-f]{2} ?){1,8}")


def _bytes(value: object) -> bytes:
    text = text_of(value, "bytes in hexadecimal, such as 02 A5").strip()
    if not _HEX.fullmatch(text):
        raise QuantityError(f"{text[:40]!r} are no bytes", valid="bytes in hexadecimal: 02 A5")
    return bytes.fromhex(text)


BytesField = Annotated[
    bytes,
    reader(bytes, _bytes),
    WithJsonSchema(
        {
            "type": ["string", "number"],
            "description": "Bytes in hexadecimal",
            "examples": ["02 A5"],
        }
    ),
]
TypeName = Literal["u8", "i8", "u16", "i16", "u24", "i24", "u32", "i32", "f32"]


class FieldEntry(Model):
    """A field of a telegram: its first byte, counted from 0, and what its numbers mean."""

    at: Count
    type: TypeName
    step: Amount | None = None
    offset: NumberField = Field(0.0, description="It is added to the number times its step")
    no_value: CodeField | None = Field(None, description="The number that stands for no value")
    unit: str = ""
    bits: BitsField | None = None
    choices: dict[Text, CodeField] = Field(default_factory=dict)

    def field(self) -> TelegramField:
        """The field as it is decoded."""
        unit = self.step.unit.symbol if self.step and self.step.unit else self.unit
        return TelegramField(
            self.at,
            self.type,
            self.step.value if self.step else 1.0,
            {code: name for name, code in self.choices.items()},
            self.bits,
            unit,
            self.offset,
            self.no_value,
        )


class ListenEntry(Model):
    """The lines that turn the passing on of telegrams on and off."""

    on: Text
    off: Text


class IdEntry(FieldEntry):
    """The field with the number, and how numbers are written on labels."""

    base: Literal["decimal", "hexadecimal"] = "decimal"
    check_digit: Literal["none", "luhn"] = "none"


class TelegramsEntry(Model):
    """The telegrams of the transmitters, as the receiver passes them on."""

    listen: ListenEntry
    begins: BytesField
    length: Count
    bytes: Literal["high first", "low first"] = "high first"
    id: IdEntry
    kind: FieldEntry
    values: dict[Text, FieldEntry] = Field(
        default_factory=dict, description="The field of the value, for each kind"
    )
    strength: FieldEntry | None = None
    way: FieldEntry | None = None
    relay: FieldEntry | None = None
    battery_low: FieldEntry | None = None
    operated: FieldEntry | None = Field(
        None, description="Whether somebody has operated the transmitter, or it sends by itself"
    )
    count: FieldEntry | None = None
    check: Literal["none", "sum8", "xor8", "crc16-ccitt", "crc16-modbus"] = "none"
    check_from: Count = Field(0, description="The first byte that the check covers")
    ends: BytesField = Field(b"", description="The bytes behind the check")
    weak: NumberField | None = Field(
        None, description="A strength below this is weak, in the unit of the strength"
    )


_FURTHER = ("strength", "way", "relay", "battery_low", "operated", "count")


def telegram_format(entry: TelegramsEntry) -> TelegramFormat:
    """The format of telegrams, as an entry describes it.

    Raises
    ------
    QuantityError
        The fields do not fit into the telegram, or lie on each other.

    """
    further = {name: one.field() for name in _FURTHER if (one := getattr(entry, name)) is not None}
    found = TelegramFormat(
        entry.begins,
        entry.length,
        entry.id.field(),
        entry.kind.field(),
        {name: one.field() for name, one in entry.values.items()},
        further,
        entry.check,
        entry.bytes == "low first",
        entry.check_from,
        entry.ends,
    )
    _require_fitting(found)
    return found


def received_telegrams(entry: TelegramsEntry) -> ReceivedTelegrams:
    """What an entry says of telegrams.

    Raises
    ------
    QuantityError
        The fields do not fit into the telegram, or lie on each other.

    """
    strength = entry.strength.field() if entry.strength else None
    return ReceivedTelegrams(
        telegram_format(entry),
        id_form(entry),
        entry.listen.on,
        entry.listen.off,
        entry.weak,
        strength.unit if strength else "",
    )


def id_form(entry: TelegramsEntry) -> IdForm:
    """How the numbers of transmitters stand on labels."""
    bits = 8 * (entry.id.field().end - entry.id.at)
    base = 10 if entry.id.base == "decimal" else 16
    check = "" if entry.id.check_digit == "none" else entry.id.check_digit
    return IdForm(base, check, 2**bits - 1)


def _require_fitting(form: TelegramFormat) -> None:
    last = form.check_at
    if not len(form.begins) < last < form.length + 1 <= LONGEST + 1:
        raise QuantityError(
            f"a telegram of {form.length} bytes cannot be", valid=f"at most {LONGEST} bytes"
        )
    common: dict[str, TelegramField] = {"id": form.number, "kind": form.kind, **form.further}
    for name, one in {**common, **{f"value of {k}": f for k, f in form.values.items()}}.items():
        if one.at < len(form.begins) or one.end > last:
            raise QuantityError(
                f"{name} lies outside of the telegram",
                valid=f"bytes {len(form.begins)}..{last - 1}",
            )
        if one.bits is not None and (one.type[0] != "u" or one.bits[1] >= 8 * (one.end - one.at)):
            raise QuantityError(f"{name}: there are no such bits in a {one.type}", valid="type: u8")
    if form.check_from >= last:
        raise QuantityError("the check covers no byte", valid=f"check_from: 0..{last - 1}")
    places = sorted({(one.at, one.end, one.type) for one in common.values()})
    for (_, end, _), (start, _, _) in pairwise(places):
        if start < end:
            raise QuantityError(
                f"two fields lie on byte {start}",
                valid="fields behind each other, or bits of the same one",
            )
