"""Corrections of rows after the fact: the clock, a calibration or scale, a barometer; each a new version."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from leitwerk.analysis.series import Series
from leitwerk.check.channels import MeasuredChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.errors import QuantityError
from leitwerk.evaluation.host_values import HostValues
from leitwerk.parsing.quantities import Quantity
from leitwerk.parsing.units import convert, convert_difference, parse_unit
from leitwerk.recordings.about import About, about_setup
from leitwerk.recordings.catalogue import Part
from leitwerk.recordings.fetch import AS_STORED

Change = Callable[[Series, About], tuple[Series, About]]


@dataclass(frozen=True)
class Corrections:
    """What is to be corrected.

    Attributes
    ----------
    ahead_s : float, in s, or None
        How far the clock of the device was ahead at the end of each run; spread evenly from its begin, where
        it was right. None for what was noted at each fetch.
    all_along : bool
        Whether it was as far off from the begin on, as a clock that was set wrongly.
    setup : CheckedSetup, optional
        By which channels are worked anew from what the device stored.
    added : mapping from channel to Quantity
        What is added to all values of a channel.
    less : mapping from channel to channel
        What is taken off, row by row: the air pressure, where a sensor shows absolute pressure.

    """

    ahead_s: float | None = 0.0
    all_along: bool = False
    setup: CheckedSetup | None = None
    added: Mapping[str, Quantity] = field(default_factory=dict)
    less: Mapping[str, str] = field(default_factory=dict)

    def prepared(self, parts: Sequence[Part]) -> Change:
        """What corrects the rows of each file.

        Raises
        ------
        QuantityError
            Nothing is to be corrected, or a channel is missing.

        """
        known = dict.fromkeys(name for part in parts for name in part.columns)
        for name in (*self.added, *self.less, *self.less.values()):
            if name not in known:
                raise QuantityError(f"there is no channel {name[:40]!r}", valid=", ".join(known))
        noted = {part.run: part.about.clock_off_s for part in parts}
        if self.ahead_s is None and not any(noted.values()):
            raise QuantityError(
                "no clock was off when these rows were fetched, or it was not noted",
                valid="--clock TIME",
            )
        if self.ahead_s == 0.0 and not (self.setup or self.added or self.less):
            raise QuantityError(
                "nothing is to be corrected", valid="--clock, --setup, --add or --less"
            )
        spans: dict[str, tuple[float, float]] = {}
        for part in parts:
            begin, end = spans.get(part.run, (part.begin_ms / 1e3, part.end_ms / 1e3))
            spans[part.run] = min(begin, part.begin_ms / 1e3), max(end, part.end_ms / 1e3)

        def change(series: Series, about: About) -> tuple[Series, About]:
            if self.setup is not None:
                series, about = _worked_anew(series, about, self.setup)
            series = self._shifted(series)
            ahead_s = noted.get(about.run) if self.ahead_s is None else self.ahead_s
            if ahead_s:
                if self.all_along:
                    series = replace(series, times_s=series.times_s - ahead_s)
                else:
                    series = _clock_right(series, *spans[about.run], ahead_s)
                about = about.model_copy(update={"clock_off_s": None})
            return series, about

        return change

    def _shifted(self, series: Series) -> Series:
        places = {column.name: k for k, column in enumerate(series.columns)}
        values = series.values.copy()
        for name, amount in self.added.items():
            if name in places:
                unit = parse_unit(series.columns[places[name]].unit)
                own = amount.unit or unit
                values[:, places[name]] += convert_difference(amount.value, own, unit)
        for name, other in self.less.items():
            if name in places and other in places:
                to, of = (parse_unit(series.columns[places[n]].unit) for n in (name, other))
                values[:, places[name]] -= np.asarray(convert(values[:, places[other]], of, to))
            elif name in places:
                values[:, places[name]] = np.nan  # what is to be taken off was not recorded
        return replace(series, values=values)


def _clock_right(series: Series, begin_s: float, end_s: float, ahead_s: float) -> Series:
    """Times as a right clock would have shown them: the deviation grew evenly."""
    length = max(end_s - begin_s, 1e-9)
    shown = series.times_s
    return replace(series, times_s=shown - ahead_s * (shown - begin_s) / length)


def _worked_anew(series: Series, about: About, setup: CheckedSetup) -> tuple[Series, About]:
    """The channels of a setup, from what the device stored."""
    places = {column.name: k for k, column in enumerate(series.columns)}
    codes = (
        np.zeros(series.values.shape, np.uint8) if series.qualities is None else series.qualities
    )
    values, qualities = series.values.copy(), codes.copy()
    done = []
    for channel in setup.channels:
        raw = f"{channel.name} {AS_STORED}"
        if not isinstance(channel, MeasuredChannel) or channel.name not in places:
            continue
        if raw not in places and about.source != "recording":
            raise QuantityError(
                f"what the device stored of {channel.name} is not among these rows ({about.run})",
                valid="rows that were fetched from the device with --store",
            )
        # Where nothing was worked when the rows were fetched, they are as the device stored them.
        source = places.get(raw, places[channel.name])
        column = series.columns[places[channel.name]]
        if column.unit != channel.symbol:
            raise QuantityError(
                f"{channel.name} is in {column.unit or 'no unit'} here, in {channel.symbol} in the setup",
                valid="a setup with the units of the store",
            )
        worked, found = HostValues([channel]).work(series.values[:, [source]], codes[:, [source]])
        values[:, places[channel.name]], qualities[:, places[channel.name]] = (
            worked[:, 0],
            found[:, 0],
        )
        done.append(column)
    if not done:
        raise QuantityError(
            "no channel of this setup is among these rows", valid=", ".join(places) or "rows"
        )
    made = about_setup(setup, None, series.columns, source="correction", run=about.run)
    updated = {**about.columns, **{c.name: made.columns[c.name] for c in done}}
    changed = about.model_copy(
        update={"columns": updated, "setup": made.setup, "setup_hash": made.setup_hash}
    )
    return replace(series, values=values, qualities=qualities), changed
