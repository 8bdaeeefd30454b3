"""Exit codes, and how errors end a command."""

from __future__ import annotations

import signal
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import wraps
from types import FrameType
from typing import ParamSpec

import click

from leitwerk.errors import (
    DeviceInUse,
    DeviceRefused,
    FileProblem,
    LeitwerkError,
    LinkError,
    OutputNotSafe,
    ReaddressError,
    SetupError,
    UploadError,
    WrongDevice,
)
from leitwerk.results import Outcome, Result

# 0 fine, 1 errors found or a verdict of fail, 2 usage, 3 device not reached, 4 device refused
FINE, FOUND, USAGE, NOT_REACHED, REFUSED = range(5)
BROKEN_PIPE = 141  # 128 + SIGPIPE: whether all was fine, the reader cannot have seen
STOPPED = 130  # by the keyboard, as shells count: 128 + SIGINT
_CODES: tuple[tuple[type[LeitwerkError], int], ...] = (
    (SetupError, FOUND),
    (FileProblem, USAGE),
    (LinkError, NOT_REACHED),
    (WrongDevice, REFUSED),
    (DeviceInUse, REFUSED),
    (DeviceRefused, REFUSED),
    (OutputNotSafe, REFUSED),
)

_LATER_S = 0.01

P = ParamSpec("P")


def exit_code(error: LeitwerkError) -> int:
    """The exit code that an error ends the command with."""
    if isinstance(error, (UploadError, ReaddressError)):
        cause = error.__cause__
        if isinstance(cause, KeyboardInterrupt):
            return STOPPED
        return exit_code(cause) if isinstance(cause, LeitwerkError) else REFUSED
    return next((code for kind, code in _CODES if isinstance(error, kind)), USAGE)


def result_code(result: Result) -> int:
    """The exit code of a result: only what passed is fine."""
    return FINE if result.outcome is Outcome.PASSED else FOUND


@contextmanager
def _ends_in_order() -> Iterator[list[int]]:
    """SIGTERM and SIGHUP (a closed terminal) end a command as Ctrl+C does; gives the signals that came.

    So outputs are released and files are closed, however the program ends. A signal that is ignored
    from outside, as by nohup, stays so.
    """
    came: list[int] = []
    waiting: list[int] = []
    if threading.current_thread() is not threading.main_thread():
        yield came
        return

    def interrupt(number: int, frame: FrameType | None) -> None:
        if number == getattr(signal, "SIGALRM", None):
            if not waiting:
                return
            number = waiting.pop()
        if hasattr(signal, "setitimer") and _is_loading(frame):
            # What is raised while a module is loaded may be lost, or made another error: a moment later.
            waiting.append(number)
            signal.setitimer(signal.ITIMER_REAL, _LATER_S)
            return
        came.append(number)
        if number != signal.SIGINT:
            # The same signal again does not disturb what is being left in order.
            signal.signal(number, signal.SIG_IGN)
        raise KeyboardInterrupt

    names = ("SIGINT", "SIGTERM", "SIGHUP", "SIGALRM")
    kinds = [getattr(signal, name) for name in names if hasattr(signal, name)]
    before = {kind: signal.getsignal(kind) for kind in kinds}
    taken = {kind: handler for kind, handler in before.items() if handler is not signal.SIG_IGN}
    for kind in taken:
        signal.signal(kind, interrupt)
    try:
        yield came
    finally:
        if hasattr(signal, "setitimer"):
            signal.setitimer(signal.ITIMER_REAL, 0.0)
        for kind, handler in taken.items():
            signal.signal(kind, handler)


def _is_loading(frame: FrameType | None) -> bool:
    while frame is not None:
        if frame.f_code.co_filename.startswith("<frozen importlib"):
            return True
        frame = frame.f_back
    return False


def _stopped() -> int:
    with suppress(OSError):  # the terminal may be gone
        click.echo("stopped by the keyboard or a signal", err=True)
    return STOPPED


def reports_errors(command: Callable[P, int]) -> Callable[P, None]:
    """A command that returns its exit code, and whose errors are reported instead of raised."""

    @wraps(command)
    def run(*args: P.args, **kwargs: P.kwargs) -> None:
        came: list[int] = []
        try:
            with _ends_in_order() as came:
                code = command(*args, **kwargs)
        except LeitwerkError as error:
            click.echo(str(error), err=True)
            code = exit_code(error)
        except BrokenPipeError:
            # The program that reads our output has ended; that is not an error of ours.
            sys.stderr.close()
            code = BROKEN_PIPE
        except KeyboardInterrupt:
            code = _stopped()
        except Exception:
            # A package that is interrupted while it loads may make an error of its own of that.
            if not came:
                raise
            code = _stopped()
        sys.exit(code)

    return run
