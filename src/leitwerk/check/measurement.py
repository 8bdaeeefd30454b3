"""What is wired to a terminal: from the signal to what the device shows, and on to the value."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import lru_cache

from leitwerk.check.calibration import calibration_stages
from leitwerk.check.scaling import SignalAxis, build_scale, signal_unit, value_unit
from leitwerk.datasheet.model import Datasheet, Input
from leitwerk.datasheet.vocabulary import COLD_JUNCTION, SIGNAL_LOW, VALUE_LOW
from leitwerk.errors import DomainError, QuantityError, UnitError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import Span
from leitwerk.parsing.units import Unit, convert, parse_unit
from leitwerk.setup.model import Channel
from leitwerk.setup.scales import Factor, Logarithm, Pairs, Root, ScaleText
from leitwerk.signals.bounds import SignalBounds
from leitwerk.signals.linear import Linear, TwoPoint
from leitwerk.signals.loop import LoopBands
from leitwerk.signals.pulse_inputs import PERIOD, PULSE_WIDTH
from leitwerk.signals.rtd import lead_error
from leitwerk.signals.scale import Chain, Labelled, Scale
from leitwerk.signals.sensors import Sensor
from leitwerk.signals.transformer import Transformer

# Keys that mean nothing for a contact.
CONTACT_USELESS = ("range", "scale", "unit", "shunt", "leads", "calibration", "tare")
LOOP = (4.0, 20.0)  # the live-zero loop that NAMUR NE 43 is about, in mA


@dataclass(frozen=True, slots=True)
class Measurement:
    """What is wired to a terminal and what it stands for.

    ``kind`` is the device's word for it: a sensor's name or a quantity. ``shown`` runs from the
    signal in the input's unit to what the device shows, in ``shown_unit``; ``host`` from there to
    the channel's value in ``unit``, and is worked by Leitwerk. ``typed`` is the scale as typed,
    ``scale`` the scale that results, ``axis`` places typed signals; ``ends`` are the signals between which it
    works, ``span`` the values there. ``conversion`` leads from the unit of a sensor to the channel's where
    they differ, and is one of the stages of ``host``.
    """

    kind: str
    input: Input
    unit: Unit
    shown: Scale = field(default_factory=Chain)
    shown_unit: Unit = field(default_factory=lambda: parse_unit(""))
    host: Chain = field(default_factory=Chain)
    scale: Scale | None = None
    sensor: Sensor | None = None
    conversion: Linear | None = None
    typed: ScaleText | None = None
    axis: SignalAxis | None = None
    ends: tuple[float, float] = (0.0, 1.0)
    span: tuple[float, float] = (0.0, 1.0)

    @property
    def relation(self) -> Scale:
        """From the signal in the input's unit to a value in ``unit``, as the sensor or scale has it."""
        if self.sensor is None:
            return self.scale or self.shown
        return self.shown if self.conversion is None else self.shown.then(self.conversion)

    def in_sensor_unit(self, value: float) -> float:
        """A value of the channel in the unit of its sensor."""
        return value if self.conversion is None else float(self.conversion.signal(value))

    @property
    def total(self) -> Chain:
        """From the signal in the input's unit to the value, all links."""
        return self.shown.then(self.host)

    def shown_at(self, junction: float | None) -> Scale:
        """``shown`` with the terminals at a temperature in °C; it matters to thermocouples only."""
        if self.sensor is None:
            return self.shown
        return Chain.of(*Chain.of(self.shown).stages[:-1], self.sensor.at_junction(junction))


def has_two_scales(channel: Channel, path: KeyPath, findings: Findings) -> bool:
    """Whether a channel has a sensor and a signal or scale beside it; that is a finding."""
    if not (channel.sensor and (channel.signal or channel.scale)):
        return False
    findings.error(
        "two-scales",
        path,
        "a sensor has its own curve; it takes no signal and no scale beside it",
        at_key=True,
        remedy="remove either 'sensor', or 'signal' and 'scale'",
    )
    return True


