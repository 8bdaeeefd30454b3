"""Values over time, and the one form in which files hold them.

A file is CSV (RFC 4180) in UTF-8. The first column is ``time``, in UTC (ISO 8601:
``2026-03-02T05:00:00.250Z``), or ``time [s]`` from a start that has no date. Each column behind it has its
unit in its heading: ``air_top [°C]``. A column ``air_top.quality`` says in words what the value beside it is
worth; a bad value has an empty cell. Numbers have a decimal point.
"""

from __future__ import annotations

import csv
import io
import math
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.errors import QuantityError
from leitwerk.parsing.frames import dataframe, utc_index
from leitwerk.parsing.local_time import soonest
from leitwerk.signals.quality import QUALITY_BY_REASON, Quality

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import NDArray

DATED, UNDATED = "time", "time [s]"
_QUALITY = ".quality"
_FORMULA = {"=", "+", "-", "@", "\t", "\r"}  # what a spreadsheet takes for the begin of one
_HEADING = re.compile(r"(.*?)(?: *\[([^\[\]]*)\])?")
_VALID = (
    "CSV whose first line is 'time,air_top [°C],…', with times such as 2026-03-02T05:00:00Z; "
    "or 'time [s],…' with seconds from the start"
)
_EXACT = 2.0**53  # whole numbers below it are exact in 64-bit floating point
_SINGLE = 3.4e38  # about the largest number of 32-bit floating point


@dataclass(frozen=True, slots=True)
class Column:
    """The name and the unit's symbol of one column of values; a count or a state has no unit."""

    name: str
    unit: str = ""

    def __str__(self) -> str:
        return f"{self.name} [{self.unit}]" if self.unit else self.name


@dataclass(frozen=True)
class Series:
    """Values of some columns over time.

    ``times_s`` has shape (n,): in s since 1970-01-01 UTC if ``dated``, else from a start without a date.
    ``values`` and ``qualities`` have shape (n, n_columns). Without ``qualities``, what is
    not NaN is good.
    """

    columns: tuple[Column, ...]
    times_s: NDArray[np.float64]
    values: NDArray[np.float64]
    qualities: NDArray[np.uint8] | None = None
    dated: bool = True

    def good(self) -> NDArray[np.float64]:
        """The values, NaN where they are not good; shape (n, n_columns)."""
        if self.qualities is None or not self.qualities.any():
            return self.values
        return np.where(self.qualities == Quality.GOOD, self.values, np.nan)

    def known(self) -> NDArray[np.float64]:
        """The values, NaN where there is none; those that may be off are among them."""
        if self.qualities is None:
            return self.values
        return np.where(Quality.has_value(self.qualities), self.values, np.nan)

    def to_dataframe(self) -> pd.DataFrame:
        """The good values: a column for each of the series, times in UTC as the index.

        ``attrs["units"]`` has the units.
        """
        millis = np.round(self.times_s * 1000.0).astype("datetime64[ms]")
        index = utc_index(millis) if self.dated else self.times_s
        values, head = self.good(), DATED if self.dated else "time_s"
        columns = {head: index, **{c.name: values[:, k] for k, c in enumerate(self.columns)}}
        return dataframe(columns, {c.name: c.unit for c in self.columns}, head)

    def csv(self) -> str:
        """The series as the text of a file."""
        with_quality = self.qualities is not None
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(series_heading(self.columns, dated=self.dated, qualities=with_quality))
        codes = [None] * len(self.times_s) if self.qualities is None else self.qualities.tolist()
        for time_s, values, row in zip(
            self.times_s.tolist(), self.values.tolist(), codes, strict=True
        ):
            writer.writerow(series_row(time_s, values, row, dated=self.dated))
        return out.getvalue()


def series_heading(
    columns: Iterable[Column], *, dated: bool = True, qualities: bool = True
) -> list[str]:
    """The first line of a file."""
    heads = [DATED if dated else UNDATED]
    for column in columns:
        heads += [str(column), f"{column.name}{_QUALITY}"] if qualities else [str(column)]
    return [plain_cell(head) for head in heads]


def series_row(
    time_s: float, values: Sequence[float], qualities: Sequence[int] | None, *, dated: bool = True
) -> list[str]:
    """One line of a file: a time as in ``Series``, then the values, each with its quality if given."""
    row = [utc_text(time_s) if dated else number_text(round(time_s, 6))]
    if qualities is None:
        return [*row, *map(number_text, values)]
    for value, code in zip(values, qualities, strict=True):
        quality = Quality(code)
        shown = quality.is_good or quality.is_uncertain
        row += [number_text(value) if shown else "", quality.reason]
    return row


def utc_text(time_s: float) -> str:
    """A time in s since 1970-01-01 UTC as ISO 8601, to the millisecond where it has some.

    Examples
    --------
    >>> utc_text(0.25)
    '1970-01-01T00:00:00.250Z'

    """
    moment = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(milliseconds=round(time_s * 1000.0))
    precision = "milliseconds" if moment.microsecond else "seconds"
    return moment.replace(tzinfo=None).isoformat(timespec=precision) + "Z"


def number_text(value: float) -> str:
    """A number for a file: the fewest digits that give it back; empty for what is not a number.

    What is a 32-bit floating-point number has the digits of one; others have nine significant digits.

    Examples
    --------
    >>> number_text(21.530000686645508), number_text(-0.0), number_text(1 / 3)
    ('21.53', '0', '0.333333333')

    """
    if not math.isfinite(value):
        return ""
    if value.is_integer() and abs(value) < _EXACT:
        return str(int(value))
    if abs(value) < _SINGLE and float(single := np.float32(value)) == value:
        return str(single)
    return f"{value:.9g}"


