"""Messages on their way: each in a file of its own until a service has taken it.

A message that could not be sent is tried again, after longer and longer pauses, also by the next
process: nothing is lost while a service is down, or when this process dies.
"""

from __future__ import annotations

import json
import secrets
import threading
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Literal

from pydantic import Field

from leitwerk.errors import FileProblem, LeitwerkError
from leitwerk.project.files import remove_file, write_atomic
from leitwerk.project.kept_json import KeptFile, read_kept

_FIRST_PAUSE_S = 2.0
_LONGEST_PAUSE_S = 600.0
_MOST = 10_000  # messages that wait: more is a rule that has gone wild
_FORMAT = 1


class SendFailed(LeitwerkError):
    """A service did not take a message; it is tried again."""


@dataclass(frozen=True, slots=True)
class Message:
    """A text to one contact by one way, and how often it was tried.

    ``id`` stays the same however often it is sent, so that a service can recognise a repetition. Times are
    in s since 1970-01-01 UTC.
    """

    id: str
    way: str
    to: str
    contact: str
    subject: str
    text: str
    created_s: float
    tries: int = 0
    next_s: float = 0.0
    trouble: str = ""


class _MessageFile(KeptFile):
    outbox: Literal[1]
    id: str = Field(pattern=r"^[\w.-]{1,80}$")  # it names a file
    way: str
    to: str
    contact: str
    subject: str
    text: str
    created_s: float = Field(allow_inf_nan=False)
    tries: int = 0
    next_s: float = Field(0.0, allow_inf_nan=False)
    trouble: str = ""


class Outbox:
    """The messages of one device that wait, in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._waiting = {message.id: message for message in self._read()}
        # Messages are put by one thread and sent by another; none waits while one is sent.
        self._lock = threading.Lock()
        self._count = 0

    def __len__(self) -> int:
        return len(self._waiting)

    def put(
        self, *, way: str, to: str, contact: str, subject: str, text: str, now_s: float
    ) -> Message:
        """Keep a message until it is sent; it is on disk when this returns.

        Raises
        ------
        FileProblem
            It cannot be kept, or too many wait already.

        """
        if len(self._waiting) >= _MOST:
            raise FileProblem(
                f"{_MOST:,} messages wait in {self.folder}", remedy="is the service down for good?"
            )
        # Sorted by name they are in the order in which they were put.
        self._count += 1
        name = f"{round(now_s * 1000):014d}-{self._count:05d}-{secrets.token_hex(4)}"
        message = Message(name, way, to, contact, subject, text, now_s)
        self._keep(message)
        return message

    def due(self, now_s: float) -> list[Message]:
        """The messages to try now, the oldest first."""
        with self._lock:
            return [m for _, m in sorted(self._waiting.items()) if m.next_s <= now_s]

    def deliver(
        self,
        send: Callable[[Message], None],
        now_s: float,
        on_result: Callable[[Message, str], None] = lambda message, trouble: None,
    ) -> int:
        """Send all messages that are due; returns how many were accepted.

        ``on_result`` is called with each message and its trouble, which is empty when it was accepted.
        """
        taken = 0
        for message in self.due(now_s):
            try:
                send(message)
            except SendFailed as error:
                pause = min(_FIRST_PAUSE_S * 2.0**message.tries, _LONGEST_PAUSE_S)
                later = replace(
                    message, tries=message.tries + 1, next_s=now_s + pause, trouble=error.message
                )
                self._keep(later)
                on_result(later, error.message)
                continue
            self._remove(message)
            taken += 1
            on_result(message, "")
        return taken

    def _remove(self, message: Message) -> None:
        remove_file(self.folder / f"{message.id}.json")
        with self._lock:
            del self._waiting[message.id]

    def _keep(self, message: Message) -> None:
        content = {"outbox": _FORMAT, **asdict(message)}
        text = json.dumps(content, ensure_ascii=False, indent=1)
        write_atomic(self.folder / f"{message.id}.json", text)
        with self._lock:
            self._waiting[message.id] = message

    def _read(self) -> Iterator[Message]:
        if not self.folder.is_dir():
            return
        for path in sorted(self.folder.glob("*.json"))[:_MOST]:
            remedy = "read it, and move it elsewhere"
            file = read_kept(path, _MessageFile, "a message", remedy)
            yield Message(**file.model_dump(exclude={"outbox"}))
