"""A plan of tests on a setup: channels and units of each test, and what cannot be tested."""

from __future__ import annotations

import fnmatch
import math
from dataclasses import dataclass

from leitwerk.check.channels import CheckedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.datasheet.vocabulary import DRIVE_LINES, FIRMWARE, LINE_LEVEL
from leitwerk.errors import QuantityError, SetupError, UnitError
from leitwerk.findings import Findings
from leitwerk.lots.limits import Around, LimitRule
from leitwerk.lots.measures import Measure
from leitwerk.parsing.quantities import Quantity, Span
from leitwerk.parsing.units import Unit, convert, convert_difference, parse_unit
from leitwerk.setup.test_plan import Deviation, TestEntry, TestPlan

OF_CHANNELS = {
    Measure.REST, Measure.NOISE, Measure.RESPONSE, Measure.SIGNAL_TO_NOISE, Measure.ERROR, Measure.DRIFT,
    Measure.AGREEMENT,
}  # fmt: skip
STIMULATED = {Measure.RESPONSE, Measure.SIGNAL_TO_NOISE, Measure.ERROR}
_AROUND_ZERO = {
    Measure.DRIFT,
    Measure.AGREEMENT,
    Measure.ERROR,
}  # of them, a deviation is one from 0
_DECIBEL = "dB"


@dataclass(frozen=True, slots=True)
class CheckedTest:
    """One test: of which channels, in which unit, with which limits.

    ``uncertainty`` is the standard one of what measures, in ``unit``. ``below`` and ``above`` are what faults
    are called.
    """

    name: str
    measure: Measure
    channels: tuple[str, ...]
    unit: str
    rule: LimitRule
    guarded: bool
    uncertainty: float
    below: str
    above: str
    stimulus: str = ""
    reads: str = ""

    @property
    def parts(self) -> tuple[str, ...]:
        """What has a number of its own: each channel; of an agreement all together, under an empty name."""
        return ("",) if self.measure is Measure.AGREEMENT else self.channels

    @property
    def faults(self) -> tuple[str, str]:
        """What it is called where a value is too low, and where it is too high."""
        return self.below or f"{self.name} too low", self.above or f"{self.name} too high"


@dataclass(frozen=True)
class CheckedPlan:
    """A plan that can be carried out on units of its setup's model."""

    plan: TestPlan
    setup: CheckedSetup
    tests: tuple[CheckedTest, ...]

    @property
    def needs_reference(self) -> bool:
        """Whether a limit is around what reference units showed."""
        return any(test.rule.needs_reference for test in self.tests)

    @property
    def channels(self) -> tuple[CheckedChannel, ...]:
        """The channels that are sampled, in the order of the setup."""
        wanted = {name for test in self.tests for name in test.channels}
        return tuple(channel for channel in self.setup.channels if channel.name in wanted)


def check_test_plan(plan: TestPlan, setup: CheckedSetup) -> CheckedPlan:
    """Hold a plan against its setup.

    Raises
    ------
    SetupError
        It cannot be carried out; ``findings`` says everything that is wrong.

    """
    findings = plan.findings
    tests = [_test(name, entry, plan, setup, findings) for name, entry in plan.tests.items()]
    if findings.has_errors:
        raise SetupError(plan.file, findings.sorted())
    return CheckedPlan(plan, setup, tuple(tests))


def _test(
    name: str, entry: TestEntry, plan: TestPlan, setup: CheckedSetup, findings: Findings
) -> CheckedTest:
    measure, path = Measure(entry.measure), ("tests", name)
    channels = _channels(entry, setup, path, findings)
    if measure in OF_CHANNELS and not channels and not findings.mentions((*path, "of")):
        findings.error("missing-key", path, f"{name} has no channels", valid="of: [start, supply]")
    if measure in STIMULATED and entry.to not in plan.stimuli:
        findings.error("unknown-name", (*path, "to"), f"{name} needs a stimulus of this plan",
                       valid=", ".join(plan.stimuli) or "a section 'stimuli'")  # fmt: skip
    stimulus = plan.stimuli.get(entry.to or "")
    if measure is Measure.ERROR and stimulus is not None and stimulus.applied is None:
        findings.error("missing-key", (*path, "to"), f"{entry.to} does not say which value is applied",
                       valid="applied: 21.5 °C, in the stimulus")  # fmt: skip
    _require_offered(measure, entry, setup, path, findings)
    unit = _unit(measure, channels, path, findings)
    if measure is Measure.ERROR and stimulus is not None and stimulus.applied is not None:
        place = ("stimuli", entry.to or "", "applied")
        _in_unit(stimulus.applied, unit, place, findings, is_difference=False)
    rule = _rule(measure, entry, unit, path, findings)
    if measure in OF_CHANNELS and rule == LimitRule():
        findings.error("missing-key", path, f"{name} has no limit",
                       valid="within, at_least or at_most")  # fmt: skip
    uncertainty = 0.0
    if entry.uncertainty is not None:
        uncertainty = _difference(entry.uncertainty, unit, (*path, "uncertainty"), findings)
    return CheckedTest(
        name, measure, tuple(c.name for c in channels), unit.symbol if unit else "", rule,
        entry.guard == "yes", uncertainty, entry.below or "", entry.above or "",
        entry.to or "", entry.reads or "",
    )  # fmt: skip


