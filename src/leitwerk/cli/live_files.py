"""The files in which 'leitwerk live' keeps samples."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Self

import click

if TYPE_CHECKING:
    from leitwerk.monitoring.keeping import SampleKeeper
    from leitwerk.monitoring.watching import DeviceWatch, TakenSample


class KeptSamples:
    """The files in which samples are kept, one for each device; begun with its first sample."""

    def __init__(self, path: str | None, limit_mb: float | None) -> None:
        self._path = None if path is None else Path(path)
        self._limit = None if limit_mb is None else round(limit_mb * 1e6)
        self._files: dict[int, SampleKeeper] = {}
        if limit_mb is not None and path is None:
            raise click.UsageError("--limit is for --samples")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        for file in self._files.values():
            file.close()

    def take(self, watch: DeviceWatch, sample: TakenSample, name: str = "") -> None:
        """Keep a sample."""
        if self._path is None:
            return
        from leitwerk.monitoring.keeping import SampleKeeper

        if id(watch) not in self._files:
            path = self._path.with_stem(f"{self._path.stem}-{name}") if name else self._path
            self._files[id(watch)] = SampleKeeper(path, watch, limit_bytes=self._limit)
        self._files[id(watch)].take(sample)

    def trouble(self) -> str:
        """What cannot be written now, and why."""
        return next((file.trouble for file in self._files.values() if file.trouble), "")
