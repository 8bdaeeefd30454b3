"""The interactive view: what it shows of two devices, and what each key does; no terminal is needed."""

import json
import re

import pytest

import leitwerk as lw
from conftest import MemoryLink, SteppedTime, checked, example, kept, kiln
from leitwerk.cli.live_columns import COLUMNS, USUAL
from leitwerk.cli.live_view import SMALLEST, LiveView
from leitwerk.monitoring.watching import DeviceWatch, Watching
from leitwerk.parsing.units import parse_unit
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile


class Watched:
    """Two loggers on one clock, and a view of them."""

    def __init__(self, sheet, folder):
        self.time, self.links, watches = SteppedTime(), [], []
        for name, profile in (("kiln", "fichte-8"), ("carriage", "fichte-8-saw")):
            wrong = Disturbances(open={"2"} if name == "kiln" else set())
            logger = Logger(sheet, find_profile(profile), Plant(), self.time, wrong)
            self.links.append(MemoryLink(logger))
            device = lw.Device(sheet, self.links[-1])
            setup = (
                kiln()
                if name == "kiln"
                else checked(example(name, "modbus+tcp://127.0.0.1:9?unit=4"))
            )
            lw.upload(setup, device, kept(folder / name))
            watches.append(DeviceWatch(setup, device, clock=self.time.clock))
        self.watching = Watching(watches, 1.0)
        self.now = self.time.clock.now
        self.view = LiveView(self.watching, ["kiln", "carriage"], now=self.now)

    def take(self, count=1):
        for _ in range(count):
            self.time.wait(1.0)
            for watch in self.watching.watches:
                watch.take()

    def press(self, *keys):
        for key in keys:
            self.view.press(key)

    def text(self, width=100, height=30):
        lines = self.view.lines(width, height)
        assert len(lines) == height
        every = ["".join(part for _, part in line) for line in lines]
        assert all(len(line) <= width for line in every)
        return every

    def value(self, decimals=2):
        """The newest value of the first channel, as it is in the history."""
        return f"{self.view.boards[0].history.values[-1, 0]:.{decimals}f}"

    def line(self, name, **more):
        return next(line for line in self.text(**more) if name in line)


@pytest.fixture
def watched(sheet, tmp_path):
    found = Watched(sheet, tmp_path)
    found.take(3)
    return found


def test_all_channels_of_all_devices_with_words_for_what_is_wrong(watched):
    text = watched.text()
    assert text[0].startswith("kiln · carriage")
    assert "every 1 s" in text[0]
    assert watched.line("kiln.air_top").split()[:4] == [
        ">kiln.air_top",
        watched.value(),
        "°C",
        "good",
    ]
    assert "open sensor" in watched.line("kiln.air_bottom")
    assert "at rest" in watched.line("carriage.gear")
    assert any("signal 108.3" in line and "expected 21.50 ± 0.5 °C" in line for line in text)
    watched.press("down")
    assert not any("signal" in line for line in watched.text())  # there is none behind a bad value
    assert any("a wire is off" in line for line in watched.text())  # in full, for the selected one


@pytest.mark.parametrize("size", [(80, 24), (200, 60), SMALLEST, (41, 11)])
def test_every_size_is_filled_and_none_is_left(watched, size):
    for keys in ((), ("enter",), ("escape", "c"), ("c", "end", "enter")):
        watched.press(*keys)
        watched.text(*size)
    assert "too small" in watched.text(39, 24)[0]
    assert "q ends" in watched.text(80, 9)[1]
    assert watched.text(3, 1) == ["Thi"]


def test_a_stale_value_is_never_shown_as_new(watched):
    watched.links[0].fails_at = 0
    watched.take(12)
    line = watched.line("kiln.air_top")
    assert f"({watched.value()})" in line
    assert "no answer" in line
    assert re.search(r"value is 1\d s old", " ".join(watched.text()))
    assert "(" not in watched.line("carriage.motor")
    watched.links[0].fails_at = None
    watched.take()
    assert "(" not in watched.line("kiln.air_top")
    assert watched.watching.watches[0].silences.spans()[0].until_s == pytest.approx(16, abs=1)


