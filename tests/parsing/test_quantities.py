import contextlib
import pickle
import re
import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import ROOT
from leitwerk.errors import QuantityError, UnitError
from leitwerk.parsing.quantities import format_number, parse_expected, parse_quantity, parse_span
from leitwerk.parsing.unit_table import SPELLINGS, UNITS
from leitwerk.parsing.units import convert, convert_difference, parse_unit

SYMBOLS = [*UNITS, *SPELLINGS]
finite = st.floats(-1e9, 1e9, allow_nan=False)


@pytest.mark.parametrize(
    ("parse", "typed", "shown"),
    [
        (parse_quantity, "10 s", "10 s"),
        (parse_quantity, "−3.5e2 kN/mV", "-350 kN/mV"),
        (parse_quantity, "78", "78"),
        (parse_quantity, "1 1/s", "1 1/s"),
        (parse_span, "4..20 mA", "4..20 mA"),
        (parse_span, "+/-100mV", "±100 mV"),
        (parse_span, "0 V .. 1 V", "0..1 V"),
        (parse_span, "500 mV .. 1 V", "0.5..1 V"),
        (parse_expected, "21.5 ± 0.5 °C", "21.5 ± 0.5 °C"),
        (parse_expected, "21.5+-0.5degC", "21.5 ± 0.5 °C"),
        (parse_expected, "0 ± .5 %", "0 ± 0.5 %"),
    ],
)
def test_quantities_are_read_as_people_write_them(parse, typed, shown):
    assert str(parse(typed)) == shown


@pytest.mark.parametrize(
    ("parse", "typed", "message"),
    [
        (parse_quantity, "ten", "'ten' is not a quantity"),
        (parse_quantity, "1e999 V", "too large"),
        (parse_quantity, "5 bars", "did you mean bar?"),
        (parse_quantity, "5 mv", "did you mean mV?"),
        (parse_quantity, "21,5 °C", "write the decimal point as a point"),
        (parse_quantity, "1" * 5000, "is not a quantity"),
        (parse_span, "20 mA", "'20 mA' is not a span"),
        (parse_span, "0 V..1", "lower end only"),
        (parse_expected, "21.5", "is not an expectation"),
        (parse_expected, "70 °F ± 0.5 K", "mixes °F and K"),
    ],
)
def test_what_is_no_quantity_is_refused_with_help(parse, typed, message):
    with pytest.raises(QuantityError, match=message.replace("?", r"\?")) as caught:
        parse(typed)
    assert caught.value.valid or caught.value.remedy


@given(st.text(max_size=30))
def test_no_text_gets_past_the_parsers(text):
    for parse in (parse_quantity, parse_span, parse_expected, parse_unit):
        with contextlib.suppress(QuantityError):
            parse(text)


@pytest.mark.parametrize(
    ("value", "source", "target", "expected"),
    [
        (0.0, "°C", "°F", 32.0),
        (100.0, "°C", "K", 373.15),
        (1.0, "bar", "hPa", 1000.0),
        (36.0, "m^3/h", "l/s", 10.0),
        (1.0, "kN/mV", "N/V", 1e6),
        (250.0, "%", "1", 2.5),
    ],
)
def test_conversion(value, source, target, expected):
    assert convert(value, parse_unit(source), parse_unit(target)) == pytest.approx(expected)


def test_a_difference_knows_no_offset():
    assert convert_difference(0.5, parse_unit("°C"), parse_unit("°F")) == pytest.approx(0.9)
    with pytest.raises(UnitError, match="bar is a unit of pressure, °C one of temperature"):
        convert(1.0, parse_unit("bar"), parse_unit("°C"))


@given(finite, st.sampled_from(SYMBOLS), st.sampled_from(SYMBOLS))
def test_conversion_there_and_back_is_the_same(value, one, other):
    source, target = parse_unit(one), parse_unit(other)
    if source.dimension == target.dimension:
        back = convert(convert(value, source, target), target, source)
        assert back == pytest.approx(value, rel=1e-9, abs=1e-6 * abs(target.factor / source.factor))