def read_measurement(
    channel: Channel, datasheet: Datasheet, path: KeyPath, findings: Findings
) -> Measurement | None:
    """The measurement of a channel on a model; what does not fit is a finding."""
    try:
        if channel.sensor:
            return _of_sensor(channel, channel.sensor, datasheet, path, findings)
        if channel.signal or channel.scale:
            return _of_signal(channel, datasheet, path, findings)
    except (QuantityError, DomainError) as error:
        place = (*path, "scale" if channel.scale else "signal")
        rule = "wrong-unit" if isinstance(error, UnitError) else "bad-scale"
        valid = getattr(error, "valid", "")
        findings.error(rule, place, error.message, valid=valid, remedy=error.remedy)
        return None
    # What is there but could not be read has its finding already.
    if not any(findings.mentions((*path, key)) for key in ("sensor", "signal", "scale")):
        findings.error(
            "nothing-wired",
            path,
            "the channel does not say what is wired to the terminal",
            at_key=True,
            valid="sensor: Pt100, 4-wire; signal: 4..20 mA; scale: {4 mA: 0 %, 20 mA: 100 %}",
        )
    return None


def report_useless(
    channel: Channel, keys: tuple[str, ...], why: str, path: KeyPath, findings: Findings
) -> None:
    """Keys that mean nothing for a channel like this."""
    for key in keys:
        if getattr(channel, key):
            message = f"{key!r} {why}"
            findings.error("useless-key", (*path, key), message, at_key=True, remedy="remove it")


def _of_sensor(
    channel: Channel, sensor: Sensor, datasheet: Datasheet, path: KeyPath, findings: Findings
) -> Measurement | None:
    if sensor.name not in datasheet.sensors:
        findings.error(
            "unknown-sensor",
            (*path, "sensor"),
            f"{datasheet.model} does not measure {sensor.name}",
            valid=", ".join(datasheet.sensors),
        )
        return None
    has_junction = datasheet.junction_inside or datasheet.has(COLD_JUNCTION)
    if sensor.has_cold_junction and not has_junction:
        findings.error(
            "no-cold-junction",
            (*path, "sensor"),
            f"{datasheet.model} does not measure the temperature of its terminals, and {sensor.name} "
            "shows only the difference to it",
            remedy="use a transmitter with its own cold junction, or a resistance thermometer",
        )
        return None
    shown_unit = parse_unit(sensor.unit)
    unit = channel.unit or shown_unit
    if unit.dimension != shown_unit.dimension:
        findings.error(
            "wrong-unit",
            (*path, "unit"),
            f"{sensor.name} measures in {shown_unit}; {unit} is a unit of {unit.dimension}",
            valid=f"a unit of {shown_unit.dimension}, such as {shown_unit}",
        )
        unit = shown_unit
    report_useless(channel, ("states",), "is for contacts only", path, findings)
    report_useless(channel, ("shunt",), "is for current loops only", path, findings)
    kind = datasheet.inputs[sensor.quantity]
    # The curve is in the sensor's unit, the input may be in another.
    per = convert(1.0, kind.unit, parse_unit(sensor.signal_unit))
    curve = sensor.scale if per == 1.0 else Linear(per).then(sensor.scale)
    host = _lead_stages(channel, sensor, path, findings)
    conversion = None if unit == shown_unit else unit_stage(shown_unit, unit)
    span = sensor.span
    if conversion is not None:
        host = host.then(Labelled(f"{shown_unit} to {unit}", conversion))
        low, high = conversion.value(span).tolist()
        span = (low, high)
    return Measurement(
        kind=sensor.name,
        input=kind,
        unit=unit,
        shown=curve,
        shown_unit=shown_unit,
        host=host.then(calibration_stages(channel, unit, path, findings)),
        sensor=sensor,
        conversion=conversion,
        span=span,
    )


def unit_stage(shown: Unit, wanted: Unit) -> Linear:
    """From values in one unit to values in another one of the same kind."""
    offset = convert(0.0, shown, wanted)
    return Linear(convert(1.0, shown, wanted) - offset, offset)


def _lead_stages(channel: Channel, sensor: Sensor, path: KeyPath, findings: Findings) -> Chain:
    """What takes the leads of a two-wire thermometer off again."""
    if sensor.wires != 2:
        why = f"means nothing for {sensor.name}: its leads are not measured along"
        report_useless(channel, ("leads",), why, path, findings)
        return Chain()
    ohm = parse_unit("Ω")
    if channel.leads is None:
        tenth = float(lead_error(20.0, 0.1, 2, r0=float(sensor.scale.signal(0.0))))
        findings.warning(
            "leads-unknown",
            (*path, "sensor"),
            f"two wires: every 0.1 Ω of each lead makes {sensor.name} read {tenth:.2g} K too hot",
            remedy="measure one lead and write 'leads: 0.35 Ω', or use four wires",
        )
        return Chain()
    try:
        lead = channel.leads.value_in(ohm)
    except QuantityError as error:
        findings.error("wrong-unit", (*path, "leads"), error.message, valid=error.valid)
        return Chain()
    without = sensor.scale.inverse().then(Linear(1.0, -2.0 * lead), sensor.scale)
    return Chain((Labelled(f"less two leads of {lead:g} Ω", without),))


