"""Ready-made functions: open channels, humid air, water, gears. Each from a formula with a source."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.derived import humid_air, types, water
from leitwerk.derived.function import Call, Functions
from leitwerk.derived.functions_of_time import each_of, marked_for_gaps, remembering
from leitwerk.derived.mounting import (
    AXES,
    DIRECTIONS,
    Mounting,
    parse_mounting,
    parse_rotation,
    parse_sides,
)
from leitwerk.derived.open_channel import (
    PARSHALL,
    Francis,
    ManningPipe,
    ManningTrapezoid,
    OpenChannel,
    PowerLaw,
    RectangularWeir,
    VNotch,
    cipolletti,
)
from leitwerk.derived.operations import Momentary
from leitwerk.derived.remembered import Settled
from leitwerk.derived.steps import NO_STEP, Steps, parse_steps
from leitwerk.derived.tariffs import Cost, parse_tariff
from leitwerk.derived.throated_flume import TrapezoidalFlume, UShapedFlume
from leitwerk.derived.types import Form, Type, type_of
from leitwerk.derived.values import Value
from leitwerk.errors import DomainError, QuantityError
from leitwerk.parsing.quantities import format_number, parse_quantity
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import Scale
from leitwerk.signals.states import StateNames
from leitwerk.signals.table import PointTable, odd_point

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

READY_MADE = Functions()
_METRE = Type((("length", 1.0),))
_FLOW = Type((("length", 3.0), ("time", -1.0)))
_PRESSURE = Type((("length", -1.0), ("mass", 1.0), ("time", -2.0)))
_PER_VOLUME = Type((("length", -3.0), ("mass", 1.0)))
_ACCELERATION = Type((("length", 1.0), ("time", -2.0)))
_PER_MASS = Type((("length", 2.0), ("time", -2.0)))


# ---------------------------------------------------------------------- scales


def _scaled(call: Call, scale: Scale, kind: Type, x: Value) -> Value:
    """A scale on a value; its qualities say where it does not hold."""

    def work(signal: Array, out: Array) -> None:
        scale.forward_inside(np.asarray(signal), out)

    def judge(signal: Array) -> NDArray[np.uint8]:
        return scale.convert(np.asarray(signal))[1]

    operation = Momentary(call.name, (scale,), work=work, judge=judge)
    return call.apply(operation, kind, x)


def _made(call: Call, parameter: str, make: Callable[[], Any]) -> Any:
    """What is made of the arguments, which fit no relation else."""
    try:
        return make()
    except DomainError as error:
        raise call.refusal(parameter, error.message, error.remedy) from None


def _open_channel(call: Call, scale: OpenChannel) -> Value:
    low, high = (format_number(100.0 * end, 3) for end in scale.valid)
    call.remarks.notes.append(f"{scale}; valid for heads of {low} to {high} cm")
    return _scaled(call, scale, _FLOW, call.of(_METRE, "head", "m or cm"))


def _metre(call: Call, parameter: str) -> float:
    return call.above_zero(parameter, _METRE, "m")


@READY_MADE.define("head, size, [downstream]")
def parshall(call: Call) -> Value:
    """Flow through a Parshall flume of a standard size; marked where the head downstream drowns it."""
    flume = PARSHALL[_size(call)]
    flow = _open_channel(call, flume)
    if "downstream" not in call:
        return flow
    return call.apply(
        _submerged(flume), _FLOW, flow, call.of(_METRE, "downstream", "m"), call["head"]
    )


def _size(call: Call) -> str:
    """The size whose width is that of a quantity."""
    width = call.fixed("size", _METRE, "m, in or ft")
    for name in PARSHALL:
        known = parse_quantity(name)
        assert known.unit is not None
        if math.isclose(known.value * known.unit.factor, width, rel_tol=1e-9):
            return name
    near = sorted(PARSHALL, key=lambda name: abs(_width(name) - width))[:4]
    raise call.refusal(
        "size", f"there is no Parshall flume with a throat of {width:g} m", ", ".join(PARSHALL),
        f"the nearest are {', '.join(near)}; read the width at the throat, not at the entrance",
    )  # fmt: skip


def _width(name: str) -> float:
    known = parse_quantity(name)
    assert known.unit is not None
    return known.value * known.unit.factor


def _submerged(flume: PowerLaw) -> Momentary:
    """The flow as it is, marked where the head downstream is too near to that upstream."""
    limit = flume.submerged_from or 1.0

    def work(flow: Array, downstream: Array, head: Array, out: Array) -> None:
        out[...] = np.where(np.isnan(downstream) | np.isnan(head), np.nan, flow)

    def judge(flow: Array, downstream: Array, head: Array) -> NDArray[np.uint8]:
        del flow
        drowned = (head > 0.0) & (downstream > limit * head)
        return np.where(drowned, Quality.SUBMERGED, Quality.GOOD).astype(np.uint8)

    return Momentary("submerged", (flume.name,), work=work, judge=judge)


@READY_MADE.define("head, angle")
def v_notch(call: Call) -> Value:
    """Flow over a V-notch of thin plate (Kindsvater and Shen, ISO 1438)."""
    angle = math.degrees(call.fixed("angle", types.ANGLE, "°, such as '90 °'"))
    return _open_channel(call, _made(call, "angle", lambda: VNotch(round(angle, 9))))


@READY_MADE.define("head, width, crest, channel")
def rectangular_weir(call: Call) -> Value:
    """Flow over a rectangular weir of thin plate (Kindsvater and Carter, ISO 1438)."""
    sizes = [_metre(call, name) for name in ("width", "crest", "channel")]
    return _open_channel(call, _made(call, "width", lambda: RectangularWeir(*sizes)))


@READY_MADE.define("head, width, [contractions]")
def francis(call: Call) -> Value:
    """Flow over a rectangular weir after Francis, with 2 end contractions if not said otherwise."""
    sides = call.fixed("contractions", types.PLAIN, "0, 1 or 2") if "contractions" in call else 2.0
    width = _metre(call, "width")
    return _open_channel(call, _made(call, "width", lambda: Francis(width, int(sides))))


@READY_MADE.define("head, width")
def cipolletti_weir(call: Call) -> Value:
    """Flow over a Cipolletti weir: a trapezoid with sides of 1 : 4."""
    return _open_channel(call, cipolletti(_metre(call, "width")))


@READY_MADE.define("head, diameter, slope, roughness")
def pipe_flow(call: Call) -> Value:
    """Flow in a round pipe that runs part full (Manning); roughness n in s/m^(1/3), such as 0.013."""
    diameter = _metre(call, "diameter")
    slope, roughness = (
        call.fixed(p, types.PLAIN, "a plain number") for p in ("slope", "roughness")
    )
    return _open_channel(
        call, _made(call, "slope", lambda: ManningPipe(diameter, slope, roughness))
    )


@READY_MADE.define("head, bottom, side, slope, roughness")
def channel_flow(call: Call) -> Value:
    """Flow in a channel with a flat bottom and sides of 1 : side (Manning)."""
    bottom = call.fixed("bottom", _METRE, "m")
    rest = [call.fixed(p, types.PLAIN, "a plain number") for p in ("side", "slope", "roughness")]
    return _open_channel(call, _made(call, "slope", lambda: ManningTrapezoid(bottom, *rest)))


@READY_MADE.define("head, bottom, side, length, channel, [hump]")
def trapezoidal_flume(call: Call) -> Value:
    """Flow through a flume with a long throat, sides of 1 : side, 0 if rectangular (ISO 4359)."""
    side = call.fixed("side", types.PLAIN, "a plain number")
    bottom, length, channel = (_metre(call, name) for name in ("bottom", "length", "channel"))
    make = partial(TrapezoidalFlume, bottom, side, length, channel, hump=_hump(call))
    return _open_channel(call, _made(call, "channel", make))


@READY_MADE.define("head, diameter, length, channel, [hump]")
def u_shaped_flume(call: Call) -> Value:
    """Flow through a flume whose throat has half a circle for a bottom (ISO 4359)."""
    diameter, length, channel = (_metre(call, name) for name in ("diameter", "length", "channel"))
    make = partial(UShapedFlume, diameter, length, channel, hump=_hump(call))
    return _open_channel(call, _made(call, "channel", make))


def _hump(call: Call) -> float:
    """How much higher the throat is than the channel before it, in m."""
    return call.fixed("hump", _METRE, "m") if "hump" in call else 0.0


@READY_MADE.define("head, flow, exponent, greatest")
def power_law(call: Call) -> Value:
    """Flow at a head of 1 m · (head/m) ^ exponent, for heads up to the greatest."""
    coefficient = call.above_zero("flow", _FLOW, "m³/s, at a head of 1 m")
    exponent = call.above_zero("exponent", types.PLAIN, "such as 1.5")
    law = PowerLaw("power law", coefficient, exponent, (0.0, _metre(call, "greatest")))
    return _open_channel(call, law)


@READY_MADE.define("distance, [height], [zero]")
def head(call: Call) -> Value:
    """Head from the distance down to the water: the sensor's height above zero flow, less the distance."""
    given = [name for name in ("height", "zero") if name in call]
    if not given:
        raise call.refusal(
            "distance", "head() needs height, or zero", "head(distance, height='1.2 m')"
        )
    heights = [call.fixed(name, _METRE, "m") for name in given]
    if len(heights) == 2 and abs(heights[0] - heights[1]) > 0.0005:
        raise call.refusal(
            "zero", f"the sensor is {heights[0]:g} m above zero flow, and shows {heights[1]:g} m there: "
            "both cannot be", "one of them", "measure from the face of the sensor to where flow begins",
        )  # fmt: skip
    distance = call.of(_METRE, "distance", "m")
    return call.apply(_SUBTRACT, _METRE, call.constant(heights[0], _METRE), distance)


