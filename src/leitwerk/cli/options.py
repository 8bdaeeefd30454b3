"""Options that several commands share: the link, what may be written, durations."""

from __future__ import annotations

import getpass
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar

import click

from leitwerk.errors import FileProblem

if TYPE_CHECKING:
    from leitwerk.links.trace import TraceEntry, Tracer
    from leitwerk.transfer.task import Allowed, Terms

Command = TypeVar("Command", bound=Callable[..., Any])


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


def link_options(timeout_s: float) -> Callable[[Command], Command]:
    """The options of commands that use a device; the command is called with ``link``."""

    def decorate(command: Command) -> Command:
        @wraps(command)
        def run(*args: Any, timeout: float, retries: int, trace: str | None, **more: Any) -> Any:
            from leitwerk.links.options import LinkOptions
            from leitwerk.project.passwords import broker_password

            with tracing(trace) as tracer:
                return command(
                    *args,
                    link=LinkOptions(timeout, retries, tracer=tracer, password=broker_password),
                    **more,
                )

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


class Seconds(click.ParamType[float]):
    """A duration with its unit; a bare number is in s."""

    name = "duration"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """The duration in s."""
        from leitwerk.errors import QuantityError
        from leitwerk.parsing.quantities import parse_quantity

        try:
            seconds = parse_quantity(str(value)).seconds
        except QuantityError as error:
            self.fail(str(error), param, ctx)
        if seconds <= 0:
            self.fail(f"{value!r} is no length of time\n  valid: more than 0 s", param, ctx)
        return seconds


DURATION = Seconds()


@contextmanager
def tracing(path: str | None) -> Iterator[Tracer | None]:
    """Something that writes each frame as a line into a file; None when no trace is wanted.

    Raises
    ------
    FileProblem
        The file cannot be written.

    """
    if path is None:
        yield None
        return
    try:
        # Line by line, so that what led to a hang is there to be read.
        with Path(path).open("w", encoding="utf-8", buffering=1) as file:

            def write(entry: TraceEntry) -> None:
                file.write(f"{entry}\n")

            yield write
    except OSError as error:
        reason = error.strerror or type(error).__name__
        raise FileProblem(
            f"cannot write {path}: {reason}", remedy="is the folder there?"
        ) from error


_OPTIONS = (
    click.option(
        "--discard-recordings", is_flag=True, help="Recordings nobody fetched may be erased."
    ),
    click.option(
        "--fetch-recordings", is_flag=True, help="Fetch recordings first, beside the backup."
    ),
    click.option("--stop-recording", is_flag=True, help="A running recording may be stopped."),
    click.option(
        "--wait", default=10.0, metavar="S", help="Wait so long for another writer to end."
    ),
    click.option(
        "--keep", metavar="FOLDER", help="For backups, journals and receipts, not 'kept'."
    ),
    click.option("--by", metavar="NAME", help="Who does it, for the receipt; you, if not given."),
)


class Writing(NamedTuple):
    """The options of a command that writes."""

    allowed: Allowed
    keep: str | None
    by: str

    def folder(self, beside: str | Path) -> Path:
        """Where things are kept: in ``kept`` beside a file, unless told otherwise."""
        return Path(self.keep) if self.keep else Path(beside).parent / "kept"

    def terms(
        self, folder: Path, passwords: Mapping[str, str], progress: Callable[[str, int, int], None]
    ) -> Terms:
        """The terms that they come to."""
        from leitwerk.transfer.task import Terms

        return Terms(folder, passwords, self.allowed, self.by, progress)


def writing_options(command: Command) -> Command:
    """The options of commands that write to a device; the command is called with ``writing``."""

    @wraps(command)
    def run(
        *args: Any,
        discard_recordings: bool,
        fetch_recordings: bool,
        stop_recording: bool,
        wait: float,
        keep: str | None,
        by: str | None,
        **more: Any,
    ) -> Any:
        from leitwerk.transfer.task import Allowed

        allowed = Allowed(discard_recordings, stop_recording, fetch_recordings, wait)
        return command(*args, writing=Writing(allowed, keep, by or user()), **more)

    for option in reversed(_OPTIONS):
        run = option(run)
    return run  # type: ignore[return-value]


def user() -> str:
    """Who runs this, for receipts."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "unnamed"
