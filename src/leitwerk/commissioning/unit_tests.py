"""The tests of a plan on one unit: samples at rest and stimulated, patterns, versions, settings."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Protocol

import numpy as np

from leitwerk.check.channels import CheckedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.test_plan import OF_CHANNELS, STIMULATED, CheckedPlan, CheckedTest
from leitwerk.datasheet.vocabulary import DRIVE_LINES, LINE_LEVEL
from leitwerk.devices.device import Device
from leitwerk.errors import DomainError
from leitwerk.identity import Identity
from leitwerk.lots.limits import Limits, ReferenceValue
from leitwerk.lots.measures import (
    Measure,
    Measured,
    agreement,
    drift,
    error,
    noise,
    response,
    rest,
    signal_to_noise_db,
)
from leitwerk.lots.shorts import Pattern, find_shorts, patterns_for, read_pattern
from leitwerk.monitoring.watching import DeviceWatch
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.results import Outcome, overall
from leitwerk.setup.test_plan import StimulusEntry
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray

_RESPONDS = 6.0  # standard deviations of the noise: then a stimulus has come, or has gone
_LEAST_RESPONSE = 1e-9
_FEW = 4  # samples right before a stimulus: what drifts is no response
NOT_RESPONDING = "no response"


@dataclass(frozen=True, slots=True)
class TestResult:
    """What came of one test of one channel. Numbers are in ``unit``; NaN where a test has none.

    ``verdict`` is ``pass``, ``fail`` or ``not tested``; ``fault`` names what is wrong, the same for all units
    with it; ``detail`` says it of this unit.
    """

    __test__ = False  # not a test of pytest

    test: str
    channel: str
    verdict: str
    fault: str = ""
    detail: str = ""
    value: float = math.nan
    unit: str = ""
    low: float = -math.inf
    high: float = math.inf
    tries: int = 1

    @property
    def outcome(self) -> Outcome:
        """Passed, failed, or unknown where it was not tested."""
        return {"pass": Outcome.PASSED, "fail": Outcome.FAILED}.get(self.verdict, Outcome.UNKNOWN)


class Stimulator(Protocol):
    """Whoever stimulates a unit: a person, a fixture, a script."""

    def begin(self, stimulus: StimulusEntry, channel: CheckedChannel) -> float | None:
        """Ask for a stimulus. The value that was applied, in the channel's unit, where it is another than the
        stimulus says; None otherwise. One without a value shows by what responds that it has come.
        """

    def end(self, stimulus: StimulusEntry, channel: CheckedChannel) -> None:
        """Ask that it ends."""


class UnitUnderTest:
    """One unit, its samples taken once and used by all tests of them."""

    def __init__(
        self,
        plan: CheckedPlan,
        device: Device,
        identity: Identity,
        stimulator: Stimulator,
        clock: Clock = REAL_TIME,
    ) -> None:
        self.plan, self.device, self.identity = plan, device, identity
        self._stimulator, self._clock = stimulator, clock
        self._watch = DeviceWatch(for_serial(plan.setup, identity.serial), device)
        self._names = [channel.name for channel in self._watch.board.channels]
        self._at_rest: NDArray[np.float64] | None = None
        self._stimulated: dict[tuple[str, str], NDArray[np.float64] | None] = {}
        self._applied: dict[tuple[str, str], float] = {}

    def forget(self, test: CheckedTest) -> None:
        """Forget the samples of a test, so that it is done again."""
        self._at_rest = None
        for channel in test.channels:
            self._stimulated.pop((test.stimulus, channel), None)

    def at_rest(self) -> NDArray[np.float64]:
        """Samples of all channels at rest, shape (n, n_channels)."""
        if self._at_rest is None:
            self._at_rest = self._samples(self.plan.plan.entry.samples)
        return self._at_rest

    def column(self, samples: NDArray[np.float64], channel: str) -> NDArray[np.float64]:
        """The samples of one channel, shape (n,)."""
        found: NDArray[np.float64] = samples[:, self._names.index(channel)]
        return found

    def stimulated(self, stimulus: str, channel: str) -> NDArray[np.float64] | None:
        """Samples of all channels while one is stimulated; None where nothing responds in time."""
        key = stimulus, channel
        if key not in self._stimulated:
            self._stimulated[key] = self._stimulate(stimulus, channel)
        return self._stimulated[key]

    def measure(self, test: CheckedTest, channel: str) -> Measured:
        """The number of a test of one channel."""
        if test.measure is Measure.ERROR:
            shown = self.stimulated(test.stimulus, channel)
            assert shown is not None, "who applies a value says so"
            return error(self.column(shown, channel), self._applied[test.stimulus, channel])
        own = self.column(self.at_rest(), channel)
        if test.measure in STIMULATED:
            seen = self.stimulated(test.stimulus, channel)
            if seen is None:
                return Measured(
                    0.0 if test.measure is Measure.RESPONSE else -math.inf, 0.0, own.size
                )
            work = response if test.measure is Measure.RESPONSE else signal_to_noise_db
            return work(own, self.column(seen, channel))
        simple: dict[Measure, Callable[[NDArray[np.float64]], Measured]] = {
            Measure.REST: rest, Measure.NOISE: noise, Measure.DRIFT: drift
        }  # fmt: skip
        return simple[test.measure](own)

    def values(self) -> Iterator[TestResult]:
        """The number of each test that has one, without looking at limits."""
        for test in self.plan.tests:
            if test.measure is Measure.AGREEMENT:
                yield TestResult(test.name, "", "pass", value=self.agreement(test).value)
            elif test.measure in OF_CHANNELS:
                for channel in test.channels:
                    number = self.measure(test, channel).value
                    yield TestResult(test.name, channel, "pass", value=number)

    def agreement(self, test: CheckedTest) -> Measured:
        """The largest difference between the channels of a test."""
        samples = self.at_rest()
        return agreement(np.array([self.column(samples, name) for name in test.channels]))

    def differing(self) -> list[str]:
        """The settings that the unit holds otherwise than the setup says."""
        return [str(change) for change in self._watch.changes]

    def responds_elsewhere(self, stimulus: str, channel: str) -> str:
        """The channel that responds in place of the stimulated one; empty if none does."""
        seen = self.stimulated(stimulus, channel)
        if seen is None:
            return ""
        moved = self._moved(self.at_rest(), seen)
        first = self._names[int(np.argmax(moved))]
        return first if first != channel and moved.max() > _RESPONDS else ""

    def patterns(self) -> tuple[tuple[str, ...], list[Pattern]]:
        """The names of the lines, and what each pattern of driven lines reads."""
        sheet = self.device.datasheet
        family = sheet.family(LINE_LEVEL)
        assert family is not None, "the plan is checked"
        levels, drive = family.points(), sheet.point(DRIVE_LINES)
        lines = tuple(f"line {k}" for k in family.indices)
        seen = []
        try:
            for driven in patterns_for(lines):
                bits = sum(1 << k for k, line in enumerate(lines) if line in driven)
                self.device.write_point(drive, float(bits))
                read = self.device.read_points(levels)
                high = {line: read[p.name] == "high" for line, p in zip(lines, levels, strict=True)}
                seen.append(read_pattern(driven, high))
        finally:
            self.device.write_point(drive, 0.0)
        return lines, seen

    def _samples(self, count: int) -> NDArray[np.float64]:
        rows = []
        for _ in range(count):
            taken = self._watch.take()
            rows.append(np.where(taken.qualities == Quality.GOOD, taken.values, np.nan))
        return np.array(rows)

    def _stimulate(self, stimulus: str, channel: str) -> NDArray[np.float64] | None:
        entry = self.plan.plan.stimuli[stimulus]
        own = next(c for c in self.plan.setup.channels if c.name == channel)
        if entry.applied is not None:
            given = self._stimulator.begin(entry, own)
            asked = entry.applied.value_in(own.unit)
            self._applied[stimulus, channel] = asked if given is None else given
            self._clock.wait(entry.settle.seconds)
            return self._samples(self.plan.plan.entry.samples)
        self.at_rest()
        before = self._samples(_FEW)
        self._stimulator.begin(entry, own)
        seen: NDArray[np.float64] | None = None
        try:
            if self._until(lambda now: bool((self._moved(before, now) > _RESPONDS).any()), entry):
                self._clock.wait(entry.settle.seconds)
                seen = self._samples(self.plan.plan.entry.samples)
        finally:
            self._stimulator.end(entry, own)
            if seen is not None:
                moved = self._moved(before, seen)
                most = int(np.argmax(moved))
                self._until(
                    lambda now: bool(self._moved(before, now)[most] < moved[most] / 2.0), entry
                )
        return seen

    def _until(self, holds: Callable[[NDArray[np.float64]], bool], entry: StimulusEntry) -> bool:
        """Take samples until something holds; whether that came in time."""
        deadline = self._clock.monotonic() + entry.wait.seconds
        while self._clock.monotonic() < deadline:
            if holds(self._samples(1)):
                return True
        return False

    def _moved(self, before: NDArray[np.float64], now: NDArray[np.float64]) -> NDArray[np.float64]:
        """How far each channel has moved, in standard deviations of its noise at rest."""
        with np.errstate(invalid="ignore", divide="ignore"):
            spread = np.maximum(np.nanstd(self.at_rest(), axis=0), _LEAST_RESPONSE)
            floor = 1e-3 * np.abs(
                np.nanmean(before, axis=0)
            )  # what does not move at all has no noise
            moved = np.abs(np.nanmean(now, axis=0) - np.nanmean(before, axis=0))
            found: NDArray[np.float64] = np.nan_to_num(moved / np.maximum(spread, floor))
            return found


def for_serial(setup: CheckedSetup, serial: str) -> CheckedSetup:
    """A checked setup for the unit of another serial number."""
    device = setup.setup.device.model_copy(update={"serial": serial})
    return replace(setup, setup=setup.setup.model_copy(update={"device": device}))


def run_tests(
    unit: UnitUnderTest, reference: Mapping[tuple[str, str], ReferenceValue]
) -> Iterator[TestResult]:
    """The results of all tests, as they come; behind the first fault they are not tested if the plan says so.

    Parameters
    ----------
    unit : UnitUnderTest
    reference : mapping
        What reference units showed, by test and channel.

    """
    plan, failed = unit.plan, False
    for test in plan.tests:
        stops = failed and plan.plan.entry.stop == "at the first fault"
        if stops:
            yield from (TestResult(test.name, c, "not tested") for c in test.channels or ("",))
            continue
        results = _tried(unit, test, reference, plan.plan.entry.again)
        failed = failed or any(one.verdict == "fail" for one in results)
        yield from results


def _tried(
    unit: UnitUnderTest,
    test: CheckedTest,
    reference: Mapping[tuple[str, str], ReferenceValue],
    again: int,
) -> list[TestResult]:
    results = _results(unit, test, reference)
    for tries in range(2, again + 2):
        if all(one.verdict == "pass" for one in results):
            break
        unit.forget(test)
        results = [replace(one, tries=tries) for one in _results(unit, test, reference)]
    return results


def _results(
    unit: UnitUnderTest, test: CheckedTest, reference: Mapping[tuple[str, str], ReferenceValue]
) -> list[TestResult]:
    if test.measure is Measure.SHORTS:
        return _shorts(unit, test)
    if test.measure is Measure.FIRMWARE:
        return [_firmware(unit, test)]
    if test.measure is Measure.SETTINGS:
        return [_settings(unit, test)]
    if test.measure is Measure.AGREEMENT:
        return [
            _judged(
                test, "", unit.agreement(test), test.rule.limits(reference.get((test.name, "")))
            )
        ]
    return [
        _of_channel(unit, test, name, reference.get((test.name, name))) for name in test.channels
    ]


def _of_channel(
    unit: UnitUnderTest, test: CheckedTest, channel: str, reference: ReferenceValue | None
) -> TestResult:
    result = _judged(test, channel, unit.measure(test, channel), test.rule.limits(reference))
    if result.verdict == "fail" and test.measure in STIMULATED - {Measure.ERROR}:
        other = unit.responds_elsewhere(test.stimulus, channel)
        if other:
            return replace(
                result, fault="swapped", detail=f"{other} responds in place of {channel}"
            )
        if unit.stimulated(test.stimulus, channel) is None:
            return replace(result, fault=NOT_RESPONDING, detail=f"{channel} does not respond")
    return result


def _judged(test: CheckedTest, channel: str, measured: Measured, limits: Limits) -> TestResult:
    verdict = limits.verdict(measured, uncertainty=test.uncertainty, guarded=test.guarded)
    number = measured.value if math.isfinite(measured.value) else math.nan
    shown = TestResult(
        test.name, channel, "pass", "", "", number, test.unit, limits.low, limits.high
    )
    if verdict == "pass":
        return shown
    names = {"below": test.faults[0], "above": test.faults[1], "no value": f"{test.name}: no value"}
    value = f"{measured.value:.5g} {test.unit}".rstrip()
    where = channel or ", ".join(test.channels)
    detail = f"{test.name} of {where}: {value}, allowed {limits.text} {test.unit}".rstrip()
    return replace(shown, verdict="fail", fault=names[verdict], detail=detail)


def _shorts(unit: UnitUnderTest, test: CheckedTest) -> list[TestResult]:
    lines, seen = unit.patterns()
    found = find_shorts(lines, seen)
    if not found:
        return [TestResult(test.name, "", "pass")]
    return [
        TestResult(
            test.name, one.line, "fail",
            "short" if one.to in lines else f"short to {one.to}", str(one),
        )
        for one in found
    ]  # fmt: skip


def _firmware(unit: UnitUnderTest, test: CheckedTest) -> TestResult:
    has = unit.identity.firmware
    if has == test.reads:
        return TestResult(test.name, "", "pass")
    return TestResult(test.name, "", "fail", "wrong firmware", f"firmware {has}, not {test.reads}")


def _settings(unit: UnitUnderTest, test: CheckedTest) -> TestResult:
    differing = unit.differing()
    if not differing:
        return TestResult(test.name, "", "pass")
    more = f", and {len(differing) - 1} more" if len(differing) > 1 else ""
    return TestResult(test.name, "", "fail", "settings differ", f"{differing[0]}{more}")


def require_reference(
    plan: CheckedPlan, reference: Mapping[tuple[str, str], ReferenceValue]
) -> None:
    """That all limits can be worked out, before the first unit.

    Raises
    ------
    DomainError
        A limit is around a reference that is missing, or of too few values.

    """
    for test in plan.tests:
        for channel in test.parts if test.rule.needs_reference else ():
            try:
                test.rule.limits(reference.get((test.name, channel)))
            except DomainError as error:
                raise DomainError(
                    f"{test.name} {channel}".rstrip() + f": {error.message}", remedy=error.remedy
                ) from None


def results_of(results: Sequence[TestResult]) -> Outcome:
    """Failed with the first fault; unknown where nothing was tested, or no answer came."""
    return overall(one.outcome for one in results if one.verdict != "not tested")
