"""Ready-made functions against published values, at the ends of their validity, and there and back."""

import itertools
import math

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from conftest import checked
from leitwerk.derived import Formula, Terms, clock_offset, compensated, humid_air
from leitwerk.derived.open_channel import (
    PARSHALL,
    Francis,
    ManningPipe,
    ManningTrapezoid,
    PowerLaw,
    RectangularWeir,
    VNotch,
    cipolletti,
)
from leitwerk.derived.steps import parse_ratio
from leitwerk.derived.throated_flume import TrapezoidalFlume, UShapedFlume
from leitwerk.derived.values import Table
from leitwerk.errors import DomainError, FormulaError
from leitwerk.signals.quality import Quality
from leitwerk.signals.table import odd_point

AIR = {"t": "°C", "rh": "%", "p": "hPa", "s": "g/kg", "lat": "°"}


def work(text, unit, **values):
    units = {name: AIR[name] for name in values}
    return float(Formula(text, units, unit)(**{name: [x] for name, x in values.items()})[0])


@pytest.mark.parametrize(
    ("text", "unit", "values", "published", "within"),
    [
        # WMO-No. 8 (2021), vol. I, annex 4.B: e_w(0) = 6.112 hPa; table of Magnus at 20 and 40 °C.
        ("vapour_pressure(t, rh, 'magnus')", "hPa", {"t": 0.0, "rh": 100.0}, 6.112, 1e-9),
        ("vapour_pressure(t, rh, 'magnus')", "hPa", {"t": 20.0, "rh": 100.0}, 23.326, 0.01),
        # ASHRAE Fundamentals (2017), ch. 1, table 3: saturation over water at 20, 60, 90 °C, in kPa.
        ("vapour_pressure(t, rh, 'hyland-wexler')", "kPa", {"t": 20.0, "rh": 100.0}, 2.3389, 2e-4),
        ("vapour_pressure(t, rh, 'hyland-wexler')", "kPa", {"t": 60.0, "rh": 100.0}, 19.944, 2e-3),
        ("vapour_pressure(t, rh, 'hyland-wexler')", "kPa", {"t": 90.0, "rh": 100.0}, 70.182, 0.02),
        # ASHRAE Fundamentals, ch. 1, example: 40 °C, wet bulb 20 °C: 14 %, 6.5 g/kg, 56.7 kJ/kg, 7 °C.
        ("wet_bulb(t, rh, p, 'hyland-wexler')", "°C", {"t": 40.0, "rh": 14.0, "p": 1013.25}, 20.0, 0.05),
        ("mixing_ratio(t, rh, p)", "g/kg", {"t": 40.0, "rh": 14.0, "p": 1013.25}, 6.5, 0.1),
        ("enthalpy(t, rh, p)", "kJ/kg", {"t": 40.0, "rh": 14.0, "p": 1013.25}, 56.7, 0.1),
        ("dew_point(t, rh)", "°C", {"t": 40.0, "rh": 14.0}, 7.0, 0.5),
        # Of saturated air, dew point and wet bulb are its temperature, with every formula.
        ("dew_point(t, rh, 'sonntag')", "°C", {"t": 63.5, "rh": 100.0}, 63.5, 1e-9),
        ("dew_point(t, rh, 'buck')", "°C", {"t": 23.5, "rh": 100.0}, 23.5, 1e-9),
        ("wet_bulb(t, rh, p)", "°C", {"t": 23.5, "rh": 100.0, "p": 900.0}, 23.5, 1e-6),
        # Absolute humidity at 20 °C and 50 %: 8.65 g/m³ (half of 17.3 g/m³, DIN 4108-3 table).
        ("absolute_humidity(t, rh)", "g/m^3", {"t": 20.0, "rh": 50.0}, 8.65, 0.01),
        # Over ice, the frost point lies above the dew point: -20 °C and 80 %.
        ("frost_point(t, rh)", "°C", {"t": -20.0, "rh": 80.0}, -20.28, 0.02),
        # Wood Handbook (2010), table 4-2, at 21.1 °C.
        ("wood_moisture(t, rh)", "%", {"t": 21.1, "rh": 5.0}, 1.3, 0.05),
        ("wood_moisture(t, rh)", "%", {"t": 21.1, "rh": 50.0}, 9.2, 0.05),
        ("wood_moisture(t, rh)", "%", {"t": 21.1, "rh": 65.0}, 12.0, 0.05),
        ("wood_moisture(t, rh)", "%", {"t": 21.1, "rh": 95.0}, 23.9, 0.05),
        # UNESCO 44 (1983), check values at the pressure of the atmosphere.
        ("water_density(t)", "kg/m^3", {"t": 5.0}, 999.96675, 1e-5),
        ("water_density(t)", "kg/m^3", {"t": 25.0}, 997.04796, 1e-5),
        ("water_density(t, s)", "kg/m^3", {"t": 5.0, "s": 35.0}, 1027.67547, 1e-5),
        ("water_density(t, s)", "kg/m^3", {"t": 25.0, "s": 35.0}, 1023.34306, 1e-5),
        # Moritz (2000): normal gravity at the equator, at 45° and at the pole.
        ("gravity(lat)", "m/s^2", {"lat": 0.0}, 9.7803267715, 1e-10),
        ("gravity(lat)", "m/s^2", {"lat": 45.0}, 9.806199203, 1e-8),
        ("gravity(lat)", "m/s^2", {"lat": -90.0}, 9.8321863685, 5e-8),
        ("gravity(lat, '1000 m')", "m/s^2", {"lat": 45.0}, 9.806199203 - 0.003086, 1e-8),
    ],
)  # fmt: skip
def test_published_values(text, unit, values, published, within):
    assert work(text, unit, **values) == pytest.approx(published, abs=within)


