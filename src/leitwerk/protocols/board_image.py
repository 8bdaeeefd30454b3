"""Programs: settings as an image that is burnt into a board, and back.

The bytes of an image, for a datasheet with a section ``program``:

=======  ==========================================================
0..3     ``LWP1``
4..19    model, ASCII, filled up with zeros
20..21   version of the layout, unsigned, high byte first
22..23   number of registers that follow, high byte first
24..     the registers from holding 0 on, high byte first
last 4   CRC-32 (ISO 3309, as in zlib) of all before it, high byte first
=======  ==========================================================
"""

from __future__ import annotations

import io
import re
import struct
import zlib

from intelhex import HexReaderError, IntelHex, IntelHexError

from leitwerk.datasheet.model import Datasheet, ProgramLayout
from leitwerk.datasheet.register_points import RegisterPoint, registers
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.errors import QuantityError

_MARK = b"LWP1"
_HEAD = struct.Struct(">4s16sHH")
_CRC = struct.Struct(">I")
_MOST_BYTES = 65_536  # more has no board of this kind
_BYTE = re.compile(r"0x([0-9A-Fa-f]{2})")
_ARRAY = re.compile(r"\[\s*(\d{1,6})\s*\]\s*=\s*\{([^{}]*)\}")
_PER_LINE = 12
_END = ":00000001FF"  # the record that ends an Intel HEX file
_SHOWN = 8  # missing settings that are named


def build_program(image: DeviceSettings, datasheet: Datasheet) -> bytes:
    """The bytes of a program with these settings. A setting that may be 0 is 0 where no value is given.

    Raises
    ------
    QuantityError
        The model is not programmed by a file, or a setting that may not be 0 is missing.

    """
    layout = _layout(datasheet)
    missing = [
        name
        for name, point in _points(datasheet).items()
        if name not in image.values and not _may_be_zero(point)
    ]
    if missing:
        raise QuantityError(
            f"no value is given for {', '.join(missing[:_SHOWN])}{', …' if missing[_SHOWN:] else ''}",
            valid="a value for each, in the section 'settings'",
        )
    words_of_image = [0] * layout.registers
    for name, value in image.values.items():
        point = _points(datasheet)[name]
        words = point.encode(value)
        if point.bits is not None:
            words = ((words_of_image[point.start] & ~point.mask) | words[0],)
        words_of_image[point.start : point.end] = words
    body = struct.pack(f">{len(words_of_image)}H", *words_of_image)
    model = datasheet.model.encode("ascii")
    head = _HEAD.pack(_MARK, model, layout.version, len(words_of_image))
    return head + body + _CRC.pack(zlib.crc32(head + body))


def _points(datasheet: Datasheet) -> dict[str, RegisterPoint]:
    return {point.name: point for point in registers(datasheet.settings.values())}


def read_model(program: bytes) -> str:
    """The model that a program is for.

    Raises
    ------
    QuantityError
        The bytes are not a program, or damaged.

    """
    return _take_apart(program)[0]


def parse_program(program: bytes, datasheet: Datasheet) -> DeviceSettings:
    """The settings in a program.

    Raises
    ------
    QuantityError
        The bytes are not a program, damaged, for another model, or of another version.

    """
    layout = _layout(datasheet)
    model, version, content = _take_apart(program)
    if model != datasheet.model:
        raise QuantityError(
            f"the program is for {model!r}, not for {datasheet.model!r}",
            valid=f"a program for {datasheet.model}",
            remedy="is it the right file? Nothing was taken from it",
        )
    if (version, len(content)) != (layout.version, layout.registers):
        raise QuantityError(
            f"the program has version {version} and {len(content)} registers",
            valid=f"version {layout.version} and {layout.registers} registers",
            remedy="was it written for another firmware?",
        )
    settings = {
        point.name: point.decode(content[point.start : point.end])
        for point in _points(datasheet).values()
    }
    return DeviceSettings(datasheet.model, settings)


def to_hex(program: bytes, datasheet: Datasheet) -> str:
    """A program as Intel HEX, at the address of its model's memory."""
    file = IntelHex()
    file.puts(_layout(datasheet).address, program)
    out = io.StringIO()
    file.write_hex_file(out)
    return out.getvalue()


