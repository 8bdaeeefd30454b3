"""Where the kept files of a device lie."""

from __future__ import annotations

import re
from pathlib import Path

from leitwerk.identity import same_number


def device_folder(keep: Path, serial: str) -> Path:
    """The folder of a device among those of all devices, however its serial number is written."""
    if keep.is_dir():
        for folder in sorted(keep.iterdir()):
            if folder.is_dir() and same_number(folder.name.replace("_", "-"), serial):
                return folder
    return keep / (re.sub(r"[^A-Za-z0-9_-]", "_", serial) or "_")
