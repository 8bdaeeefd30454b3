"""Places of a receiver: bound, replaced, freed, refused with the reason; by the commands."""

import contextlib
import json
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

import leitwerk as lw
from conftest import checked, example

GAUGES = example("board-gauges", "text+tcp://127.0.0.1:5030")
CALLIPER, GAUGE = "40744252", "62046115"  # of the receiver's world


def setup_of(places, channels=""):
    lines = "".join(f"  {place}: {entry}\n" for place, entry in places.items())
    return checked(f"{GAUGES}\nplaces:\n{lines}{channels}")


def test_places_are_settings_and_feed_channels():
    found = setup_of(
        {"1": "{id: 00 4074-4252, kind: calliper, channel: thickness, label: Board}",
         "7": "{id: 95041075, kind: switch, channel: gate}"},
        "channels: {thickness: {expect: 25 ± 1 mm}}",
    )  # fmt: skip
    assert found.ok, found.findings
    values = found.settings.values
    assert (values["place.1.id"], values["place.7.id"], values["place.2.id"]) == (
        40744252.0,
        95041075.0,
        0.0,
    )
    assert (values["radio.group"], values["radio.role"]) == (3.0, "receiver")
    by_name = {c.name: c for c in found.channels}
    assert (by_name["thickness"].point.name, by_name["thickness"].label) == (
        "place.1.value",
        "Board",
    )
    assert by_name["gate"].point.name == "place.7.state"
    stored = {".".join(e.path) for e in found.account.entries if e.fate.value.startswith("stored")}
    assert {"places.1.id", "places.7.id", "radio.group"} <= stored


@pytest.mark.parametrize(
    ("places", "words"),
    [
        ({"41": f"{{id: {CALLIPER}}}"}, "has no place '41'"),
        ({"one": f"{{id: {CALLIPER}}}"}, "has no place 'one'"),
        ({"1": "{id: 40744253}"}, "the check digit of '40744253' is wrong"),
        ({"1": f"{{id: {CALLIPER}}}", "2": "{id: 0040744252}"}, "is bound to place 1 already"),
        ({"1": f"{{id: {CALLIPER}, kind: caliper}}"}, "did you mean 'calliper'?"),
        (
            {"1": f"{{id: {CALLIPER}, channel: a}}", "2": f"{{id: {GAUGE}, channel: a}}"},
            "fed by two places",
        ),
        ({"1": "{id: abc}"}, "is no number of a transmitter"),
    ],
)
def test_what_cannot_be_bound_is_an_error(places, words):
    found = setup_of(places)
    assert any(f.is_error and words in str(f) for f in found.findings), found.findings


def test_a_device_that_receives_nothing_has_no_places():
    text = example("kiln", "modbus+tcp://127.0.0.1:5020?unit=3")
    found = checked(f"{text}\nplaces: {{1: {{id: 5}}}}\n")
    assert any("is no receiver of wireless transmitters" in f.message for f in found.findings)


class Mill:
    """The receiver as a process of its own; its transmitters are operated by lines on its input."""

    def __init__(self, *options):
        words = [
            sys.executable,
            "-m",
            "leitwerk",
            "standin",
            "hasel",
            "--operate",
            "--rtu",
            *options,
        ]
        self.process = subprocess.Popen(
            words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, encoding="utf-8", bufsize=1
        )
        self.address = self.process.stdout.readline().split(" listens at ")[1].split(" (")[0]

    def press(self, number, after_s=0.0):
        def act():
            time.sleep(after_s)
            with contextlib.suppress(ValueError, OSError):  # the test is over
                self.operate(f"press {number}")

        threading.Thread(target=act, daemon=True).start()

    def operate(self, line):
        self.process.stdin.write(f"{line}\n")
        self.process.stdin.flush()

    def close(self):
        self.process.kill()
        self.process.wait()
        self.process.stdin.close()
        self.process.stdout.close()


