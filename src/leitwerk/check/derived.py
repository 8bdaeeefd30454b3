"""Derived channels: from formulas to nodes of one graph, with their units and alarms."""

from __future__ import annotations

import ast
import graphlib
import math
from collections.abc import Iterable, Mapping
from dataclasses import replace

from leitwerk.check.assignment import judged_by, own_reading
from leitwerk.check.channels import CheckedChannel, DerivedChannel, MeasuredChannel
from leitwerk.check.flume import DeviceFlow, flow_by_device, law_of, report_flow
from leitwerk.check.measurement import report_useless
from leitwerk.check.settings import Wanted
from leitwerk.check.timing import sample_of
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import FLOW
from leitwerk.derived.formula import require_unit
from leitwerk.derived.function import Remarks
from leitwerk.derived.functions_of_time import held_for, on_a_line
from leitwerk.derived.graph import Graph
from leitwerk.derived.open_channel import OpenChannel
from leitwerk.derived.operations import SUBTRACT
from leitwerk.derived.reading import LONGEST, read_formula
from leitwerk.derived.types import Form, Type, type_of
from leitwerk.derived.values import Table, Terms, Value
from leitwerk.errors import FormulaError, QuantityError
from leitwerk.findings import Advice, Findings, KeyPath
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.units import Unit, convert_difference, parse_unit
from leitwerk.setup.inputs import LINEAR, NEWEST, SAME_MOMENT, SLOWEST, InputRule
from leitwerk.setup.model import Channel, Setup
from leitwerk.signals.scale import EVERYWHERE, Chain
from leitwerk.signals.states import StateNames

_USELESS = (
    "terminal", "reading", "sensor", "signal", "range", "shunt", "leads", "scale", "states", "calibration",
    "time_constant", "pulses",
)  # fmt: skip
_GAPS = 5.0  # intervals without a sample that functions of time bridge
_LEAST_GAP_S = 60.0
YES_OR_NO = StateNames(((0.0, "no"), (1.0, "yes")))


def derive_channels(
    setup: Setup,
    datasheet: Datasheet,
    measured: Mapping[str, CheckedChannel],
    findings: Findings,
) -> tuple[dict[str, CheckedChannel], tuple[Wanted, ...]]:
    """The channels of a setup that are computed, and the settings of those that the device computes."""
    derivation = _Derivation(setup, datasheet, measured, findings)
    return derivation.channels(), tuple(derivation.wanted)


