"""Unit after unit: insert, recognise, test, verdict, remove; each is on disk before its verdict is shown."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC
from typing import Protocol, Self

from leitwerk.check.checked import CheckedSetup
from leitwerk.check.test_plan import CheckedPlan
from leitwerk.commissioning.lot_ledger import KeptResult, Ledger, UnitRecord
from leitwerk.commissioning.reference_units import (
    ReferenceFile,
    reference_entries,
    without_value,
)
from leitwerk.commissioning.unit_tests import (
    Stimulator,
    TestResult,
    UnitUnderTest,
    for_serial,
    require_reference,
    results_of,
    run_tests,
)
from leitwerk.devices.device import Device
from leitwerk.errors import (
    DeviceRefused,
    LinkError,
    NoDeviceBehind,
    QuantityError,
    UploadError,
    WrongDevice,
)
from leitwerk.identity import Identity, folded_number
from leitwerk.lots.limits import ReferenceValue
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.project.files import content_hash
from leitwerk.project.kept_json import KeptIdentity

_LOOKS_EVERY_S = 0.1
_NO_ANSWER = "no answer while it was tested"
Connect = Callable[[], Device]


class Operator(Stimulator, Protocol):
    """Whoever changes the units, and sees what comes of them."""

    def insert(self) -> None:
        """Ask for the next unit."""

    def remove(self, identity: Identity) -> None:
        """Ask that a unit is removed."""

    def tested_before(self, record: UnitRecord) -> None:
        """Say that a unit was tested already, and is not tested again."""

    def not_expected(self, identity: Identity, why: str) -> None:
        """Say that a unit does not belong to the lot, and is not tested."""

    def label(self) -> str:
        """The serial number on the label of the next unit: typed, or read by a scanner."""

    def begins(self, identity: Identity) -> None:
        """A unit was recognised, and its tests begin."""

    def ends(self, record: UnitRecord, ledger: Ledger) -> None:
        """A unit was tested, and its record is kept."""


@dataclass(frozen=True)
class LotOptions:
    """What belongs to a run, beside its plan.

    ``expected`` are the serial numbers of a list, in any order. Units of ``again`` are tested once more,
    though they have a verdict. ``prepare`` uploads to a unit before its tests. With ``labels``, the label of
    each unit is read first, and must be that of the unit.
    """

    by: str
    reference: Mapping[tuple[str, str], ReferenceValue] = field(default_factory=dict)
    most: int | None = None
    expected: tuple[str, ...] = ()
    again: tuple[str, ...] = ()
    prepare: Callable[[CheckedSetup, Device], object] | None = None
    labels: bool = False
    clock: Clock = REAL_TIME


@dataclass(frozen=True, slots=True)
class LotEnd:
    """Why a run ended, in words; whether it was because of the fixture."""

    why: str
    is_fixture: bool = False


class Socket:
    """Where one unit after the other is connected: whether one is there, and which.

    ``device`` is the unit that answered last: a connection stays with one unit, and another one gets its own.
    """

    def __init__(self, connect: Connect, clock: Clock) -> None:
        self._connect, self._clock = connect, clock
        self.device = connect()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self.device.close()

    def unit(self) -> Identity | None:
        """The unit that answers now."""
        try:
            return self.device.identify()
        except WrongDevice:
            self.device.close()
            self.device = self._connect()
            return self.unit()
        except (LinkError, DeviceRefused):
            return None

    def wait_for_unit(self, before: str) -> Identity:
        """Wait until a unit answers that is not the one ``before``."""
        while True:
            found = self.unit()
            if found is not None and folded_number(found.serial) != folded_number(before):
                return found
            if found is None:
                before = ""  # it was removed: the same one may come again
            self._clock.wait(_LOOKS_EVERY_S)


class LotRun:
    """Units of a lot, tested by one plan into one ledger.

    A unit under test when a run ends is not recorded, and is tested from the start the next time. One that
    stopped to answer is recorded as unknown, and tested again when it comes again.

    Parameters
    ----------
    plan : CheckedPlan
    ledger : Ledger
        It is open.
    operator : Operator
    options : LotOptions

    Raises
    ------
    DomainError
        A limit needs a reference that is missing.
    QuantityError
        A unit is to be tested again that is not on the list.

    """

    def __init__(
        self, plan: CheckedPlan, ledger: Ledger, operator: Operator, options: LotOptions
    ) -> None:
        require_reference(plan, options.reference)
        self._plan, self._ledger, self._operator, self._options = plan, ledger, operator, options
        self._expected = {folded_number(serial) for serial in options.expected}
        self._again = {folded_number(serial) for serial in options.again}
        for serial in options.again:
            if self._expected and folded_number(serial) not in self._expected:
                raise QuantityError(
                    f"{serial} is not on the list", valid=", ".join(options.expected[:20])
                )

    def run(self, connect: Connect) -> LotEnd:
        """Test unit after unit at one place, until all are done, or the fixture is in doubt.

        Raises
        ------
        FileProblem
            The ledger cannot be written.
        KeyboardInterrupt
            It was ended from outside.

        """
        before = ""
        with Socket(connect, self._options.clock) as socket:
            while not self._is_done:
                self._operator.insert()
                label = self._operator.label() if self._options.labels else ""
                identity = socket.wait_for_unit(before)
                end = self._take(socket.device, identity, label)
                if end is not None:
                    return end
                last = self._ledger.find(identity.serial)
                # One that stopped to answer is tested again as soon as it answers.
                before = identity.serial if last is None or last.is_known else ""
                if not self._is_done:
                    self._operator.remove(identity)
        return LotEnd("all units are tested")

    def run_list(self, units: Mapping[str, Connect]) -> LotEnd:
        """Test the units of a list, each at its own address, by serial number. As ``run`` otherwise."""
        for serial, connect in units.items():
            number = folded_number(serial)
            if number in self._ledger.numbers and number not in self._again:
                continue
            with connect() as device:
                identity = device.require(self._plan.setup.datasheet.model, serial)
                end = self._take(device, identity, "")
            if end is not None:
                return end
        return LotEnd("all units are tested")

    @property
    def _is_done(self) -> bool:
        tested = self._ledger.numbers
        if self._again:
            return False
        if self._expected:
            return self._expected <= tested
        return self._options.most is not None and len(tested) >= self._options.most

    def _take(self, device: Device, identity: Identity, label: str) -> LotEnd | None:
        """Test a unit, and keep what came of it; the end of the run where the fixture is in doubt."""
        why = self._not_expected(identity, label)
        if why:
            self._operator.not_expected(identity, why)
            return None
        known = self._ledger.find(identity.serial)
        number = folded_number(identity.serial)
        if known is not None and known.is_known and number not in self._again:
            self._operator.tested_before(known)
            return None
        self._operator.begins(identity)
        record = self._test(device, identity, again=known is not None)
        self._ledger.add(record)
        self._again.discard(number)
        self._operator.ends(record, self._ledger)
        often = self._plan.plan.entry.fixture
        fault = same_fault(self._ledger, often)
        if not fault:
            return None
        return LotEnd(
            f"{often} units in a row have the same fault: {fault}. Look at the fixture: contacts, cable, "
            f"supply. Then go on with the same command",
            is_fixture=True,
        )

    def _not_expected(self, identity: Identity, label: str) -> str:
        """Why a unit does not belong to the lot; empty if it does."""
        if label and folded_number(label) != folded_number(identity.serial):
            return f"its label says {label[:40]}"
        if identity.model != self._plan.setup.datasheet.model:
            return f"it is a {identity.model}"
        if self._expected and folded_number(identity.serial) not in self._expected:
            return "it is not on the list"
        return ""

    def _test(self, device: Device, identity: Identity, *, again: bool) -> UnitRecord:
        plan, options = self._plan, self._options
        started, began_s = options.clock.now(), options.clock.monotonic()
        results = self._results(device, identity)
        return UnitRecord(
            number=len(self._ledger.records) + 1,
            device=kept_identity(identity),
            started=started.astimezone(UTC).isoformat(timespec="milliseconds"),
            took_s=round(options.clock.monotonic() - began_s, 3),
            by=options.by,
            plan_hash=content_hash(plan.plan.content),
            setup_hash=content_hash(plan.setup.setup.source.content),
            verdict=results_of(results).value,
            again=again,
            results=[KeptResult.of(one) for one in results],
        )

    def _results(self, device: Device, identity: Identity) -> list[TestResult]:
        """The results of a unit; what it cannot do is a result, too, and stops no lot."""
        plan, options = self._plan, self._options
        try:
            if options.prepare is not None:
                options.prepare(for_serial(plan.setup, identity.serial), device)
            unit = UnitUnderTest(plan, device, identity, self._operator, options.clock)
            return list(run_tests(unit, options.reference))
        except UploadError as error:
            return [TestResult("upload", "", "fail", "upload failed", error.message)]
        except (LinkError, NoDeviceBehind, WrongDevice) as error:
            return [TestResult("unit", "", "unknown", _NO_ANSWER, error.message)]
        except DeviceRefused as error:
            return [TestResult("unit", "", "fail", "refused", error.message)]


def kept_identity(identity: Identity) -> KeptIdentity:
    """An identity as it is kept."""
    return KeptIdentity(
        maker=identity.maker,
        model=identity.model,
        serial=identity.serial,
        firmware=identity.firmware,
    )


def missing(ledger: Ledger, expected: tuple[str, ...]) -> list[str]:
    """The serial numbers of a list that were not tested."""
    return [serial for serial in expected if folded_number(serial) not in ledger.numbers]


def same_fault(ledger: Ledger, often: int) -> str:
    """A fault that so many units in a row have, in the same channel; empty without one."""
    if not often or len(ledger.records) < often:
        return ""
    last = [
        {(r.fault, r.channel) for r in one.results if r.fault} for one in ledger.records[-often:]
    ]
    common = set.intersection(*last)
    fault, channel = min(common, default=("", ""))
    return f"{fault} ({channel})" if channel else fault


def measure_references(
    plan: CheckedPlan,
    connect: Connect,
    operator: Operator,
    *,
    units: int,
    repeats: int,
    by: str,
    clock: Clock = REAL_TIME,
) -> ReferenceFile:
    """Measure so many known-good units, each so many times; no limit is looked at.

    Each unit comes once: one that was measured already is named. A unit without a value in one of the tests
    is refused: it is no measure of others.
    """
    before, seen = "", dict[str, Identity]()
    found: dict[str, list[TestResult]] = {}
    with Socket(connect, clock) as socket:
        while len(seen) < units:
            operator.insert()
            identity = socket.wait_for_unit(before)
            before = identity.serial
            if folded_number(identity.serial) in seen:
                operator.not_expected(identity, "it was measured already")
            else:
                operator.begins(identity)
                values: list[TestResult] = []
                for _ in range(repeats):
                    unit = UnitUnderTest(plan, socket.device, identity, operator, clock)
                    values += unit.values()
                if dead := without_value(plan, values):
                    operator.not_expected(
                        identity, f"{dead}: it is no reference, insert another one"
                    )
                else:
                    found[identity.serial] = values
                    seen[folded_number(identity.serial)] = identity
            if len(seen) < units:
                operator.remove(identity)
    return ReferenceFile(
        title=plan.plan.entry.title,
        plan_hash=content_hash(plan.plan.content),
        setup_hash=content_hash(plan.setup.setup.source.content),
        measured=clock.now().astimezone(UTC).isoformat(timespec="seconds"),
        by=by,
        samples=plan.plan.entry.samples,
        units=[kept_identity(one) for one in seen.values()],
        entries=reference_entries(plan, found),
    )
