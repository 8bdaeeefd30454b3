"""Where the kept files of a device lie."""

from __future__ import annotations

import re
from pathlib import Path

from leitwerk.identity import same_number


def device_folder(folder: Path, serial: str) -> Path:
    """The folder of a device among those of all devices, however its serial number is written."""
    if folder.is_dir():
        for own in sorted(folder.iterdir()):
            if own.is_dir() and same_number(own.name.replace("_", "-"), serial):
                return own
    return folder / (re.sub(r"[^A-Za-z0-9_-]", "_", serial) or "_")
