"""Texts with names in braces: ``{title}: {air_top} in the kiln``."""

from __future__ import annotations

import math
import re
from collections.abc import Callable

from leitwerk.errors import QuantityError

_NAME = re.compile(r"\{\{|\}\}|\{([^{}]*)\}|[{}]")
_PLAIN = re.compile(r"[A-Za-z]\w*(?:\.\w+)*")
SECRETS = re.compile(r"passw|secret|token|\bkey\b|api.?key|credential|env", re.IGNORECASE)
# The default alphabet of text messages (3GPP TS 23.038, 6.2.1); the second row counts double.
_GSM = (
    "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?¡"
    "ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà"
)
_GSM_DOUBLE = "^{}\\[~]|€"


def names_in(template: str) -> list[str]:
    """The names that a template holds, in their order.

    Raises
    ------
    QuantityError
        A brace is open or holds no name.

    """
    names = []
    for match in _NAME.finditer(template):
        if match[0] in {"{{", "}}"}:
            continue
        if match[1] is None or not _PLAIN.fullmatch(match[1]):
            raise QuantityError(
                f"{match[0][:40]!r} in the text is not a name in braces",
                valid="{air_top}; a brace itself is written twice",
            )
        names.append(match[1])
    return names


def fill(template: str, value: Callable[[str], str]) -> str:
    """A template with its names replaced by what ``value`` gives; nothing else is looked at."""

    def put(match: re.Match[str]) -> str:
        if match[0] in {"{{", "}}"}:
            return match[0][0]
        return value(match[1]) if match[1] is not None else match[0]

    return _NAME.sub(put, template)


def message_parts(text: str) -> int:
    """How many text messages a text takes (3GPP TS 23.038 and 23.040, 9.2.3.24).

    160 characters of the default alphabet fit into one, 153 into each of several; with any other
    character, 70 and 67.
    """
    if all(c in _GSM or c in _GSM_DOUBLE for c in text):
        length, single, joined = len(text) + sum(c in _GSM_DOUBLE for c in text), 160, 153
    else:
        length, single, joined = len(text.encode("utf-16-be")) // 2, 70, 67
    return 1 if length <= single else math.ceil(length / joined)
