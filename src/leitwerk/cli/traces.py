"""Keeping a trace of the traffic in a file, as it happens."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from leitwerk.errors import FileProblem

if TYPE_CHECKING:
    from leitwerk.links.trace import TraceEntry, Tracer


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