def _of_signal(
    channel: Channel, datasheet: Datasheet, path: KeyPath, findings: Findings
) -> Measurement | None:
    signal = channel.signal if isinstance(channel.signal, Span) else None
    place = (*path, "signal" if channel.signal else "scale")
    word = channel.signal if isinstance(channel.signal, str) else ""
    typed = (signal.unit if signal else None) or (
        signal_unit(channel.scale) if channel.scale else None
    )
    if typed is None and isinstance(channel.scale, Factor | Transformer):
        message = "a factor alone does not say which signal is wired to the terminal"
        valid = "a line 'signal: 0..10 mV' beside it"
        findings.error("unknown-signal", place, message, valid=valid)
        return None
    shunt = channel.shunt.value_in(parse_unit("Ω")) if channel.shunt else None
    if shunt is not None and not shunt > 0.0:
        message = f"the shunt resistance {channel.shunt} is not greater than 0 Ω"
        findings.error("bad-value", (*path, "shunt"), message, valid="above 0 Ω")
        return None
    dimension = "voltage" if shunt is not None else typed.dimension if typed else ""
    kind = datasheet.inputs.get(word) if word else datasheet.input_for(dimension)
    if kind is not None and not word and kind.quantity in {PERIOD, PULSE_WIDTH}:
        message = f"a signal in {typed} is the period of pulses, or their width"
        findings.error(
            "unknown-signal", place, message, valid="signal: period, signal: pulse width"
        )
        return None
    if kind is None:
        what = word or (f"a signal in {typed}" if typed else "a signal without a unit")
        valid = ", ".join(f"{i.quantity} ({i.unit})" for i in datasheet.inputs.values() if i.ranges)
        message = f"{datasheet.model} does not take {what}"
        findings.error("unknown-signal", place, message, valid=valid)
        return None
    report_useless(channel, ("states",), "is for contacts only", path, findings)
    report_useless(channel, ("leads",), "is for resistance thermometers only", path, findings)
    axis = SignalAxis.behind(kind.unit, shunt)
    if typed is not None and typed.dimension != axis.typed.dimension:
        message = f"a shunt carries a current; the signal is in {typed}"
        findings.error("wrong-unit", (*path, "shunt"), message, valid="signal: 4..20 mA")
        return None
    unit = _unit_of(channel, typed or kind.unit, path, findings)
    if channel.scale:
        scale: Scale = build_scale(channel.scale, axis, unit)
        _check_signal_covers(signal, scale, axis, place, findings)
    else:
        shown = signal or Span(kind.ranges[-1].low, kind.ranges[-1].high, kind.unit)
        (low, high), (first, last) = axis.ends(shown), shown.ends_in(unit)
        scale = TwoPoint(low, high, first, last)
    scales_itself = datasheet.has(SIGNAL_LOW) or bool(kind.ends and datasheet.has(VALUE_LOW))
    return _placed(channel, kind, scale, unit, axis, signal, path, findings, scales_itself)


def _unit_of(channel: Channel, typed: Unit, path: KeyPath, findings: Findings) -> Unit:
    leads_to = value_unit(channel.scale) if channel.scale else typed
    if channel.unit is not None and isinstance(channel.scale, Factor):
        leads_to = None  # whether the factor leads there is found with its number
    unit = channel.unit or leads_to or parse_unit("")
    if leads_to is not None and leads_to.dimension != unit.dimension:
        findings.error(
            "wrong-unit",
            (*path, "unit"),
            f"the scale leads to {leads_to}, the channel is in {unit}",
            valid=f"a unit of {leads_to.dimension}, such as {leads_to}",
        )
        return leads_to
    return unit