@pytest.fixture
def mill(tmp_path, monkeypatch, request):
    """A receiver, with its setup in the folder."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "alder")
    one = Mill("--time-factor", getattr(request, "param", "4"))
    (tmp_path / "it.yaml").write_text(example("board-gauges", one.address), "utf-8")
    yield one
    one.close()


@pytest.mark.process
def test_a_calliper_from_its_label_to_its_first_value_and_to_another_one(leitwerk, mill):
    file = Path("it.yaml")
    assert leitwerk("upload", "it.yaml").exit_code == 0
    heard = leitwerk("listen", "it.yaml", "--for", "2 s", "--json")
    assert heard.exit_code == 0
    assert all(json.loads(line)["times"] >= 1 for line in heard.stdout.splitlines())
    assert "places" not in file.read_text("utf-8")  # listening binds nothing
    place = "places:\n  1: {kind: calliper, label: Board, channel: thickness}\n"
    text = f"{file.read_text('utf-8')}\n{place}channels: {{thickness: {{expect: 56 ± 1 mm}}}}\n"
    file.write_text(text, "utf-8")
    mill.press(CALLIPER, after_s=2.0)
    bound = leitwerk("bind", "it.yaml", "00 4074-4252", "--place", "1", "--for", "20 s")
    assert (bound.exit_code, "heard: calliper 56.34 mm" in bound.stdout) == (0, True), bound.output
    assert "thickness: 56.3 mm, as expected" in bound.stdout
    assert "{kind: calliper, label: Board, channel: thickness, id: 00 4074-4252}" in file.read_text(
        "utf-8"
    )
    before = file.read_bytes()
    for label, more, words in (
        (CALLIPER, (), "is bound to place 1 already"), ("40744253", (), "check digit"),
        (GAUGE, ("--place", "1"), "place 1 is taken, by Board"), (GAUGE, ("--place", "41"), "no place 41"),
        (GAUGE, ("--place", "2", "--replace"), "nothing to replace"),
    ):  # fmt: skip
        refused = leitwerk("bind", "it.yaml", label, "--kind", "gauge", *more)
        assert (refused.exit_code, words in refused.stderr) == (2, True), refused.output
    other = Path("other.yaml")
    text = before.decode().replace("00 4074-4252", GAUGE)
    other.write_text(text, "utf-8")  # for the same receiver: an older setup of it
    assert leitwerk("check", "it.yaml").exit_code == 0
    other.write_text(text.replace("RX-0052", "RX-0060"), "utf-8")
    taken = leitwerk("bind", "it.yaml", GAUGE, "--kind", "gauge")
    assert (taken.exit_code, "of another receiver, by other.yaml" in taken.stderr) == (2, True)
    other.unlink()
    assert file.read_bytes() == before
    mill.press(GAUGE, after_s=2.0)
    words = ("--place", "1", "--replace", "--kind", "gauge", "--for", "20 s")
    replaced = leitwerk("bind", "it.yaml", GAUGE, *words)
    assert (replaced.exit_code, "not as expected" in replaced.stdout) == (1, True), replaced.output
    assert f"{{kind: gauge, label: Board, channel: thickness, id: {GAUGE}}}" in file.read_text(
        "utf-8"
    )
    assert "place 1 is free" in leitwerk("unbind", "it.yaml", "1").stdout
    assert "{kind: gauge, label: Board, channel: thickness}" in file.read_text("utf-8")
    with lw.connect(lw.read_setup("it.yaml")) as device:
        assert device.read_settings().values["place.1.id"] == 0.0


@pytest.mark.process
def test_the_radio_is_not_changed_by_mistake_and_none_is_chosen_by_chance(leitwerk, mill):
    first = leitwerk("upload", "it.yaml")
    assert first.exit_code == 0, first.output
    file = Path("it.yaml")
    text = file.read_text("utf-8")
    assert mill.address in text
    file.write_text(text.replace("group: 3", "group: 4"), "utf-8")
    refused = leitwerk("upload", "it.yaml")
    assert refused.exit_code == 4
    assert "would change the radio of the receiver (radio.group 3 -> 4)" in refused.stderr
    assert leitwerk("upload", "it.yaml", "--change-radio").exit_code == 0
    found = leitwerk(
        "single-out", "it.yaml", "--quiet", "0.5 s", "--window", "0.2 s", "--at-most", "2"
    )
    assert (found.exit_code, "it is not known" in found.stdout) == (1, True)
    listed = leitwerk("places", "it.yaml", "--for", "1 s", "--json")
    assert json.loads(listed.stdout)["places"] == []


@pytest.mark.process
@pytest.mark.parametrize("mill", ["20"], indirect=True)
def test_an_alarm_on_a_calliper_that_is_silent(leitwerk, mill):
    with Path("it.yaml").open("a", encoding="utf-8") as file:
        file.write(
            f"\nplaces: {{1: {{id: {CALLIPER}, kind: calliper, channel: thickness}}}}\n"
            "channels:\n  thickness: {expect: 56 ± 1 mm}\n"
            "  age: {reading: place.1.age, alarms: {silent: {above: 40 s}}}\n"
        )
    assert leitwerk("upload", "it.yaml").exit_code == 0

    def live_until(*words):
        for _ in range(20):
            seen = leitwerk("live", "it.yaml", "--for", "0.5 s")
            if all(word in seen.stdout for word in words):
                return seen.exit_code
        raise AssertionError(seen.output)

    assert live_until("PASS       thickness", "alarm silent: normal") == 0
    mill.operate(f"off {CALLIPER}")
    assert live_until("alarm silent: unacknowledged", "1 no reading") == 1


@pytest.mark.process
def test_places_and_role_are_settings_as_all_others_and_stay_without_power(leitwerk, mill):
    file = Path("it.yaml")
    text = file.read_text("utf-8").replace("role: receiver", "role: relay of one hop")
    places = f"\nplaces:\n  1: {{id: 00 4074-4252, kind: calliper}}\n  40: {{id: {GAUGE}, kind: gauge}}\n"
    file.write_text(text + places, "utf-8")
    assert "radio.role receiver -> relay of one hop" in leitwerk("upload", "it.yaml").stderr
    assert leitwerk("upload", "it.yaml", "--change-radio").exit_code == 0
    mill.operate("restart")
    assert mill.process.stdout.readline().strip() == "it was without power, and is on again"
    adopted = leitwerk("adopt", mill.address, "--model", "hasel", "--to", "held.yaml")
    assert adopted.exit_code == 0, adopted.output
    held = lw.read_setup("held.yaml").settings.values
    assert (held["radio.role"], held["place.1.id"], held["place.40.id"]) == (
        "relay of one hop", float(CALLIPER), float(GAUGE),
    )  # fmt: skip
    same = leitwerk("compare", "it.yaml", "held.yaml")
    assert (same.exit_code, "0 of 44 settings differ" in same.output) == (0, True), same.output
    Path("other.yaml").write_text(file.read_text("utf-8").replace("40:", "39:"), "utf-8")
    differs = leitwerk("compare", "other.yaml", "held.yaml")
    assert (differs.exit_code, "2 of 44 settings differ" in differs.output) == (1, True)


def test_in_a_batch_no_transmitter_is_bound_to_two_receivers(leitwerk, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    Path("all.yaml").write_text(f"{GAUGES}\nplaces: {{1: {{id: {CALLIPER}, kind: calliper}}}}\n")
    head, at = "serial,at,places.1.id", "text+tcp://127.0.0.1"
    Path("two.csv").write_text(f"{head}\nRX-1,{at}:5031,{GAUGE}\nRX-2,{at}:5032,62-046115\n")
    refused = leitwerk("batch", "all.yaml", "two.csv", "--plan")
    assert refused.exit_code == 2
    assert f"two.csv:3: place 1 is the transmitter {GAUGE}, which line 2 binds" in refused.stderr
    Path("two.csv").write_text(f"{head}\nRX-1,{at}:5031,{GAUGE}\nRX-2,{at}:5032,\n")
    assert leitwerk("batch", "all.yaml", "two.csv", "--plan").exit_code == 0


def test_other_receivers_of_a_project_are_looked_at(leitwerk, tmp_path, monkeypatch):
    """Beside the setup, or in the folder of the inventory; not older setups of the same one."""
    for name in ("saw", "yard", "kept"):
        (tmp_path / name).mkdir()
    monkeypatch.chdir(tmp_path)
    own = f"{GAUGES}\nplaces: {{1: {{id: {CALLIPER}, kind: calliper}}}}\n"
    Path("saw/it.yaml").write_text(own)
    other = own.replace("RX-0052", "RX-0060").replace(CALLIPER, "0040-744252")
    Path("yard/it.yaml").write_text(other)
    Path("kept/old.yaml").write_text(other)
    Path("saw/before.yaml").write_text(own)
    assert "bound-elsewhere" not in leitwerk("check", "saw/it.yaml", "--json").stdout
    lw.Inventory("devices.sqlite").start()
    found = json.loads(leitwerk("check", "saw/it.yaml", "--json").stdout)["findings"]
    assert [f["message"] for f in found if f["rule"] == "bound-elsewhere"] == [
        f"transmitter {CALLIPER} is bound to place 1 of another receiver, by yard/it.yaml"
    ]
