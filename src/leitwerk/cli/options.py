"""Options that several commands share: the link, what may be written, durations."""

from __future__ import annotations

import getpass
import math
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar

import click

from leitwerk.errors import FileProblem

if TYPE_CHECKING:
    from datetime import datetime
    from zoneinfo import ZoneInfo

    from leitwerk.links.trace import TraceEntry, Tracer
    from leitwerk.transfer.task import Progress, UploadOptions

Command = TypeVar("Command", bound=Callable[..., Any])


class Seconds(click.ParamType[float]):
    """A duration with its unit; a bare number is in s."""

    name = "duration"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """The duration in s."""
        from leitwerk.errors import QuantityError
        from leitwerk.parsing.durations import LEAST_S, MOST_S
        from leitwerk.parsing.quantities import parse_quantity

        try:
            seconds = parse_quantity(str(value)).seconds
        except QuantityError as error:
            self.fail(str(error), param, ctx)
        if not LEAST_S <= seconds <= MOST_S:
            self.fail(
                f"{value!r} is not a length of time\n  valid: 1 µs to 1000 a, such as 10 s",
                param,
                ctx,
            )
        return seconds


class Pair(click.ParamType[tuple[str, str]]):
    """A name and what belongs to it, ``air_top=°F``."""

    name = "pair"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[str, str]:
        """The two, without spaces around them."""
        name, _, text = (part.strip() for part in str(value).partition("="))
        if not name or not text:
            form = (param and param.metavar) or "NAME=VALUE"
            self.fail(f"{str(value)[:60]!r} is not {form}", param, ctx)
        return name, text


class FiniteNumber(click.FloatRange):
    """A finite number within a range."""

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """The number."""
        number: float = super().convert(value, param, ctx)
        if not math.isfinite(number):
            self.fail(f"{value!r} is not a finite number", param, ctx)
        return number


DURATION = Seconds()

JSON = click.option("--json", "as_json", is_flag=True, help="Print the result as JSON.")
MODEL = click.option("--model", metavar="MODEL", help="Its model; else the device is asked for it.")


def folder_option(holds: str) -> Callable[[Command], Command]:
    """The option that names the folder in which things are kept."""
    text = f"Folder for {holds}; else 'kept' beside the setup."
    return click.option("--folder", metavar="FOLDER", help=text)


def kept_folder(beside: str | Path, folder: str | None) -> Path:
    """Where things are kept: in ``kept`` beside a file, unless another folder is named."""
    return Path(folder) if folder else Path(beside).parent / "kept"


def for_option(text: str, default: str | None = None) -> Callable[[Command], Command]:
    """The option that says for how long; the command is called with ``duration_s``."""
    return click.option(
        "--for", "duration_s", type=DURATION, metavar="TIME", default=default,
        show_default=default is not None, help=text,
    )  # fmt: skip


def every_option(default: str | None = None, text: str = "") -> Callable[[Command], Command]:
    """The option that says from when to when; the command is called with ``period_s``."""
    return click.option(
        "--every", "period_s", type=DURATION, metavar="TIME", default=default,
        show_default=default is not None, help=text or "Time from one poll to the next.",
    )  # fmt: skip


def asking_options(command: Command) -> Command:
    """The options of commands that single out a transmitter; the command is called with ``asking``."""

    @wraps(command)
    def run(*args: Any, quiet_s: float, window_s: float, most: int, **more: Any) -> Any:
        from leitwerk.commissioning.in_hand import Asking

        return command(*args, asking=Asking(quiet_s, window_s, most), **more)

    for option in (
        click.option("--at-most", "most", type=click.IntRange(2, 20), default=8, show_default=True,
                     help="How often to ask that it is operated."),
        click.option("--window", "window_s", type=DURATION, default="4 s", show_default=True,
                     metavar="TIME", help="How long you have to operate it, each time."),
        click.option("--quiet", "quiet_s", type=DURATION, default="30 s", show_default=True,
                     metavar="TIME", help="How long to listen first, while it is not operated."),
    ):  # fmt: skip
        run = option(run)
    return run  # type: ignore[return-value]


