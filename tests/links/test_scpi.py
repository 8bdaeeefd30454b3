"""A third model, over SCPI: texts instead of registers, an error queue, and hostile answers."""

import socket
import threading
from importlib import resources

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import checked
from leitwerk.datasheet.own_quality import own_quality
from leitwerk.datasheet.text_points import TextPoint
from leitwerk.devices.device import Device
from leitwerk.devices.recordings import control_recording
from leitwerk.links.lines import LineLink
from leitwerk.parsing.address import parse_address
from leitwerk.protocols.lines import MAX_LINE, LineReader, split_fields
from leitwerk.protocols.scpi import parse_error
from leitwerk.standins.meter import Meter
from leitwerk.standins.profile import find_profile

HALL = (resources.files("leitwerk") / "examples" / "saw-hall.yaml").read_text("utf-8")
AT = "scpi+tcp://127.0.0.1:5025"


class MemoryLines:
    """A meter without a socket."""

    def __init__(self, meter):
        self.meter, self.address, self.lines = meter, parse_address(AT), []
        self.lock = threading.RLock()

    def query(self, line, *, again=True, public=None):
        del again, public
        self.lines.append(line)
        return self.meter.answer(line)

    def send(self, line, *, public=None):
        self.lines.append(line if public is None else public)
        assert self.meter.answer(line) is None

    def close(self):
        pass


@pytest.fixture
def meter():
    sheet = lw.find_datasheet("eibe")
    return Device(sheet, MemoryLines(Meter(sheet, find_profile("eibe"))))


def test_a_question_is_asked_once_for_all_its_fields(meter):
    assert str(meter.identify()) == "Tannried Instrumente eibe, serial number SH-0093, firmware 3.1"
    assert meter.link.lines == ["*IDN?"]


def test_the_error_queue_speaks_for_a_silent_instrument(meter):
    with pytest.raises(lw.DeviceRefused, match="-203, Command protected: no user with the right"):
        meter.write_settings({"integration.time": 10.0})
    with pytest.raises(lw.DeviceRefused, match="refuses the password"):
        meter.log_in("operator", "spruce")
    meter.log_in("operator", "larch")
    assert "larch" not in " ".join(meter.link.lines)
    assert meter.write_settings({"integration.time": 10.0}) == 1
    assert meter.read_settings().values["integration.time"] == 10.0
    for _ in range(3):
        meter.link.meter.errors.refuse("unknown")
    with pytest.raises(lw.DeviceRefused, match="-113"):
        meter.write_settings({"integration.time": 11.0})
    assert meter.link.meter.errors.next() == '0,"No error"'


@pytest.mark.parametrize(
    ("query", "value", "text", "stored"),
    [
        (TextPoint("q", "A?", step=0.1), 86.34, "86.3", 86.3),
        (TextPoint("q", "A?"), 1e-9, "1e-09", 1e-9),
        (TextPoint("q", "A?", choices=(("fast", "FAST"),)), "fast", "FAST", "fast"),
        (TextPoint("q", "A?", kind="text"), "SAW", '"SAW"', "SAW"),
    ],
)
def test_values_as_texts(query, value, text, stored):
    assert (query.encode(value), query.storable(value)) == (text, stored)


@pytest.mark.parametrize(
    ("query", "value"),
    [
        (TextPoint("q", "A?", limits=(1, 9)), 10.0),
        (TextPoint("q", "A?"), "x"),
        (TextPoint("q", "A?"), float("nan")),
        (TextPoint("q", "A?", choices=(("fast", "FAST"),)), "slow"),
        (TextPoint("q", "A?", kind="text"), 'a"b'),
        (TextPoint("q", "A?", kind="text"), "two\nlines"),
        (TextPoint("q", "A?", kind="text", max_length=2), "abc"),
    ],
)
def test_what_cannot_be_told_is_refused(query, value):
    with pytest.raises(lw.QuantityError) as caught:
        query.storable(value)
    assert caught.value.valid


def test_special_numbers_of_scpi():
    query = TextPoint("q", "A?")
    assert query.decode("-9.9E37") == float("-inf")
    assert query.decode("9.91E37") != query.decode("9.91E37")
    assert query.decode("garbage") == "code garbage"


@given(st.lists(st.text(st.characters(max_codepoint=255, exclude_characters="\n\r"))), st.data())
def test_lines_survive_any_cutting(lines, data):
    whole = "".join(line + "\n" for line in lines).encode("latin-1")
    reader, found, at = LineReader(), [], 0
    while at < len(whole):
        step = data.draw(st.integers(1, 7))
        found += reader.feed(whole[at : at + step])
        at += step
    assert found == lines


@given(st.binary(max_size=200))
def test_no_bytes_get_past_the_decoders(data):
    query = TextPoint("q", "A?", step=0.1)
    for line in LineReader().feed(data + b"\n"):
        split_fields(line)
        parse_error(line)
        query.decode(line)
        query.number(line)


