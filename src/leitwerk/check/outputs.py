"""Checking outputs: which terminal, what it carries, whether the loop has the voltage for it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from leitwerk.check.channels import CheckedChannel
from leitwerk.datasheet.model import Datasheet, OutputTerminal
from leitwerk.datasheet.vocabulary import (
    RELAY_ALARMS,
    RELAY_LEAST_OFF,
    RELAY_LEAST_ON,
    RELAY_LIMIT,
)
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import (
    Expected,
    Quantity,
    Span,
    format_number,
    format_span,
    format_value,
)
from leitwerk.parsing.units import Unit, parse_unit
from leitwerk.rules.switches import Switch
from leitwerk.setup.model import Setup
from leitwerk.setup.rules import Output

_SWITCHED = ("follows", "least_on", "least_off", "limit")
_ANALOG = ("span", "signal", "bad", "load", "supply")
_TIMES = {"least_on": RELAY_LEAST_ON, "least_off": RELAY_LEAST_OFF, "limit": RELAY_LIMIT}
LOOP_POINTS = (4.0, 8.0, 12.0, 16.0, 20.0)


@dataclass(frozen=True, slots=True)
class Loop:
    """An analog output: values ``low`` to ``high`` of a channel as ``signal``, in mA or V.

    The values are in ``value_unit``. ``bad`` is the signal for a value that is bad, None where it holds.
    ``load_ohm`` and ``supply_v`` are None where the setup does not say them.
    """

    channel: str
    low: float
    high: float
    signal: tuple[float, float]
    unit: str
    bad: float | None
    load_ohm: float | None = None
    supply_v: float | None = None
    compliance_v: float = 0.0
    value_unit: Unit = field(default_factory=lambda: parse_unit(""))

    @property
    def value_per_signal(self) -> float:
        """By how much the value changes with the signal, in ``value_unit`` per mA or V."""
        return (self.high - self.low) / (self.signal[1] - self.signal[0])

    def value_at(self, signal: float) -> float:
        """The value that a signal stands for; the line goes on beyond its ends."""
        return self.low + (signal - self.signal[0]) * self.value_per_signal


@dataclass(frozen=True, slots=True)
class CheckedOutput:
    """An output on a terminal of the device: one of the two kinds below."""

    name: str
    label: str
    terminal: OutputTerminal


@dataclass(frozen=True, slots=True)
class RelayOutput(CheckedOutput):
    """An output that is on or off. ``follows`` are the alarms by which the device switches it itself."""

    switch: Switch
    follows: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class AnalogOutput(CheckedOutput):
    """An output that carries a channel's value as a current or a voltage."""

    loop: Loop


def assign_outputs(
    setup: Setup, datasheet: Datasheet, channels: Sequence[CheckedChannel], findings: Findings
) -> Iterator[CheckedOutput]:
    """The outputs of a setup on the terminals of a device; findings take what does not fit."""
    taken: dict[str, str] = {}
    for name, output in setup.outputs.items():
        path = ("outputs", name)
        terminal = datasheet.output_terminals.get(output.terminal)
        if terminal is None:
            valid = ", ".join(datasheet.output_terminals) or "none; this model has no outputs"
            message = f"{datasheet.model} has no output {output.terminal}"
            findings.error("unknown-terminal", (*path, "terminal"), message, valid=valid)
        elif terminal.name in taken:
            message = f"output {terminal.name} is already taken by {taken[terminal.name]}"
            findings.error("duplicate-terminal", (*path, "terminal"), message)
        else:
            taken[terminal.name] = name
            if _has_useless_keys(output, terminal, path, findings):
                continue
            label = output.label or name
            if terminal.span is None:
                follows = tuple(_follows(output, datasheet, channels, path, findings))
                yield RelayOutput(name, label, terminal, _switch(name, output), follows)
            elif (loop := _loop(output, terminal, channels, path, findings)) is not None:
                yield AnalogOutput(name, label, terminal, loop)


def _has_useless_keys(
    output: Output, terminal: OutputTerminal, path: KeyPath, findings: Findings
) -> bool:
    analog = terminal.span is not None
    useless = [k for k in (_SWITCHED if analog else ("shows", *_ANALOG)) if getattr(output, k)]
    for key in useless:
        what = "gives an analog signal" if analog else "is a relay"
        message = f"{key!r} means nothing here: {terminal.name} {what}"
        findings.error("useless-key", (*path, key), message, at_key=True, remedy="remove it")
    return bool(useless)


def _switch(name: str, output: Output) -> Switch:
    return Switch(
        name,
        output.normal,
        output.safe,
        output.least_on.seconds if output.least_on else 0.0,
        output.least_off.seconds if output.least_off else 0.0,
        output.limit.seconds if output.limit else None,
    )


def _follows(
    output: Output,
    datasheet: Datasheet,
    channels: Sequence[CheckedChannel],
    path: KeyPath,
    findings: Findings,
) -> Iterator[str]:
    """The alarms that a relay follows in the device."""
    if output.follows and not datasheet.has(RELAY_ALARMS):
        message = f"the relays of {datasheet.model} follow no alarms"
        remedy = "write a rule instead; it runs on the computer"
        findings.error("cannot-store", (*path, "follows"), message, remedy=remedy)
        return
    for key, known in _TIMES.items():
        # What the device switches itself, only the device can hold to its times.
        if output.follows and getattr(output, key) is not None and not datasheet.has(known):
            message = f"{datasheet.model} has no setting {known} for a relay that follows alarms"
            findings.error("cannot-store", (*path, key), message, remedy="remove it")
    known_alarms = {name for c in channels for name, _ in c.named_alarms()}
    on_device = {f"{c.name}.{alarm.name}" for c in channels for alarm in c.device_alarms}
    for k, name in enumerate(output.follows):
        place = (*path, "follows", str(k))
        if name not in known_alarms:
            valid = ", ".join(sorted(known_alarms)[:8]) or "this setup has no alarms"
            message = f"there is no alarm {name[:60]!r}"
            findings.error("unknown-alarm", place, message, valid=valid)
        elif name not in on_device:
            message = f"the device does not watch {name} itself, so no output can follow it there"
            remedy = "write a rule instead; it runs on the computer"
            findings.error("host-only", place, message, remedy=remedy)
        else:
            yield name