_SUBTRACT = Momentary("-", work=np.subtract)


@READY_MADE.define("x, table")
def curve(call: Call) -> Value:
    """What a table of the setup gives for x, on a monotone curve; no value beyond its ends."""
    table = call.table("table")
    points, kinds = [], []
    for number, row in enumerate(table.rows, start=1):
        pair = []
        for text in row:
            try:
                quantity = parse_quantity(text)
            except QuantityError as error:
                raise call.refusal(
                    "table", f"row {number} of {table.name}: {error.message}", error.valid
                ) from None
            unit = quantity.unit
            pair.append(
                quantity.value if unit is None else quantity.value * unit.factor + unit.offset
            )
            kinds.append(types.PLAIN if unit is None else type_of(unit))
        points.append((pair[0], pair[1]))
    if {*kinds[::2]} != {kinds[0]} or {*kinds[1::2]} != {kinds[1]}:
        raise call.refusal(
            "table", f"the rows of {table.name} are not all of one kind", "one unit for each side"
        )
    if kinds[0] != call["x"].type:
        message = f"{table.name} is a curve from {kinds[0]}, and this is {call['x']}"
        raise call.refusal("x", message, f"{kinds[0]}")
    scale = _made(call, "table", lambda: PointTable(tuple(points), between="cubic"))
    if odd := odd_point([y for _, y in sorted(points)]):
        shown = sorted(zip(points, table.rows, strict=True))
        here, before = (": ".join(shown[k][1]) for k in (odd.place, odd.place - 1))
        message = f"the curve {table.name} {odd.words}: {here} after {before}"
        call.remark("table", message, "look for a mistyped point")
    return _scaled(call, scale, kinds[1], call["x"])


