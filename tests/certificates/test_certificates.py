"""Digital calibration certificates: read, taken over, written, against the schema of their parts."""

from datetime import date
from pathlib import Path

import pytest
import xmlschema
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.calibration.certificate import (
    FOUND,
    LEFT,
    Certificate,
    Condition,
    Expanded,
    Identification,
    Item,
    Measurement,
    Party,
    Result,
    Values,
)
from leitwerk.calibration.certificate_xml import read_certificate_xml, write_certificate_xml
from leitwerk.commissioning.certificates import (
    Laboratory,
    TakeOptions,
    certificate_of,
    take_into_channel,
    take_into_sensor,
)
from leitwerk.errors import QuantityError, UnitError
from leitwerk.parsing.si_units import parse_si_unit, si_text
from leitwerk.parsing.unit_table import UNITS
from leitwerk.parsing.units import parse_unit
from leitwerk.project.setups import parse_setup
from leitwerk.setup.own_sensors import parse_own_sensor

HERE = Path(__file__).parent
LABORATORY = (HERE / "laboratory.xml").read_bytes()
SCHEMA = xmlschema.XMLSchema(HERE / "dcc.xsd")

texts = st.text("abc Äß<&>'\"°", min_size=1, max_size=12).map(str.strip).filter(bool)
numbers = st.floats(-1e6, 1e6, allow_nan=False).map(lambda x: float(f"{x:.12g}"))
units = st.sampled_from(["°C", "kPa", "mV/V", "m/s^2", "%", "", "1/min", "l/s"]).map(parse_unit)
days = st.dates(date(2000, 1, 1), date(2099, 1, 1))


@st.composite
def series(draw, stage, unit, count):
    wide = draw(st.lists(st.floats(1e-6, 10), min_size=count, max_size=count))
    readings = draw(st.lists(numbers, min_size=count, max_size=count, unique=True))
    references = draw(st.lists(numbers, min_size=count, max_size=count))
    expanded = draw(st.none() | st.just(Expanded(tuple(wide), 2.0, 0.95)))
    return Result(draw(texts), stage, Values("", tuple(references), unit),
                  Values("", tuple(readings), unit, expanded))  # fmt: skip


@st.composite
def certificates(draw):
    unit, count = draw(units), draw(st.integers(1, 5))
    stages = draw(st.sampled_from([("",), (FOUND,), (FOUND, LEFT)]))
    conditions = draw(st.dictionaries(texts, numbers, max_size=2))
    return Certificate(
        number=draw(texts), country="AT", languages=("de", "en"), mandatory=("de",), begun=draw(days),
        ended=draw(days), place="laboratory",
        laboratory=Party(draw(texts), (("city", draw(texts)),)), customer=Party(draw(texts)),
        items=(Item(draw(texts), draw(texts), draw(texts), (Identification("manufacturer", "P-1"),)),),
        persons=((draw(texts), draw(st.just("") | texts)),),
        measurements=(
            Measurement(
                draw(texts), tuple(draw(series(stage, unit, count)) for stage in stages),
                tuple(draw(st.lists(texts, max_size=2))), (draw(texts),),
                tuple(Condition(n, Values("", (x,), parse_unit("°C"), is_list=False))
                      for n, x in conditions.items()),
            ),
        ),
        issued=draw(st.none() | days),
    )  # fmt: skip


@given(certificates())
def test_a_certificate_that_is_written_is_read_back_and_fits_the_schema(certificate):
    written = write_certificate_xml(certificate)
    assert read_certificate_xml(written) == certificate
    SCHEMA.validate(written.decode())


@given(certificates())
def test_certificate_to_calibration_to_certificate_loses_nothing(tmp_path_factory, certificate):
    file = tmp_path_factory.getbasetemp() / "piece.yaml"
    unit = certificate.measurements[0].results[0].reference.unit
    file.write_text(
        f'sensor: 1\nname: piece\nsummary: x\nentries: {{signal: 0..1 V, unit: "{unit.symbol or 1}"}}\n'
        "pieces:\n  P-1: []\n", "utf-8",
    )  # fmt: skip
    taken = take_into_sensor(certificate, file, TakeOptions(due=date(2100, 1, 1)))
    held = parse_own_sensor(taken.text).pieces["P-1"][-1]
    issuer = Laboratory(
        certificate.laboratory.name,
        certificate.persons[0][0],
        certificate.customer.name,
        certificate.number,
    )
    again = certificate_of(held, unit, certificate.items[0], issuer, {})
    assert (held.certificate, held.date, held.due) == (
        certificate.number,
        certificate.ended,
        date(2100, 1, 1),
    )
    assert again.measurements[0].instruments == certificate.measurements[0].instruments
    for one, other in zip(again.results, certificate.results, strict=True):
        for point, wanted in zip(one.points(unit), other.points(unit), strict=True):
            assert point[:2] == pytest.approx(wanted[:2], rel=1e-12)
            assert (point[2] is None) == (wanted[2] is None)
            assert (point[2] or 0.0) == pytest.approx(wanted[2] or 0.0, rel=1e-12)
    assert {c.name: c.values.numbers for c in again.measurements[0].conditions} == {
        c.name: c.values.numbers for c in certificate.measurements[0].conditions
    }


