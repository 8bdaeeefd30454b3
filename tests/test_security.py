"""The table of limits on the page about security is that of the code."""

import re
from pathlib import Path

import pytest

from leitwerk.analysis import intervals
from leitwerk.calibration.certificate_xml import _MOST_POINTS, MAX_BYTES
from leitwerk.check import exchanges as check_exchanges
from leitwerk.datasheet import point_entries
from leitwerk.derived import history, reading
from leitwerk.devices import recordings, talk
from leitwerk.evaluation import course, dry_run
from leitwerk.exchange import guarded, person
from leitwerk.links import mqtt, sdi12
from leitwerk.monitoring import outbox, pacing, senders, web_calls
from leitwerk.parsing import quantities, yaml_text
from leitwerk.project import sheets
from leitwerk.protocols import board_image, lines, scpi, station
from leitwerk.rules import schedule
from leitwerk.setup import exchanges, rules, template
from leitwerk.transfer import batch

PAGE = (Path(__file__).parent.parent / "SECURITY.md").read_text("utf-8")
LIMITS = {
    "a file": (yaml_text.MAX_BYTES, yaml_text.MAX_DEPTH, yaml_text.MAX_NODES),
    "a quantity, such as `21.5 ± 0.5 °C`": (quantities._MAX_LENGTH,),
    "members of one entry of a datasheet, `{n 1..8}`": (point_entries.MAX_INDICES,),
    "rules of a setup": (rules.MAX_RULES,),
    "planned runs of a schedule": (schedule.MAX_RUNS,),
    "pieces of a course": (course.MAX_PIECES,),
    "samples of a channel in a dry run": (dry_run.MAX_SAMPLES,),
    "samples of a live check": (pacing.MAX_SAMPLES,),
    "intervals of condensed values": (intervals.MAX_INTERVALS,),
    "lines of a batch table": (batch._MOST,),
    "bytes of a board's program": (board_image._MOST_BYTES,),
    "a line of a device": (lines.MAX_LINE,),
    "messages or keywords of an exchange, values of one": (
        check_exchanges.MOST_LINES,
        check_exchanges.MOST_VALUES,
    ),
    "bytes of a calibration certificate, values of one list in it": (
        MAX_BYTES,
        _MOST_POINTS,
    ),
    "repeats in a template": (template.MOST_REPEATS,),
    "a line of an exchange: as its setup says, at most": (exchanges._MOST_LINE,),
    "what waits for a slow receiver of an exchange": (person.MOST_OUT, guarded.MOST_WAITING),
    "pieces of a conversation that was kept": (talk._MOST_ENTRIES,),
    "a formula: characters, brackets within each other, samples of a window": (
        reading.LONGEST,
        reading.DEEPEST,
        history.MOST,
    ),
    "rows and columns of a table in a file, cells, bytes of an unpacked workbook": (
        sheets.MOST_ROWS,
        sheets.MOST_COLUMNS,
        sheets._MOST_CELLS,
        sheets._MOST_UNPACKED,
    ),
    "entries of an error queue": (scpi.ERRORS_AT_MOST,),
    "time of a measurement on SDI-12": (sdi12.LONGEST_MEASUREMENT_S,),
    "rows of a recording": (recordings._ROWS_AT_MOST,),
    "a message of a station": (station.MAX_BYTES,),
    "topics of a broker": (mqtt._MOST_TOPICS,),
    "an answer of a gateway": (web_calls._LONGEST_ANSWER, int(web_calls._ALL_S)),
    "received messages taken at once": (senders._MOST_RECEIVED,),
    "a conversation with a mail server": (int(senders._MAIL_S),),
    "messages that wait": (outbox._MOST,),
}


def rows():
    table = PAGE[PAGE.index("## Limits") :]
    return {
        cells[1].strip(): cells[2]
        for cells in (line.split("|") for line in table.splitlines() if line.startswith("| "))
        if cells[1].strip() != "what"
    }


@pytest.mark.parametrize("what", LIMITS)
def test_a_limit_is_as_the_page_says(what):
    said = re.findall(r"\d[\d,]*", rows()[what].replace("SDI-12", ""))
    assert tuple(int(number.replace(",", "")) for number in said) == LIMITS[what]


def test_every_limit_of_the_page_is_one():
    assert rows().keys() == LIMITS.keys()
