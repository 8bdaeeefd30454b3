"""Exit codes, and how errors end a command."""

from __future__ import annotations

import sys
from collections.abc import Callable
from functools import wraps
from typing import ParamSpec

import click

from leitwerk.errors import (
    DeviceInUse,
    DeviceRefused,
    FileProblem,
    LeitwerkError,
    LinkError,
    ReaddressError,
    SetupError,
    UploadError,
    WrongDevice,
)
from leitwerk.results import Outcome, Result

# 0 fine, 1 errors found or a verdict of fail, 2 usage, 3 device not reached, 4 device refused
FINE, FOUND, USAGE, NOT_REACHED, REFUSED = range(5)
STOPPED = 130  # by the keyboard, as shells count: 128 + SIGINT
_CODES: tuple[tuple[type[LeitwerkError], int], ...] = (
    (SetupError, FOUND),
    (FileProblem, USAGE),
    (LinkError, NOT_REACHED),
    (WrongDevice, REFUSED),
    (DeviceInUse, REFUSED),
    (DeviceRefused, REFUSED),
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


def reports_errors(command: Callable[P, int]) -> Callable[P, None]:
    """A command that returns its exit code, and whose errors are reported instead of raised."""

    @wraps(command)
    def run(*args: P.args, **kwargs: P.kwargs) -> None:
        try:
            code = command(*args, **kwargs)
        except LeitwerkError as error:
            click.echo(str(error), err=True)
            code = exit_code(error)
        except BrokenPipeError:
            # The program that reads our output has ended; that is not an error of ours.
            sys.stderr.close()
            code = FINE
        except KeyboardInterrupt:
            click.echo("stopped by the keyboard", err=True)
            code = STOPPED
        sys.exit(code)

    return run
