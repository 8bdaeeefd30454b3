"""Signals that end a command in order: Ctrl+C, SIGTERM, and SIGHUP of a terminal that is closed."""

from __future__ import annotations

import os
import select
import signal
import sys
import threading
from types import FrameType
from typing import Any, Self

_NAMES = ("SIGINT", "SIGTERM", "SIGHUP", "SIGALRM")
_LATER_S = 0.01


class Interrupts:
    """A ``with`` block in which each of them raises KeyboardInterrupt; ``came`` are those that did.

    So outputs are released and files are closed, however the program ends. A signal that is ignored from
    outside, as by nohup, stays so. In another thread than the main one nothing is changed.

    What a signal raises may be lost: while a module is loaded, or in code of a package that is not Python.
    Then it is raised again a moment later, by a timer and SIGALRM.
    """

    def __init__(self) -> None:
        self.came: list[int] = []
        self._waiting: list[int] = []
        self._before: dict[int, Any] = {}
        self._hook = sys.unraisablehook

    def __enter__(self) -> Self:
        if threading.current_thread() is not threading.main_thread():
            return self
        for kind in (getattr(signal, name) for name in _NAMES if hasattr(signal, name)):
            if signal.getsignal(kind) is not signal.SIG_IGN:
                self._before[kind] = signal.signal(kind, self._take)
        self._hook, sys.unraisablehook = sys.unraisablehook, self._lost
        return self

    def __exit__(self, *error: object) -> None:
        if not self._before:
            return
        if hasattr(signal, "setitimer"):
            signal.setitimer(signal.ITIMER_REAL, 0.0)
        for kind, handler in self._before.items():
            # None: it was not set from Python, and cannot be set back to that.
            signal.signal(kind, signal.SIG_DFL if handler is None else handler)
        sys.unraisablehook = self._hook

    @property
    def is_pending(self) -> bool:
        """Whether one came that has not been raised, or was lost."""
        return bool(self._waiting)

    def _take(self, number: int, frame: FrameType | None) -> None:
        if number == getattr(signal, "SIGALRM", None):
            if not self._waiting:
                return
            number = self._waiting.pop()
        if hasattr(signal, "setitimer") and _is_loading(frame):
            self._later(number)
            return
        self.came.append(number)
        if number != signal.SIGINT:
            # The same signal again does not disturb what is being left in order.
            signal.signal(number, signal.SIG_IGN)
        raise KeyboardInterrupt

    def _later(self, number: int) -> None:
        self._waiting.append(number)
        if hasattr(signal, "setitimer"):
            signal.setitimer(signal.ITIMER_REAL, _LATER_S)

    def _lost(self, what: Any) -> None:
        if issubclass(what.exc_type, KeyboardInterrupt) and self.came:
            self._later(self.came[-1])
        else:
            self._hook(what)


def read_line() -> str:
    """The next line that is typed, or that standard input holds; KeyboardInterrupt at its end.

    A signal that comes between a question and the reading of its answer would be seen only behind the next
    line: what reads it waits in the C library. So a terminal is waited for here, together with the signals.
    """
    if os.name == "posix" and sys.stdin.isatty():
        _wait_for_terminal()
    line = sys.stdin.readline()
    if not line:
        raise KeyboardInterrupt
    return line.rstrip("\r\n")


def _wait_for_terminal() -> None:
    came, comes = os.pipe()
    os.set_blocking(comes, False)
    before = signal.set_wakeup_fd(comes, warn_on_full_buffer=False)
    try:
        select.select([sys.stdin, came], [], [])  # what a signal raises is raised behind it
    finally:
        signal.set_wakeup_fd(before)
        os.close(came)
        os.close(comes)


def _is_loading(frame: FrameType | None) -> bool:
    while frame is not None:
        if frame.f_code.co_filename.startswith("<frozen importlib"):
            return True
        frame = frame.f_back
    return False
