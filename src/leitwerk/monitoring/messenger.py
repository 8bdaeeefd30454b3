"""Messages out and in, in a thread of their own: a slow service never delays a sample."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from leitwerk.errors import FileProblem
from leitwerk.monitoring.outbox import Message, Outbox
from leitwerk.monitoring.senders import received, sender
from leitwerk.project.files import read_bytes, write_atomic
from leitwerk.rules.definition import Happening
from leitwerk.setup.model import Setup

_TURN_S = 0.1
_RECEIVE_S = 2.0  # the gateway is asked so often whether somebody sent something
_END_S = 30.0  # so long what waits may take at the end


class Post:
    """The outbox of a device, and what contacts send.

    Parameters
    ----------
    tell : callable
        Called with the time, a kind, a subject and words, for everything that happens.
    happen : callable, optional
        Called with each message of a contact; without it nobody asks for any.

    """

    def __init__(
        self,
        setup: Setup,
        folder: Path,
        wall: Callable[[], datetime],
        tell: Callable[[datetime, str, str, str], None],
        happen: Callable[[Happening], None] | None,
    ) -> None:
        self.outbox = Outbox(folder / "outbox")
        self._setup, self._folder, self._wall = setup, folder, wall
        self._tell, self._happen = tell, happen
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

        def told(message: Message, trouble: str) -> None:
            subject = f"{message.contact} by {message.way.replace('_', ' ')}"
            text = f"not sent, tried again: {trouble}" if trouble else f"sent: {message.text}"
            self._tell(self._wall(), "message", subject, text)

        try:
            self.outbox.deliver(self._send, self._wall().timestamp(), told)
        except FileProblem as error:
            self._tell(self._wall(), "trouble", "outbox", error.message)

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
                self._tell(self._wall(), "message", "received", "from nobody known; ignored")
                continue
            word = words[0].strip(".,;:!?")[:40].upper()
            self._tell(self._wall(), "message", f"from {name}", word)
            if self._happen is not None:
                self._happen(Happening(message=word, sender=name))
        if newest != last:
            try:
                write_atomic(self._folder / "received.json", json.dumps({"last": newest}))
            except FileProblem as error:
                self._tell(self._wall(), "trouble", "received", error.message)
        return newest

    def _last(self) -> int:
        try:
            return int(json.loads(read_bytes(self._folder / "received.json"))["last"])
        except (FileProblem, ValueError, KeyError, TypeError):
            return 0