def test_the_certificate_of_a_laboratory_as_it_stands():
    """Written by hand, with both forms of uncertainty, two languages and parts of a laboratory's own."""
    found = read_certificate_xml(LABORATORY)
    assert (found.number, found.items[0].serial, found.is_signed) == (
        "TI-2026-0117",
        "P16-0031",
        False,
    )
    bar = parse_unit("bar")
    assert [*found.result(FOUND).points(bar)] == [
        (pytest.approx(0.05), 0.0, pytest.approx(0.02)),  # 3 kPa at k = 3
        (pytest.approx(8.08), 8.0, pytest.approx(0.02)),
        (pytest.approx(16.11), 16.0, pytest.approx(0.02)),
    ]
    assert [*found.in_force("pressure").points(bar)][2] == (
        pytest.approx(16.009),
        16.0,
        pytest.approx(0.024),
    )
    names = {part.name for part in found.kept}
    assert "dcc:digitalCalibrationCertificate" not in names
    assert {"dcc:comment", "dcc:administrativeData/dcc:coreData/dcc:receiptDate"} <= {
        name.removeprefix("dcc:digitalCalibrationCertificate/") for name in names
    }
    again = read_certificate_xml(write_certificate_xml(found))
    assert {part.text for part in again.kept} == {part.text for part in found.kept}
    assert again.results[1] == found.results[1]
    SCHEMA.validate(write_certificate_xml(found).decode().replace('lab_hysteresis"', 'x"'))


SIGNED = LABORATORY.replace(
    b"  <dcc:comment>",
    b'  <ds:Signature xmlns:ds="http://www.w3.org/2000/09/xmldsig#"/><dcc:comment>',
)


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (lambda x: b"<a/>", "not a digital calibration certificate"),
        (lambda x: x[:500], "is not XML"),
        (lambda x: b'<!DOCTYPE a [<!ENTITY b "c">]>' + x.partition(b"?>")[2], "is not XML that is read"),
        (lambda x: x.replace(b'"3.2.1"', b'"2.4.0"'), "version '2.4.0'"),
        (lambda x: x.replace(b"<si:valueXMLList>0 800 1600", b"<si:valueXMLList>0 800"), "2 and 3 values"),
        (lambda x: x.replace(b"5 808 1611", b"5 NaN 1611"), "holds '5 NaN 1611'"),
        (lambda x: x.replace(b">2026-11-19<", b">yesterday<"), "is not a date"),
        (lambda x: x.replace(b"uniqueIdentifier", b"otherIdentifier"), "has no dcc:uniqueIdentifier"),
    ],
)  # fmt: skip
def test_what_is_no_certificate_is_refused(change, says):
    with pytest.raises(QuantityError, match=says):
        read_certificate_xml(change(LABORATORY))


SECOND = b"<dcc:item><dcc:name><dcc:content>B</dcc:content></dcc:name></dcc:item>"


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ((b"basic_afterAdjustment", b"basic_beforeAdjustment"), "has 2 series of points"),
        ((b"</dcc:item>", b"</dcc:item>" + SECOND), "is of 2 items"),
        ((b"\\kilo\\pascal", b"\\volt"), "has no points of pressure"),
    ],
)  # fmt: skip
def test_points_that_may_be_of_something_else_are_not_taken(change, says):
    found = read_certificate_xml(LABORATORY.replace(*change))
    with pytest.raises(QuantityError, match=says):
        found.in_force("pressure")


def test_one_of_several_series_is_taken_by_its_name():
    found = read_certificate_xml(
        LABORATORY.replace(b"basic_afterAdjustment", b"basic_beforeAdjustment")
    )
    assert found.in_force("pressure", "As received").measured.numbers == (5.0, 808.0, 1611.0)
    odd = LABORATORY.replace(b">3</si:coverageFactorXMLList>", b">3 2</si:coverageFactorXMLList>")
    with pytest.raises(QuantityError, match="do not fit the 3 values"):
        read_certificate_xml(odd)


