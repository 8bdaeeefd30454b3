"""Holding interrupts off while something must be left in order."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager

# SIGALRM: one of the others that came while a module was loaded, a moment later (cli/interrupts.py).
_NAMES = ("SIGINT", "SIGTERM", "SIGHUP", "SIGALRM")


@contextmanager
def signals_held() -> Iterator[None]:
    """Ctrl+C, SIGTERM and a closed terminal do nothing inside a ``with`` block.

    For short acts with an end of their own: giving outputs back, undoing, writing a note of that. In
    another thread than the main one nothing is changed, as signals do not arrive there.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    kinds = [getattr(signal, name) for name in _NAMES if hasattr(signal, name)]
    before = [(kind, signal.signal(kind, signal.SIG_IGN)) for kind in kinds]
    try:
        yield
    finally:
        for kind, handler in before:
            # None: it was not set from Python, and cannot be set back to that.
            signal.signal(kind, signal.SIG_DFL if handler is None else handler)
