"""The same work on several processes or machines, by Dask: each part of the channels is read by itself."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.analysis.series import Series
from leitwerk.check.channels import CheckedChannel, DerivedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.errors import FileProblem
from leitwerk.evaluation.judged import Judged, judge_groups, papers_within, survey
from leitwerk.evaluation.shares import ShareVerdict, absent_share
from leitwerk.evaluation.summary import Summary
from leitwerk.evaluation.totals import PeriodTotals
from leitwerk.project.setups import read_setup
from leitwerk.recordings.condense import condense_pieces
from leitwerk.recordings.rows import joined_rows
from leitwerk.recordings.store import Store
from leitwerk.setup.papers import Papers

_ROWS = 1_000_000
T = TypeVar("T")


@dataclass(frozen=True)
class Divided:
    """What is worked by Dask: the rows of a device, its channels divided into parts.

    Each part is read from the files with the memory of a piece. The workers have to see the folder of the
    store, and the setup file.

    Attributes
    ----------
    store : Store
    device : str
        Its serial number.
    setup : CheckedSetup, optional
        Read from a file; with its derived channels, alarms and bands.
    parts : int
        Into so many parts the channels are divided.
    rows : int
        Of a piece.
    span : mapping
        As for ``Store.summarise``.
    compute : mapping
        For ``dask.compute``: ``{"scheduler": "processes", "num_workers": 2}``; with a client of
        ``dask.distributed``, nothing.

    """

    store: Store
    device: str
    setup: CheckedSetup | None = None
    parts: int = 2
    rows: int = _ROWS
    span: Mapping[str, Any] = field(default_factory=dict)
    compute: Mapping[str, Any] = field(default_factory=dict)

    def summarise(self) -> Summary:
        """The same as ``Store.summarise``: the numbers are the same.

        Raises
        ------
        FileProblem
            The package is not there, or there are no such rows.

        """
        return self._joined(self._work(_summarise_part))

    def survey(self) -> tuple[Summary, Judged]:
        """The same as ``Store.survey``.

        Raises
        ------
        FileProblem
            As for ``summarise``.
        QuantityError
            As for ``Store.survey``.

        """
        found = self._work(_survey_part)
        summary = self._joined([part for part, _ in found])
        papers = Papers() if self.setup is None else self.setup.setup.papers or Papers()
        judged = [one for _, one in found]
        return summary, Judged(
            judge_groups(summary, papers.judged),
            _joined_shares([one.shares for one in judged], papers),
            next((one.exposure for one in judged if one.exposure is not None), None),
            _joined_totals([one.totals for one in judged if one.totals is not None], papers),
        )

    def condense(self, length_s: float, statistics: Sequence[str], zone: ZoneInfo) -> Series:
        """The same as ``condense``, of the channels that the store holds and those that are derived.

        Raises
        ------
        FileProblem
            As for ``summarise``.
        QuantityError
            The interval fits no clock.

        """
        found = self._work(_condense_part, length_s, tuple(statistics), zone.key)
        place = {column: (part, k) for part in found for k, column in enumerate(part.columns)}
        names = [f"{name} {statistic}" for name in self._order() for statistic in statistics]
        columns = [column for name in names for column in place if column.name == name]
        values = [place[column][0].values[:, place[column][1]] for column in columns]
        return replace(found[0], columns=tuple(columns), values=np.stack(values, axis=1))

    def _work(self, what: Callable[..., T], *more: Any) -> Sequence[T]:
        """What each part comes to."""
        try:
            from dask.base import compute as work_out  # noqa: PLC0415 - an optional package, and large
            from dask.delayed import delayed  # noqa: PLC0415
        except ImportError:
            raise FileProblem(
                "this needs the package dask",
                remedy="pip install 'leitwerk[dask]', or use the store",
            ) from None
        papers = None if self.setup is None else self.setup.setup.papers
        groups = _groups(self._held(), self._channels, max(1, self.parts), papers)
        file = "" if self.setup is None else str(Path(self.setup.setup.source.file).resolve())
        work: Any = delayed(what)
        root = str(self.store.root.resolve())
        tasks = [
            work(
                _Part(root, self.device, tuple(sorted(group)), file, self.rows, dict(self.span)),
                *more,
            )
            for group in groups
        ]
        gather: Any = work_out
        found: Sequence[T] = gather(*tasks, **self.compute)
        return found

    @property
    def _channels(self) -> Sequence[CheckedChannel]:
        return () if self.setup is None else self.setup.channels

    def _held(self) -> list[str]:
        parts = self.store.parts(self.device)
        held = list(dict.fromkeys(name for part in parts for name in part.columns))
        if not held:
            raise FileProblem(
                f"{self.store.root} has no rows of {self.device}", remedy="fetch them first"
            )
        return held

    def _order(self) -> list[str]:
        """The channels in their order: those that are held, then the derived ones."""
        held = self._held()
        return [*held, *(channel.name for channel in self._channels if channel.name not in held)]

    def _joined(self, found: Sequence[Summary]) -> Summary:
        """The parts as one."""
        known = {channel.name: channel for part in found for channel in part.channels}
        every = tuple(known[name] for name in self._order() if name in known)
        return replace(found[0], channels=every)


@dataclass(frozen=True)
class _Part:
    """What a worker gets: some channels of a device."""

    root: str
    device: str
    names: tuple[str, ...]
    file: str
    rows: int
    span: dict[str, Any]

    def setup(self) -> CheckedSetup | None:
        """Read again by the worker."""
        return read_setup(self.file) if self.file else None

    def pieces(self) -> Iterator[Series]:
        """The rows, with the derived channels."""
        store = Store(self.root)
        return store.pieces(self.device, self.names, self.setup(), rows=self.rows, span=self.span)


def _summarise_part(part: _Part) -> Summary:
    store = Store(part.root)
    return store.summarise(part.device, part.names, part.setup(), rows=part.rows, span=part.span)


def _survey_part(part: _Part) -> tuple[Summary, Judged]:
    setup = part.setup()
    if setup is None or setup.setup.papers is None:
        return _summarise_part(part), Judged()
    names = {*part.names}
    derived = [c for c in setup.channels if isinstance(c, DerivedChannel) and names >= {*c.inputs}]
    names |= {channel.name for channel in derived}
    papers = papers_within(setup.setup.papers, names)
    return survey(part.pieces(), papers, setup.channels, setup.setup.zone)


def _condense_part(part: _Part, length_s: float, statistics: tuple[str, ...], zone: str) -> Series:
    return joined_rows(list(condense_pieces(part.pieces(), length_s, statistics, ZoneInfo(zone))))


def _joined_shares(
    parts: Sequence[Sequence[ShareVerdict]], papers: Papers
) -> tuple[ShareVerdict, ...]:
    found = []
    for name, share in papers.shares.items():
        same = [verdict for part in parts for verdict in part if verdict.name == name]
        known = {channel.name: channel for verdict in same for channel in verdict.channels}
        channels = tuple(known.get(channel) or absent_share(channel) for channel in share.channels)
        found.append(ShareVerdict(name, share.each.seconds, share.value, share.share, channels))
    return tuple(found)


def _joined_totals(parts: Sequence[PeriodTotals], papers: Papers) -> PeriodTotals | None:
    if not parts or papers.totals is None:
        return None
    known = {channel.name: channel for part in parts for channel in part.channels}
    channels = tuple(known[name] for name in papers.totals.channels if name in known)
    return replace(parts[0], channels=channels)


def _groups(
    held: Sequence[str], channels: Sequence[CheckedChannel], parts: int, papers: Papers | None
) -> list[set[str]]:
    """The columns of each part; those that are compared, or computed from each other, stand together."""
    groups = {name: {name} for name in held}
    together = []
    for channel in channels:
        near = {alarm.other for alarm in channel.alarms if alarm.other} | {channel.name}
        if isinstance(channel, DerivedChannel):
            near |= {*channel.inputs}
        together.append(near)
    if papers is not None and papers.exposure is not None:
        together.append({papers.exposure.level, papers.exposure.peak or papers.exposure.level})
    for near in together:
        joined = set().union(*(groups[name] for name in near if name in groups))
        for name in joined:
            groups[name] = joined
    single = {id(group): group for group in groups.values()}.values()
    found: list[set[str]] = [set() for _ in range(min(parts, len(single)))]
    for group in sorted(single, key=len, reverse=True):
        min(found, key=len).update(group)
    return found