# ---------------------------------------------------------------------- humid air and water


def _of_air(name: str, takes: str, summary: str, work: Callable[..., Any], kind: Type) -> None:
    def build(call: Call) -> Value:
        arguments = [call.of(types.POINT, "t", "°C"), call.of(types.PLAIN, "humidity", "%")]
        if "pressure" in call.arguments:
            arguments.append(call.of(_PRESSURE, "pressure", "hPa"))
        formula = humid_air.SATURATION[call.word("formula", tuple(humid_air.SATURATION))]

        def fill(*values: Array, out: Array) -> None:
            out[...] = work(*(np.asarray(value) for value in values), formula)

        operation = Momentary(name, (formula.name,), work=fill)
        return call.apply(operation, kind, *arguments)

    READY_MADE.add(name, takes, summary, build)


_AIR, _PRESSED = "t, humidity, [formula]", "t, humidity, pressure, [formula]"
_of_air("dew_point", _AIR, "Temperature at which water condenses", humid_air.dew_point, types.POINT)
_of_air(
    "frost_point", _AIR, "Temperature at which ice forms; none above 0 °C",
    humid_air.frost_point, types.POINT,
)  # fmt: skip
_of_air(
    "vapour_pressure", _AIR, "Pressure of the vapour in air", humid_air.vapour_pressure, _PRESSURE
)
_of_air(
    "absolute_humidity", _AIR, "Mass of vapour in a volume of air",
    humid_air.absolute_humidity, _PER_VOLUME,
)  # fmt: skip
_of_air(
    "mixing_ratio", _PRESSED, "Mass of vapour for each mass of dry air",
    humid_air.mixing_ratio, types.PLAIN,
)  # fmt: skip
_of_air(
    "enthalpy", _PRESSED, "Enthalpy for each mass of dry air, 0 at 0 °C",
    humid_air.enthalpy, _PER_MASS,
)  # fmt: skip
_of_air("wet_bulb", _PRESSED, "Thermodynamic wet-bulb temperature", humid_air.wet_bulb, types.POINT)


