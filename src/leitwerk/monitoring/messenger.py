"""Messages out and in, in a thread of their own: a slow service never delays a sample."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from leitwerk.errors import FileProblem, LeitwerkError
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
        self._threads: list[threading.Thread] = []
        self._troubles: dict[str, str] = {}
        self._number = 0  # of the last message that was received

    def start(self) -> None:
        """Begin to deliver and to receive, in a thread each: trouble with one does not stop the other."""
        self._ended.clear()
        self._threads = [threading.Thread(target=self._send_all, daemon=True)]
        if self._happen is not None:
            self._threads.append(threading.Thread(target=self._receive_all, daemon=True))
        for thread in self._threads:
            thread.start()

    def end(self) -> None:
        """Deliver what is due once more, and end."""
        self._ended.set()
        for thread in self._threads[:1]:  # what is received now is of no use any more
            thread.join(_END_S)

    def _send_all(self) -> None:
        while True:
            is_end = self._ended.is_set()
            self._surely(self.deliver, "outbox")
            if is_end:
                return
            self._ended.wait(_TURN_S)

    def _receive_all(self) -> None:
        self._number = self._last()
        while not self._ended.wait(_RECEIVE_S):
            self._surely(self.receive, "received")

    def _surely(self, act: Callable[[], None], subject: str) -> None:
        """Report any error, and go on with the next turn."""
        try:
            act()
        except LeitwerkError as error:
            self._trouble(subject, error.message)
        except Exception as error:  # noqa: BLE001 - no service may end this thread
            self._trouble(subject, f"an error of Leitwerk: {type(error).__name__}: {error}"[:200])
        else:
            self._troubles.pop(subject, None)

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

        self.outbox.deliver(self._send, self._now().timestamp(), on_result)

    def receive(self) -> None:
        """Take in what was sent since the last time."""
        messages = received(self._setup.services, self._number)
        numbers = {
            c.text_message: name for name, c in self._setup.contacts.items() if c.text_message
        }
        for message in messages:
            words = message.text.split()
            name = numbers.get("".join(c for c in message.sender if c.isdigit() or c == "+"))
            self._number = max(self._number, message.number)
            if name is None or not words:
                self._received("unknown sender", "ignored")
                continue
            word = words[0].strip(".,;:!?")[:40].upper()
            self._received(name, word)
            if self._happen is not None:
                self._happen(Happening(message=word, sender=name))
        if messages:
            write_atomic(self._folder / "received.json", json.dumps({"last": self._number}))

    def _received(self, sender: str, text: str) -> None:
        self._emit(Event(self._now(), EventKind.RECEIVED, sender, text))

    def _trouble(self, subject: str, text: str) -> None:
        """Report trouble, once for as long as it is the same."""
        if self._troubles.get(subject) == text:
            return
        self._troubles[subject] = text
        self._emit(Event(self._now(), EventKind.TROUBLE, subject, text, Done.FAILED))

    def _last(self) -> int:
        try:
            path = self._folder / "received.json"
            return read_kept(path, _ReceivedFile, "the last message received", "remove it").last
        except FileProblem:
            return 0