def _loop(
    output: Output,
    terminal: OutputTerminal,
    channels: Sequence[CheckedChannel],
    path: KeyPath,
    findings: Findings,
) -> Loop | None:
    missing = [key for key in ("shows", "span", "signal") if getattr(output, key) is None]
    for key in missing:
        if not findings.mentions((*path, key)):
            message = f"an analog output needs the key {key!r}"
            findings.error("missing-key", path, message, at_key=True, remedy=f"add '{key}: …'")
    channel = next((c for c in channels if c.name == output.shows), None)
    if output.shows is not None and channel is None:
        valid = ", ".join(c.name for c in channels)
        message = f"there is no channel {output.shows[:40]!r}"
        findings.error("unknown-channel", (*path, "shows"), message, valid=valid)
    if missing or channel is None or output.span is None or output.signal is None:
        return None
    assert terminal.span is not None
    unit = terminal.span.unit
    assert unit is not None
    try:
        low, high = output.span.ends_in(channel.unit)
        signal = output.signal.ends_in(unit)
        bad = None
        if isinstance(output.bad, Quantity):
            bad = output.bad.value_in(unit)
        load = output.load.value_in(parse_unit("Ω")) if output.load else None
        supply = output.supply.value_in(parse_unit("V")) if output.supply else None
    except QuantityError as error:
        findings.error("wrong-unit", path, error.message, at_key=True, valid=error.valid)
        return None
    if low == high or signal[0] == signal[1]:
        findings.error("bad-span", path, "both ends of a span are the same", at_key=True)
        return None
    loop = Loop(
        channel.name,
        low,
        high,
        signal,
        unit.symbol,
        bad,
        load,
        supply,
        terminal.compliance_v,
        channel.unit,
    )
    _check_signal(loop, terminal.span, path, findings)
    _check_span(loop, channel, path, findings)
    _check_compliance(loop, path, findings)
    return loop


def _check_signal(loop: Loop, gives: Span, path: KeyPath, findings: Findings) -> None:
    for key, numbers in (("signal", loop.signal), ("bad", (loop.bad,))):
        for number in numbers:
            if number is not None and not gives.low <= number <= gives.high:
                message = f"{key}: it cannot give {format_number(number)} {loop.unit}"
                findings.error("signal-outside", (*path, key), message, valid=str(gives))
    low, high = sorted(loop.signal)
    if loop.bad is not None and low <= loop.bad <= high:
        findings.warning(
            "fault-signal-in-range",
            (*path, "bad"),
            f"{format_number(loop.bad)} {loop.unit} for a bad value looks like a good one",
            valid=f"outside {format_number(low)}..{format_number(high)} {loop.unit}"
            + (" (NE 43: 3.6 mA or less, 21 mA or more)" if loop.unit == "mA" else ""),
        )


def _check_span(loop: Loop, channel: CheckedChannel, path: KeyPath, findings: Findings) -> None:
    if loop.value_per_signal < 0.0:
        findings.warning(
            "reversed-span",
            (*path, "span"),
            f"the signal falls while {channel.name} rises: "
            f"{format_number(min(loop.signal))} {loop.unit} is the highest value",
            valid="the lower end first, in 'span' and in 'signal'",
            remedy="leave it so only if the other end is reversed, too",
        )
    low, high = channel.span
    if min(loop.low, loop.high) < low or max(loop.low, loop.high) > high:
        message = f"{channel.name} cannot show all of this span"
        valid = format_span(low, high, channel.unit)
        findings.warning("span-outside", (*path, "span"), message, valid=valid)
    if channel.expected is None:
        return
    expected, tolerance = channel.expected
    ends = sorted((loop.low, loop.high))
    if expected - tolerance < ends[0] or expected + tolerance > ends[1]:
        asked = Expected(expected, tolerance, channel.unit)
        findings.warning(
            "span-misses-expectation",
            (*path, "span"),
            f"{channel.name} is expected at {asked}, which this output cannot give",
            valid=f"a span that holds {asked}",
        )


def _check_compliance(loop: Loop, path: KeyPath, findings: Findings) -> None:
    """Ohm's law for the whole loop: what the load and the output take must be there."""
    if loop.unit != "mA" or loop.load_ohm is None or loop.supply_v is None:
        return
    most = max(*loop.signal, loop.bad or 0.0)
    needed = most * 1e-3 * loop.load_ohm + loop.compliance_v
    if needed > loop.supply_v:
        may = (loop.supply_v - loop.compliance_v) / (most * 1e-3)
        volt, ohm = parse_unit("V"), parse_unit("Ω")
        findings.error(
            "loop-voltage",
            (*path, "load"),
            f"at {format_number(most)} mA the loop needs {format_value(needed, volt)}, its supply "
            f"has {format_value(loop.supply_v, volt)}",
            valid=f"at most {format_value(max(0.0, float(f'{may:.4g}')), ohm)}",
        )


def ends_at(loop: Loop, between: Span | None) -> tuple[float, float]:
    """The values at the signals that a device's settings stand for; the line goes on beyond its ends."""
    if between is None:
        return loop.low, loop.high
    return loop.value_at(between.low), loop.value_at(between.high)