def plain_cell(value: Any) -> Any:
    """A text for a cell that no spreadsheet takes for a formula: a quote is put before it.

    Examples
    --------
    >>> plain_cell("=1+1"), plain_cell("air_top")
    ("'=1+1", 'air_top')

    """
    is_formula = isinstance(value, str) and value[:1] in _FORMULA
    return f"'{value}" if is_formula else value


def _head(cell: str) -> str:
    """A heading as it was before ``plain_cell``."""
    cell = cell.strip()
    return cell[1:] if cell[:1] == "'" and cell[1:2] in _FORMULA else cell


def read_series(text: str, zone: ZoneInfo | None = None) -> Series:
    """The series that the text of a file holds.

    Parameters
    ----------
    text : str
    zone : ZoneInfo, optional
        The zone of times that are written without one. Of an hour that the clocks show twice, the second one
        is known by a step back.

    Raises
    ------
    QuantityError
        The text is not a series; the line is named.

    """
    try:
        rows = list(csv.reader(io.StringIO(text.lstrip("\ufeff"), newline="")))
    except csv.Error as error:
        raise QuantityError(f"this is not a CSV: {error}", valid=_VALID) from None
    heads = [_head(cell) for cell in rows[0]] if rows else []
    if len(rows) < 2 or not heads or heads[0] not in {DATED, UNDATED}:
        raise QuantityError("this does not hold values over time", valid=_VALID)
    if len(set(heads)) < len(heads):
        double = next(head for k, head in enumerate(heads) if head in heads[:k])
        raise QuantityError(f"line 1: two columns are called {double[:40]!r}", valid=_VALID)
    reader = _Reader(heads, zone)
    for number, row in enumerate(rows[1:], start=2):
        reader.take(row, f"line {number}")
    return reader.series()


class _Reader:
    """Takes a file line by line."""

    def __init__(self, heads: list[str], zone: ZoneInfo | None) -> None:
        self.width, self.zone, self.dated = len(heads), zone, heads[0] == DATED
        self.columns: list[Column] = []
        self.value_cells: list[int] = []
        quality_of = {h.removesuffix(_QUALITY): k for k, h in enumerate(heads) if _QUALITY in h}
        for k, head in enumerate(heads[1:], start=1):
            if not head.endswith(_QUALITY):
                match = _HEADING.fullmatch(head)
                if match is None:
                    raise QuantityError(f"line 1: {head[:40]!r} is not a heading", valid=_VALID)
                name, unit = match.groups()
                self.columns.append(Column(name, unit or ""))
                self.value_cells.append(k)
        self.quality_cells = [quality_of.get(column.name) for column in self.columns]
        self.times: list[float] = []
        self.rows: list[list[float]] = []
        self.codes: list[list[int]] = []
        self.before: datetime | None = None

    def take(self, row: list[str], where: str) -> None:
        if len(row) != self.width:
            message = f"{where} has {len(row)} cells, the first line {self.width}"
            raise QuantityError(message, valid=_VALID)
        self.times.append(self._time(row[0].strip(), where))
        values = [_number(row[k], where) for k in self.value_cells]
        self.rows.append(values)
        self.codes.append(
            [
                _code(row[cell], where) if cell is not None and row[cell].strip() else _own(value)
                for cell, value in zip(self.quality_cells, values, strict=True)
            ]
        )

    def series(self) -> Series:
        shape = (len(self.rows), len(self.columns))
        return Series(
            tuple(self.columns),
            np.array(self.times, dtype=np.float64),
            np.array(self.rows, dtype=np.float64).reshape(shape),
            np.array(self.codes, dtype=np.uint8).reshape(shape),
            self.dated,
        )

    def _time(self, cell: str, where: str) -> float:
        if not self.dated:
            seconds = _number(cell, where)
            if not math.isfinite(seconds):
                raise QuantityError(f"{where}: the time is missing", valid=_VALID)
            return seconds
        try:
            wall = datetime.fromisoformat(cell)
        except ValueError:
            message = f"{where}: {cell[:30]!r} is not a time"
            raise QuantityError(message, valid=_VALID) from None
        try:
            self.before = self._instant(wall, where)
        except OverflowError:
            raise QuantityError(f"{where}: {cell!r} is outside all calendars") from None
        return self.before.timestamp()

    def _instant(self, wall: datetime, where: str) -> datetime:
        if wall.tzinfo is not None:
            return wall.astimezone(UTC)
        if self.zone is None:
            raise QuantityError(
                f"{where}: the time {wall} has no zone",
                valid="2026-03-02T05:00:00Z, 2026-03-02T06:00:00+01:00",
                remedy="name its zone with --zone",
            )
        first = soonest(wall, self.zone)
        second = wall.replace(tzinfo=self.zone, fold=1).astimezone(UTC)
        # Of an hour that comes twice, the second time when the first would step back.
        if self.before is not None and first <= self.before <= second + timedelta(seconds=1):
            return second
        return first


def _number(cell: str, where: str) -> float:
    try:
        return float(cell) if cell.strip() else math.nan
    except ValueError:
        message = f"{where}: {cell[:20]!r} is not a number"
        raise QuantityError(message, valid="numbers with a decimal point") from None


def _code(cell: str, where: str) -> int:
    try:
        return QUALITY_BY_REASON[cell.strip()]
    except KeyError:
        message = f"{where}: {cell[:30]!r} is not a quality"
        raise QuantityError(message, valid=", ".join(QUALITY_BY_REASON)) from None


def _own(value: float) -> int:
    return int(Quality.GOOD if math.isfinite(value) else Quality.NO_NUMBER)
