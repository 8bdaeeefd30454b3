"""SDI-12: frames and values as the standard has them, and a bus with sensors that misbehave."""

import contextlib
import threading

import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import checked
from leitwerk.links.options import LinkOptions
from leitwerk.links.sdi12 import Sdi12Link
from leitwerk.parsing.address import parse_address
from leitwerk.protocols.sdi12 import (
    Measure,
    Wait,
    crc_text,
    parse_answer,
    parse_measure,
    parse_readdress,
    parse_wait,
    split_values,
)


@pytest.mark.parametrize(
    ("answer", "check"),
    [  # the examples of the standard, "Cyclic redundancy check"
        ("0+3.14", "OqZ"), ("0+3.14+2.718+1.414", "Ipz"), ("0+1.11+2.22+3.33+4.44+5.55+6.66", "I]q"),
    ],
)  # fmt: skip
def test_check_characters_are_those_of_the_standard(answer, check):
    assert crc_text(answer) == check
    assert parse_answer(answer + check, "0", has_crc=True) == answer[1:]
    with pytest.raises(lw.LinkError, match="check characters"):
        parse_answer(answer.replace("1", "7") + check, "0", has_crc=True)


@pytest.mark.parametrize(
    ("body", "values"),
    [
        ("+3.14-7+0.001", ["+3.14", "-7", "+0.001"]), ("", []), ("+.5-1234567", ["+.5", "-1234567"]),
        ("-0.0000001", None), ("+12345678", None), ("3.14", None), ("+1+", None), ("+1.2.3", None),
    ],
)  # fmt: skip
def test_values_have_a_sign_and_up_to_seven_digits(body, values):
    if values is None:
        with pytest.raises(lw.LinkError, match="not a value"):
            split_values(body)
    else:
        assert split_values(body) == values


def test_commands_and_waits():
    assert [parse_measure(b) for b in ("M", "MC3", "C", "CC9", "R0", "RC1")] == [
        Measure(kind, has_crc=crc) for kind in "MCR" for crc in (False, True)
    ]  # fmt: skip
    assert [parse_measure(b) for b in ("I", "M0", "XM", "R", "")] == [None] * 5
    assert [parse_readdress(b) for b in ("Ab", "A", "A!", "Abc", "XA")] == ["b", "", "", "", ""]
    assert (parse_wait("0014"), parse_wait("12020")) == (Wait(1, 4), Wait(120, 20))
    for odd in ("", "12", "abc4", "00122222", "٠٠١٤"):
        with pytest.raises(lw.LinkError):
            parse_wait(odd)


@given(line=st.text(max_size=90), unit=st.sampled_from("0z"), has_crc=st.booleans())
def test_whatever_comes_is_an_answer_or_an_error(line, unit, has_crc):
    for read in (lambda: parse_answer(line, unit, has_crc=has_crc), lambda: split_values(line)):
        with contextlib.suppress(lw.LinkError):
            read()


def link(address, unit=None, **options):
    text = str(address) if unit is None else str(address).replace("unit=0", f"unit={unit}")
    return Sdi12Link(parse_address(text), options=LinkOptions(**{"timeout_s": 0.3, **options}))


@pytest.mark.process
def test_three_sensors_measure_on_one_bus_at_the_same_time():
    with lw.start_standin("ahorn", "--copies", "3") as bus:
        links = [link(address) for address in bus.addresses]
        found = {}
        measure = parse_measure("CC")

        def ask(one):
            found[one.address.unit] = [one.measure("CC", measure) for _ in range(2)]

        threads = [threading.Thread(target=ask, args=(one,)) for one in links]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        for one in links:
            one.close()
    moisture = {unit: round(float(values[1][0])) for unit, values in found.items()}
    assert moisture.keys() == {"0", "1", "2"}
    assert moisture["2"] > moisture["0"] > moisture["1"]


@pytest.mark.process
def test_trouble_on_the_bus_is_named():
    with lw.start_standin("ahorn", "--copies", "2") as bus:
        silent = link(bus.address, "7", retries=0)
        with pytest.raises(lw.LinkTimeout, match="no answer to '7I!'"):
            silent.command("I")
        silent.close()
        one = link(bus.address)
        # Asked with "?", two sensors answer at once: the second one is not taken for the next answer.
        assert one.command("I").endswith("30071")
        other_line = str(bus.address).replace("1200", "9600")
        with pytest.raises(lw.LinkError, match="in use here as sdi12"):
            link(parse_address(other_line))
        one.close()


@pytest.mark.process
def test_a_noisy_bus_is_asked_again():
    with (
        lw.start_standin("ahorn", "--corrupt-every", "3") as bus,
        lw.connect(setup(bus.address)) as device,
    ):
        for _ in range(3):
            assert 15 < device.readings()["moisture"] < 25


def setup(address):
    return checked(
        f"leitwerk: 1\ntitle: t\ndevice: {{model: ahorn, at: '{address}', serial: 30071}}\n"
        "channels: {m: {reading: moisture}}\n"
    )


@pytest.mark.process
def test_a_missing_sensor_is_no_reading():
    with lw.start_standin("ahorn", "--open", "1") as bus, lw.connect(setup(bus.address)) as device:
        report = lw.verify(setup(bus.address), device, duration_s=0.2, period_s=0.2)
    assert report.channels[0].quality == "open sensor"


@pytest.mark.process
def test_what_a_sensor_refuses_and_what_it_cannot_be_told():
    with lw.start_standin("ahorn") as bus, lw.connect(setup(bus.address)) as device:
        device.write_settings({"name": "NORTH", "species": "oak", "averaging": 16.0})
        assert device.read_settings().values == {
            "name": "NORTH", "species": "oak", "averaging": 16.0,
        }  # fmt: skip
        with pytest.raises(lw.QuantityError, match="cannot be stored in the device"):
            device.write_settings({"name": "0M!0D0"})
        point = device.datasheet.settings["averaging"]
        with pytest.raises(lw.DeviceRefused, match="refused 'XA99' with 'e2'"):
            device._session.send(point.write.replace("{}", "99"))
