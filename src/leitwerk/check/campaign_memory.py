"""What campaigns take of the memory of an analyzer, and all of them in one timeline."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from itertools import pairwise
from typing import Any

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import CAMPAIGN_MOST
from leitwerk.rules.schedule import PlannedRun
from leitwerk.setup.model import Setup
from leitwerk.setup.timing import Run

TRENDS = "trends"
_MOST = 1000.0  # events of a campaign


@dataclass(frozen=True, slots=True)
class MemoryUse:
    """What a planned run takes of the memory at most, in rows; None if that depends on when it is ended."""

    run: PlannedRun
    rows: float | None

    def to_dict(self) -> dict[str, Any]:
        """The use as plain data for JSON."""
        return {"run": self.run.name, "rows": self.rows}


def memory_uses(
    planned: Sequence[PlannedRun], setup: Setup, datasheet: Datasheet
) -> tuple[MemoryUse, ...]:
    """What each planned campaign takes of the memory at most, in the order of their starts.

    The events of a campaign that comes daily are counted with its first day.
    """
    found, begun = list[MemoryUse](), set[str]()
    for run in planned:
        if run.stores:
            lasts_s = None if run.stop is None else (run.stop - run.start).total_seconds()
            again = run.stores != TRENDS and run.name in begun
            rows = (
                0.0 if again else rows_at_most(setup.schedule[run.name], lasts_s, setup, datasheet)
            )
            found.append(MemoryUse(run, rows))
            begun.add(run.name)
    return tuple(found)


def rows_at_most(
    run: Run, lasts_s: float | None, setup: Setup, datasheet: Datasheet
) -> float | None:
    """What a campaign takes of the memory at most, in rows; None where it has no end."""
    stores = str(run.stores)
    each = float(datasheet.campaigns.get(stores, 0))
    if stores != TRENDS:
        return each * (run.at_most or usual_most(datasheet, stores))
    every = run.every or setup.store
    return None if lasts_s is None or every is None else each * (lasts_s // every.seconds)


def usual_most(datasheet: Datasheet, stores: str) -> int:
    """How many events are stored where a setup does not say it: a fifth of the memory."""
    each = datasheet.campaigns.get(stores, 1)
    capacity = datasheet.memory.capacity if datasheet.memory else 0.0
    family = datasheet.family(CAMPAIGN_MOST)
    most = family.template.span()[1] if family else _MOST
    return int(max(1.0, min(0.2 * capacity / max(1, each), most)))


@dataclass(frozen=True)
class Timeline:
    """Campaigns over the same time, divided into equal parts.

    ``runs`` says of each campaign in which parts it stores, ``rows`` what it takes of the memory at most
    (None if that is not known), ``filled`` how many rows the memory holds at most at the end of each part.
    """

    begin: datetime
    end: datetime
    runs: Mapping[str, tuple[bool, ...]]
    rows: Mapping[str, float | None]
    filled: tuple[float, ...]


def timeline(uses: Sequence[MemoryUse], parts: int) -> Timeline | None:
    """All campaigns in one timeline, from the first start to the last end; None where that is no time.

    What comes daily goes on until the recording is stopped: the end is that of the others, if there are some.
    """
    names = list(dict.fromkeys(use.run.name for use in uses))
    by_name = {name: [use for use in uses if use.run.name == name] for name in names}
    begin = min(use.run.start for use in uses)
    once = [own[0].run.stop for own in by_name.values() if len(own) == 1]
    ends = [end for end in once if end] or [use.run.stop for use in uses if use.run.stop]
    end = max(ends, default=begin)
    if end <= begin:
        return None
    edges = [begin + k * (end - begin) / parts for k in range(parts + 1)]
    within = [use for use in uses if use.run.start < end]
    known = {name: [use.rows for use in own if use in within] for name, own in by_name.items()}
    return Timeline(
        begin,
        end,
        {
            name: tuple(
                any(u.run.start < late and (u.run.stop or end) > early for u in own)
                for early, late in pairwise(edges)
            )
            for name, own in by_name.items()
        },
        {
            name: None if None in rows else sum(row for row in rows if row is not None)
            for name, rows in known.items()
        },
        tuple(sum(_taken(use, edge) for use in within) for edge in edges[1:]),
    )


def _taken(use: MemoryUse, at: datetime) -> float:
    """What a campaign has taken of the memory at most up to a moment: trends little by little."""
    if use.rows is None or at <= use.run.start:
        return 0.0
    if use.run.stores != TRENDS or use.run.stop is None:
        return use.rows
    return use.rows * min(1.0, (at - use.run.start) / (use.run.stop - use.run.start))
