"""A receiver that the code has never seen: its telegrams are put together from a manual page."""

import json
import shutil
import subprocess
import sys
import threading
from pathlib import Path

import pytest
from mistel import DOOR, THERMOMETER, Mistel, frame

import leitwerk as lw
from leitwerk.commissioning.in_hand import Asking, single_out
from leitwerk.devices.device import open_device
from leitwerk.devices.listening import listening
from leitwerk.parsing.address import parse_address

HERE = Path(__file__).parent
WARM = 0x00A3F0  # of the thermometer in the hand; on its label 00-A3-F0


@pytest.fixture
def device(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "datasheets").mkdir()
    shutil.copy(HERE / "mistel.yaml", tmp_path / "datasheets")
    with Mistel() as found:
        text = (HERE / "mistel-setup.yaml").read_text("utf-8").replace(":5020", f":{found.port}")
        (tmp_path / "yard.yaml").write_text(text, "utf-8")
        yield found


def when_listened_to(device, *parts, noise=b"", number=1):
    """Have it hear telegrams as soon as its monitor is on."""

    def act():
        device.wait_for_monitor(number)
        device.hear(*parts, noise=noise)

    thread = threading.Thread(target=act, daemon=True)
    thread.start()
    return thread


def test_what_it_hears_is_decoded_by_its_datasheet(device, leitwerk):
    disturbed = bytearray(frame(WARM, THERMOMETER, 1))
    disturbed[4] ^= 0x10
    parts = [
        frame(WARM, THERMOMETER, -35 & 0xFFFF, count=14, strength=61),
        frame(0x100002, DOOR, 0, flags=0x81, hops=2, repeater=7, strength=200),
        bytes(disturbed),
        frame(WARM, THERMOMETER, 0x8000, count=1),
        frame(WARM, 0x55, 3, count=2)[:-1] + b"\n",  # it does not end as it should
    ]
    when_listened_to(device, *parts, noise=b"\x7e\x7e\x00")
    heard = leitwerk("listen", "yard.yaml", "--for", "1 s", "--json")
    assert heard.exit_code == 0
    assert "2 transmitters, 3 telegrams" in heard.stderr
    cold, door, none = (json.loads(line) for line in heard.stdout.splitlines())
    assert (cold["number"], cold["kind"], cold["value"], cold["strength"]) == (
        WARM, "thermometer", -3.5, -99.5,
    )  # fmt: skip
    assert (door["kind"], door["value"], door["way"], door["relay"], door["battery_low"]) == (
        "door", "shut", "two repeaters", 7, True,
    )  # fmt: skip
    assert (none["value"], none["missed"]) == (None, 2)  # 15 and 0: it counts to 15
    assert not device.monitor


def test_bound_by_its_label_and_judged_in_its_own_unit(device, leitwerk):
    assert leitwerk("upload", "yard.yaml").exit_code == 0
    assert (device.slots, device.group) == ([0, 0x1002, 0, 0, 0, 0, 0, 0], 3)
    when_listened_to(device, frame(WARM, THERMOMETER, 217))
    bound = leitwerk("bind", "yard.yaml", "a3:f0", "--place", "1", "--for", "10 s")
    assert (bound.exit_code, device.slots[:2]) == (0, [WARM, 0x1002]), bound.output
    assert "heard: thermometer 21.7 °C" in bound.stdout
    assert "stack_1: 21.7 °C, as expected" in bound.stdout
    assert "id: a3:f0" in Path("yard.yaml").read_text("utf-8")
    when_listened_to(device, frame(0x77, THERMOMETER, 0x8000), number=2)
    words = ("--place", "1", "--replace", "--for", "10 s")
    replaced = leitwerk("bind", "yard.yaml", "77", *words)
    assert (replaced.exit_code, device.slots[0]) == (1, 0x77), replaced.output
    assert "heard: thermometer no value" in replaced.stdout  # nothing on its display
    assert "stack_1: – °C, no reading" in replaced.stdout
    refused = leitwerk("bind", "yard.yaml", "1000000", "--kind", "door")
    assert (refused.exit_code, "at most FFFFFF" in refused.stderr) == (2, True)
    silent = leitwerk("bind", "yard.yaml", "a3f0", "--kind", "thermometer", "--for", "0.2 s")
    assert (silent.exit_code, "press its send key" in silent.stdout) == (1, True)