def _momentary(call: Call, work: Callable[..., Any], kind: Type, *arguments: Value) -> Value:
    def fill(*values: Array, out: Array) -> None:
        out[...] = work(*(np.asarray(value) for value in values))

    return call.apply(Momentary(call.name, work=fill), kind, *arguments)


@READY_MADE.define("t, humidity")
def wood_moisture(call: Call) -> Value:
    """Moisture of wood in balance with the air around it (Wood Handbook, eq. 4-5)."""
    air = call.of(types.POINT, "t", "°C"), call.of(types.PLAIN, "humidity", "%")
    return _momentary(call, humid_air.wood_moisture, types.PLAIN, *air)


@READY_MADE.define("t, [salinity]")
def water_density(call: Call) -> Value:
    """Density of water at -2 to 40 °C, of fresh water if no salinity is given (EOS-80)."""
    salt = call.of(types.PLAIN, "salinity", "g/kg") if "salinity" in call else call.constant(0.0)
    return _momentary(call, water.water_density, _PER_VOLUME, call.of(types.POINT, "t", "°C"), salt)


@READY_MADE.define("latitude, [height]")
def gravity(call: Call) -> Value:
    """Acceleration of free fall at a latitude and a height above the sea (GRS 80)."""
    at = call.of(types.ANGLE, "latitude", "°")
    above = call.of(_METRE, "height", "m") if "height" in call else call.constant(0.0, _METRE)
    return _momentary(call, water.gravity, _ACCELERATION, at, above)


# ---------------------------------------------------------------------- gears


@READY_MADE.define("fast, slow, ratios, [within], [settles], [least], [between]")
def step(call: Call) -> Value:
    """The step of a gear whose ratio fast/slow is nearest; at rest, no value."""
    call.numbers("fast", "slow")
    kind = call.alike("fast", "slow")
    within = call.fixed("within", types.PLAIN, "such as '3 %'") if "within" in call else 0.03
    settles = call.duration("settles") if "settles" in call else 0.0
    least = abs(call.fixed("least", kind, "the unit of fast")) if "least" in call else 0.0
    keeps = call.word("between", ("before", "nothing")) == "before"
    rows = call.table("ratios").rows
    steps: Steps = _made(call, "ratios", lambda: parse_steps(rows, within, least))
    for one, other in steps.overlapping():
        call.remark(
            "ratios", f"the tolerances of {one} and {other} overlap, at {within:.3g} of each ratio: between "
            "them, the nearer one is taken", "a smaller tolerance, or look for a mistyped ratio",
        )  # fmt: skip
    if (odd := odd_point(steps.ratios)) is not None:
        name, ratio = steps.names[odd.place], steps.ratios[odd.place]
        call.remark(
            "ratios", f"the ratio of step {name} ({format_number(ratio, 4)}) {odd.words}",
            "look for a mistyped ratio, or one that is upside down",
        )  # fmt: skip
    speeds = ", ".join(f"{n} {format_number(v, 4)}" for n, v in steps.slow_speeds(1000.0).items())
    call.remarks.notes.append(
        f"where the fast shaft turns with 1000, the slow one turns with: {speeds}"
    )
    classify = Momentary("step at", (steps,), work=partial(_classify, steps), lack=Quality.AT_REST)
    found = call.apply(classify, types.PLAIN, call["fast"], call["slow"])
    if settles:
        found = call.apply(
            remembering(call, Settled, settles, keeps=keeps, steady=_as_it_is), types.PLAIN, found
        )
    names = StateNames(tuple(zip(steps.numbers, steps.names, strict=True)))
    return call.apply(_KNOWN_STEP, Type(form=Form.STATE, states=names), found)


