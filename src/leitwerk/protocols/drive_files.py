"""The files of a device that appears as a drive: lines ``KEY=VALUE`` in UTF-8, ended by CR LF.

``STATUS.TXT`` is what the device says of itself, ``SETTINGS.TXT`` what it holds; it writes both. ``NEW.TXT``
is what is wanted of it: it takes that, and removes it. ``RUN-1.CSV`` and so on are recordings: a line with
``STARTED=`` and ``INTERVAL=``, a line of headings, and the rows.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from leitwerk.errors import LinkError

STATUS, SETTINGS, WISHES = "STATUS.TXT", "SETTINGS.TXT", "NEW.TXT"
MOST_BYTES = 256_000
_KEY = re.compile(r"[A-Z][A-Z0-9_.]{0,63}")
RUN = re.compile(r"RUN-(\d{1,4})\.CSV")


def parse_values(content: bytes, where: str) -> dict[str, str]:
    """The values of a file.

    Raises
    ------
    LinkError
        It is no such file; the line is named.

    """
    if len(content) > MOST_BYTES:
        raise LinkError(
            f"{where} has more than {MOST_BYTES:,} bytes", remedy="is it of this device?"
        )
    try:
        lines = content.decode("utf-8").splitlines()
    except UnicodeDecodeError:
        raise LinkError(f"{where} is no text in UTF-8", remedy="is the drive damaged?") from None
    found: dict[str, str] = {}
    for number, line in enumerate(lines, start=1):
        if not line.strip():
            continue
        key, equals, value = line.partition("=")
        if not equals or not _KEY.fullmatch(key):
            raise LinkError(f"{where}, line {number}: {line[:40]!r} is not KEY=VALUE")
        if key in found:
            raise LinkError(f"{where}, line {number}: {key} stands there twice")
        found[key] = value
    return found


def format_values(values: Mapping[str, str]) -> bytes:
    """The content of a file."""
    return "".join(f"{key}={value}\r\n" for key, value in values.items()).encode()
