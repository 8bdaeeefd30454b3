"""What people ask of an attended device."""

from __future__ import annotations

import json
import time
from pathlib import Path

from leitwerk.alarms.states import OperatorAction
from leitwerk.project.files import write_atomic
from leitwerk.project.kept import device_folder


def request_act(
    keep: Path, serial: str, alarm: str, act: OperatorAction, lasts_s: float = 0.0
) -> Path:
    """Ask whoever attends a device to acknowledge, reset or shelve an alarm; returns the file."""
    folder = device_folder(keep, serial) / "acts"
    path = folder / f"{time.time_ns():020d}.json"
    write_atomic(path, json.dumps({"alarm": alarm, "act": act.value, "lasts_s": lasts_s}))
    return path