def test_the_one_in_the_hand_among_others(device):
    sheet = lw.parse_datasheet((HERE / "mistel.yaml").read_bytes())
    at = parse_address(f"text+tcp://127.0.0.1:{device.port}")
    asked = []

    def say(line):
        asked.append(line)
        k = len(asked)
        others = [frame(n, DOOR, 0, count=k, flags=0x80 * (k == n)) for n in range(3, 30)]
        if "operate it now" in line:
            others.append(frame(WARM, THERMOMETER, 215, count=k, flags=0x80))
        device.hear(*others)

    with open_device(sheet, at) as opened, listening(opened) as listener:
        found = single_out(listener, Asking(5.0, 0.3), say)
    assert found.number == WARM
    assert sum("operate it now" in line for line in asked) <= 4


def test_bind_without_a_number_binds_the_one_in_the_hand(device):
    words = [
        sys.executable,
        "-m",
        "leitwerk",
        "bind",
        "yard.yaml",
        "--place",
        "1",
        "--quiet",
        "1 s",
    ]
    count = 0
    with subprocess.Popen(
        [*words, "--window", "0.5 s"],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        encoding="utf-8",
    ) as person:
        for line in person.stderr:
            if "operate it now" in line or "press its send key" in line:
                count += 1
                device.wait_for_monitor(1)
                device.hear(frame(WARM, THERMOMETER, 217, count=count, flags=0x80))
                device.hear(frame(0x500 + count, DOOR, 0, flags=0x80))
        said = person.stdout.read()
    assert (person.returncode, device.slots[0]) == (0, WARM), said
    assert "it is A3F0, thermometer" in said
    assert "stack_1: 21.7 °C, as expected" in said


def test_a_monitor_that_was_left_on_is_turned_off_first(device, leitwerk):
    """The program before was killed: what it hears comes between the answers, until that is turned off."""
    device.monitor, talks = True, threading.Event()

    def chatter():
        while not talks.wait(0.001):
            device.hear(frame(WARM, THERMOMETER, 217) * 3)

    thread = threading.Thread(target=chatter, daemon=True)
    thread.start()
    try:
        shown = leitwerk("device", "yard.yaml")
        assert (shown.exit_code, "MISTEL-8" in shown.stdout) == (0, True), shown.output
        assert not device.monitor
        device.monitor = True
        assert leitwerk("upload", "yard.yaml").exit_code == 0
    finally:
        talks.set()
        thread.join()


def test_places_say_what_is_not_as_the_setup_says(device, leitwerk):
    assert leitwerk("upload", "yard.yaml").exit_code == 0
    device.slots[2:5] = [0x1002, 0x55, 0]
    device.shown[0x1002] = 1
    parts = [frame(0x1002, DOOR, 1, count=k, hops=h, repeater=r, strength=h * 20 + 50)
             for k in range(12) for h, r in ((0, 0), (1, 2), (2, 2))]  # fmt: skip
    when_listened_to(device, *parts, frame(9, DOOR, 0, flags=1))
    found = leitwerk("places", "yard.yaml", "--for", "1 s", "--json", "--figure", "paths.png")
    listed = json.loads(found.stdout)
    assert (found.exit_code, listed["strangers"]) == (1, 1)
    assert {one["rule"] for one in listed["odd"]} == {
        "held-otherwise", "bound-twice", "not-heard", "weak", "relay-doubles", "relays-repeat",
    }  # fmt: skip
    gate = listed["places"][1]
    assert (gate["value"], gate["held"], [p["telegrams"] for p in gate["paths"]]) == (
        "open", 0x1002, [12, 12, 12],
    )  # fmt: skip
    assert [one["value"] for one in listed["places"]] == [
        "",
        "open",
        "open",
        "not enough samples yet",
    ]
    assert Path("paths.png").stat().st_size > 10_000
