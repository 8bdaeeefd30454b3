"""What a wrong reading points to: each known mistake of wiring, tried against the numbers.

A mistake is recognised by the signal that it would put on the terminal if the expectation were true. The
signal is followed through range, device and Leitwerk like any other; when what comes out is what was
read, the mistake is named.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

from leitwerk.check.channels import CheckedChannel, SignalChannel
from leitwerk.parsing.units import convert, parse_unit
from leitwerk.setup.scales import Pairs
from leitwerk.signals import rtd
from leitwerk.signals.pulse_inputs import FREQUENCY, PULSE_WIDTH
from leitwerk.signals.quality import Quality
from leitwerk.signals.rtd import ResistanceThermometer
from leitwerk.signals.scale import Chain
from leitwerk.signals.sensors import SENSORS, Sensor
from leitwerk.signals.transformer import RATED_CURRENTS, Transformer

_SAME_TEMPERATURE_C = 0.15  # a shorted thermocouple reads its junction, but for converter noise
_EXPLAINS = 0.2  # a mistake explains a deviation when it leaves no more than this part of it
_LEADS_OHM = (0.05, 20.0)  # what two leads may have; beyond, something else is wrong
NO_PULSES = "no pulses come: what is measured is at rest, or a wire is off"
_LIVE_ZERO, _DEAD_ZERO = (4.0, 20.0), (0.0, 20.0)


@dataclass(frozen=True, slots=True)
class Seen:
    """What was read: a mean of good readings, or the quality of bad ones."""

    mean: float | None
    quality: Quality
    cold_junction: float | None = None


@dataclass(frozen=True, slots=True)
class _Mistake:
    """A cause in words, and the signal (in the input's unit) that it would put on the terminal."""

    cause: str
    signal: float


def likely_cause(channel: CheckedChannel, seen: Seen) -> str:
    """The mistake that the numbers point to, in words; empty when they point to none."""
    if channel.expected is None or not isinstance(channel, SignalChannel):
        return ""
    expected = channel.expected[0]
    mistakes = list(_mistakes(channel, expected, seen.cold_junction))
    if seen.mean is None:
        return _for_quality(channel, seen, mistakes)
    if _is_shorted(channel, seen.mean, seen.cold_junction):
        return "exactly the cold junction, a short-circuited thermocouple does this"
    return _for_value(channel, seen, mistakes) or _leads(channel, expected, seen.mean)


def _for_quality(channel: SignalChannel, seen: Seen, mistakes: list[_Mistake]) -> str:
    """The first mistake that gives the same bad quality."""
    for mistake in mistakes:
        if _through(channel, mistake.signal, seen.cold_junction)[1] is seen.quality:
            return mistake.cause
    return ""


def _for_value(channel: SignalChannel, seen: Seen, mistakes: list[_Mistake]) -> str:
    """The mistake that comes closest to what was read, if it explains it."""
    assert channel.expected is not None
    assert seen.mean is not None
    expected, tolerance = channel.expected
    least = min(tolerance, _EXPLAINS * abs(seen.mean - expected))
    best = ""
    for mistake in mistakes:
        value, _ = _through(channel, mistake.signal, seen.cold_junction)
        if abs(value - seen.mean) <= least:  # never true for NaN
            best, least = mistake.cause, abs(value - seen.mean)
    return best


def _is_shorted(channel: SignalChannel, mean: float, junction: float | None) -> bool:
    sensor = channel.measurement.sensor
    if sensor is None or not sensor.has_cold_junction or junction is None:
        return False
    return abs(channel.measurement.in_sensor_unit(mean) - junction) <= _SAME_TEMPERATURE_C


def _through(
    channel: SignalChannel, signal: float, junction: float | None
) -> tuple[float, Quality]:
    """What a signal would be read as."""
    chosen = channel.range
    if chosen is not None and not chosen.holds(signal, signal):
        return math.nan, Quality.BELOW_RANGE if signal < chosen.low else Quality.ABOVE_RANGE
    chain = Chain.of(channel.measurement.shown_at(junction), channel.host)
    values, qualities = chain.convert([signal])
    return float(values[0]), Quality(int(qualities[0]))


def _mistakes(
    channel: SignalChannel, expected: float, junction: float | None
) -> Iterator[_Mistake]:
    m = channel.measurement
    chain = Chain.of(m.shown_at(junction), m.host)
    if not chain.has_inverse:
        return
    right = float(chain.signal(expected))
    if not math.isfinite(right):
        return
    if m.sensor is not None:
        yield from _of_sensor(channel, m.sensor, m.in_sensor_unit(expected), junction, right)
    else:
        yield from _of_signal(channel, right)


def _of_sensor(
    channel: SignalChannel, sensor: Sensor, expected: float, junction: float | None, right: float
) -> Iterator[_Mistake]:
    unit = channel.measurement.input.unit
    if sensor.has_cold_junction:
        yield _Mistake("the thermocouple is wired with reversed polarity", -right)
    own = sensor.name.split(",")[0]
    seen = {own}
    for other in SENSORS.values():
        name = other.name.split(",")[0]
        if other.quantity != sensor.quantity or name in seen:
            continue
        seen.add(name)
        signal = float(other.at_junction(junction).signal(expected))
        if math.isfinite(signal):
            at_input = convert(signal, parse_unit(other.signal_unit), unit)
            what = f"a thermocouple {name}" if other.has_cold_junction else f"a {name}"
            yield _Mistake(f"{what} is wired where the setup says {own}", at_input)


def _of_signal(channel: SignalChannel, right: float) -> Iterator[_Mistake]:
    m = channel.measurement
    assert m.axis is not None
    if m.input.quantity in {"voltage", "bridge"} and m.axis.per_typed == 1.0:
        yield _Mistake("the two wires of the signal are swapped", -right)
    if m.input.quantity in {FREQUENCY, PULSE_WIDTH}:
        yield _Mistake(NO_PULSES, 0.0)
    if m.axis.per_typed != 1.0:
        yield _Mistake(
            "the shunt is missing: the loop drives its whole supply voltage into the input",
            math.inf,
        )
    if m.axis.typed.dimension == "current" and isinstance(m.typed, Pairs):
        yield from _of_loop(channel, right)
    if isinstance(m.typed, Transformer):
        yield from _of_transformer(m.typed, right)


def _of_loop(channel: SignalChannel, right: float) -> Iterator[_Mistake]:
    m = channel.measurement
    assert m.axis is not None
    milliampere = parse_unit("mA")
    per = m.axis.per_typed * convert(1.0, milliampere, m.axis.typed)
    low, high = m.ends[0] / per, m.ends[1] / per
    for span, other, text in (
        (_LIVE_ZERO, _DEAD_ZERO, "0..20 mA, the setup says 4..20 mA"),
        (_DEAD_ZERO, _LIVE_ZERO, "4..20 mA, the setup says 0..20 mA"),
    ):
        if math.isclose(low, span[0], abs_tol=1e-6) and math.isclose(high, span[1]):
            part = (right / per - span[0]) / (span[1] - span[0])
            signal = (other[0] + part * (other[1] - other[0])) * per
            yield _Mistake(f"the transmitter gives {text}", signal)


def _of_transformer(typed: Transformer, right: float) -> Iterator[_Mistake]:
    for rated in RATED_CURRENTS:
        for decade in (1.0, 10.0, 100.0):
            primary = rated * decade
            if not math.isclose(primary, typed.primary):
                other = Transformer(primary, typed.secondary, typed.unit)
                # The other transformer makes another secondary current of the same primary one.
                yield _Mistake(
                    f"a transformer of {other} is mounted, the setup says {typed}",
                    right * typed.ratio / other.ratio,
                )


def _leads(channel: SignalChannel, expected: float, mean: float) -> str:
    """Whether uncompensated leads of a plausible resistance make a thermometer read too hot."""
    sensor = channel.measurement.sensor
    if sensor is None or not isinstance(sensor.scale, ResistanceThermometer) or mean <= expected:
        return ""
    mean, expected = map(channel.measurement.in_sensor_unit, (mean, expected))
    scale = sensor.scale
    extra = float(rtd.resistance(mean, scale.r0, scale.metal)) - float(
        rtd.resistance(expected, scale.r0, scale.metal)
    )
    if not _LEADS_OHM[0] <= extra / 2.0 <= _LEADS_OHM[1]:
        return ""
    return (
        f"leads of {extra / 2.0:.2g} Ω each that are measured along would do this; is it wired with "
        f"{sensor.wires} wires?"
    )
