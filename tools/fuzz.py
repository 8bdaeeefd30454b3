# ruff: noqa: S311 - chance that can be repeated is wanted
"""Every reader of files and wires, with real examples that were changed by chance: ``make fuzz``.

An input may be read, or refused with an error of Leitwerk. An input that raises another error, or takes
longer than ``SLOW_S``, is kept under ``build/fuzz`` and reported. Ends by a number of inputs for each
reader, or by a time.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import random
import sys
import tempfile
import time
import traceback
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from importlib import resources
from pathlib import Path

import click
from click.testing import CliRunner
from pydantic import ValidationError

import leitwerk as lw
from leitwerk.alarms.conditions import parse_condition
from leitwerk.analysis.series import read_series
from leitwerk.calibration.certificate_xml import read_certificate_xml, write_certificate_xml
from leitwerk.check.test_plan import check_test_plan
from leitwerk.cli import main as command
from leitwerk.commissioning.lot_ledger import Ledger
from leitwerk.commissioning.lot_results import evaluate_lot
from leitwerk.datasheet.needs import parse_counted, parse_needs, parse_protection
from leitwerk.datasheet.register_points import RegisterPoint
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.text_points import TextPoint
from leitwerk.derived.formula import Formula
from leitwerk.derived.mounting import parse_mounting
from leitwerk.derived.steps import parse_ratio
from leitwerk.derived.values import Table, Terms
from leitwerk.devices.talk import read_talk
from leitwerk.evaluation.course import parse_course
from leitwerk.exchange.end import End
from leitwerk.exchange.terms import Manner
from leitwerk.findings import Findings
from leitwerk.monitoring.operator_requests import take_requests
from leitwerk.monitoring.outbox import Outbox
from leitwerk.monitoring.resume_file import read_state
from leitwerk.monitoring.senders import _ReceivedAnswer
from leitwerk.parsing.address import parse_where
from leitwerk.parsing.durations import parse_duration, parse_time_of_day
from leitwerk.parsing.local_time import parse_local
from leitwerk.parsing.quantities import parse_expected, parse_quantity, parse_span
from leitwerk.parsing.units import parse_powers, parse_unit
from leitwerk.parsing.yaml_edit import YamlText
from leitwerk.parsing.yaml_text import parse_yaml
from leitwerk.project.library import find_datasheet
from leitwerk.project.rows_file import read_rows, write_rows
from leitwerk.project.setup_tables import import_tables, write_setup_tables
from leitwerk.protocols import sdi12
from leitwerk.protocols.board_image import (
    build_program,
    from_c,
    from_hex,
    parse_program,
    to_c,
    to_hex,
)
from leitwerk.protocols.lines import LineReader, split_fields
from leitwerk.protocols.scpi import parse_error
from leitwerk.protocols.station import parse_desired, parse_senml, parse_state
from leitwerk.setup.column_names import parse_column_names
from leitwerk.setup.contacts import parse_contacts
from leitwerk.setup.limits import parse_limits
from leitwerk.setup.own_sensors import parse_own_sensor
from leitwerk.setup.scales import parse_scale
from leitwerk.setup.template import parse_template
from leitwerk.setup.template_text import fill_in, renew_text
from leitwerk.setup.test_plan import parse_test_plan
from leitwerk.signals.transformer import parse_transformer
from leitwerk.transfer.batch import load_batch, read_batch
from leitwerk.transfer.history import read_history
from leitwerk.transfer.journal import _digest, read_journal
from leitwerk.transfer.pending import _noted
from leitwerk.transfer.receipt import read_backup
from leitwerk.wireless import Air, IdForm, TelegramReader, oddities

SLOW_S = 2.0
ROOT = Path(__file__).parent.parent
# Values that are odd where another is meant; below them, what breaks the form of a file.
ODD = (
    b"1e308", b"-1e999", b"NaN", b"inf", b"1e-320", b"9" * 5000, b"0x7fffffff", b"-0", b"1_000",
    b"0001-01-01", b"9999-12-31T23:59:60", b"0 s", b"1e-320 min", b"null", b"true", b"~", b"..", b"% of span",
    b"\xc2\xb1", b"-40", b"0", b"1e308 V", b"5 %", b"all", b"1..1000000", b"0.1 mm", b"24:00", b"+49 170",
)  # fmt: skip
BREAKING = (
    b"[[[[", b"}}}}", b"[/]", b"{{}}",
    b"\x1b[2J", b"\x00", b"\xff\xfe", b"\xed\xa0\x80", b"\xe2\x80\xae", b"&a *a", b"!!python/x", b"../..",
    b" " * 90, b"\t", b"\r", b"\n", b"'", b'"', b"#", b": ", b", ", b"=1+1", b"{n 1..999999}",
)  # fmt: skip
Read = Callable[[bytes], object]


@dataclass(frozen=True)
class Reader:
    """Something that reads, and real examples of that. ``share``: of the inputs that are asked for."""

    seeds: Sequence[bytes]
    read: Read
    share: float = 1.0


def changed(seed: bytes, seeds: Sequence[bytes], chance: random.Random) -> bytes:
    """An example with one to four changes; half of them leave its form as it is."""
    data = bytearray(seed)
    keeps_form = chance.random() < 0.5
    for _ in range(chance.choice((1, 1, 1, 2, 4))):
        at = chance.randrange(len(data) + 1)
        if keeps_form:
            _replace_word(data, at, seeds, chance)
        else:
            to = min(len(data), at + chance.choice((1, 1, 2, 4, 16, 64)))
            data[at:to] = _instead(data[at:to], seeds, chance)
    return bytes(data)


def _instead(piece: bytearray, seeds: Sequence[bytes], chance: random.Random) -> bytes:
    """What stands in place of a piece of an example."""
    other = chance.choice(seeds)
    cut = chance.randrange(len(other) + 1)
    return chance.choice(
        (
            b"",
            bytes(chance.randrange(256) for _ in piece),
            bytes(piece) * chance.choice((2, 3, 40)),
            bytes(piece) + chance.choice(ODD + BREAKING),
            other[cut : cut + chance.choice((4, 40, 400))],
            b"\n" + chance.choice(other.split(b"\n")) + b"\n",
        )
    )


def _replace_word(data: bytearray, at: int, seeds: Sequence[bytes], chance: random.Random) -> None:
    """A whole word or number by something odd, or by a word of another example."""
    marks = b" \n,:;{}[]\"'()=&?"
    start = at
    while start > 0 and data[start - 1] not in marks:
        start -= 1
    end = at
    while end < len(data) and data[end] not in marks:
        end += 1
    words = chance.choice(seeds).split()
    data[start:end] = chance.choice(ODD if not words or chance.random() < 0.7 else words)


def text(read: Callable[[str], object]) -> Read:
    """A reader of texts; bytes that are no text are replaced."""
    return lambda data: read(data.decode("utf-8", "replace"))


def _files(kind: str) -> list[bytes]:
    return [
        f.read_bytes()
        for f in (resources.files("leitwerk") / kind).iterdir()
        if f.name.endswith(".yaml")
    ]


def _setup(data: bytes) -> None:
    setup = lw.parse_setup(data)
    lw.check_setup(setup, find_datasheet(setup.device.model))


def _kept_readers(folder: Path) -> dict[str, Reader]:
    """The files that Leitwerk wrote, from an upload to a stand-in that was interrupted."""
    device = folder / "kept"
    device.mkdir(exist_ok=True)
    change = {"setting": "name", "old": "A", "new": "B", "unit": ""}
    identity = {"maker": "m", "model": "fichte-8", "serial": "K2-00417", "firmware": "1"}
    journal = {
        "journal": 1, "what": {"kind": "upload", "file": "k.yaml", "title": "t", "sha256": "0"},
        "device": {**identity, "address": "modbus+tcp://127.0.0.1:1?unit=1"}, "by": "x",
        "started": "2026-03-02T06:00:00Z", "changes": [change], "stage": "write", "recording_stopped": False,
        "secrets": [], "before": {"name": "A", "sample.interval": 10.0},
    }  # fmt: skip
    journal["sha256"] = _digest(journal)
    backup = {
        "backup": 1,
        "taken": "2026-03-02T06:00:00Z",
        "device": identity,
        "settings": {"name": "A", "n": 1.5},
    }
    receipt = {
        "receipt": 1, "by": "x", "finished": "2026-03-02T06:00:00Z", "what": {"kind": "setup"},
        "changes": [change], "settings_verified": 3, "previous": "",
    }  # fmt: skip
    message = {
        "outbox": 1, "id": "1", "way": "mail", "to": "a@b.example", "contact": "c", "subject": "s",
        "text": "t", "created_s": 1.0, "tries": 1, "next_s": 2.0, "trouble": "",
    }  # fmt: skip
    state = {
        "attend": 1,
        "setup": "0",
        "alarms": {"state": [1]},
        "rules": {"hot": {"since": 1.0}},
        "at_s": 1.0,
    }

    def through(name: str, read: Callable[[], object], *, removes: bool = False) -> Read:
        path = device / name
        path.parent.mkdir(exist_ok=True, parents=True)

        def run(data: bytes) -> object:
            path.write_bytes(data)
            try:
                return read()
            finally:
                path.unlink(missing_ok=removes)

        return run

    def seed(content: object) -> list[bytes]:
        return [json.dumps(content, indent=1).encode()]

    outbox = device / "outbox"
    return {
        "journal": Reader(seed(journal), through("journal.json", lambda: read_journal(device))),
        "backup": Reader(
            seed(backup), through("b-backup.json", lambda: read_backup(device / "b-backup.json"))
        ),
        "receipt": Reader(seed(receipt), through("a-receipt.json", lambda: read_history(device))),
        "outbox": Reader(seed(message), through("outbox/1.json", lambda: Outbox(outbox))),
        "operator requests": Reader(
            seed({"alarm": "a.b", "action": "shelve", "lasts_s": 60.0}),
            through("requests/1.json", lambda: list(take_requests(device)), removes=True),
        ),
        "batch record": Reader(
            seed({"batch": 1, "done": {"k2-417": "0"}}),
            through("batch.json", lambda: load_batch(device / "batch.json")),
        ),
        "restart note": Reader(
            seed({"restarted": "2026-03-02T06:00:00+00:00", "by": "x"}),
            through("restarted.json", lambda: _noted(device)),
        ),
        "attend state": Reader(
            seed(state), through("attend-state.json", lambda: read_state(device, "0"))
        ),
    }


def _papers(folder: Path) -> dict[str, Reader]:
    """Templates, sensors, names of columns, certificates, and tables that go into setups."""
    setup, sheet, book = folder / "plan.yaml", folder / "plan.csv", folder / "plan.xlsx"
    kiln = (resources.files("leitwerk") / "examples" / "kiln-guard.yaml").read_bytes()
    setup.write_bytes(kiln)
    write_setup_tables(setup, sheet, ["channels"])
    write_setup_tables(setup, book)

    def template(data: bytes) -> object:
        made = parse_template(data)
        device = {
            "model": made.entry.fits[0],
            "at": "modbus+tcp://127.0.0.1:1?unit=1",
            "serial": "X",
        }
        text = fill_in(made, {}, device).text
        return renew_text(text, text, text)

    def table(path: Path) -> Read:
        def read(data: bytes) -> object:
            path.write_bytes(data)
            return import_tables(path, setup)

        return read

    def edited(data: bytes) -> object:
        text = data.decode("utf-8", "replace")
        lw.parse_setup(text)
        edit = YamlText(text)
        for path, held in list(edit.texts())[:40]:
            edit.set(path, held)
        return edit.edited()

    certificate = (Path(__file__).parent.parent / "tests/certificates/laboratory.xml").read_bytes()
    return {
        "templates": Reader(_files("templates"), template, 0.05),
        "sensors": Reader(_files("sensors"), parse_own_sensor, 0.5),
        "names of columns": Reader(
            [b"columns: 1\nnames: {Tag: name, Klemme: '-'}\n"], parse_column_names
        ),
        "certificates": Reader(
            [certificate], lambda data: write_certificate_xml(read_certificate_xml(data)), 0.2
        ),
        "tables as CSV": Reader([sheet.read_bytes()], table(sheet), 0.02),
        "workbooks": Reader([book.read_bytes()], table(book), 0.02),
        "edited setups": Reader(_files("examples"), edited, 0.02),
    }


def _batch(folder: Path) -> Reader:
    setup, table = folder / "panel.yaml", folder / "table.csv"
    setup.write_bytes((resources.files("leitwerk") / "examples" / "panel.yaml").read_bytes())
    lines = b"serial,at,title,settings.name\nTB-0212,modbus+tcp://127.0.0.1:1,One,A\nTB-0213,,Two,12E400\n"

    def read(data: bytes) -> object:
        table.write_bytes(data)
        return read_batch(setup, table)

    return Reader([lines, lines.replace(b",", b";")], read, 0.002)


def _commands(folder: Path) -> Reader:
    """Setups through the commands that read them, and recordings through those."""
    runner = CliRunner()
    path, recording = folder / "one.yaml", folder / "one.csv"
    kiln = (resources.files("leitwerk") / "examples" / "kiln.yaml").read_bytes()
    words = (
        ["check", "--account"], ["check", "--json"], ["explain"], ["explain", "--account"], ["budget"],
        ["models"], ["timetable"], ["dry-run", "--course", "air_top: 21; to 85 in 5 min"],
        ["dry-run", "--recorded", str(recording)], ["limits", "used"], ["history"], ["station"],
        ["acknowledge", "air_top.too_hot"],
    )  # fmt: skip
    turn = iter(range(sys.maxsize))

    def read(data: bytes) -> None:
        first, *more = words[next(turn) % len(words)]
        is_recording = "--recorded" in more
        path.write_bytes(kiln if is_recording else data)
        recording.write_bytes(data if is_recording else b"")
        arguments = (
            [first, *more[:1], str(path)] if first == "limits" else [first, str(path), *more]
        )
        result = runner.invoke(command, arguments)
        if result.exception is not None and not isinstance(
            result.exception, SystemExit | click.ClickException
        ):
            raise result.exception

    csv = (
        b"time,air_top (\xc2\xb0C),air_top.quality\n"
        b"2026-03-02T06:00:00Z,21.5,good\n2026-03-02T06:00:10Z,,open sensor\n"
    )
    return Reader([*_files("examples"), csv], read, 0.01)


def _points(datasheets: Sequence[lw.Datasheet]) -> dict[str, Reader]:
    """What comes over a wire into every point of every datasheet: bytes of registers, and lines."""
    every = [p for sheet in datasheets for group in sheet.groups for p in sheet.points(group)]
    registers = [p for p in every if isinstance(p, RegisterPoint)]
    lines = [p for p in every if isinstance(p, TextPoint)]

    def words(data: bytes) -> None:
        for point in random.Random(data).sample(registers, 8):
            raw = (data * (2 * point.words + 1))[: 2 * point.words] or b"\0" * 2 * point.words
            found = point.decode(
                tuple(int.from_bytes(raw[k : k + 2], "big") for k in range(0, len(raw), 2))
            )
            with contextlib.suppress(lw.QuantityError):
                point.encode(found)

    def line(said: str) -> None:
        for point in random.Random(said).sample(lines, 8):
            for field in split_fields(said):
                point.decode(field)
                point.number(field)

    answers = [
        b"+18.25+19.00",
        b'"A, b",12.5,-3E-7',
        b"2026,11,26",
        b"21.3",
        b"A",
        b'-222,"Data out of range"',
    ]
    numbers = [
        b"\x00\x07\x00\x08",
        b"\x7f\x80\x00\x00",
        b"FICHTE-8\0\0",
        b"\x26\x03\x02\x06\x00\x00",
        b"\xff\xff\x80\x00",
    ]
    return {"registers": Reader(numbers, words), "answers in lines": Reader(answers, text(line))}


def _wires() -> dict[str, Reader]:
    now = datetime(2026, 3, 2, 6, tzinfo=UTC).timestamp()
    state = (
        b'{"format": "leitwerk state 1", "model": "laerche", "maker": "T", "serial": "BS-0031"'
        b', "firmware": "1.0", "at": "2026-03-02T06:00:00Z", "next": "2026-03-02T06:30:00Z", "interval_s"'
        b': 1800, "settings": {"name": "A", "report.interval": 1800}, "status": {"battery.voltage": 3.6}}'
    )
    senml = b'[{"bn": "urn:dev:leitwerk:laerche:B/", "bt": 1772431200, "n": "level", "u": "m", "v": 1.42}]'
    desired = (
        b'{"format": "leitwerk desired 1", "id": "0123abcd", "by": "x", "at": "2026-03-02T06:00:00Z", '
        b'"settings": {"name": "A", "x": 1.5}, "expires": null}'
    )
    received = b'[{"number": 1, "from": "+49 170 0000001", "text": "ok, I come"}]'
    answers = [b"0+3.14OqZ", b"00013", b"0A14TANNRIEDAHORN 1.030071", b"0+3.14-7+0.001", b"0ok"]

    air = find_datasheet("hasel").telegrams
    assert air is not None
    frames = [
        air.form.encode({"number": 40744252 + k, "count": k, "way": k % 4}, kind, 1)
        for k, kind in enumerate(air.form.values)
    ]

    def telegrams(data: bytes) -> None:
        reader, heard = TelegramReader(air.form), Air(air.form.counts)
        size = 1 + len(data) % 29
        for at in range(0, len(data), size):
            for one in reader.feed(data[at : at + size]):
                heard.take(0.1 * at, one)
                air.form.shown(one)
        for _ in oddities(heard, dict.fromkeys(heard.heard, "x"), 1e3):
            pass

    def labels(said: str) -> None:
        for form in (IdForm(), IdForm(16), IdForm(10, "luhn")):
            with contextlib.suppress(lw.LeitwerkError):
                number = form.read(said)
                assert form.read(form.write(number)) == number

    def sensor(said: str) -> None:
        for read in (
            lambda: sdi12.parse_answer(said, "0"), lambda: sdi12.parse_answer(said, "0", has_crc=True),
            lambda: sdi12.parse_wait(said[1:]), lambda: sdi12.split_values(said[1:]),
            lambda: sdi12.parse_measure(said), lambda: sdi12.strip_echo(said, "0M!"),
        ):  # fmt: skip
            with contextlib.suppress(lw.LeitwerkError):
                read()

    return {
        "state of a station": Reader([state], parse_state),
        "request to a station": Reader([desired, b""], parse_desired),
        "readings of a station": Reader([senml], lambda data: parse_senml(data, now)),
        "received messages": Reader([received], _received),
        "SDI-12": Reader(answers, text(sensor)),
        "error queue": Reader([b'-222,"Data out of range; 7"', b'0,"No error"'], text(parse_error)),
        "telegrams": Reader([b"".join(frames), frames[0][:9] + frames[1]], telegrams, 0.5),
        "labels of transmitters": Reader([b"00 4074-4252", b"0a:3F", b"62046115"], text(labels)),
        "lines": Reader([b"12.5,A\r\n+3\n"], lambda data: LineReader().feed(data)),
    }


def _received(data: bytes) -> None:
    with contextlib.suppress(ValidationError):
        _ReceivedAnswer.model_validate_json(data)


def _exchanges(folder: Path) -> dict[str, Reader]:
    """What comes over the wire of an exchange, in each manner; and a conversation that was kept."""
    text_ = (resources.files("leitwerk") / "examples" / "cabin.yaml").read_text("utf-8")
    setup = lw.parse_setup(text_)
    found = lw.check_setup(setup, find_datasheet("birke")).exchanges[0].exchange
    lines = [b'ASK\r\nTEXT;"a;""b"\r\nSET;77.5\r\n', b"SET; 21 \r\n", b"hel\x7flp\r\nclear\r\n"]
    far = End(replace(found, manner=Manner.GUARDED).mirrored(), session=1)
    far.say("set_point", (77.5,), 0.0)
    guarded = far.output()

    def through(manner: Manner) -> Read:
        def read(data: bytes) -> None:
            end = End(replace(found, manner=manner), session=2)
            for k in range(0, len(data), 7):
                for heard in end.receive(data[k : k + 7], k / 10.0):
                    if heard.trouble is not None:
                        end.refuse(heard, k / 10.0)
                    else:
                        end.confirm(heard, k / 10.0)
            end.look(1e6)
            end.output()

        return read

    kept = (
        b'{"talk": 1, "at": "text+serial:///dev/ttyUSB1?line=9600,8N1", "started": "2026-03-02T06:00:00Z"}\n'
        b'{"s": 0.1, "way": "said", "hex": "41534b0d0a"}\n{"s": 0.2, "way": "heard", "hex": "4f4b"}\n'
    )
    path = folder / "talk.jsonl"

    def conversation(data: bytes) -> None:
        path.write_bytes(data)
        read_talk(path)

    return {
        "exchange for machines": Reader(lines, through(Manner.MACHINES)),
        "exchange for people": Reader(lines, through(Manner.PEOPLE)),
        "exchange, guarded": Reader([guarded, *lines], through(Manner.GUARDED)),
        "conversations": Reader([kept], conversation, 0.3),
    }


def _texts() -> dict[str, Reader]:
    quantities = [
        b"4..20 mA",
        b"\xc2\xb11 V",
        b"21.5 \xc2\xb1 0.5 \xc2\xb0C",
        b"0x1F",
        b"230 V",
        b"10 min",
        b"1:10 s",
        b"3/4 %",
    ]
    units = [b"kg/m\xc2\xb3", b"m/s\xc2\xb2", b"A\xc2\xb7h", b"1/min", b"\xc2\xb5m/m"]
    times = [
        b"2026-03-02 06:00",
        b"20:00",
        b"daily at 06:00",
        b"every 5 min",
        b"2026-03-02T06:00:00+02:00",
    ]
    conditions = [
        b"air_top above 75 \xc2\xb0C", b"door is shut", b"air_top.too_hot is active", b"time 20:00..06:00"
    ]  # fmt: skip
    addresses = [
        b"modbus+rtu:///dev/ttyUSB0?unit=7&line=9600,8N1",
        b"mqtt+tls://user@[::1]:8883",
        b"kiln",
    ]
    scales = [
        b"x: {0 V: 0 %, 1 V: 100 %}", b"x: {sensitivity: 2 mV/V, full scale: 500 kg}",
        b"x: {logarithm of: 0..10 V, gives: 0.001..1000 mbar}",
        b"x: {root of: 4..20 mA, full flow: 120 m^3/h, cut off: 2 %}", b"x: 200/5 A",
    ]  # fmt: skip
    courses = [(
        b"21.5; to 85 in 2 min; jump 20; stay 5 min; missing 10 s; "
        b"swing \xc2\xb13 every 40 s for 10 min; noise 0.2"
    )]  # fmt: skip

    def every(*reads: Callable[[str], object]) -> Read:
        def read(said: str) -> None:
            for one in reads:
                with contextlib.suppress(lw.LeitwerkError):
                    one(said)

        return text(read)

    def scale(data: bytes) -> None:
        root = parse_yaml(data, Findings("scale"))
        if root is not None:
            parse_scale(root.get("x"))

    return {
        "quantities": Reader(
            quantities,
            every(
                parse_quantity,
                parse_span,
                parse_expected,
                parse_counted,
                parse_protection,
                parse_needs,
            ),
        ),
        "units": Reader(units, every(parse_unit, parse_powers)),
        "times": Reader(times, every(parse_local, parse_duration, parse_time_of_day)),
        "conditions": Reader(conditions, text(parse_condition)),
        "addresses": Reader(addresses, text(parse_where)),
        "scales": Reader(scales, scale, 0.2),
        "transformers": Reader([b"20000/100 V", b"200/5 A", b"230/110 V"], text(parse_transformer)),
        "courses": Reader(courses, text(parse_course)),
        **_formulas(),
    }


def _formulas() -> dict[str, Reader]:
    """Formulas of channels, which are read and worked; ratios and mountings."""
    formulas = [
        b"air_top - air_bottom", b"0.5 * 998 * v**2 if x > 3 and not x == 4 else 0",
        b"moving_mean(flow, '10 min') + total(x, '1 d') / '3 h'", b"parshall(head(d, zero='1.2 m'), '3 in')",
        b"dew_point(t, 0.5, 'buck')", b"step(x, y, gears, within='3 %', settles='1 s')", b"curve(d, rating)",
        b"along(x, y, x, 'x up, z left', 'up')", b"clip(round(x, 0.1), -1e3, sqrt(abs(y)))",
    ]  # fmt: skip
    terms = Terms(
        tables={
            "gears": Table("gears", (("1", "43/15"), ("R", "-2"))),
            "rating": Table("rating", (("0 m", "0 l/s"), ("1 m", "2 l/s"))),
        }
    )
    units = {
        "air_top": "\u00b0C",
        "air_bottom": "\u00b0C",
        "t": "\u00b0C",
        "v": "m/s",
        "d": "m",
        "x": "",
        "y": "",
    }
    inputs = {name: [0.0, 1.5, float("nan"), -3.0] for name in units}

    def formula(said: str) -> None:
        for unit in ("", "K", "l/s"):
            with contextlib.suppress(lw.LeitwerkError):
                Formula(said, units, unit, terms=terms)(times_s=[0.0, 1.0, 2.0, 3.0], **inputs)

    return {
        "formulas": Reader(formulas, text(formula), 0.1),
        "ratios": Reader([b"43/15", b"-12:40", b"2.867"], text(parse_ratio)),
        "mountings": Reader([b"x forward, z up", b"y back, x down"], text(parse_mounting)),
    }


def _rows(folder: Path) -> Reader:
    """Rows of a table that a device stores, as CSV and as a spreadsheet."""
    path = folder / "rows.csv"
    book = folder / "rows.xlsx"
    write_rows(book, ["name", "frequency"], [["HILL", "10738 MHz"]])

    def read(data: bytes) -> None:
        target = book if data.startswith(b"PK") else path
        target.write_bytes(data)
        read_rows(target)

    return Reader([b"name,frequency\nHILL,10738 MHz\n", book.read_bytes()], read, 0.1)


_LEDGER = (
    '{"unit":1,"number":1,"device":{"maker":"T","model":"buche-6","serial":"TB-1","firmware":"1.0"},'
    '"started":"2026-03-02T06:00:00+00:00","took_s":0.4,"by":"x","plan_hash":"a","setup_hash":"b",'
    '"verdict":"failed","again":false,"results":[{"test":"pads","channel":"pad_1","verdict":"fail",'
    '"fault":"open","detail":"x","value":2.1,"unit":"pF","low":9.5,"high":12.5,"tries":2}]}\n'
)


def _plan(data: bytes) -> None:
    """A plan, held against the setup of the boards."""
    setup = (resources.files("leitwerk") / "examples" / "panel-board.yaml").read_bytes()
    checked = lw.check_setup(lw.parse_setup(setup), find_datasheet("buche-6"))
    check_test_plan(parse_test_plan(data), checked)


def readers(folder: Path) -> dict[str, Reader]:
    """Every reader, by name. Slow ones have a smaller share of the inputs."""
    sheets = [
        find_datasheet(name)
        for name in ("fichte-8", "weide", "birke", "eibe", "ahorn", "linde", "buche-6")
    ]
    panel = find_datasheet("buche-6")

    def ledger(data: bytes) -> None:
        path = folder / "lot.jsonl"
        path.write_bytes(data * 3)
        with Ledger(path) as book:
            if book.latest():
                evaluate_lot(book.latest())

    csv = b"time,level (m),level.quality\n2026-03-02T06:00:00Z,1.42,good\n2026-03-02T06:05:00Z,,open sensor\n"
    contacts = (
        b"contact list: 1\ncontacts:\n"
        b"  foreman: {text_message: +49 170 0000001, mail: a@tannried.example}\n"
    )

    setup = lw.parse_setup((resources.files("leitwerk") / "examples" / "panel.yaml").read_bytes())
    values = {**lw.check_setup(setup, panel).settings.values, "bus.unit": 11.0}
    image = build_program(DeviceSettings(panel.model, values), panel)

    def program(read: Callable[[str], bytes]) -> Read:
        return text(lambda said: parse_program(read(said), panel))

    return {
        "setups": Reader(_files("examples"), _setup, 0.02),
        "datasheets": Reader(_files("datasheets"), lw.parse_datasheet, 0.005),
        "plans of tests": Reader(_files("testplans"), _plan, 0.05),
        "ledgers": Reader([_LEDGER.encode()], ledger, 0.3),
        "limit sets": Reader(_files("limitsets"), parse_limits, 0.1),
        "contact lists": Reader([contacts], parse_contacts),
        "recordings": Reader([csv], text(read_series)),
        "board images": Reader([to_hex(image, panel).encode()], program(from_hex)),
        "C headers": Reader([to_c(image, panel, "Saw").encode()], program(from_c)),
        "batch tables": _batch(folder),
        "rows": _rows(folder),
        **_papers(folder),
        **_kept_readers(folder),
        **_texts(),
        **_wires(),
        **_exchanges(folder),
        **_points(sheets),
        "commands": _commands(folder),
    }


def fuzz(
    name: str, reader: Reader, inputs: int, until_s: float, seed: int, out: Path
) -> tuple[int, list[str]]:
    """How many inputs were read, and what went wrong, each kind of trouble once."""
    chance = random.Random(f"{name} {seed}")
    troubles: dict[str, str] = {}
    done = 0
    with contextlib.suppress(lw.LeitwerkError):
        reader.read(
            reader.seeds[0]
        )  # to load what it needs takes time that no input is to blame for
    while done < inputs and time.monotonic() < until_s:
        data = changed(chance.choice(reader.seeds), reader.seeds, chance)
        began, trouble = time.monotonic(), ""
        try:
            reader.read(data)
        except lw.LeitwerkError:
            pass
        except Exception as error:  # noqa: BLE001 - each is reported
            last = traceback.extract_tb(error.__traceback__)[-1]
            trouble = f"{type(error).__name__} in {Path(last.filename).name}:{last.lineno}"
        if time.monotonic() - began > SLOW_S:
            trouble = trouble or "slow"
        done += 1
        if trouble and trouble not in troubles:
            out.mkdir(parents=True, exist_ok=True)
            path = out / f"{name.replace(' ', '-')}-{len(troubles) + 1}"
            path.write_bytes(data)
            troubles[trouble] = f"{name}: {trouble}; the input is in {path}"
    return done, list(troubles.values())


def main() -> int:
    """Run the readers that are named, or all of them; 1 when something went wrong."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("names", nargs="*", help="readers; all, if none is named")
    parser.add_argument(
        "--inputs", type=int, default=20_000, help="for each reader, times its share"
    )
    parser.add_argument("--seconds", type=float, default=600.0, help="for all of them")
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--whole", action="store_true", help="all inputs also for slow readers")
    options = parser.parse_args()
    wrong = 0
    with tempfile.TemporaryDirectory() as folder:
        every = readers(Path(folder))
        until_s = time.monotonic() + options.seconds
        for name, reader in every.items():
            if options.names and name not in options.names:
                continue
            inputs = (
                options.inputs if options.whole else max(20, round(options.inputs * reader.share))
            )
            began = time.monotonic()
            done, troubles = fuzz(
                name, reader, inputs, until_s, options.seed, ROOT / "build" / "fuzz"
            )
            print(
                f"{name:24} {done:>9,} inputs in {time.monotonic() - began:6.1f} s, {len(troubles)} troubles",
                flush=True,
            )
            for trouble in troubles:
                print(f"  {trouble}", flush=True)
            wrong += len(troubles)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