@pytest.mark.process
def test_a_certificate_goes_into_a_sensor_and_a_channel_by_the_command(
    leitwerk, tmp_path, monkeypatch
):
    monkeypatch.chdir(tmp_path)
    Path("c.xml").write_bytes(SIGNED)
    shown = leitwerk("certificate", "c.xml").output
    assert "808 kPa for 800 kPa ± 3 kPa (k = 3, 0.997)" in shown
    assert "present; Leitwerk does not judge" in shown
    assert "dcc:coreData/dcc:receiptDate" in shown
    refused = leitwerk("take-certificate", "c.xml", "--sensor", "pressure-16bar", "--write")
    assert (refused.exit_code, "ships with Leitwerk" in refused.stderr) == (2, True)
    Path("sensors").mkdir()
    own = "sensor: 1\nname: own-16bar\nsummary: x\nentries: {signal: 4..20 mA, unit: bar, "
    own += "scale: {4 mA: 0 bar, 20 mA: 16 bar}}\npieces:\n  P16-0031: []   # on the shelf\n"
    Path("sensors/own.yaml").write_text(own, "utf-8")
    no_due = leitwerk("take-certificate", "c.xml", "--sensor", "own-16bar", "--write")
    assert (no_due.exit_code, "--due" in no_due.stderr) == (2, True)
    done = leitwerk(
        "take-certificate", "c.xml", "--sensor", "own-16bar", "--due", "2027-11-19", "--write"
    )
    assert "as found at 8 bar: error +0.08 ± 0.02 bar" in done.output
    assert Path("certificates/TI-2026-0117.xml").read_bytes() == SIGNED
    again = leitwerk("take-certificate", "c.xml", "--sensor", "own-16bar", "--due", "2027-11-19")
    assert "a certificate that is newer" in again.stderr
    due = leitwerk("due")
    assert "2027-11-19" in due.output
    assert "sensor own-16bar P16-0031" in due.output


KILN = """\
leitwerk: 1
title: Kiln 2
device: {model: fichte-8, at: modbus+tcp://127.0.0.1:5020?unit=3, serial: K2-00417}
sample: every 10 s
channels:
  air_top:
    terminal: 1
    sensor: Pt100, 4-wire
    calibration:
      date: 2026-02-03
      due: 2027-02-03
      reference: Reference thermometer RT-7
      found: {0.2 °C: 0 ± 0.05 °C, 80.4 °C: 80 ± 0.08 °C}
      left: {0.01 °C: 0 °C, 80.02 °C: 80 °C}
      uncertainty: 0.06 K
      conditions: {temperature: 22.5 °C}
"""


def test_a_calibration_of_ours_becomes_a_certificate_and_comes_back(
    leitwerk, tmp_path, monkeypatch
):
    monkeypatch.chdir(tmp_path)
    Path("kiln.yaml").write_text(KILN, "utf-8")
    words = [
        "--number",
        "TM-7",
        "--laboratory",
        "Tannried Mill",
        "--person",
        "Ida",
        "--customer",
        "Mill",
    ]
    done = leitwerk("write-certificate", "kiln.yaml", "air_top", "o.xml", *words)
    assert done.exit_code == 0, done.stderr
    SCHEMA.validate(Path("o.xml").read_text("utf-8"))
    found = read_certificate_xml(Path("o.xml").read_bytes())
    celsius = parse_unit("°C")
    assert [*found.result(FOUND).points(celsius)] == [(0.2, 0.0, 0.05), (80.4, 80.0, 0.08)]
    assert [*found.result(LEFT).points(celsius)] == [(0.01, 0.0, 0.06), (80.02, 80.0, 0.06)]
    taken = take_into_channel(found, "kiln.yaml", "air_top", TakeOptions())
    held = parse_setup(taken.text).channels["air_top"].calibration
    assert (str(held.due), held.certificate) == ("2027-02-03", "TM-7")
    assert "as found at 80 °C: error +0.4 ± 0.08 K; stored +0.4, drift +0 K" in taken.lines
    wrong = Path("kiln.yaml").read_text("utf-8").replace("K2-00417", "K9-1")
    Path("other.yaml").write_text(wrong, "utf-8")
    with pytest.raises(QuantityError, match="is of K2-00417, not of K9-1"):
        take_into_channel(found, "other.yaml", "air_top", TakeOptions())


def test_a_unit_is_the_same_behind_d_si():
    nameless = set()
    for symbol in filter(None, UNITS):
        unit = parse_unit(symbol)
        try:
            again = parse_si_unit(si_text(unit))
        except UnitError:
            nameless.add(symbol)
            continue
        assert (again.factor, again.offset) == (pytest.approx(unit.factor), unit.offset), symbol
    assert len(nameless) < 0.4 * len(UNITS), nameless
    assert not nameless & {
        "°C",
        "K",
        "bar",
        "mbar",
        "Pa",
        "kPa",
        "mV",
        "mA",
        "Ω",
        "%",
        "l",
        "kg",
        "V",
    }
