"""What commands that write to devices have in common: what is allowed, who does it, where it is kept."""

from __future__ import annotations

import getpass
from collections.abc import Callable, Mapping
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar

import click

if TYPE_CHECKING:
    from leitwerk.transfer import Allowed, Terms

Command = TypeVar("Command", bound=Callable[..., Any])

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
        from leitwerk.transfer import Terms

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
        from leitwerk.transfer import Allowed

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
