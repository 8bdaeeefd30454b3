"""Lists of events from a device: read once, in the night of 25 hours, and refused where they are none."""

from zoneinfo import ZoneInfo

import pytest

from leitwerk.errors import FileProblem
from leitwerk.recordings.event_lists import read_event_lists

VIENNA = ZoneInfo("Europe/Vienna")
HEAD = "begin,duration_s,kind,phases,extreme\n"
DIP = "2026-10-25 02:30:00.250,0.29,dip,1 2,143.7\n"


def test_lists_are_read_in_order_and_what_stands_twice_counts_once(tmp_path):
    (tmp_path / "a-events.csv").write_text(
        f"{HEAD}{DIP}2026-10-25 01:00:00.000,1,swell,3,260\n", "utf-8"
    )
    (tmp_path / "a-events-2.csv").write_text(HEAD + DIP, "utf-8")
    swell, dip = read_event_lists(tmp_path, VIENNA)
    assert (swell.kind, dip.kind, dip.channels, dip.extreme) == ("swell", "dip", (0, 1), 143.7)
    # Shown twice: the first of both; an hour and a half behind the swell, and a quarter of a second.
    assert dip.begin_s - swell.begin_s == pytest.approx(5400.25)
    assert read_event_lists(tmp_path / "none", VIENNA) == ()


@pytest.mark.parametrize(
    "text",
    ["", "begin,kind\n", HEAD + "a,b\n", HEAD + DIP.replace("0.29", "long"),
     HEAD + DIP.replace("143.7", "nan"), HEAD + DIP.replace("1 2", "L1"),
     HEAD + DIP.replace("2026-10-25", "2026-13-25"), HEAD + "\0\n"],
)  # fmt: skip
def test_what_is_no_list_of_events_is_refused(tmp_path, text):
    (tmp_path / "x-events.csv").write_text(text, "utf-8")
    with pytest.raises(FileProblem, match=r"x-events\.csv"):
        read_event_lists(tmp_path, VIENNA)