@pytest.mark.parametrize(
    ("text", "unit", "values"),
    [
        ("dew_point(t, rh)", "°C", {"t": 20.0, "rh": 0.0}),  # there is no vapour
        ("dew_point(t, rh)", "°C", {"t": 20.0, "rh": 101.0}),
        ("dew_point(t, rh)", "°C", {"t": 20.0, "rh": -1.0}),
        ("dew_point(t, rh)", "°C", {"t": 101.0, "rh": 50.0}),
        ("dew_point(t, rh, 'magnus')", "°C", {"t": 61.0, "rh": 50.0}),
        ("dew_point(t, rh)", "°C", {"t": math.nan, "rh": 50.0}),
        ("frost_point(t, rh)", "°C", {"t": 20.0, "rh": 80.0}),  # above 0 °C there is no ice
        ("mixing_ratio(t, rh, p)", "g/kg", {"t": 80.0, "rh": 100.0, "p": 300.0}),  # it boils
        ("wet_bulb(t, rh, p)", "°C", {"t": 20.0, "rh": 50.0, "p": math.nan}),
        ("wood_moisture(t, rh)", "%", {"t": 20.0, "rh": 120.0}),
        ("water_density(t)", "kg/m^3", {"t": 41.0}),
        ("water_density(t, s)", "kg/m^3", {"t": 4.0, "s": 43.0}),
        ("gravity(lat)", "m/s^2", {"lat": 91.0}),
    ],
)  # fmt: skip
def test_no_value_outside_of_what_holds(text, unit, values):
    assert math.isnan(work(text, unit, **values))


@given(st.floats(-40, 49), st.floats(5, 100), st.sampled_from(["sonntag", "magnus", "buck"]))
def test_dew_point_and_back(t, rh, formula):
    dew = work(f"dew_point(t, rh, '{formula}')", "°C", t=t, rh=rh)
    if math.isnan(dew):  # colder than the formula is valid for
        return
    assert dew <= t + 1e-9
    at_dew = work(f"vapour_pressure(t, rh, '{formula}')", "Pa", t=dew, rh=100.0)
    assert at_dew == pytest.approx(
        work(f"vapour_pressure(t, rh, '{formula}')", "Pa", t=t, rh=rh), rel=1e-9
    )


# ---------------------------------------------------------------------- open channels