@given(finite)
def test_formatted_numbers_read_back(value):
    assert float(format_number(value)) == pytest.approx(value, rel=1e-5, abs=1e-12)


def test_the_table_is_what_pint_says():
    """The generator works it out anew; a difference is a row that was changed by hand."""
    text = (ROOT / "src/leitwerk/parsing/unit_table.py").read_text("utf-8")
    written, worked_out = {}, {}
    exec(text, written)  # the file holds two dictionaries and nothing else
    sys.path.insert(0, str(ROOT / "tools"))
    import units

    exec(units.table(), worked_out)
    for name in ("UNITS", "SPELLINGS", "DIMENSIONS"):
        assert written[name] == worked_out[name]


# NIST SP 811 (2008), appendix B.8, and SI Brochure, 9th edition, tables 4 and 8: typed from there.
PRINTED = """
psi 6.894757e3 Pa; atm 1.01325e5 Pa; mmHg 1.333224e2 Pa; inHg 3.386389e3 Pa; Torr 1.333224e2 Pa
lbf 4.448222 N; kgf 9.80665 N; lb 0.45359237 kg; oz 2.834952e-2 kg; in 0.0254 m; ft 0.3048 m
mi 1609.344 m; mph 0.44704 m/s; cal 4.184 J; Btu 1055.056 J; kW·h 3.6e6 J; A·h 3600 C
P 0.1 Pa·s; cSt 1e-6 m^2/s; ha 1e4 m^2; l 1e-3 m^3; bar 1e5 Pa; G 1e-4 T; gₙ 9.80665 m/s^2
inH₂O 249.08891 Pa; rpm 0.1047198 rad/s; ° 1.745329e-2 rad; d 86400 s; t 1000 kg; ppm 1e-6 1
S/m 1 A/V/m; lx 1 lm/m^2; B 8 bit; ‰ 0.1 %; Wb 1 V·s; H 1 Wb/A; F 1 C/V; Ω 1 V/A; W 1 V·A
"""


@pytest.mark.parametrize("line", re.split(r";|\n", PRINTED.strip()))
def test_units_are_what_the_tables_print(line):
    unit, number, other = line.split()
    if (unit, other) == ("W", "V·A"):  # an apparent power is not a power: the two are kept apart
        with pytest.raises(UnitError):
            convert(1.0, parse_unit(unit), parse_unit(other))
        return
    found = convert(1.0, parse_unit(unit), parse_unit(other))
    assert found == pytest.approx(float(number), rel=5e-7)


@pytest.mark.parametrize(
    ("text", "symbol"),
    [
        ("kWh", "kW·h"), ("Nm", "N·m"), ("m³/h", "m^3/h"), ("W/(m²·K)", "W/m^2/K"), ("Ah", "A·h"),
        ("uS/cm", "µS/cm"), ("nV/√Hz", "nV/√Hz"), ("1/min", "1/min"), ("%RH", "%"), ("kVA", "kV·A"),
        ("mmH2O", "mmH₂O"), ("r/min", "rpm"), ("s⁻¹", "s^-1"), ("J/kg/K", "J/kg/K"), ("ohm", "Ω"),
    ],
)  # fmt: skip
def test_units_as_engineers_write_them(text, symbol):
    assert parse_unit(text).symbol == symbol


@pytest.mark.parametrize(
    "text", ["m9", "m**9", "Nl/min", "mhz", "bars", "kg·", "/s", "()", "V/", "m^", "°C·m"]
)
def test_what_is_not_in_the_list_is_refused(text):
    with pytest.raises(UnitError):
        parse_unit(text)


def test_errors_survive_pickling():
    for text in ("°C/min", "mV/°C", "°C^2"):
        with pytest.raises(UnitError, match="stands alone"):
            parse_unit(text)
    with pytest.raises(UnitError) as caught:
        parse_unit("bars")
    copy = pickle.loads(pickle.dumps(caught.value))
    assert (type(copy), str(copy), copy.valid) == (UnitError, str(caught.value), caught.value.valid)