def _classify(steps: Steps, fast: Array, slow: Array, out: Array) -> None:
    out[...] = steps.at(np.asarray(fast), np.asarray(slow))


def _as_it_is(x: Array, out: Array) -> None:
    out[...] = x


def _without_none(x: Array, out: Array) -> None:
    out[...] = np.where(x == NO_STEP, np.nan, x)


_KNOWN_STEP = Momentary("step", work=_without_none, lack=Quality.NO_STEP)


# ---------------------------------------------------------------------- three axes


@READY_MADE.define("x, y, z, mounting, direction, [sides]")
def along(call: Call) -> Value:
    """Part of a vector of three axes that points forward, left or up, by how its sensor is mounted."""
    call.numbers("x", "y", "z")
    kind = call.alike("x", "y", "z")
    text, sides = call["mounting"].text, dict(AXES)
    if "sides" in call:
        named = call.table("sides").rows
        sides = _made(call, "sides", lambda: parse_sides(named))
    if text is not None:
        mounting: Mounting = _made(call, "mounting", lambda: parse_mounting(text, sides))
    else:
        rows = call.table("mounting").rows
        mounting = _made(call, "mounting", lambda: parse_rotation(rows))
    wanted = call.word("direction", DIRECTIONS)
    parts = mounting.row(wanted)
    call.remarks.notes.append(f"mounted with {mounting.words(sides)}")
    work = partial(_turned, parts)
    operation = Momentary("along", parts, work=work)
    return call.apply(operation, kind, call["x"], call["y"], call["z"])


def _turned(parts: tuple[float, float, float], x: Array, y: Array, z: Array, out: Array) -> None:
    # A part of 0 takes no value away: an axis that plays no role may be without a reading.
    out[...] = sum(part * axis for part, axis in zip(parts, (x, y, z), strict=True) if part)


# ---------------------------------------------------------------------- tariffs


@READY_MADE.define("x, prices, [holidays], [each]")
def cost(call: Call) -> Value:
    """What a power or a flow costs by a table of prices, since the start; each '1 d', anew every day."""
    call.numbers("x")
    rows, kind = _prices(call)
    holidays = [day for day, _ in call.table("holidays").rows] if "holidays" in call else []
    zone = call.terms.zone.key
    tariff = _made(call, "prices", lambda: parse_tariff(rows, holidays, zone))
    powers = types.times(types.times(call["x"].type.powers, types.SECONDS.powers), kind.powers)
    operation = remembering(call, Cost, call.terms.gap, tariff, each_of(call), counts=True)
    return marked_for_gaps(call, call.apply(operation, Type(powers), call["x"]), call["x"])


def _prices(call: Call) -> tuple[list[tuple[str, float]], Type]:
    """Days and prices of a table, in SI base units, and what a price is."""
    table, rows, kinds = call.table("prices"), [], []
    for day, text in table.rows:
        try:
            quantity = parse_quantity(text)
        except QuantityError as error:
            message = f"{day[:40]} of {table.name}: {error.message}"
            raise call.refusal("prices", message, error.valid) from None
        unit = quantity.unit
        rows.append((day, quantity.value * (unit.factor if unit else 1.0)))
        kinds.append(type_of(unit) if unit else types.PLAIN)
    if len(set(kinds)) != 1:
        raise call.refusal(
            "prices", f"the prices of {table.name} are not all for one thing", "0.32 1/kWh"
        )
    return rows, kinds[0]