CHANNELS = [
    *PARSHALL.values(), VNotch(90.0), VNotch(20.0), VNotch(100.0), RectangularWeir(1.0, 0.5, 1.0),
    RectangularWeir(0.5, 0.3, 1.2), Francis(1.0), Francis(1.0, 0), cipolletti(0.6),
    ManningPipe(0.5, 0.005, 0.013), ManningTrapezoid(0.8, 1.5, 0.002, 0.03, 2.0),
    PowerLaw("own", 1.7, 1.5, (0.0, 2.0)), TrapezoidalFlume(0.3, 1.0, 0.8, 0.6, 0.1),
    TrapezoidalFlume(0.5, 0.0, 1.2, 0.9), UShapedFlume(0.3, 0.6, 0.6), UShapedFlume(0.4, 1.5, 0.4, 0.1),
]  # fmt: skip


@pytest.mark.parametrize("channel", CHANNELS, ids=str)
def test_level_to_flow_and_back(channel):
    heads = np.concatenate(
        [[0.0], np.linspace(max(channel.valid[0], 1e-3), channel.domain[1], 200)]
    )
    flows = channel.value(heads)
    assert np.all(np.diff(flows) > 0.0)
    np.testing.assert_allclose(channel.signal(flows), heads, rtol=1e-9, atol=1e-12)


@pytest.mark.parametrize("channel", CHANNELS, ids=str)
def test_at_the_ends_of_validity(channel):
    low, high = channel.valid
    heads = [-0.1, 0.0, low / 2, low, high, high * 1.001, channel.domain[1] * 1.01, math.nan]
    values, qualities = channel.convert(heads)
    assert values[0] == values[1] == 0.0
    assert qualities[:2].tolist() == [Quality.GOOD, Quality.GOOD]
    assert qualities[2] == (Quality.EXTRAPOLATED if low else Quality.GOOD)
    assert qualities[3:5].tolist() == [Quality.GOOD, Quality.GOOD]
    beyond = Quality.ABOVE_RANGE if channel.domain[1] == high else Quality.EXTRAPOLATED
    assert qualities[5:].tolist() == [beyond, Quality.ABOVE_RANGE, Quality.NO_NUMBER]
    assert channel.value([]).shape == (0,)


G = 9.80665
FT, CFS = 0.3048, 0.3048**3


@pytest.mark.parametrize(
    ("channel", "head", "flow", "within"),
    [
        # USBR, Water Measurement Manual (2001), tables 8-8 ff.: Parshall flumes, head in ft, flow in cfs.
        (PARSHALL["3 in"], 0.5 * FT, 0.339 * CFS, 2e-3),
        (PARSHALL["6 in"], 1.0 * FT, 2.06 * CFS, 1e-3),
        (PARSHALL["9 in"], 1.0 * FT, 3.07 * CFS, 1e-3),
        (PARSHALL["1 ft"], 1.0 * FT, 4.00 * CFS, 1e-3),
        (PARSHALL["2 ft"], 1.0 * FT, 8.00 * CFS, 1e-3),
        (PARSHALL["10 ft"], 1.0 * FT, 39.38 * CFS, 1e-3),
        # ISO 9826:1992, table 1: the same flume by width in m, 0.3 m beside 1 ft, within 1 %.
        (PARSHALL["0.3 m"], 0.3, float(PARSHALL["1 ft"].value(0.3)) * 0.3 / 0.3048, 0.01),
        # ISO 1438, 90° notch, C = 0.578 and k = 0.85 mm: 8/15 C sqrt(2 g) (h + k)^2.5.
        (VNotch(90.0), 0.2, 8 / 15 * 0.578 * math.sqrt(2 * 9.80665) * 0.20085**2.5, 2e-3),
        # USBR, ch. 7: Cipolletti 3.367 L h^1.5, Francis 3.33 (L - 0.2 h) h^1.5, in ft.
        (cipolletti(2.0 * FT), 0.5 * FT, 3.367 * 2.0 * 0.5**1.5 * CFS, 1e-9),
        (Francis(3.0 * FT), 0.5 * FT, 3.33 * 2.9 * 0.5**1.5 * CFS, 1e-9),
        # Kindsvater and Carter, suppressed: C = 0.602 + 0.075 h/P, width less 0.9 mm, head plus 1 mm.
        (
            RectangularWeir(1.0, 0.5, 1.0), 0.2,
            2 / 3 * (0.602 + 0.075 * 0.4) * math.sqrt(2 * 9.80665) * 0.9991 * 0.201**1.5, 1e-9,
        ),
        # Chow (1959): a pipe half full carries half of the flow of the full one, A R^(2/3) S^0.5 / n.
        (
            ManningPipe(0.5, 0.005, 0.013), 0.25,
            math.pi * 0.0625 / 2 * 0.125 ** (2 / 3) * math.sqrt(0.005) / 0.013, 1e-9,
        ),
        # and at 93.8 % of its height 1.076 of that of the full one.
        (
            ManningPipe(0.5, 0.005, 0.013), 0.469,
            1.076 * math.pi * 0.0625 * 0.125 ** (2 / 3) * math.sqrt(0.005) / 0.013, 1e-3,
        ),
    ],
)  # fmt: skip
def test_published_flows(channel, head, flow, within):
    assert float(channel.value(head)) == pytest.approx(flow, rel=within)