def from_hex(text: str) -> bytes:
    """The one block of bytes in an Intel HEX file, wherever it lies.

    Raises
    ------
    QuantityError
        The text is no Intel HEX, a checksum is wrong, or it holds gaps or overlaps.

    """
    # The package is content with a file that was cut off, and reads nothing after the first end.
    records = [line.strip().upper() for line in text.splitlines() if line.strip()]
    if records.count(_END) != 1 or records[-1] != _END:
        raise QuantityError(
            "this is not a complete Intel HEX file", valid=f"records ':…', the last of them {_END}"
        )
    try:
        file = IntelHex(io.StringIO(text))
    except (HexReaderError, IntelHexError, ValueError) as error:
        raise QuantityError(
            f"this is not a complete Intel HEX file: {error}", valid="records ':…'"
        ) from None
    segments = file.segments()
    if len(segments) != 1 or not 0 < segments[0][1] - segments[0][0] <= _MOST_BYTES:
        raise QuantityError(
            f"the file holds {len(segments)} blocks of bytes",
            valid=f"one, of at most {_MOST_BYTES} bytes",
            remedy="is it a program for another kind of board?",
        )
    low, high = segments[0]
    return bytes(file.tobinarray(start=low, end=high - 1))


def to_c(program: bytes, datasheet: Datasheet, title: str) -> str:
    """A program as a C header, to be compiled into a firmware."""
    layout = _layout(datasheet)
    name = re.sub(r"\W", "_", datasheet.model)
    rows = [
        "    " + " ".join(f"0x{byte:02X}," for byte in program[k : k + _PER_LINE])
        for k in range(0, len(program), _PER_LINE)
    ]
    # The title is a stranger's text inside a comment: nothing in it may end the comment.
    safe = re.sub(r"[^\w ,.:()-]", " ", title)
    return "\n".join(
        [
            f"/* {safe} */",
            f"#ifndef SETUP_{name.upper()}_H",
            f"#define SETUP_{name.upper()}_H",
            "#include <stdint.h>",
            "",
            f"#define SETUP_VERSION {layout.version}u",
            f"#define SETUP_ADDRESS 0x{layout.address:X}u",
            f"#define SETUP_CRC32 0x{zlib.crc32(program[: -_CRC.size]):08X}u",
            "",
            f"static const uint8_t setup_{name}[{len(program)}] = {{",
            *rows,
            "};",
            "",
            "#endif",
            "",
        ]
    )


def from_c(text: str) -> bytes:
    """The bytes of the one array in a C header.

    Raises
    ------
    QuantityError
        There is not exactly one array of bytes, or it has not the length that it says.

    """
    arrays = _ARRAY.findall(text[: 16 * _MOST_BYTES])
    if len(arrays) != 1:
        raise QuantityError(f"the file has {len(arrays)} arrays", valid="one array of bytes")
    length, body = int(arrays[0][0]), arrays[0][1]
    found = _BYTE.findall(body)
    if len(found) != length or _BYTE.sub("", body).strip(", \t\r\n"):
        raise QuantityError(
            f"the array is said to have {length} bytes and has {len(found)}",
            valid="bytes such as 0x1F, as many as it says",
        )
    return bytes(int(byte, 16) for byte in found)


def _layout(datasheet: Datasheet) -> ProgramLayout:
    if datasheet.program is None:
        raise QuantityError(
            f"{datasheet.model} is not programmed by a file",
            valid="a model whose datasheet has a section 'program'",
        )
    return datasheet.program


def _may_be_zero(point: RegisterPoint) -> bool:
    value = point.decode((0,) * point.words)
    try:
        return point.storable(value) == value
    except QuantityError:
        return False


def _take_apart(program: bytes) -> tuple[str, int, tuple[int, ...]]:
    if len(program) < _HEAD.size + _CRC.size or not program.startswith(_MARK):
        raise QuantityError(
            "this is not a program of Leitwerk", valid=f"bytes that begin with {_MARK!r}"
        )
    _, raw, version, count = _HEAD.unpack_from(program)
    whole = _HEAD.size + 2 * count + _CRC.size
    if len(program) != whole:
        message = f"the program has {len(program)} bytes, its head says {whole}"
        raise QuantityError(message, valid="a whole program", remedy="was it cut off?")
    (crc,) = _CRC.unpack_from(program, whole - _CRC.size)
    if zlib.crc32(program[: -_CRC.size]) != crc:
        raise QuantityError("the CRC of the program is wrong", valid="an undamaged program")
    registers = struct.unpack_from(f">{count}H", program, _HEAD.size)
    return raw.rstrip(b"\0").decode("latin-1"), version, registers