class _Derivation:
    """One graph for all derived channels of a setup."""

    def __init__(
        self,
        setup: Setup,
        datasheet: Datasheet,
        measured: Mapping[str, CheckedChannel],
        findings: Findings,
    ) -> None:
        self.setup, self.datasheet, self.findings = setup, datasheet, findings
        self.measured = dict(measured)
        self.wanted: list[Wanted] = []
        self.graph = Graph()
        tables = {name: Table(name, tuple(rows.items())) for name, rows in setup.tables.items()}
        self.terms = Terms(gap_s=_gap_s(setup), zone=setup.zone, tables=tables)
        self.known: dict[str, tuple[int, Type]] = {}
        self.units: dict[str, Unit] = {}
        for channel in measured.values():
            self._know(channel)
        self._constants()
        for name in setup.tables:
            if name in self.known or not name.isidentifier():
                self._report_name("table", ("tables", name))

    def _know(self, channel: CheckedChannel) -> None:
        """A channel whose value comes from the device, as formulas name it."""
        if isinstance(channel, MeasuredChannel):
            self.known[channel.name] = (self.graph.input(channel.name), _type_of(channel))
            self.units[channel.name] = channel.unit

    def _report_name(self, what: str, path: KeyPath) -> None:
        self.findings.error(
            "bad-name", path, f"{path[-1][:40]!r} cannot name a {what}", at_key=True,
            valid="letters, digits and _; not the name of a channel or constant",
        )  # fmt: skip

    def _constants(self) -> None:
        for name, quantity in self.setup.constants.items():
            if name in self.setup.channels or not name.isidentifier():
                self._report_name("constant", ("constants", name))
                continue
            unit = quantity.unit or parse_unit("")
            number = quantity.value * unit.factor + unit.offset
            self.known[name] = (self.graph.constant(number), type_of(unit))

    def channels(self) -> dict[str, CheckedChannel]:
        """Each after those that it is computed from."""
        found: dict[str, CheckedChannel] = {}
        for name in self._order():
            channel = self._channel(name, self.setup.channels[name])
            if channel is not None:
                found[name] = channel
        return found

    def _order(self) -> list[str]:
        uses = {
            name: names_in(channel.computed) & self.setup.channels.keys()
            for name, channel in self.setup.channels.items()
            if channel.computed is not None
        }
        uses = {name: {n for n in used if n in uses} for name, used in uses.items()}
        while True:
            try:
                return [n for n in graphlib.TopologicalSorter(uses).static_order() if n in uses]
            except graphlib.CycleError as error:
                ring = list(error.args[1])
                self._report_ring(ring)
                for name in ring:
                    uses.pop(name, None)

    def _report_ring(self, ring: list[str]) -> None:
        names = ring[::-1]
        way = " from ".join(names[:6]) + (" …" if len(names) > 6 else "")
        self.findings.error(
            "computed-ring", ("channels", names[0], "computed"),
            f"{names[0]} is computed from itself: {way}",
            valid="channels that are measured, or computed from such",
        )  # fmt: skip

    def _channel(self, name: str, channel: Channel) -> CheckedChannel | None:
        path = ("channels", name)
        assert channel.computed is not None
        report_useless(
            channel, _USELESS, "means nothing for a computed channel", path, self.findings
        )
        missing = names_in(channel.computed) & self.setup.channels.keys() - self.known.keys()
        if missing:
            return None  # an input with an error of its own
        place, remarks = (*path, "computed"), Remarks()
        try:
            value = read_formula(
                channel.computed, self._inputs(channel, path), self.graph, self.terms, remarks
            )
        except FormulaError as error:
            text = f"column {error.column} of the formula: {error.message}"
            at = self._place(error.column, channel.computed, place)
            advice: Advice = {"at": at, "valid": error.valid, "remedy": error.remedy}
            self.findings.error("bad-formula", place, text, **advice)
            return None
        for doubt in remarks.doubts:
            at = self._place(doubt.column, channel.computed, place)
            self.findings.warning(
                "doubtful-formula", place, doubt.message, at=at, remedy=doubt.remedy
            )
        unit = self._unit(channel, value, path)
        if unit is None:
            return None
        law = law_of(self.graph, value.node, self.measured)
        flow = None if law is None else flow_by_device(law, self.datasheet, place)
        if law is not None and flow is not None:
            return self._by_device(name, channel, law, flow)
        value = self._tared(channel, value, unit, path)
        self.known[name] = (value.node, value.type)
        return self._made(name, channel, value, unit, tuple(remarks.notes))

    def _tared(self, channel: Channel, value: Value, unit: Unit, path: KeyPath) -> Value:
        """The value less the last tare: an offset that was measured by hand, with its history in the file."""
        if not channel.tare:
            return value
        if value.type.form not in {Form.NUMBER, Form.POINT}:
            report_useless(channel, ("tare",), "means nothing for a state", path, self.findings)
            return value
        try:
            offset = channel.tare[-1].offset
            number = offset.value if offset.unit is None else convert_difference(
                offset.value, offset.unit, unit)  # fmt: skip
        except QuantityError as error:
            place = (*path, "tare", str(len(channel.tare) - 1), "offset")
            self.findings.error("wrong-unit", place, error.message, valid=error.valid)
            return value
        constant = self.graph.constant(number * unit.factor)
        return Value(self.graph.apply(SUBTRACT, value.node, constant), value.type, value.column)

    def _by_device(
        self, name: str, channel: Channel, law: OpenChannel, flow: DeviceFlow
    ) -> CheckedChannel | None:
        """What the device computes itself is a reading of it."""
        path = ("channels", name)
        report_flow(flow, (*path, "computed"), self.findings)
        reading = channel.model_copy(
            update={"computed": None, "inputs": None, "reading": FLOW.name}
        )
        every = tuple(self.setup.channels)
        found = own_reading(name, reading, self.datasheet, every, self.findings)
        if found is None:
            return None
        found = replace(found, law=law)
        self.wanted += flow.wanted
        self.measured[name] = found
        self._know(found)
        return found

    def _inputs(self, channel: Channel, path: KeyPath) -> Mapping[str, tuple[int, Type]]:
        """What a formula can name, each taken by the rule of the channel."""
        rule = channel.inputs or InputRule()
        if rule.rule == SAME_MOMENT or channel.computed is None:
            return self.known
        names = sorted(names_in(channel.computed) & self.setup.channels.keys())
        every = {name: self._interval(name) for name in names}
        slowest = max(every.values(), default=0.0)
        if rule.rule == SLOWEST and slowest == min(every.values(), default=0.0):
            self.findings.error(
                "useless-key", (*path, "inputs"), "no input comes more seldom than the others",
                at_key=True, remedy="remove it",
            )  # fmt: skip
            return self.known
        if rule.rule != SLOWEST and rule.within_s < slowest:
            name = max(names, key=every.__getitem__)
            self.findings.warning(
                "rates-differ", (*path, "inputs"),
                f"{name} comes every {duration_text(slowest)}: mostly there is no sample of it within "
                f"{duration_text(rule.within_s)}", valid=f"{duration_text(slowest)} or longer",
            )  # fmt: skip
        if rule.rule == LINEAR:
            late = duration_text(rule.within_s)
            self.findings.note(
                "computed-late", (*path, "inputs"), f"the value is that of {late} ago: the sample "
                "behind a moment must have come before there is a line to it",
            )  # fmt: skip
        taken = dict(self.known)
        for name in names:
            node, kind = self.known[name]
            if rule.rule == LINEAR:
                steps = kind.form in {Form.STATE, Form.LOGICAL}
                taken[name] = (self.graph.apply(on_a_line(rule.within_s, steps=steps), node), kind)
            elif rule.rule == NEWEST or every[name] < slowest:
                within_s = rule.within_s or slowest
                taken[name] = (self.graph.apply(held_for(within_s), node), kind)
        return taken

    def _interval(self, name: str) -> float:
        """The interval in s of the slowest that a channel is computed from; 0 where it is not known."""
        inputs = self.graph.inputs_of(self.known[name][0])
        return max((sample_of(self.setup, i) or 0.0 for i in inputs), default=0.0)

    def _unit(self, channel: Channel, value: Value, path: KeyPath) -> Unit | None:
        unit = channel.unit or parse_unit("")
        if (
            channel.unit is None
            and value.type.powers
            and value.type.form in {Form.NUMBER, Form.POINT}
        ):
            self.findings.error(
                "missing-key", path, f"the formula gives {value.type}, and no unit is named", at_key=True,
                remedy=f"add a line 'unit: …' with a unit for {value.type}",
            )  # fmt: skip
            return None
        try:
            require_unit(value.type, unit)
        except FormulaError as error:
            self.findings.error("wrong-unit", (*path, "unit"), error.message, valid=error.valid)
            return None
        return unit

    def _place(self, column: int, text: str, path: KeyPath) -> tuple[int, int] | None:
        """Line and column in the file of a place in a formula, where it stands on one line as it is."""
        if self.findings.root is None:
            return None
        line, first = self.findings.root.locate(path)
        lines = self.setup.source.content.decode(errors="replace").splitlines()
        rest = lines[line - 1][first - 1 :] if line <= len(lines) else ""
        quoted = rest[:1] in {"'", '"'}
        return (line, first + quoted + column - 1) if rest[quoted:].startswith(text) else None

    def _made(
        self, name: str, channel: Channel, value: Value, unit: Unit, notes: tuple[str, ...]
    ) -> DerivedChannel:
        path = ("channels", name)
        states = YES_OR_NO if value.type.form is Form.LOGICAL else value.type.states
        span = EVERYWHERE if states is None else (min(states.numbers), max(states.numbers))
        every = tuple(self.setup.channels)
        judged = judged_by(channel, unit, span, states, every, self.findings, path)
        assert channel.computed is not None
        return DerivedChannel(
            name=name,
            label=channel.label or name,
            kind="computed",
            unit=unit,
            span=span,
            host=Chain(),
            states=states,
            expected=judged.expected,
            alarms=judged.alarms,
            device_alarms=(),
            bands=judged.bands,
            turn=judged.turn,
            graph=self.graph,
            node=value.node,
            formula=channel.computed,
            units=self.units,
            notes=notes,
        )


def _type_of(channel: CheckedChannel) -> Type:
    if channel.states is not None:
        return Type(form=Form.STATE, states=channel.states)
    return type_of(channel.unit)


def _gap_s(setup: Setup) -> float:
    """How long functions of time bridge a gap in readings as they come: five intervals, at least a minute."""
    intervals = [setup.sample, *(group.sample for group in setup.groups.values())]
    longest = max((i.seconds for i in intervals if i is not None), default=0.0)
    return max(_LEAST_GAP_S, _GAPS * longest) if longest else math.inf


def names_in(formula: str) -> set[str]:
    """The names in a formula; none where it cannot be read."""
    try:
        tree = ast.parse(formula[:LONGEST].strip(), mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return set()
    called = {id(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)}
    nodes: Iterable[ast.AST] = ast.walk(tree)
    return {n.id for n in nodes if isinstance(n, ast.Name) and id(n) not in called}