@pytest.mark.parametrize(
    ("depth", "area", "factor"),
    [(0.05, 0.0147, 0.0027), (0.25, 0.1535, 0.0646), (0.5, 0.3927, 0.2459), (0.1, 0.0409, 0.0107)],
)
def test_the_section_of_half_a_circle(depth, area, factor):
    """Chow (1959), appendix A: area and section factor A (A / B)^0.5 of a pipe of diameter 1."""
    found, width, _ = UShapedFlume(1.0, 1.0, 2.0).section(np.array([depth]))
    assert found[0] == pytest.approx(area, abs=6e-5)
    assert found[0] ** 1.5 / width[0] ** 0.5 == pytest.approx(factor, abs=2e-4)


@pytest.mark.parametrize(
    ("flume", "flow"),
    [
        # ISO 4359, rectangular: (2/3)^1.5 g^0.5 (1 - 0.006 L/b) (1 - 0.003 L/h)^1.5 b h^1.5
        (
            lambda h: TrapezoidalFlume(0.5, 0.0, 2.0 * h, 1e5),
            lambda h: (2 / 3) ** 1.5 * G**0.5 * (0.5 - 0.012 * h) * (h * 0.994) ** 1.5,
        ),
        # Bos, eq. 1-44: a triangle, whose critical depth is 4/5 of the energy
        (
            lambda h: TrapezoidalFlume(1e-4, 2.0, 1e-3, 1e5),
            lambda h: 2.0 * (G / 2) ** 0.5 * (0.8 * (h - 3e-6)) ** 2.5,
        ),
    ],
)
@pytest.mark.parametrize("head", [0.06, 0.2, 0.5])
def test_flow_where_a_formula_is_closed(flume, flow, head):
    found = flume(head).flow(np.array([head]))[0]
    assert found == pytest.approx(flow(head), rel=2e-3)


@given(
    st.floats(0.1, 1.0), st.floats(0.0, 3.0), st.floats(1.0, 4.0), st.floats(0.0, 0.5), st.floats(0.06, 0.9)
)  # fmt: skip
def test_a_flume_obeys_its_energy(size, side, wider, hump, head):
    """The energy before the throat is the least with which this flow passes it: by trying depths."""
    assume(wider > 2.0 or hump > 0.2)
    flumes = [TrapezoidalFlume(size, side, 1.0, size * wider + 0.01, hump)]
    flumes.append(UShapedFlume(size, 1.0, size * wider + 0.01, hump))
    for flume in flumes:
        if head > flume.domain[1]:
            continue
        flow = flume.flow(np.array([head]))[0]
        area = flume.approach(np.array([head + hump]))[0]
        energy = head - 0.003 + (flow / area) ** 2 / (2 * G)
        depths = np.linspace(0.2 * head, 1.2 * head, 20_000)
        inside, _, _ = flume.section(depths, 0.003)
        assert energy == pytest.approx((depths + (flow / inside) ** 2 / (2 * G)).min(), rel=1e-6)


