"""Messages out and in, in a thread of their own: a slow service never delays a sample."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from leitwerk.errors import FileProblem
from leitwerk.monitoring.events import Done, Event, EventKind
from leitwerk.monitoring.outbox import Message, Outbox
from leitwerk.monitoring.senders import received, sender
from leitwerk.project.files import write_atomic
from leitwerk.project.kept_json import KeptFile, read_kept
from leitwerk.rules.definition import Happening
from leitwerk.setup.model import Setup

_TURN_S = 0.1
_RECEIVE_S = 2.0  # from one question to the gateway for received messages to the next
_END_S = 30.0  # how long waiting messages may take at the end


class _ReceivedFile(KeptFile):
    last: int


class Messenger:
    """The outbox of a device, and what contacts send.

    Parameters
    ----------
    emit : callable
        Called with an event for everything that happens.
    happen : callable, optional
        Called with each message of a contact; without it the gateway is not asked for any.

    """

    def __init__(
        self,
        setup: Setup,
        folder: Path,
        now: Callable[[], datetime],
        emit: Callable[[Event], None],
        happen: Callable[[Happening], None] | None,
    ) -> None:
        self.outbox = Outbox(folder / "outbox")
        self._setup, self._folder, self._now = setup, folder, now
        self._emit, self._happen = emit, happen
        self._send = sender(setup.services)
        self._ended = threading.Event()
        self._thread: threading.Thread | None = None

    def start(self) -> None:
        """Begin to deliver and to receive."""
        self._ended.clear()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def end(self) -> None:
        """Deliver what is due once more, and end."""
        self._ended.set()
        if self._thread is not None:
            self._thread.join(_END_S)

    def _run(self) -> None:
        last, asked_s = self._last(), 0.0
        while True:
            is_end = self._ended.is_set()
            self.deliver()
            if is_end:
                return
            if self._happen is not None and time.monotonic() - asked_s > _RECEIVE_S:
                asked_s = time.monotonic()
                last = self.receive(last)
            self._ended.wait(_TURN_S)

    def deliver(self) -> None:
        """Try every message that is due."""

        def on_result(message: Message, trouble: str) -> None:
            way = message.way.replace("_", " ")
            text = f"not sent by {way}, tried again: {trouble}" if trouble else (
                f"sent by {way}: {message.text}"
            )  # fmt: skip
            done = Done.FAILED if trouble else Done.YES
            event = Event(self._now(), EventKind.MESSAGE, message.contact, text, done, state=way)
            self._emit(event)

        try:
            self.outbox.deliver(self._send, self._now().timestamp(), on_result)
        except FileProblem as error:
            self._trouble("outbox", error.message)

    def receive(self, last: int) -> int:
        """Take in what was sent after a number; returns the number of the last one."""
        entries, newest = received(self._setup.services, last)
        numbers = {
            c.text_message: name for name, c in self._setup.contacts.items() if c.text_message
        }
        for entry in entries:
            words, number = str(entry.get("text", "")).split(), str(entry.get("from", ""))
            name = numbers.get("".join(c for c in number if c.isdigit() or c == "+"))
            if name is None or not words:
                self._received("unknown sender", "ignored")
                continue
            word = words[0].strip(".,;:!?")[:40].upper()
            self._received(name, word)
            if self._happen is not None:
                self._happen(Happening(message=word, sender=name))
        if newest != last:
            try:
                write_atomic(self._folder / "received.json", json.dumps({"last": newest}))
            except FileProblem as error:
                self._trouble("received", error.message)
        return newest

    def _received(self, sender: str, text: str) -> None:
        self._emit(Event(self._now(), EventKind.RECEIVED, sender, text))

    def _trouble(self, subject: str, text: str) -> None:
        self._emit(Event(self._now(), EventKind.TROUBLE, subject, text, Done.FAILED))

    def _last(self) -> int:
        try:
            path = self._folder / "received.json"
            return read_kept(path, _ReceivedFile, "the last message received", "remove it").last
        except FileProblem:
            return 0
