"""What happens while a device is attended, as values: nothing is read out of their texts again."""

from __future__ import annotations

import enum
import json
import threading
from collections import deque
from collections.abc import Callable, Container
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from pydantic import AwareDatetime, Field, ValidationError

from leitwerk.errors import FileProblem
from leitwerk.project.files import read_bytes
from leitwerk.project.kept_json import KeptFile
from leitwerk.rules.definition import Action

_LOG_BYTES = 5_000_000  # then the log is begun anew, and the old one kept beside it
_KEPT = 10_000  # events in memory


class EventKind(enum.StrEnum):
    """What an event is about."""

    LINK = "link"
    ALARM = "alarm"
    RULE = "rule"
    OUTPUT = "output"
    MESSAGE = "message"
    RECEIVED = "received"
    RUN = "run"
    EXCHANGE = "exchange"
    LOG = "log"
    OPERATOR = "operator"
    TROUBLE = "trouble"


class Done(enum.StrEnum):
    """Whether what an event is about was done."""

    YES = "done"
    FAILED = "failed"
    NOT_ARMED = "not armed"


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened.

    Attributes
    ----------
    at : datetime, in UTC
    kind : EventKind
    subject : str
        What it is about: an alarm, a rule, an output, a contact.
    text : str
        In words, for people.
    done : Done
        Whether it was done.
    action : Action, optional
        The action of a rule that it is about.
    state : str
        What an output was switched to, or the way by which a message was sent.

    """

    at: datetime
    kind: EventKind
    subject: str
    text: str
    done: Done = Done.YES
    action: Action | None = None
    state: str = ""

    def __str__(self) -> str:
        return f"{self.at.astimezone():%H:%M:%S}  {self.kind:8}  {self.subject:24}  {self.text}"

    def to_dict(self) -> dict[str, str]:
        """The event as plain data for JSON."""
        return {
            "at": self.at.isoformat(timespec="milliseconds"),
            "kind": self.kind.value,
            "subject": self.subject,
            "text": self.text,
            "done": self.done.value,
        }


class KeptEvent(KeptFile):
    """An event as the log holds it, a line each."""

    at: AwareDatetime
    kind: EventKind = Field(strict=False)
    subject: str
    text: str
    done: str = Done.YES


def read_events(path: Path, kinds: Container[EventKind]) -> list[KeptEvent]:
    """The events of some kinds in the log of an attended device; lines that are none are passed over.

    Raises
    ------
    FileProblem
        The file cannot be read, or holds no event.

    """
    found, every = [], 0
    for line in read_bytes(path).splitlines():
        try:
            event = KeptEvent.model_validate_json(line)
        except ValidationError:
            continue
        every += 1
        if event.kind in kinds:
            found.append(event)
    if not every:
        raise FileProblem(f"{path} holds no event", remedy="name the attend.jsonl of the device")
    return found


class EventLog:
    """The latest events in memory, and all of them in a file, a line each. Any thread may write."""

    def __init__(self, path: Path, on_event: Callable[[Event], None]) -> None:
        self.path = path
        self.events: deque[Event] = deque(maxlen=_KEPT)
        self._on_event = on_event
        self._lock = threading.Lock()

    def add(self, event: Event) -> None:
        """Keep an event and pass it on."""
        with self._lock:
            self.events.append(event)
            trouble = self._write(event)
        self._on_event(event)
        if trouble is not None:
            # A full disk must not keep an output from being switched.
            self._on_event(Event(event.at, EventKind.TROUBLE, "log", trouble, Done.FAILED))

    def _write(self, event: Event) -> str | None:
        """Why it could not be written, None when it was."""
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            if self.path.exists() and self.path.stat().st_size > _LOG_BYTES:
                self.path.replace(self.path.with_suffix(".1.jsonl"))
            with self.path.open("a", encoding="utf-8") as file:
                file.write(json.dumps(event.to_dict(), ensure_ascii=False) + "\n")
        except OSError as error:
            return f"cannot write {self.path}: {error.strerror or type(error).__name__}"
        return None