def test_no_size_is_far_from_its_neighbours():
    """A mistyped coefficient shows: by width, the flow at 0.2 m rises evenly."""
    sizes = sorted((f for f in PARSHALL.values()), key=lambda f: float(f.value(0.2)))
    widths = [width(f.name.removeprefix("Parshall flume ")) for f in sizes]
    assert all(b > 0.97 * a for a, b in itertools.pairwise(widths))
    per_width = [float(f.value(0.2)) / w for f, w in zip(sizes, widths, strict=True)]
    assert max(per_width[3:]) / min(per_width[3:]) < 1.25


def width(name):
    number, unit = name.split()
    return float(number) * {"in": 0.0254, "ft": 0.3048, "m": 1.0}[unit]


def test_flow_in_a_formula_says_what_it_is_worth():
    flow = Formula("parshall(h, '3 in', d)", {"h": "cm", "d": "cm"}, "l/s")
    assert flow(h=[10.0], d=[0.0])[0] == pytest.approx(float(PARSHALL["3 in"].value(0.1)) * 1000)
    runner = flow._runner
    h, d = np.array([0.1, 0.1, 0.01, 0.4, 0.9]), np.array([0.04, 0.06, 0.0, 0.0, 0.0])
    runner.run(np.zeros(5), {"h": h, "d": d})
    good = {name: np.zeros(5, np.uint8) for name in ("h", "d")}
    assert runner.reasons(flow._node, good).tolist() == [
        Quality.GOOD, Quality.SUBMERGED, Quality.EXTRAPOLATED, Quality.EXTRAPOLATED, Quality.ABOVE_RANGE,
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("text", "part"),
    [
        ("parshall(h, '4 in')", "the nearest are 3 in"),
        ("parshall(h, 3)", "has to be a length"),
        ("v_notch(h, '120 °')", "20° to 100°"),
        ("v_notch(h, 90)", "has to be an angle"),
        ("rectangular_weir(h, '1 m', '0.05 m', '1 m')", "crest at least 0.1 m"),
        ("rectangular_weir(h, '1 m', '0.5 m', '0.8 m')", "as wide as the weir"),
        ("francis(h, '1 m', 3)", "0, 1 or 2"),
        ("trapezoidal_flume(h, '1 m', 0, '1 m', '0.8 m')", "at least as wide as the throat"),
        ("trapezoidal_flume(h, '1 m', -1, '1 m', '2 m')", "lean outwards"),
        ("trapezoidal_flume(h, '1 m', 0, '1 m', '1.1 m')", "more than 70 % of the channel"),
        ("u_shaped_flume(h, '1 m', '0 m', '2 m')", "more than 0"),
        ("pipe_flow(h, '0.5 m', 0, 0.013)", "a fall of 1 m in 200 m"),
        ("channel_flow(h, '0 m', 0, 0.01, 0.013)", "those of no channel"),
        ("head(h)", "needs height, or zero"),
        ("head(h, height='2 m', zero='1.9 m')", "both cannot be"),
        ("dew_point(h, h)", "has to be a temperature"),
        ("dew_point('20 °C', '50 %', 'tetens')", "'sonntag', 'magnus'"),
        ("curve(h, nowhere)", "no channel or constant"),
        ("curve(h, h)", "has to be a table"),
        ("curve(h, upside_down)", "point 2"),
        ("curve(h, mixed)", "not all of one kind"),
        ("curve('3 K', rating)", "a curve from a length"),
        ("curve(h, unreadable)", "row 1 of unreadable"),
        ("step(h, h, zero)", "not a ratio"),
        ("step(h, h, gears, within='60 %')", "below 50 %"),
    ],
)
def test_refused(text, part):
    tables = {
        "upside_down": (("2 m", "1 l/s"), ("1 m", "2 l/s")),
        "mixed": (("1 m", "1 l/s"), ("2 m", "3 K")),
        "rating": (("0 m", "0 l/s"), ("1 m", "2 l/s")),
        "unreadable": (("a", "b"),),
        "zero": (("1", "0/15"),),
        "gears": (("1", "3"),),
    }
    terms = Terms(tables={name: Table(name, rows) for name, rows in tables.items()})
    with pytest.raises(FormulaError) as caught:
        Formula(text, {"h": "m"}, "l/s", terms=terms)
    assert part in str(caught.value)