def timeout_option(default: float) -> Callable[[Command], Command]:
    """The option of every command that talks to a device: how long it waits for each answer."""
    return click.option(
        "--timeout",
        default=default,
        show_default=True,
        type=FiniteNumber(0.0, 3600.0, min_open=True),
        metavar="S",
        help="How long to wait for each answer, in s.",
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
            help="Number of retries for read requests.",
        )
        trace = click.option(
            "--trace", metavar="FILE", help="Keep every frame on the link; secrets are masked."
        )
        return timeout_option(timeout_s)(retries(trace(run)))  # type: ignore[return-value]

    return decorate


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
        file = Path(path).open("w", encoding="utf-8", buffering=1)  # noqa: SIM115
    except OSError as error:
        reason = error.strerror or type(error).__name__
        raise FileProblem(
            f"cannot write {path}: {reason}", remedy="is the folder there?"
        ) from error
    failed: list[str] = []

    def write(entry: TraceEntry) -> None:
        # A full disk must not end what is traced.
        try:
            if not failed:
                file.write(f"{entry}\n")
        except (OSError, ValueError) as error:
            failed.append(str(error))

    try:
        yield write
    finally:
        with suppress(OSError):
            file.close()
        if failed:
            with suppress(OSError):
                click.echo(f"warning: the trace {path} is not complete: {failed[0]}", err=True)


_OPTIONS = (
    click.option(
        "--discard-recordings",
        is_flag=True,
        help="Erase recordings that have not been fetched.",
    ),
    click.option(
        "--fetch-recordings", is_flag=True, help="Fetch recordings first, beside the backup."
    ),
    click.option("--stop-recording", is_flag=True, help="Stop a running recording meanwhile."),
    click.option(
        "--change-radio", is_flag=True, help="Allow another group, band or role of a receiver."
    ),
    click.option(
        "--wait",
        default=10.0,
        type=FiniteNumber(0.0, 86400.0),
        metavar="S",
        help="How long to wait for another writer, in s.",
    ),
    folder_option("backups, journals and receipts"),
    click.option("--by", metavar="NAME", help="Who does it, for the receipt; else your user name."),
)


class Writing(NamedTuple):
    """The options of a command that writes."""

    discard_recordings: bool
    fetch_recordings: bool
    stop_recording: bool
    change_radio: bool
    wait_s: float
    folder: str | None
    by: str

    def options(
        self,
        beside: str | Path,
        passwords: Mapping[str, str],
        on_progress: Progress | None = None,
        secrets: Mapping[str, str] | None = None,
    ) -> UploadOptions:
        """The options of an upload; things are kept in ``kept`` beside a file, unless said otherwise."""
        from leitwerk.transfer.task import UploadOptions

        return UploadOptions(
            kept_folder(beside, self.folder),
            passwords,
            by=self.by,
            secrets={} if secrets is None else secrets,
            discard_recordings=self.discard_recordings,
            fetch_recordings=self.fetch_recordings,
            stop_recording=self.stop_recording,
            change_radio=self.change_radio,
            wait_s=self.wait_s,
            on_progress=on_progress or (lambda step, done, total: None),
        )


def writing_options(command: Command) -> Command:
    """The options of commands that write to a device; the command is called with ``writing``."""

    @wraps(command)
    def run(
        *args: Any,
        discard_recordings: bool,
        fetch_recordings: bool,
        stop_recording: bool,
        change_radio: bool,
        wait: float,
        folder: str | None,
        by: str | None,
        **more: Any,
    ) -> Any:
        writing = Writing(
            discard_recordings, fetch_recordings, stop_recording, change_radio, wait, folder,
            by or user(),
        )  # fmt: skip
        return command(*args, writing=writing, **more)

    for option in reversed(_OPTIONS):
        run = option(run)
    return run  # type: ignore[return-value]


def local_moment(text: str | None, zone: ZoneInfo) -> datetime:
    """A local time as an option; now if not given."""
    from datetime import UTC, datetime

    from leitwerk.parsing.local_time import parse_local, to_instant

    return datetime.now(UTC) if text is None else to_instant(parse_local(text), zone)


def began_s(option: str | None, wall: datetime | None, zone: ZoneInfo) -> float | None:
    """When samples began, in s since 1970-01-01 UTC: by the option, else by what their file says."""
    from leitwerk.parsing.local_time import LocalTime, to_instant

    if option is not None:
        return local_moment(option, zone).timestamp()
    return None if wall is None else to_instant(LocalTime(wall), zone).timestamp()


def user() -> str:
    """Who runs this, for receipts."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "unnamed"
