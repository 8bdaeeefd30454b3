"""Where alarms and rules of an attended device stand, kept in a file, so that the next attendant goes on."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

from pydantic import Field, ValidationError

from leitwerk.errors import FileProblem
from leitwerk.parsing.models import Model
from leitwerk.project.files import read_bytes, write_atomic

_NAME = "attend-state.json"


class AttendState(Model):
    """The state of alarms and rules at a moment; ``setup`` is the hash of the setup that they follow."""

    attend: Literal[1] = 1
    setup: str
    alarms: dict[str, Any]
    rules: dict[str, Any]
    derived: dict[str, Any] = Field(default_factory=dict)
    at_s: float


def keep_state(folder: Path, state: AttendState) -> None:
    """Keep the state in a device's folder.

    Raises
    ------
    FileProblem
        It cannot be written.

    """
    write_atomic(folder / _NAME, state.model_dump_json())


def read_state(folder: Path, setup: str) -> AttendState | None:
    """The state that was kept by the same setup, None without one."""
    try:
        state = AttendState.model_validate_json(read_bytes(folder / _NAME))
    except (FileProblem, ValidationError):
        return None  # there was none, or it is of another format
    return state if state.setup == setup else None
