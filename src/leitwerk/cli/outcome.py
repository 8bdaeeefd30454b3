"""Exit codes, errors, and what options of several commands have in common."""

from __future__ import annotations

import sys
from collections.abc import Callable
from functools import wraps
from typing import TYPE_CHECKING, Any, NamedTuple, ParamSpec, TypeVar

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

if TYPE_CHECKING:
    from leitwerk.links import Patience
    from leitwerk.links.trace import Tracer

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
Command = TypeVar("Command", bound=Callable[..., Any])


def exit_code(error: LeitwerkError) -> int:
    """The exit code that an error ends the command with."""
    if isinstance(error, (UploadError, ReaddressError)):
        cause = error.__cause__
        if isinstance(cause, KeyboardInterrupt):
            return STOPPED
        return exit_code(cause) if isinstance(cause, LeitwerkError) else REFUSED
    return next((code for kind, code in _CODES if isinstance(error, kind)), USAGE)


def timeout_option(default: float) -> Callable[[Command], Command]:
    """The option of every command that talks to a device: how long it waits for each answer."""
    return click.option(
        "--timeout",
        default=default,
        show_default=True,
        type=click.FloatRange(0.0, 3600.0, min_open=True),
        metavar="S",
        help="Wait so long for an answer.",
    )


class LinkOptions(NamedTuple):
    """How a command speaks with its device."""

    patience: Patience
    tracer: Tracer | None


def link_options(timeout_s: float) -> Callable[[Command], Command]:
    """The options of commands that use a device; the command is called with ``link``."""

    def decorate(command: Command) -> Command:
        @wraps(command)
        def run(*args: Any, timeout: float, retries: int, trace: str | None, **more: Any) -> Any:
            from leitwerk.cli.traces import tracing
            from leitwerk.links import Patience

            with tracing(trace) as tracer:
                return command(*args, link=LinkOptions(Patience(timeout, retries), tracer), **more)

        retries = click.option(
            "--retries",
            default=2,
            show_default=True,
            type=click.IntRange(0, 20),
            metavar="N",
            help="Ask so often again what may be asked twice.",
        )
        trace = click.option(
            "--trace", metavar="FILE", help="Keep every frame on the link; secrets are masked."
        )
        return timeout_option(timeout_s)(retries(trace(run)))  # type: ignore[return-value]

    return decorate


def reports_errors(command: Callable[P, int]) -> Callable[P, None]:
    """A command that returns its exit code, and whose errors are told instead of thrown."""

    @wraps(command)
    def run(*args: P.args, **kwargs: P.kwargs) -> None:
        try:
            code = command(*args, **kwargs)
        except LeitwerkError as error:
            click.echo(str(error), err=True)
            code = exit_code(error)
        except BrokenPipeError:
            # Whoever reads our output has heard enough; that is not our error.
            sys.stderr.close()
            code = FINE
        except KeyboardInterrupt:
            click.echo("stopped by the keyboard", err=True)
            code = STOPPED
        sys.exit(code)

    return run
