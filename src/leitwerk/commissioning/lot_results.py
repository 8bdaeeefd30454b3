"""What came of a lot: yield, faults by their number, capability, trends, units that do not belong."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.commissioning.lot_ledger import KeptResult, UnitRecord
from leitwerk.errors import DomainError
from leitwerk.lots.capability import Capability, Difference, capability, difference, share_interval
from leitwerk.lots.limits import Limits
from leitwerk.lots.spread import Trend, outliers, trend
from leitwerk.results import Outcome

if TYPE_CHECKING:
    from numpy.typing import NDArray


_CHANCE = 0.05  # that anything at all is called odd in a lot whose units belong together


@dataclass(frozen=True)
class MeasureOfLot:
    """One test of one channel over a lot. ``values`` has shape (n_units,), in the order of their test.

    ``trend`` and ``outliers`` are of units that passed; an outlier is the place of a unit in the lot.
    """

    test: str
    channel: str
    unit: str
    low: float
    high: float
    values: NDArray[np.float64]
    capability: Capability | None
    trend: Trend | None
    outliers: tuple[int, ...]

    @property
    def name(self) -> str:
        """Test and channel in words."""
        return f"{self.test} of {self.channel}" if self.channel else self.test

    @property
    def limits(self) -> str:
        """Its limits in words."""
        return Limits(self.low, self.high).text

    def capability_row(self) -> tuple[str, ...] | None:
        """Name, count, mean, spread, limits, Cp, Cpk with its interval and unit; None without limits."""
        known = self.capability
        if known is None:
            return None
        low, high = known.cpk_interval
        return (
            self.name, str(known.count), f"{known.mean:.5g}", f"{known.standard_deviation:.2g}",
            self.limits, "" if math.isnan(known.cp) else f"{known.cp:.2f}",
            f"{known.cpk:.2f} ({low:.2f} to {high:.2f})", self.unit,
        )  # fmt: skip

    def to_dict(self) -> dict[str, Any]:
        """The measure as plain data for JSON."""
        return {
            "test": self.test, "channel": self.channel, "unit": self.unit,
            "low": _or_none(self.low), "high": _or_none(self.high),
            "capability": None if self.capability is None else self.capability.to_dict(),
            "change": None if self.trend is None else self.trend.change,
            "change_is_clear": None if self.trend is None else self.trend.is_clear,
        }  # fmt: skip


@dataclass(frozen=True)
class LotResult:
    """A lot: the last record of each unit, and what follows from them.

    ``pareto`` has the faults with the number of units, the most frequent first. Each unit counts once, with
    its first fault in the order of the plan: others often follow from that.
    """

    records: tuple[UnitRecord, ...]
    tested_again: int
    passed: int
    interval: tuple[float, float]
    pareto: tuple[tuple[str, int], ...]
    measures: tuple[MeasureOfLot, ...]

    @property
    def outcome(self) -> Outcome:
        """Passed when every unit passed."""
        return Outcome.PASSED if self.passed == len(self.records) else Outcome.FAILED

    @property
    def share(self) -> float:
        """The yield: the share of units that passed."""
        return self.passed / len(self.records)

    def capability_rows(self) -> list[tuple[str, ...]]:
        """The capability of each measure that has limits, as a row of a table."""
        rows = (one.capability_row() for one in self.measures)
        return [row for row in rows if row is not None]

    def outliers(self) -> Iterator[tuple[UnitRecord, MeasureOfLot]]:
        """Units that passed and do not belong to the others, with the measure by which."""
        for measure in self.measures:
            for place in measure.outliers:
                yield self.records[place], measure

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        times = [one.took_s for one in self.records]
        return {
            "units": len(self.records), "passed": self.passed, "yield": self.share,
            "yield_interval": list(self.interval), "tested_again": self.tested_again,
            "median_time_s": float(np.median(times)),
            "faults": [{"fault": fault, "units": count} for fault, count in self.pareto],
            "measures": [one.to_dict() for one in self.measures],
            "outliers": [
                {"serial": record.serial, "test": measure.test, "channel": measure.channel}
                for record, measure in self.outliers()
            ],
        }  # fmt: skip


def evaluate_lot(records: Sequence[UnitRecord], tested_again: int = 0) -> LotResult:
    """Evaluate the last records of the units of a lot.

    Raises
    ------
    DomainError
        No unit was tested.

    """
    if not records:
        raise DomainError("no unit was tested", remedy="test some: leitwerk test-lot PLAN")
    passed = sum(one.passed for one in records)
    faults = Counter(one.faults[0] for one in records if one.faults)
    return LotResult(
        records=tuple(records),
        tested_again=tested_again,
        passed=passed,
        interval=share_interval(passed, len(records)),
        pareto=tuple(sorted(faults.items(), key=lambda item: (-item[1], item[0]))),
        measures=tuple(_measures(records)),
    )


def _measures(records: Sequence[UnitRecord]) -> Iterator[MeasureOfLot]:
    columns: dict[tuple[str, str], list[tuple[int, KeptResult]]] = {}
    for place, record in enumerate(records):
        for one in record.results:
            if one.value is not None:
                columns.setdefault((one.test, one.channel), []).append((place, one))
    good = np.array([one.passed for one in records])
    chance = _CHANCE / max(1, len(columns))  # of all measures together
    for (test, channel), found in columns.items():
        values = np.full(len(records), math.nan)
        for place, one in found:
            values[place] = one.value
        last = found[-1][1]
        low = -math.inf if last.low is None else last.low
        high = math.inf if last.high is None else last.high
        of_good = np.where(good, values, math.nan)
        stand_apart = np.flatnonzero(outliers(of_good, chance=chance) & good)
        yield MeasureOfLot(
            test, channel, last.unit, low, high, values, _capability(values, low, high),
            trend(of_good, chance=chance), tuple(map(int, stand_apart)),
        )  # fmt: skip


def _capability(values: NDArray[np.float64], low: float, high: float) -> Capability | None:
    has_limit = math.isfinite(low) or math.isfinite(high)
    return capability(values, low, high) if has_limit and np.isfinite(values).sum() > 1 else None


def compare_lots(one: LotResult, other: LotResult) -> Iterator[tuple[MeasureOfLot, Difference]]:
    """How the measures of a lot differ from those of another, where both have them."""
    known = {(m.test, m.channel): m for m in other.measures}
    for measure in one.measures:
        beside = known.get((measure.test, measure.channel))
        enough = beside is not None and min(
            np.isfinite(measure.values).sum(), np.isfinite(beside.values).sum()
        )
        if beside is not None and enough > 1:
            yield measure, difference(measure.values, beside.values)


def _or_none(number: float) -> float | None:
    return number if math.isfinite(number) else None
