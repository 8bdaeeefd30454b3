"""Characters that cannot be seen: by their names in a setup, and made visible for people."""

from __future__ import annotations

import re

from leitwerk.errors import QuantityError

# ISO/IEC 6429 (ECMA-48), and ASCII for the space.
_C0 = [
    "NUL", "SOH", "STX", "ETX", "EOT", "ENQ", "ACK", "BEL", "BS", "TAB", "LF", "VT", "FF", "CR", "SO", "SI",
    "DLE", "DC1", "DC2", "DC3", "DC4", "NAK", "SYN", "ETB", "CAN", "EM", "SUB", "ESC", "FS", "GS", "RS", "US",
]  # fmt: skip
CONTROL = {**{name: chr(code) for code, name in enumerate(_C0)}, "DEL": "\x7f"}
_NAMED = {**CONTROL, "SPACE": " "}
_NAMES = {character: name for name, character in CONTROL.items()}
_TYPED = re.compile(rf"[<⟨](?:({'|'.join(CONTROL)})|0x([0-9A-Fa-f]{{2}}))[>⟩]")
_MOST = 8  # characters of a separator or an end
_VISIBLE = re.compile(
    r"[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202f\u2060-\u206f\ufeff\ud800-\udfff]"
)


def parse_characters(text: str) -> str:
    r"""One or several characters: control characters by name (``CR LF``, ``TAB``, ``SPACE``), or as they are.

    Raises
    ------
    QuantityError
        None, or too many.

    Examples
    --------
    >>> parse_characters("CR LF"), parse_characters("; "), parse_characters("ETX")
    ('\r\n', '; ', '\x03')

    """
    words = text.split()
    found = "".join(_NAMED[w] for w in words) if words and set(words) <= _NAMED.keys() else text
    if not 1 <= len(found) <= _MOST:
        raise QuantityError(
            f"{text[:40]!r} are {len(found)} characters",
            valid=f"1 to {_MOST} characters, or names such as CR LF, STX, TAB, SPACE",
        )
    return found


def name_characters(text: str) -> str:
    """The same as a setup writes it: the other way round of ``parse_characters``."""
    if all(c in _NAMES or c == " " for c in text):
        return " ".join(_NAMES.get(c, "SPACE") for c in text)
    return text


def visible(text: str | bytes) -> str:
    r"""A text with its control characters as names: ``T;21.5⟨CR⟩⟨LF⟩``; bytes above 7F in hexadecimal.

    Examples
    --------
    >>> visible(b"T;21.5\r\n\xb0"), visible("21 °C\t")
    ('T;21.5⟨CR⟩⟨LF⟩⟨B0⟩', '21 °C⟨TAB⟩')

    """
    if isinstance(text, bytes):
        return "".join(_shown_byte(byte) for byte in text)
    return _VISIBLE.sub(lambda m: f"⟨{_NAMES.get(m[0]) or f'{ord(m[0]):02X}'}⟩", text)


def _shown_byte(byte: int) -> str:
    character = chr(byte)
    if 0x20 <= byte < 0x7F:
        return character
    return f"⟨{_NAMES.get(character) or f'{byte:02X}'}⟩"


def typed(text: str) -> str:
    r"""What a person typed, with control characters in brackets: ``<STX>``, ``⟨ETX⟩``, ``<0x1F>``.

    Examples
    --------
    >>> typed("<STX>T?<0x03>"), typed("a < b")
    ('\x02T?\x03', 'a < b')

    """
    return _TYPED.sub(lambda m: CONTROL[m[1]] if m[1] else chr(int(m[2], 16)), text)


def hexadecimal(data: bytes) -> str:
    """Bytes as hexadecimal pairs: ``54 3B 0D``."""
    return data.hex(" ").upper()