def test_an_own_table_and_the_head_from_a_distance():
    rating = Table(
        "rating",
        (("0 cm", "0 l/s"), ("10 cm", "6.4 l/s"), ("20 cm", "19 l/s"), ("30 cm", "36 l/s")),
    )
    terms = Terms(tables={"rating": rating})
    flow = Formula("curve(head(d, zero='1.24 m'), rating)", {"d": "m"}, "l/s", terms=terms)
    found = flow(d=[1.24, 1.14, 1.04, 0.94 + 1e-9, 1.19, 1.3, 0.9])
    np.testing.assert_allclose(found[:4], [0.0, 6.4, 19.0, 36.0], atol=1e-6)
    assert 0.0 < found[4] < 6.4
    assert np.isnan(found[5:]).all()  # nothing is extrapolated


# ---------------------------------------------------------------------- gears


GEARS = Table("gears", (("1", "43/15"), ("2", "31:17"), ("3", "1.2"), ("R", "-40/12")))


def gear(text="step(fast, slow, gears, settles='0.5 s', least='30 1/min')"):
    units = {"fast": "1/min", "slow": "1/min"}
    return Formula(text, units, terms=Terms(tables={"gears": GEARS}))


def test_a_gear_at_rest_moving_and_shifting():
    t = np.arange(0.0, 6.0, 0.25)
    fast = np.where(t < 1.0, 0.0, 1500.0)
    ratio = np.where(t < 3.0, 43 / 15, np.where(t < 3.5, 2.3, 31 / 17))
    found = gear()(fast=fast, slow=fast / ratio, times_s=t)
    at = dict(zip(t.tolist(), found.tolist(), strict=True))
    assert math.isnan(at[0.5])  # at rest
    assert math.isnan(at[1.25])  # not settled yet, and there was none before
    assert at[1.5] == at[3.0] == at[3.25] == 1.0  # while shifting, the step before
    assert at[3.75] == 1.0
    assert at[4.0] == 2.0


@pytest.mark.parametrize(
    ("fast", "slow", "step"),
    [
        (1500.0, 1500 * 15 / 43, 1.0), (1500.0, -450.0, 4.0), (-1500.0, -1250.0, 3.0), (1500.0, 1000.0, None),
        (29.0, 29 / 1.2, None), (1500.0, 0.0, None), (math.nan, 500.0, None), (1500.0, 1250 * 1.029, 3.0),
    ],
)  # fmt: skip
def test_the_nearest_step_within_its_tolerance(fast, slow, step):
    found = gear("step(fast, slow, gears, within='3 %', least='30 1/min')")(
        fast=[fast], slow=[slow]
    )[0]
    assert (None if math.isnan(found) else found) == step


@given(st.integers(1, 99), st.integers(1, 99))
def test_a_ratio_is_written_in_three_ways(one, other):
    assert parse_ratio(f"{one}/{other}") == parse_ratio(f"{one}:{other}") == one / other
    assert parse_ratio(repr(one / other)) == one / other if one / other >= 0.02 else True


@pytest.mark.parametrize("text", ["", "0", "3/0", "0/3", "1/2/3", "a", "1e5", "²"])
def test_what_is_not_a_ratio(text):
    with pytest.raises(DomainError, match="not a ratio"):
        parse_ratio(text)


# ---------------------------------------------------------------------- directions, levels


def test_directions_are_averaged_as_vectors():
    wind = Formula("moving_direction(a, '10 s')", {"a": "°"}, "°")
    found = wind(a=[350.0, 350.0, 10.0, 10.0, 10.0], times_s=np.arange(5.0))
    assert found[-1] == pytest.approx(5.04, abs=0.01)  # one of 350 and three of 10
    compass = Formula("direction(n, e)", {"n": "m/s", "e": "m/s"}, "°")
    np.testing.assert_allclose(
        compass(n=[1, 0, -1, 0, 0], e=[0, 1, 0, -1, 0]), [0, 90, 180, 270, np.nan], atol=1e-9
    )


