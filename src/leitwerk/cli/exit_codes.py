"""Exit codes, and how errors end a command."""

from __future__ import annotations

import sys
from collections.abc import Callable
from contextlib import suppress
from functools import wraps
from typing import ParamSpec

import click

from leitwerk.cli.interrupts import Interrupts
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


def _stopped() -> int:
    with suppress(OSError):  # the terminal may be gone
        click.echo("stopped by the keyboard or a signal", err=True)
    return STOPPED


def reports_errors(command: Callable[P, int]) -> Callable[P, None]:
    """A command that returns its exit code, and whose errors are reported instead of raised."""

    @wraps(command)
    def run(*args: P.args, **kwargs: P.kwargs) -> None:
        interrupts = Interrupts()
        try:
            with interrupts:
                code = command(*args, **kwargs)
            if interrupts.is_pending:
                code = _stopped()
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
            # A package that is interrupted may make an error of its own of that.
            if not interrupts.came:
                raise
            code = _stopped()
        sys.exit(code)

    return run