def _placed(
    channel: Channel,
    kind: Input,
    scale: Scale,
    unit: Unit,
    axis: SignalAxis,
    signal: Span | None,
    path: KeyPath,
    findings: Findings,
    scales_itself: bool,  # noqa: FBT001 - one of many, all named here
) -> Measurement:
    """The scale divided: the device works a line where it can, Leitwerk works the rest."""
    line = as_line(scale, kind.ranges[0].high) if scales_itself else None
    low, high = kind.ends or (0.0, kind.ranges[0].high)
    if line is not None:
        # The device may know the values at fixed signals only: the same line, through those.
        ends = line.value([low, high]).tolist() if kind.ends else ()
        shown, rest = (TwoPoint(low, high, *ends) if ends else line), Chain()
    else:
        # The device shows the bare signal. It has no way to switch its scale off, so it gets the line
        # that gives each signal itself, over the largest range: any two points of it would do.
        shown, rest = TwoPoint(low, high, low, high), Chain.of(scale)
    if is_loop(channel, axis, signal):
        # What a current outside 3.6..21 mA means, in terms of what the device makes of it.
        bands = _bands_behind(shown, axis.per_typed)
        named = bands if line is None else Labelled(str(LoopBands()), bands)
        rest = Chain.of(named, rest)
    elif signal is not None:
        bounds = _bounds_behind(shown, axis.ends(signal))
        rest = Chain.of(Labelled(f"within {signal}", bounds), rest)
    upkeep = calibration_stages(channel, unit, path, findings)
    ends = _typed_ends(scale, signal, axis, kind)
    return Measurement(
        kind=kind.quantity,
        input=kind,
        unit=unit,
        shown=shown,
        shown_unit=unit if line is not None else kind.unit,
        host=rest.then(upkeep),
        scale=scale,
        typed=channel.scale,
        axis=axis,
        ends=ends,
        span=_values_at(scale.then(upkeep), ends),
    )


# Many channels of a setup are typed alike; what their texts mean is worked out once.
@lru_cache(maxsize=1024)
def _bands_behind(line: TwoPoint, per_ma: float) -> LoopBands:
    return LoopBands().seen_through(Linear(per_ma).then(line))


@lru_cache(maxsize=1024)
def _bounds_behind(line: TwoPoint, ends: tuple[float, float]) -> SignalBounds:
    return SignalBounds(*sorted(line.value(ends).tolist()))


@lru_cache(maxsize=1024)
def _values_at(scale: Scale, ends: tuple[float, float]) -> tuple[float, float]:
    values = scale.value(ends).tolist()
    return min(values), max(values)


def as_line(scale: Scale, reach: float) -> TwoPoint | None:
    """A scale as two points that a device can store, or None when it is not linear."""
    if isinstance(scale, TwoPoint):
        return scale
    if isinstance(scale, Linear):
        return TwoPoint(0.0, reach, scale.offset, scale.offset + scale.gain * reach)
    return None


def is_loop(channel: Channel, axis: SignalAxis, signal: Span | None) -> bool:
    """Whether a channel is a 4..20 mA loop, whose currents outside show the state of the transmitter."""
    if axis.typed.dimension != "current":
        return False
    if signal is not None:
        ends = signal.ends_in(parse_unit("mA")) if signal.unit else (0.0, 0.0)
    elif isinstance(channel.scale, Pairs):
        first, last = channel.scale.points[0][0], channel.scale.points[-1][0]
        ends = first.value_in(axis.typed), last.value_in(axis.typed)
    elif isinstance(channel.scale, Root | Logarithm):
        ends = channel.scale.signal.ends_in(axis.typed)
    else:
        return False
    return sorted(ends) == list(LOOP)


def _typed_ends(
    scale: Scale, signal: Span | None, axis: SignalAxis, kind: Input
) -> tuple[float, float]:
    """The signals between which a channel works: as its scale or its signal was typed."""
    ends = getattr(scale, "ends", None)
    if ends is None and signal is not None:
        ends = axis.ends(signal)
    if ends is None:
        low, high = scale.domain
        ends = (max(low, kind.ranges[-1].low), min(high, kind.ranges[-1].high))
    return min(ends), max(ends)


def _check_signal_covers(
    signal: Span | None, scale: Scale, axis: SignalAxis, place: KeyPath, findings: Findings
) -> None:
    ends = getattr(scale, "ends", None)
    if signal is None or ends is None:
        return
    low, high = sorted(axis.ends(signal))
    slack = 1e-9 * (high - low)
    if ends[0] < low - slack or ends[1] > high + slack:
        per = axis.per_typed
        needed = Span(float(f"{ends[0] / per:.9g}"), float(f"{ends[1] / per:.9g}"), axis.typed)
        findings.error(
            "scale-outside-signal",
            place,
            f"the scale needs {needed}, the signal is said to be {signal}",
            remedy="make the two agree: one of them is a slip",
        )
