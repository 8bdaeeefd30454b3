"""The options of commands that work on recorded rows, and reading them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import wraps
from typing import TYPE_CHECKING, Any, TypeVar

import click

if TYPE_CHECKING:
    from zoneinfo import ZoneInfo

    from leitwerk.analysis.series import Series
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.evaluation.judged import Judged
    from leitwerk.evaluation.summary import Summary
    from leitwerk.evaluation.supply_events import SupplyEvents
    from leitwerk.recordings.about import About

Command = TypeVar("Command", bound=Callable[..., Any])
_AT_ONCE = 50_000_000  # values
STORE = click.option(
    "--store",
    metavar="FOLDER",
    default="recordings",
    show_default=True,
    help="The store, where SOURCE is a device.",
)


@dataclass(frozen=True)
class RowsWanted:
    """What was asked for on the command line, as it was typed."""

    source: str
    store: str
    setup: str | None
    channels: tuple[str, ...]
    begin: str | None
    end: str | None
    version: int | None
    _read: list[About] = field(default_factory=list, compare=False)

    def checked(self) -> CheckedSetup | None:
        """The setup whose channels they are."""
        from leitwerk.project.setups import read_setup

        return None if self.setup is None else read_setup(self.setup)

    def zone(self, checked: CheckedSetup | None, about: About | None = None) -> ZoneInfo:
        """The zone of the setup, else of the rows, else UTC."""
        from zoneinfo import ZoneInfo

        if checked is not None:
            return checked.setup.zone
        return ZoneInfo("UTC" if about is None else about.zone)

    def _span(self, checked: CheckedSetup | None) -> dict[str, Any]:
        """The time that is wanted, in s since 1970-01-01 UTC."""
        import math

        from leitwerk.cli.options import local_moment

        zone = self.zone(checked)
        begin = -math.inf if self.begin is None else local_moment(self.begin, zone).timestamp()
        end = math.inf if self.end is None else local_moment(self.end, zone).timestamp()
        return {"begin_s": begin, "end_s": end}

    def _only(self, checked: CheckedSetup | None) -> tuple[str, ...] | None:
        """The columns that are to be read: all, where a derived channel is wanted."""
        derived = [] if checked is None else [c.name for c in checked.channels]
        return None if set(self.channels) & {*derived} or not self.channels else self.channels

    def read(self, checked: CheckedSetup | None) -> tuple[Series, About]:
        """The rows, with the derived channels of the setup."""
        from leitwerk.recordings.fetch import with_derived
        from leitwerk.recordings.sources import read_rows_of

        series, about = read_rows_of(
            self.source, store=self.store, channels=self._only(checked), version=self.version,
            **self._span(checked),
        )  # fmt: skip
        self._read.append(about)
        if checked is not None:
            series = with_derived(series, checked.channels)
        return self._chosen(series), about

    def pieces(
        self, checked: CheckedSetup | None, zone: ZoneInfo | None = None
    ) -> Iterator[Series]:
        """The rows piece by piece, with derived channels; times of a file without a zone are in ``zone``."""
        from pathlib import Path

        from leitwerk.recordings.fetch import with_derived
        from leitwerk.recordings.sources import ENDINGS, read_rows_of
        from leitwerk.recordings.store import Store

        span: dict[str, Any] = {"version": self.version, **self._span(checked)}
        if Path(self.source).suffix in ENDINGS:
            series, _ = read_rows_of(self.source, channels=self._only(checked), zone=zone, **span)
            whole = series if checked is None else with_derived(series, checked.channels)
            yield self._chosen(whole)
            return
        held = Store(self.store).pieces(self.source, self._only(checked), checked, span=span)
        yield from map(self._chosen, held)

    def is_large(self) -> bool:
        """Whether the rows are those of a store, and too many to be read at once."""
        from pathlib import Path

        from leitwerk.recordings.sources import ENDINGS
        from leitwerk.recordings.store import Store

        if Path(self.source).suffix in ENDINGS:
            return False
        parts = Store(self.store).parts(self.source, self.version)
        return sum(part.rows * len(part.columns) for part in parts) > _AT_ONCE

    def survey(self, checked: CheckedSetup | None) -> tuple[Summary, Judged]:
        """The summary of rows, and what the setup judges of them; many rows with the memory of a piece."""
        from leitwerk.evaluation.judged import papers_within, survey
        from leitwerk.setup.papers import Papers

        channels = () if checked is None else checked.channels
        papers = None if checked is None else checked.setup.papers
        if papers is not None and self.channels:
            papers = papers_within(papers, self.channels)
        rows = self.pieces(checked) if self.is_large() else self.read(checked)[0]
        return survey(rows, papers or Papers(), channels, self.zone(checked))

    def remarks(self) -> list[str]:
        """What is known of the clock that stamped the rows, and what was noted of them."""
        from pathlib import Path

        from leitwerk.recordings.about import clock_words
        from leitwerk.recordings.sources import ENDINGS
        from leitwerk.recordings.store import Store

        abouts = self._read  # a file is not read twice
        if Path(self.source).suffix not in ENDINGS:
            abouts = [part.about for part in Store(self.store).parts(self.source, self.version)]
        words = (clock_words(about.clock_off_s) for about in abouts)
        clocks = [f"the clock of the device was {text}" for text in words if text]
        return list(dict.fromkeys([*clocks, *(note for about in abouts for note in about.notes)]))

    def supply_events(
        self, checked: CheckedSetup | None, begin_s: float, end_s: float
    ) -> SupplyEvents | None:
        """The events that an analyzer stored within a time; None where no list of them was fetched."""
        from pathlib import Path

        from leitwerk.recordings.sources import ENDINGS
        from leitwerk.recordings.store import Store

        if checked is None or checked.setup.wiring is None or Path(self.source).suffix in ENDINGS:
            return None
        from leitwerk.evaluation.supply_events import supply_events
        from leitwerk.recordings.event_lists import read_event_lists

        folder = Store(self.store).files_folder(self.source)
        listed = read_event_lists(folder, checked.setup.zone)
        return supply_events(listed, checked.setup, begin_s, end_s) if listed else None

    def _chosen(self, series: Series) -> Series:
        from leitwerk.recordings.sources import chosen

        return chosen(series, self.channels, self.source) if self.channels else series


def rows_options(command: Command) -> Command:
    """The options that say which rows are meant; the command is called with ``wanted``."""

    @STORE
    @click.option("--setup", metavar="SETUP", help="Whose channels they are.")
    @click.option(
        "--channel",
        "channels",
        metavar="NAME",
        multiple=True,
        help="This channel, and others so named.",
    )
    @click.option("--from", "begin", metavar="TIME", help="From when on: '2026-03-02 06:00'.")
    @click.option("--until", "end", metavar="TIME", help="Until when.")
    @click.option(
        "--version", type=click.IntRange(1), metavar="N", help="Of the store; else the newest."
    )
    @wraps(command)
    def call(
        source: str,
        *args: Any,
        store: str,
        setup: str | None,
        channels: tuple[str, ...],
        begin: str | None,
        end: str | None,
        version: int | None,
        **more: Any,
    ) -> Any:
        wanted = RowsWanted(source, store, setup, channels, begin, end, version)
        return command(*args, wanted=wanted, **more)

    return call  # type: ignore[return-value]
