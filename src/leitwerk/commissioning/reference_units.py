"""Known-good units as the measure of others: what they show in the tests of a plan, kept as a file."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

import numpy as np
from pydantic import Field

from leitwerk.check.test_plan import CheckedPlan
from leitwerk.commissioning.unit_tests import TestResult
from leitwerk.lots.limits import LEAST_UNITS, ReferenceValue
from leitwerk.lots.measures import Measure
from leitwerk.project.files import content_hash, write_atomic
from leitwerk.project.kept_json import KeptFile, KeptIdentity, read_kept

_CHANCE = 0.05  # that one of all values is called odd though it belongs
_LEAST_UNITS = 5  # until one of them can be odd


class ReferenceEntry(KeptFile):
    """What the units showed in one test of one channel: values by serial number, in ``unit``."""

    test: str
    channel: str
    unit: str
    values: dict[str, list[float]]

    def value(self) -> ReferenceValue:
        """Mean and spread: between the units, and within one that is measured again."""
        means = np.array([np.mean(v) for v in self.values.values()], np.float64)
        within = [float(np.var(v, ddof=1)) for v in self.values.values() if len(v) > 1]
        repeats = min((len(v) for v in self.values.values()), default=1)
        between = float(np.var(means, ddof=1)) if means.size > 1 else math.nan
        # The means have a part of the variance within: one measurement has all of it.
        rest = float(np.mean(within)) * (1.0 - 1.0 / repeats) if within else 0.0
        mean = float(means.mean()) if means.size else math.nan
        return ReferenceValue(mean, math.sqrt(between + rest), int(means.size))

    def odd(self, chance: float) -> list[str]:
        """Units that are odd: outside of what the others lead one to expect, but for that chance.

        The interval is that of a further value of a normal distribution (ISO 16269-8).
        """
        from scipy.special import stdtrit  # noqa: PLC0415 - takes long to load, and only here

        means = {serial: float(np.mean(v)) for serial, v in self.values.items()}
        found = []
        for serial, mean in means.items() if len(means) >= _LEAST_UNITS else ():
            others = np.array([m for s, m in means.items() if s != serial])
            limit = float(stdtrit(others.size - 1, 1.0 - chance / 2.0))
            width = limit * float(others.std(ddof=1)) * math.sqrt(1.0 + 1.0 / others.size)
            if abs(mean - others.mean()) > width:
                found.append(
                    f"{serial} is odd: {self.test} of {self.channel or 'the unit'} is "
                    f"{_shown(mean, self.unit)}; the others lead to {others.mean():.5g} ± {width:.2g}"
                )
        return found


class ReferenceFile(KeptFile):
    """Reference units: who they are, when and with which plan and setup they were measured."""

    reference: int = 1
    title: str
    plan_hash: str
    setup_hash: str
    measured: str
    by: str
    samples: int
    units: list[KeptIdentity] = Field(default_factory=list)
    entries: list[ReferenceEntry] = Field(default_factory=list)

    def values(self) -> dict[tuple[str, str], ReferenceValue]:
        """What the units showed, by test and channel."""
        return {(one.test, one.channel): one.value() for one in self.entries}

    def remarks(self, plan: CheckedPlan) -> list[str]:
        """What is odd about the reference, in words.

        A unit beside the others, one outside of limits that need no reference, one that is not as the setup
        expects it; too few units; another plan or setup than now.
        """
        chance = _CHANCE / max(1, len(self.entries) * len(self.units))
        found = [text for entry in self.entries for text in entry.odd(chance)]
        found += [text for entry in self.entries for text in _outside(entry, plan)]
        if self.setup_hash != content_hash(plan.setup.setup.source.content):
            found.append("it was measured with another setup: measure it again")
        if len(self.units) < LEAST_UNITS:
            found.append(
                f"{len(self.units)} units are too few for their spread: at least {LEAST_UNITS}; "
                f"deviations in percent or in a unit can be used"
            )
        return found


def _shown(value: float, unit: str) -> str:
    return f"{value:.5g} {unit}".rstrip()


def _outside(entry: ReferenceEntry, plan: CheckedPlan) -> Iterator[str]:
    """Units of an entry that are outside of fixed limits, or not as the setup expects them."""
    test = next((one for one in plan.tests if one.name == entry.test), None)
    if test is None:
        return
    spans = []
    if not test.rule.needs_reference:
        spans.append((test.rule.low, test.rule.high, "the limits are"))
    channel = next((c for c in plan.channels if c.name == entry.channel), None)
    if test.measure is Measure.REST and channel is not None and channel.expected is not None:
        middle, within = channel.expected
        spans.append((middle - within, middle + within, "the setup expects"))
    for serial, values in entry.values.items():
        mean = float(np.mean(values))
        for low, high, what in spans:
            if not low <= mean <= high:
                yield (
                    f"{serial} is odd: {entry.test} of {entry.channel or 'the unit'} is "
                    f"{_shown(mean, entry.unit)}; {what} {low:.5g} to {high:.5g}"
                )


def without_value(plan: CheckedPlan, results: Iterable[TestResult]) -> str:
    """The first test of a unit that has no finite value, in words; empty where all have one."""
    known = {test.name for test in plan.tests if test.channels}
    for one in results:
        if one.test in known and not math.isfinite(one.value):
            return f"{one.test} of {one.channel or 'the unit'} has no value"
    return ""


def reference_entries(
    plan: CheckedPlan, results: Mapping[str, Iterable[TestResult]]
) -> list[ReferenceEntry]:
    """The entries of a reference, from the results of its units by serial number."""
    found: dict[tuple[str, str], ReferenceEntry] = {}
    units = {test.name: test.unit for test in plan.tests if test.channels}
    for serial, every in results.items():
        for one in every:
            if one.test not in units or not math.isfinite(one.value):
                continue
            key = one.test, one.channel
            entry = found.setdefault(
                key,
                ReferenceEntry(test=one.test, channel=one.channel, unit=units[one.test], values={}),
            )
            entry.values.setdefault(serial, []).append(one.value)
    return list(found.values())


def write_reference(path: Path, reference: ReferenceFile) -> None:
    """Write the file of reference units.

    Raises
    ------
    FileProblem
        It cannot be written.

    """
    write_atomic(path, reference.model_dump_json(indent=1) + "\n")


def read_reference(path: Path) -> ReferenceFile:
    """The file of reference units.

    Raises
    ------
    FileProblem
        It cannot be read, or is no such file.

    """
    return read_kept(
        path, ReferenceFile, "a file of reference units", "measure them: leitwerk reference PLAN"
    )