def test_pause_and_scroll_back(watched):
    before = watched.line("kiln.air_top")
    watched.press("space")
    watched.take(20)
    assert watched.line("kiln.air_top") == before
    assert "PAUSED" in watched.text()[0]
    watched.press("left", "left")
    assert "2 samples back" in watched.text()[0]
    first = watched.view.boards[0].history.values[0, 0]
    assert f"{first:.2f}" in watched.line("kiln.air_top")
    watched.press("left", "left", "left", "right", "space")
    assert "PAUSED" not in watched.text()[0]
    assert watched.line("kiln.air_top") != before


def test_statistics_begin_anew_for_one_or_for_all(watched):
    boards = watched.view.boards
    watched.press("r")
    watched.take()
    assert boards[0].statistics.count[:3].tolist() == [1, 0, 4]
    watched.press("m")
    watched.take(2)
    assert boards[0].statistics.count[2] == boards[1].statistics.count[0] == 2


def test_units_interval_order_and_selection(watched):
    watched.press("u")
    line = watched.line("kiln.air_top")
    assert line.split()[1:3] == [f"{float(watched.value(4)) * 1.8 + 32:.2f}", "°F"]
    assert any("expected 70.70 ± 0.9 °F" in text for text in watched.text())
    watched.press("u", "u")  # K, and its own again
    assert "°C" in watched.line("kiln.air_top")
    watched.press("-")
    assert watched.watching.period_s == 0.5
    watched.press(*"+++")
    assert watched.watching.period_s == 5.0
    watched.press(*["+"] * 30, *["-"] * 30)
    assert watched.watching.period_s == 0.1
    watched.press("]")
    rows = [line for line in watched.text() if ".air_" in line]
    assert [row.split()[0] for row in rows] == ["kiln.air_bottom", ">kiln.air_top"]
    watched.press("h")
    assert not any("air_top" in line for line in watched.text()[:-4])
    watched.press("H", "end")
    assert watched.line(">").split()[0] == ">kiln.air_top"  # at the end, and selected
    watched.press(*["h"] * 30)
    assert "All channels are hidden" in watched.text()[1]
    watched.press("enter", "up", "r", "u", "f", "]")
    watched.text()


def test_columns_are_chosen_and_moved(watched):
    watched.press("c", "down", "down", "space", "c")
    assert "state" not in watched.text()[1]
    watched.press("c", *["up"] * 20, "]", "c")
    assert watched.text()[1].split()[:3] == ["channel", "unit", "value"]
    watched.press("c", *["down"] * 20, "space", "escape")
    assert len(watched.view.columns) == len(USUAL)
    assert watched.text()[1].endswith("›") or len(watched.text()[1]) <= 100


def test_what_was_chosen_is_kept(watched, tmp_path):
    path = tmp_path / "views" / "one.json"
    watched.press("u", "h", "c", "space", "c")
    watched.view.units[0, 0] = parse_unit("K")
    watched.view.save(path)
    again = LiveView(watched.watching, ["kiln", "carriage"], now=watched.now)
    again.load(path)
    assert (again.columns, again.entries, again.units) == (
        watched.view.columns, watched.view.entries, watched.view.units,
    )  # fmt: skip
    for text in (
        "",
        "[]",
        '{"columns": 3}',
        json.dumps({"columns": ["no"], "channels": [1], "units": {"a": 2}}),
    ):
        path.write_text(text, "utf-8")
        other = LiveView(watched.watching, ["kiln", "carriage"], now=watched.now)
        other.load(path)
        assert other.entries == other.all_entries()
    other.load(tmp_path / "none.json")
    assert other.columns == list(USUAL)


def test_one_value_that_is_read_from_across_a_room(watched):
    watched.take(40)
    watched.press("enter")
    text = watched.text(80, 24)
    assert "kiln.air_top  Air above the stack" in text[1]
    assert sum("█" in line for line in text) >= 4
    assert any("⠀" in line or "⠒" in line or "⣀" in line for line in text[-8:])
    watched.press("end")
    assert "carriage." in watched.text(80, 24)[1]
    assert len(COLUMNS) > len(USUAL)


def test_a_figure_of_the_selected_channel(watched):
    drawn = []
    view = LiveView(
        watched.watching,
        ["a", "b"],
        draw=lambda name, unit: drawn.append((name, str(unit))) or "there",
    )
    view.press("u")
    view.press("f")
    assert drawn == [("a.air_top", "°F")]
    assert any("there" in part for line in view.lines(80, 24) for _, part in line)
