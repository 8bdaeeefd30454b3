"""Tariffs: prices by day and time of day on the wall clock, and what a power or a flow costs by them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from typing import TYPE_CHECKING, TypeAlias
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.derived.remembered import Total
from leitwerk.errors import DomainError, QuantityError
from leitwerk.parsing.durations import DAY_S, parse_time_of_day
from leitwerk.parsing.local_time import transitions

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from leitwerk.derived.remembered import GapS

    Array: TypeAlias = NDArray[np.float64]

DAYS = ("Mo", "Tu", "We", "Th", "Fr", "Sa", "Su")
HOLIDAY, OTHER = "holiday", "other"
_ROW = re.compile(r"(?P<days>\S+)(?:\s+(?P<from>\d\d:\d\d)\s*\.\.\s*(?P<to>\d\d:\d\d))?")
_SPAN = re.compile(r"(\w\w)-(\w\w)")
_ROWS = 1000


@dataclass(frozen=True, slots=True)
class Price:
    """One row of a tariff: on some days, from ... to ... s since midnight on the wall clock."""

    days: frozenset[str]
    begin_s: int
    end_s: int
    price: float

    def holds(self, day: str, at_s: int) -> bool:
        """Whether it is for a time of a day; a span may go over midnight."""
        if day not in self.days:
            return False
        if self.begin_s < self.end_s:
            return self.begin_s <= at_s < self.end_s
        return at_s >= self.begin_s or at_s < self.end_s


@dataclass(frozen=True, slots=True)
class Tariff:
    """Prices, of which the first row that holds counts, and days that are holidays.

    Parameters
    ----------
    rows : tuple of Price
    holidays : frozenset of date
    zone : str
        The zone of the wall clock.

    """

    rows: tuple[Price, ...]
    holidays: frozenset[date]
    zone: str

    def edges(self, first: date, last: date) -> tuple[Array, Array]:
        """When prices begin, in s since 1970-01-01 UTC, from the first day to the last; and the prices.

        An hour that the clocks show twice has its prices twice; one that they skip has none.
        """
        zone = ZoneInfo(self.zone)
        turns = sorted({0, *(s % DAY_S for row in self.rows for s in (row.begin_s, row.end_s))})
        moments: set[float] = set()
        for ordinal in range(first.toordinal(), last.toordinal() + 1):
            for at_s in turns:
                clock = time(at_s // 3600, at_s % 3600 // 60)
                shown = datetime.combine(date.fromordinal(ordinal), clock, zone)
                moments |= {shown.replace(fold=k).timestamp() for k in (0, 1)}
        low, high = (datetime.fromtimestamp(f(moments), UTC) for f in (min, max))
        moments |= {change.timestamp() for change in transitions(low, high, zone)}
        times = np.array(sorted(moments))
        local = [datetime.fromtimestamp(moment, zone) for moment in times.tolist()]
        prices = [self.price(t.date(), t.hour * 3600 + t.minute * 60 + t.second) for t in local]
        return times, np.array(prices)

    def price(self, day: date, at_s: int) -> float:
        """The price at a time of a day: of its date, else of holidays, else of the day of the week."""
        names = [day.isoformat(), *([HOLIDAY] if day in self.holidays else ())]
        for name in (*names, DAYS[day.weekday()] if HOLIDAY not in names else OTHER, OTHER):
            for row in self.rows:
                if row.holds(name, at_s):
                    return row.price
        return float("nan")


def parse_tariff(rows: Sequence[tuple[str, float]], holidays: Sequence[str], zone: str) -> Tariff:
    """A tariff from rows of days and prices.

    Days are ``Mo-Fr``, ``Sa,Su``, ``holiday``, a date, or ``other`` for all times that no row is for. A
    time of day may follow: ``Mo-Fr 06:00..22:00``.

    Raises
    ------
    DomainError
        A row cannot be read, or a time has no price.

    """
    if len(rows) > _ROWS or len(holidays) > _ROWS:
        raise DomainError(f"a tariff of {len(rows)} rows is too long", remedy=f"at most {_ROWS}")
    found = tuple(_price(text, price) for text, price in rows)
    tariff = Tariff(found, frozenset(_date(text) for text in holidays), zone)
    monday = date(2026, 3, 2)
    for k in range(7):
        for at_s in range(0, DAY_S, 900):
            if np.isnan(tariff.price(monday + timedelta(days=k), at_s)):
                clock = f"{at_s // 3600:02}:{at_s % 3600 // 60:02}"
                raise DomainError(
                    f"the tariff has no price for {DAYS[k]} {clock}", remedy="add 'other: …'"
                )
    return tariff


def _price(text: str, price: float) -> Price:
    match = _ROW.fullmatch(text.strip())
    if match is None:
        raise DomainError(
            f"{text[:40]!r} does not say when a price holds",
            remedy="Mo-Fr 06:00..22:00, holiday, other",
        )
    begin, end = 0, DAY_S
    if match["from"]:
        try:
            begin, end = parse_time_of_day(match["from"]), parse_time_of_day(match["to"])
        except QuantityError as error:
            raise DomainError(f"{text[:40]!r}: {error.message}", remedy=error.valid) from None
    return Price(frozenset(_days(match["days"])), begin, end, price)


def _days(text: str) -> list[str]:
    found = []
    for part in text.split(","):
        span = _SPAN.fullmatch(part)
        if span is not None and span[1] in DAYS and span[2] in DAYS:
            first, last = DAYS.index(span[1]), DAYS.index(span[2])
            found += [DAYS[k % 7] for k in range(first, last + 1 + 7 * (last < first))]
        elif part in {*DAYS, HOLIDAY, OTHER}:
            found.append(part)
        else:
            found.append(_date(part).isoformat())
    return found


def _date(text: str) -> date:
    try:
        return date.fromisoformat(text.strip())
    except ValueError:
        valid = f"{', '.join(DAYS)}, Mo-Fr, {HOLIDAY}, {OTHER}, or a date such as 2026-12-24"
        raise DomainError(f"{text[:40]!r} is not a day", remedy=valid) from None


class Cost(Total):
    """The integral of power · price over time, since the start or the period's.

    Where the price changes between two samples, the line between them is divided there.
    """

    def __init__(self, rows: int, gap_s: GapS, tariff: Tariff, starts: object) -> None:
        super().__init__(rows, gap_s, starts)  # type: ignore[arg-type]
        self._tariff, self._zone = tariff, ZoneInfo(tariff.zone)
        self._edges, self._prices = np.zeros(0), np.zeros(0)

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        t, value = self.before(times_s, x)
        begins = None if self._starts is None else self._starts(times_s)
        since = t if begins is None else np.maximum(t, begins[:, None])
        added = np.full(x.shape, np.nan)
        known = np.isfinite(t) & np.isfinite(x)
        if known.any():
            self._reach(float(since[known].min()), float(times_s[-1]))
            now = np.broadcast_to(times_s[:, None], x.shape)
            added[known] = self._priced(since[known], now[known], t[known], value[known], x[known])
        return self.summed(added, begins, x)

    def _reach(self, low: float, high: float) -> None:
        """Know the prices from ... to ..."""
        if not (self._edges.size and self._edges[0] <= low and high < self._edges[-1]):
            days = [datetime.fromtimestamp(s, self._zone).date() for s in (low, high)]
            margin = timedelta(days=2)
            self._edges, self._prices = self._tariff.edges(days[0] - margin, days[1] + margin)

    def _priced(self, since: Array, now: Array, t: Array, before: Array, x: Array) -> Array:
        slope = (x - before) / np.where(now > t, now - t, 1.0)
        first = np.searchsorted(self._edges, since, side="right") - 1
        last = np.searchsorted(self._edges, now, side="right") - 1
        total = np.zeros(since.shape)
        for step in range(int((last - first).max()) + 1):
            k = first + step
            inside = k <= last
            k = np.minimum(k, self._edges.size - 2)
            low, high = np.maximum(since, self._edges[k]), np.minimum(now, self._edges[k + 1])
            middle = before + slope * ((low + high) / 2.0 - t)
            total += np.where(inside & (high > low), middle * (high - low) * self._prices[k], 0.0)
        return total
