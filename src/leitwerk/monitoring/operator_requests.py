"""What people ask of an attended device: a file for each request, taken up by the attendant."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

from pydantic import Field, ValidationError

from leitwerk.alarms.states import OperatorAction
from leitwerk.errors import FileProblem
from leitwerk.parsing.models import Model
from leitwerk.project.files import read_bytes, remove_file, write_atomic
from leitwerk.project.kept import device_folder

_FOLDER = "requests"
LONGEST_NOTE = 300
_MOST = 1000  # requests that are taken up at once
_LONGEST_S = 366 * 86_400.0  # no alarm is shelved for longer


class OperatorRequest(Model):
    """An action on one alarm, ``channel.alarm``; ``lasts_s`` ends a shelving. ``by`` is who asks."""

    alarm: str
    action: OperatorAction = Field(strict=False)  # a file holds its word
    lasts_s: float = Field(0.0, ge=0.0, le=_LONGEST_S)
    by: str = Field("", max_length=100)
    note: str = Field("", max_length=LONGEST_NOTE)

    @property
    def said(self) -> str:
        """Who asked, and what was noted."""
        return "".join((f" by {self.by}" if self.by else "", f": {self.note}" if self.note else ""))


def request_action(folder: Path, serial: str, request: OperatorRequest) -> Path:
    """Ask the attendant of a device to acknowledge, reset or shelve an alarm; returns the file."""
    path = device_folder(folder, serial) / _FOLDER / f"{time.time_ns():020d}.json"
    write_atomic(path, request.model_dump_json())
    return path


def take_requests(folder: Path) -> Iterator[OperatorRequest | FileProblem]:
    """The requests in a device's folder, in their order; each file is removed when it was read.

    A file that is not a request, or that cannot be removed, is given as the problem. What cannot be
    removed would be done again and again: nothing more is read after it.
    """
    requests = folder / _FOLDER
    if not requests.is_dir():
        return
    for path in sorted(requests.glob("*.json"))[:_MOST]:
        try:
            found: OperatorRequest | FileProblem = OperatorRequest.model_validate_json(
                read_bytes(path)
            )
        except FileProblem as error:
            found = error
        except ValidationError:
            found = FileProblem(f"{path.name[:40]} is not a valid operator request; deleted")
        try:
            remove_file(path)
        except FileProblem as error:
            yield error
            return
        yield found
