"""Exit codes, and how errors end a command."""

from __future__ import annotations

import sys
from collections.abc import Callable
from contextlib import suppress

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


def run_command(command: Callable[[], int | None]) -> int:
    """The exit code of a command, whose errors are reported, and which signals end in order."""
    interrupts = Interrupts()
    try:
        with interrupts:
            code = command()
        return _stopped() if interrupts.is_pending else code or FINE
    except LeitwerkError as error:
        click.echo(str(error), err=True)
        return exit_code(error)
    except BrokenPipeError:
        # The program that reads our output has ended; that is not an error of ours.
        sys.stderr.close()
        return BROKEN_PIPE
    except KeyboardInterrupt:
        return _stopped()
    except (click.ClickException, click.exceptions.Exit):
        raise
    except Exception:
        # A package that is interrupted may make an error of its own of that.
        if not interrupts.came:
            raise
        return _stopped()
