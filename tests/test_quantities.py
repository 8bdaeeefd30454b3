import contextlib
import pickle

import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.errors import QuantityError, UnitError
from leitwerk.parsing.quantities import format_number, parse_expected, parse_quantity, parse_span
from leitwerk.parsing.units import _SPELLINGS, convert, convert_difference, parse_unit

SYMBOLS = [spelling for all_of in _SPELLINGS.values() for spelling in all_of if spelling]
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


def test_errors_survive_pickling():
    for text in ("°C/min", "mV/°C", "°C^2"):
        with pytest.raises(UnitError, match="stands alone"):
            parse_unit(text)
    with pytest.raises(UnitError) as caught:
        parse_unit("bars")
    copy = pickle.loads(pickle.dumps(caught.value))
    assert (type(copy), str(copy), copy.valid) == (UnitError, str(caught.value), caught.value.valid)