def _channels(
    entry: TestEntry, setup: CheckedSetup, path: tuple[str, ...], findings: Findings
) -> list[CheckedChannel]:
    known = {channel.name: channel for channel in setup.channels}
    found: dict[str, CheckedChannel] = {}
    for text in entry.of:
        names = fnmatch.filter(known, text) if "*" in text else [text] if text in known else []
        if not names:
            findings.error("unknown-channel", (*path, "of"), f"the setup has no channel {text[:40]!r}",
                           valid=", ".join(known))  # fmt: skip
        found |= {name: known[name] for name in names}
    return list(found.values())


def _require_offered(
    measure: Measure,
    entry: TestEntry,
    setup: CheckedSetup,
    path: tuple[str, ...],
    findings: Findings,
) -> None:
    """That the model offers what a test needs."""
    sheet = setup.datasheet
    if measure is Measure.SHORTS and not (sheet.has(DRIVE_LINES) and sheet.family(LINE_LEVEL)):
        findings.error("cannot-test", path, f"{sheet.model} cannot drive its lines and read them back",
                       valid="a model with lines.drive and line.{k}.level")  # fmt: skip
    if measure is Measure.FIRMWARE and not (sheet.has(FIRMWARE) and entry.reads):
        findings.error("cannot-test", path, "the version that the firmware must have is missing",
                       valid='reads: "1.0", and a model that says its firmware')  # fmt: skip


def _unit(
    measure: Measure, channels: list[CheckedChannel], path: tuple[str, ...], findings: Findings
) -> Unit | None:
    if measure is Measure.SIGNAL_TO_NOISE:
        return parse_unit(_DECIBEL)
    units = {channel.symbol: channel.unit for channel in channels}
    if len(units) > 1:
        findings.error("wrong-unit", (*path, "of"), "these channels have several units: "
                       + ", ".join(unit or "1" for unit in units),
                       valid="a test for the channels of each unit")  # fmt: skip
    return next(iter(units.values()), None)


def _rule(
    measure: Measure, entry: TestEntry, unit: Unit | None, path: tuple[str, ...], findings: Findings
) -> LimitRule:
    within, is_difference = entry.within, measure not in {Measure.REST, Measure.SIGNAL_TO_NOISE}
    if isinstance(within, Deviation):
        return _around(measure, within, unit, (*path, "within"), findings)
    low, high = -math.inf, math.inf
    if isinstance(within, Span):
        low, high = _ends(within, unit, (*path, "within"), findings, is_difference=is_difference)
    if entry.at_least is not None:
        low = max(
            low,
            _in_unit(
                entry.at_least, unit, (*path, "at_least"), findings, is_difference=is_difference
            ),
        )
    if entry.at_most is not None:
        high = min(
            high,
            _in_unit(
                entry.at_most, unit, (*path, "at_most"), findings, is_difference=is_difference
            ),
        )
    if low > high:
        findings.error(
            "bad-span", path, f"the limits {low:g} and {high:g} leave nothing between them"
        )
    return LimitRule(low, high)


def _around(
    measure: Measure,
    within: Deviation,
    unit: Unit | None,
    path: tuple[str, ...],
    findings: Findings,
) -> LimitRule:
    """A deviation from the reference; of what is 0 at best, from 0."""
    around, size = within.around, within.size.value
    if around is Around.PERCENT and unit is not None and unit.symbol == "%":
        around = Around.UNIT  # of what is in percent, a deviation is one in its unit
    elif around is Around.UNIT:
        size = _difference(within.size, unit, path, findings)
    if measure not in _AROUND_ZERO or around is Around.SPREADS:
        return LimitRule(deviation=size, around=around)
    if around is Around.PERCENT:
        findings.error("bad-span", path, f"{measure.value} is 0 for a good unit, and has no percentage",
                       valid="a deviation in the unit of the channels, or in spreads")  # fmt: skip
    return LimitRule(-size, size)


def _ends(
    span: Span,
    unit: Unit | None,
    path: tuple[str, ...],
    findings: Findings,
    *,
    is_difference: bool,
) -> tuple[float, float]:
    """Both ends of a span in the unit of a test; one finding where they cannot be."""
    if span.unit is None or unit is None:
        return min(span.low, span.high), max(span.low, span.high)
    first = Quantity(span.low, span.unit)
    low = _in_unit(first, unit, path, findings, is_difference=is_difference)
    if span.unit.dimension != unit.dimension:
        return low, low  # it was said already
    work = convert_difference if is_difference else convert
    high = work(span.high, span.unit, unit)
    return min(low, high), max(low, high)


def _difference(
    quantity: Quantity, unit: Unit | None, path: tuple[str, ...], findings: Findings
) -> float:
    return _in_unit(quantity, unit, path, findings, is_difference=True)


def _in_unit(
    quantity: Quantity,
    unit: Unit | None,
    path: tuple[str, ...],
    findings: Findings,
    *,
    is_difference: bool,
) -> float:
    if quantity.unit is None or unit is None:
        return quantity.value
    try:
        work = convert_difference if is_difference else convert
        return work(quantity.value, quantity.unit, unit)
    except (QuantityError, UnitError) as error:
        findings.error(
            "wrong-unit", path, error.message, valid=f"a quantity in {unit.symbol or '1'}"
        )
        return quantity.value