def test_a_flood_without_an_end_is_cut_off():
    with pytest.raises(lw.LinkError, match="too long for an answer"):
        LineReader().feed(b"x" * (MAX_LINE + 1))


@pytest.mark.parametrize(
    ("reply", "says"),
    [
        (lambda _: b"", "no answer to 'A.' within 0.2 s"),
        (lambda _: b"1\n2\n", "more than one line came for 'A.'"),
        (lambda _: b"x" * (MAX_LINE + 9), "bytes came without an end"),
        (None, "the connection broke"),
    ],
)
def test_answers_that_are_none(reply, says):
    listener = socket.create_server(("127.0.0.1", 0))

    def run():
        with listener, listener.accept()[0] as connection:
            request = connection.recv(300)
            if reply is not None:
                connection.sendall(reply(request))
                connection.recv(1)

    threading.Thread(target=run, daemon=True).start()
    address = parse_address(f"scpi+tcp://127.0.0.1:{listener.getsockname()[1]}")
    link = LineLink(address, options=lw.LinkOptions(0.2))
    with pytest.raises(lw.LinkError, match=says):
        link.query("A?")
    link.close()


def test_a_model_and_an_address_must_speak_the_same():
    with pytest.raises(lw.QuantityError, match="eibe speaks scpi"):
        lw.connect(checked(HALL.replace(AT, "modbus+tcp://127.0.0.1")))
    setup = checked(HALL.replace(AT, "scpi+serial:///dev/ttyNOWHERE"))
    with lw.connect(setup) as device, pytest.raises(lw.LinkError, match="there is no such port"):
        device.identify()


# ---------------------------------------------------------------------- recording


def rows_of(device):
    (info,) = lw.list_recordings(device)
    return lw.fetch_recording(device, info.number).values


def control(device, command):
    return control_recording(device, command, passwords={"operator": "larch"})


def test_a_pause_and_what_is_erased_stay_as_rows_without_values(meter):
    device, clock = meter, [0.0]
    memory = device.link.meter.memory
    memory._clock = lambda: clock[0]
    device.log_in("operator", "larch")
    device.write_settings({"integration.time": 10.0, "erase_back.length": 25.0})
    assert (control(device, "start"), control(device, "start")) == ("stopped", "recording")
    clock[0] = 100.0
    assert control(device, "pause") == "recording"
    assert device.status().recording  # it takes no settings meanwhile
    clock[0] = 130.0
    assert (control(device, "continue"), control(device, "continue")) == ("paused", "recording")
    clock[0] = 200.0
    assert control(device, "erase back") == "recording"
    assert control(device, "stop") == "recording"
    known = np.isfinite(rows_of(device)[:, 0])
    assert known.tolist() == [*[True] * 10, *[False] * 3, *[True] * 4, *[False] * 3]
    with pytest.raises(lw.DeviceRefused, match="there is nothing to pause"):
        control(device, "pause")


def test_a_run_begins_at_its_time_or_above_its_level(meter):
    device, own = meter, meter.link.meter
    device.log_in("operator", "larch")
    device.write_settings({"start.mode": "above level", "start.level": 120.0})
    assert control(device, "start") == "stopped"
    assert (str(device.status_points()["recording"]), device.status().recordings) == ("waiting", 0)
    assert control(device, "stop") == "waiting"
    device.log_in("operator", "larch")
    device.write_settings({"start.level": 60.0})
    assert control(device, "start") == "stopped"
    assert (str(device.status_points()["recording"]), device.status().recordings) == (
        "recording",
        1,
    )
    control(device, "stop")
    device.log_in("operator", "larch")
    device.write_settings({"start.mode": "at time", "start.time": "2099-01-01 00:00:00"})
    control(device, "start")
    assert str(device.status_points()["recording"]) == "waiting"
    own.clock.set("2099-01-01 00:00:01")
    assert str(device.status_points()["recording"]) == "recording"


def test_an_evaluation_stores_what_it_is_asked_for(meter):
    device, clock = meter, [0.0]
    device.link.meter.memory._clock = lambda: clock[0]
    device.log_in("operator", "larch")
    device.write_settings({"evaluation.1.stores": "equivalent", "evaluation.1.peak": "yes"})
    device.write_settings({"evaluation.2.weighting": "C", "evaluation.2.peak": "yes"})
    control(device, "start")
    clock[0] = 600.0
    control(device, "stop")
    known = np.isfinite(rows_of(device)).all(axis=0)
    assert known[:6].tolist() == [True, False, False, True, False, True]


def test_levels_outside_the_range_of_the_meter_are_marked(meter):
    device = meter
    device.log_in("operator", "larch")
    device.write_settings({"range.upper": 90.0, "range.lower": 60.0, "evaluation.1.weighting": "Z"})
    loud = next(
        p for p in device.datasheet.points("readings") if p.name == "evaluation.1.equivalent"
    )
    values = [device.reader([loud])()[0] for _ in range(50)]
    assert {own_quality(loud, value).reason for value in values} <= {"above range", "good"}
    assert any(own_quality(loud, value).reason == "above range" for value in values)