def test_a_barometer_with_another_clock():
    rng = np.random.default_rng(7)
    weather_t = np.arange(0.0, 4 * 86400.0, 600.0)
    weather = 95_000 + np.cumsum(rng.normal(0, 25, weather_t.size))
    t = np.arange(7200.0, 3.5 * 86400.0, 300.0)
    level = 1.5 + 0.02 * np.sin(t / 20_000)
    absolute = 998 * 9.807 * level + np.interp(t, weather_t, weather)
    ahead = 1500.0
    offset, alike = clock_offset(t, absolute, weather_t + ahead, weather)
    assert offset == pytest.approx(ahead, abs=60.0)
    assert alike > 0.9
    water = compensated(t, absolute, weather_t + ahead, weather, offset_s=ahead)
    np.testing.assert_allclose(water / (998 * 9.807), level, atol=1e-9)
    assert np.isnan(compensated([0.0], [1e5], [1.0, 2.0], [1e5, 1e5])).all()
    with pytest.raises(DomainError, match="do not overlap"):
        clock_offset(t[:20], absolute[:20], weather_t, weather)


RATING = """leitwerk: 1
title: Weir
device: {model: weide, at: "modbus+tcp://127.0.0.1:1?unit=7", serial: LF-00052}
channels:
  level: {label: Level, reading: level}
  flow: {label: Flow, computed: "curve(level, rating)", unit: l/s}
tables:
  rating: {POINTS}
"""


@pytest.mark.parametrize(
    ("points", "warns"),
    [
        ("50 mm: 5 l/s, 100 mm: 12 l/s, 150 mm: 46 l/s, 200 mm: 37 l/s, 250 mm: 52 l/s, 300 mm: 70 l/s",
         "falls where it rises elsewhere: 200 mm: 37 l/s after 150 mm: 46 l/s"),
        ("0 mm: 0 l/s, 50 mm: 5 l/s, 100 mm: 12 l/s, 150 mm: 22 l/s, 200 mm: 34 l/s", ""),
        ("0 mm: 0 l/s, 100 mm: 10 l/s, 200 mm: 20 l/s, 300 mm: 300 l/s, 400 mm: 310 l/s, 500 mm: 320 l/s",
         "leaps there, far from its neighbours: 300 mm: 300 l/s after 200 mm: 20 l/s"),
    ],
)  # fmt: skip
def test_a_mistyped_point_of_a_curve_is_named(points, warns):
    found = checked(RATING.replace("POINTS", points)).findings
    words = [f.message for f in found if "curve rating" in f.message]
    assert (warns in "; ".join(words)) if warns else not words


def test_a_ratio_that_is_upside_down_is_named():
    assert odd_point([43 / 15, 35 / 19, 19 / 24, 21 / 29]) is None
    assert odd_point([43 / 15, 35 / 19, 24 / 35, 31 / 24, 21 / 29]).place == 3


@pytest.mark.parametrize(
    ("name", "low"),
    [("buck", 233.15), ("magnus", 228.15), ("sonntag", 173.15), ("hyland-wexler", 273.15)],
)
def test_the_lower_end_of_a_formula_belongs_to_it(name, low):
    formula = humid_air.SATURATION[name]
    for air in (low, low + 5.0, low + 20.0):
        humidity = np.array([formula.water(np.array(low)) / formula.water(np.array(air))])
        found = humid_air.dew_point(np.array([air]), humidity, formula)
        assert found[0] == pytest.approx(low, abs=1e-6), air


def test_hyland_wexler_has_a_dew_point_below_zero():
    """Over ice, as ASHRAE has it: at 20 °C and 20 % about −2.9 °C."""
    found = humid_air.dew_point(
        np.array([293.15]), np.array([0.20]), humid_air.SATURATION["hyland-wexler"]
    )
    vapour = 0.20 * 2338.8  # Pa, saturation at 20 °C of ASHRAE's table 2
    ice = humid_air.SATURATION["hyland-wexler"].ice(found)
    assert ice[0] == pytest.approx(vapour, rel=1e-3)
    assert -4.0 < found[0] - 273.15 < -2.0
