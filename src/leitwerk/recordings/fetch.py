"""Recordings fetched from a device into files, before anything may erase them."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from functools import partial
from pathlib import Path

from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.devices.device import Device
from leitwerk.devices.recordings import Recording, fetch_recording, list_recordings
from leitwerk.project.files import write_atomic


def fetch_recordings(
    device: Device,
    settings: DeviceSettings,
    stem: Path,
    progress: Callable[[str, int, int], None] = lambda step, done, total: None,
) -> list[Path]:
    """Fetch every recording of a device into a CSV file of its own; nothing is erased.

    Parameters
    ----------
    device : Device
    settings : DeviceSettings
        What the device is set to: labels and units of the columns.
    stem : Path
        The beginning of the files' names.
    progress : callable
        Called with the step, how many rows are done, and how many there are.

    Raises
    ------
    LinkError
        The device was not reached, or showed something else.
    FileProblem
        A file cannot be written.

    """
    files = []
    for info in list_recordings(device):
        step = f"fetch recording {info.number}"
        progress(step, 0, 1)
        recording = fetch_recording(device, info.number, partial(progress, step))
        path = stem.with_name(f"{stem.name}-recording-{info.number}.csv")
        write_atomic(path, recording_csv(recording, settings))
        progress(step, 1, 1)
        files.append(path)
    return files


def recording_csv(recording: Recording, settings: DeviceSettings) -> str:
    """A recording as CSV: the time of the device's clock, and a column for each slot in use."""
    columns = recording.columns(settings)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    headings = (f"{name} [{unit}]" if unit else name for _, name, unit in columns)
    writer.writerow(["time", *headings])
    for time, row in zip(recording.times(), recording.values, strict=True):
        # A clock that was never set gives no time; then the seconds from the start count.
        stamp = f"{time:g}" if isinstance(time, float) else str(time)
        writer.writerow([stamp, *(repr(float(row[slot - 1])) for slot, _, _ in columns)])
    return out.getvalue()
