"""Benchmarks: ratios within one run, so that they hold on any machine. Run with ``make bench``.

Each pair of measurements is taken in turn, several times; the median of the ratios is printed with
the goal. Nothing here fails: a benchmark informs, the tests decide.
"""

from __future__ import annotations

import gc
import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from functools import partial
from importlib import resources
from pathlib import Path
from statistics import median
from types import SimpleNamespace
from zoneinfo import ZoneInfo

import numpy as np
import pandas as pd
import pyarrow as pa
import yaml
from numpy.typing import NDArray
from pyarrow import csv as arrow_csv
from pyarrow import parquet
from pymodbus.client import ModbusTcpClient

from leitwerk.alarms.board import AlarmTracker, ChannelAlarm
from leitwerk.alarms.definition import AlarmDefinition
from leitwerk.alarms.states import State
from leitwerk.alarms.timeline import alarm_timeline
from leitwerk.analysis.reduction import reduced
from leitwerk.analysis.series import Column, Series
from leitwerk.check.channels import measured
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.compile import check_setup
from leitwerk.cli.live_view import LiveView
from leitwerk.datasheet.model import Datasheet, DeviceLimits, ScanTiming, Terminal
from leitwerk.datasheet.register_points import RegisterPoint, registers
from leitwerk.derived.formula import Formula
from leitwerk.derived.graph import Graph
from leitwerk.derived.reading import read_formula
from leitwerk.derived.runner import Runner
from leitwerk.derived.types import PLAIN
from leitwerk.derived.values import Table, Terms
from leitwerk.devices.device import connect, open_device
from leitwerk.errors import LeitwerkError
from leitwerk.evaluation.summary import summarise
from leitwerk.exchange.definition import Direction, Form, LineForm, Part
from leitwerk.exchange.hearing import Listener
from leitwerk.exchange.saying import packed, speaker
from leitwerk.exchange.terms import Kind
from leitwerk.findings import Findings
from leitwerk.monitoring.live_board import LiveBoard
from leitwerk.monitoring.poller import Poller
from leitwerk.monitoring.watching import Watching
from leitwerk.parsing.address import parse_address
from leitwerk.parsing.yaml_text import parse_yaml
from leitwerk.project.files import content_hash, write_atomic
from leitwerk.project.kept_json import KeptIdentity
from leitwerk.project.library import find_datasheet
from leitwerk.project.setups import check_file, parse_setup
from leitwerk.protocols.board_image import from_c
from leitwerk.protocols.modbus import ReadPlan
from leitwerk.recordings.about import About
from leitwerk.recordings.condense import condense_pieces
from leitwerk.recordings.foreign import ForeignForm, read_foreign
from leitwerk.recordings.store import Store
from leitwerk.reports.canvas import new_figure, save
from leitwerk.reports.pdf_page import page_pdf
from leitwerk.reports.recording_report import ReportOptions, make_report
from leitwerk.signals import rtd, thermocouple
from leitwerk.signals.linear import Linear
from leitwerk.signals.thermocouple_curves import CURVES
from leitwerk.standins.process import start_standin
from leitwerk.standins.profile import find_profile
from leitwerk.transfer.batch import BatchItem, upload_batch
from leitwerk.transfer.history import read_history
from leitwerk.transfer.task import UploadOptions
from leitwerk.transfer.upload import upload

KILN = (resources.files("leitwerk") / "examples" / "kiln.yaml").read_text("utf-8")
CHANNELS = 10_000
UTC_ZONE = ZoneInfo("UTC")
REPEATS = 7
POLLS = 400
POLLS_EACH = 20


def seconds(act: Callable[[], object]) -> float:
    gc.collect()
    start = time.perf_counter()
    act()
    return time.perf_counter() - start


def compare(ours: Callable[[], object], other: Callable[[], object]) -> tuple[float, float, float]:
    """Medians of both in s, and the median of the ratios taken pair by pair."""
    ours(), other()
    pairs = [(seconds(ours), seconds(other)) for _ in range(REPEATS)]
    first, second = (median(side) for side in zip(*pairs, strict=True))
    return first, second, median(a / b for a, b in pairs)


def show(what: str, result: tuple[float, float, float], unit: str, scale: float, goal: str) -> None:
    first, second, ratio = result
    print(f"{what}")
    print(f"    {first * scale:9.1f} {unit} against {second * scale:.1f} {unit}: "
          f"{ratio:.2f} times (goal: {goal})")  # fmt: skip


def checked_setup(text: str) -> CheckedSetup:
    setup = parse_setup(text)
    return check_setup(setup, find_datasheet(setup.device.model)).require()


def large_datasheet(count: int = CHANNELS) -> Datasheet:
    """The logger's datasheet with so many terminals; no device has registers for 10,000."""
    sheet = find_datasheet("fichte-8")
    takes = sheet.terminals["1"].takes
    groups = {
        group: {
            name: replace(family, own_indices=range(1, count + 3)) if family.indices else family
            for name, family in sheet.groups[group].items()
        }
        for group in ("settings", "readings")
    }
    return replace(
        sheet,
        terminals={str(n): Terminal(str(n), n, takes) for n in range(1, count + 1)},
        limits=DeviceLimits(sheet.limits.interval_s, count, count),
        timing=ScanTiming(),
        groups={**sheet.groups, **groups},
    )


def large_setup(count: int = CHANNELS) -> str:
    """So many channels of the kinds of the kiln, all with an expectation, half with an alarm."""
    probe = """sensor: Pt100, 4-wire
    range: 0..400 Ω
    unit: °C
    expect: 21.5 ± 0.5 °C
    alarms:
      too_hot: {above: 78, clear: 75, after: 30 s, severity: high}
"""
    loop = """signal: 4..20 mA
    scale: {4 mA: 0 %, 20 mA: 100 %}
    unit: "%"
    expect: 40 ± 1 %
"""
    kinds = (probe, loop)
    head = (
        "leitwerk: 1\ntitle: Many\ndevice:\n  model: fichte-8\n  at: modbus+tcp://127.0.0.1\n"
        "  serial: K2-00417\nsample: every 10 s\nchannels:\n"
    )
    return head + "".join(
        f"  channel_{n}:\n    label: Channel {n}\n    terminal: {n}\n    {kinds[n % 2]}"
        for n in range(1, count + 1)
    )


def check_large_setup() -> None:
    sheet, text = large_datasheet(), large_setup()
    path = Path("build/bench/large.yaml")
    write_atomic(path, text)

    def check() -> None:
        result = check_file(path, datasheet=sheet)
        assert result.ok, result.findings[:3]

    title = f"check of a setup of {CHANNELS:,} channels ({len(text) / 1e6:.1f} MB)"
    standard = compare(check, lambda: yaml.load(text, Loader=yaml.CSafeLoader))
    show(f"{title}, against the bare parse by PyYAML's C loader", standard, "ms", 1e3, "at most 2")
    own = compare(check, lambda: parse_yaml(text, Findings("large")))
    show(f"{title}, against our own bare parse of it", own, "ms", 1e3, "at most 2.5")


def poll_all_channels() -> None:
    model = "fichte-8"
    with start_standin(model) as standin:
        checked = checked_setup(KILN.replace("127.0.0.1:5020", f"127.0.0.1:{standin.address.port}"))
        sheet, channels = checked.datasheet, checked.channels
        with connect(checked) as device:
            upload(checked, device, UploadOptions("build/bench", find_profile(model).passwords))
            poller = Poller(device, measured(channels))
            (request,) = ReadPlan(registers(sheet.points("readings")), sheet.max_gap).requests
            client = ModbusTcpClient("127.0.0.1", port=standin.address.port)
            client.connect()

            def bare() -> None:
                for _ in range(POLLS):
                    client.read_input_registers(request.start, count=request.count, device_id=3)

            def ours() -> None:
                for _ in range(POLLS):
                    poller.poll()

            result = compare(ours, bare)
            client.close()
    show(
        f"one poll of {len(channels)} channels, against one raw read of the {request.count} "
        "registers by the same client library",
        result,
        "µs",
        1e6 / POLLS,
        "at most 1.3",
    )


def start_up() -> None:
    # As installed: with compiled modules, which this variable would forbid to write.
    env = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}

    def run(*code: str) -> Callable[[], object]:
        words = [sys.executable, *code]
        return lambda: subprocess.run(words, check=True, capture_output=True, env=env)

    library = run("-c", "import click")
    for option in ("--help", "--version"):
        result = compare(run("-m", "leitwerk", option), library)
        show(f"leitwerk {option}, against importing click", result, "ms", 1e3, "under 2")
    with tempfile.TemporaryDirectory() as folder:
        setup = Path(folder) / "kiln.yaml"
        setup.write_text(KILN, encoding="utf-8")
        result = compare(run("-m", "leitwerk", "check", str(setup)), run("-c", "import numpy"))
    show("leitwerk check, against importing NumPy", result, "ms", 1e3, "at most 2.5")


def many_registers() -> None:
    """64 channels of 32 bits in a stand-in's registers: planned, against a register at a time."""
    with start_standin("fichte-8") as standin:
        sheet = find_datasheet("fichte-8")
        points = [
            RegisterPoint(f"value.{n}", table="holding", start=2 * n, words=2, kind="f32")
            for n in range(64)
        ]
        client = ModbusTcpClient("127.0.0.1", port=standin.address.port)
        client.connect()

        def one_by_one() -> None:
            for point in points:
                for k in range(point.words):
                    client.read_holding_registers(point.start + k, count=1, device_id=3)

        with open_device(sheet, standin.address) as device:
            read = device.reader(points)
            # One poll alone is over before the processor has come up to speed.
            first, second, ratio = compare(lambda: [read() for _ in range(POLLS_EACH)], one_by_one)
        client.close()
    each = first / POLLS_EACH
    print(f"64 channels planned, against one register at a time\n    {each * 1e3:.1f} ms against "
          f"{second * 1e3:.1f} ms: {POLLS_EACH / ratio:.0f} times as fast (goal: at least 20)")  # fmt: skip


WATCHED = 1000
ANSWERING = """
import socket, struct
server = socket.create_server(("127.0.0.1", 0))
print(server.getsockname()[1], flush=True)
one, _ = server.accept()
one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
words = [(0x41AC, 0, 0)[(a - 101) % 3] for a in range(4000)]
while head := one.recv(12):
    number, unit, function, start, count = struct.unpack(">HxxxxBBHH", head)
    data = struct.pack(f">{count}H", *words[start : start + count])
    one.sendall(struct.pack(">HHHBBB", number, 0, 3 + len(data), unit, function, len(data)) + data)
"""


def watching() -> None:
    """1,000 channels once a second: the bare reads, and what the interactive view does beside them."""
    sheet = large_datasheet(WATCHED)
    setup = check_setup(parse_setup(large_setup(WATCHED)), sheet).require()
    with subprocess.Popen([sys.executable, "-c", ANSWERING], stdout=subprocess.PIPE) as server:
        assert server.stdout is not None
        address = parse_address(f"modbus+tcp://127.0.0.1:{int(server.stdout.readline())}?unit=1")
        with open_device(sheet, address) as device:
            board = LiveBoard(setup)
            poller = Poller(device, board.worked.measured)
            watch = SimpleNamespace(board=board)
            view = LiveView(Watching([watch], 1.0), ["many"])  # type: ignore[list-item]
            spent = []
            for second in range(60):
                begin = time.process_time()
                shown, codes, junction = poller.poll()
                read = time.process_time()
                board.take(float(second), shown, codes, junction)
                taken = time.process_time()
                view.lines(120, 40)
                drawn = time.process_time()
                spent.append((read - begin, taken - begin, drawn - begin))
        server.kill()
    bare, watched, viewed = (median(side) for side in zip(*spent[10:], strict=True))
    print(f"watching {WATCHED:,} channels once a second, against bare reads\n    {watched * 1e3:.1f} ms of "
          f"processor time a second against {bare * 1e3:.1f} ms: {watched / bare:.2f} times (goal: at most "
          f"1.5); with its view {viewed * 1e3:.1f} ms: {viewed / bare:.2f} times, {viewed:.1%} of a core "
          "(goal: under 10 %)")  # fmt: skip


def figures() -> None:
    """A figure of 10 million points, reduced to what can be seen, against all of them."""
    rng = np.random.default_rng(15)
    times = np.arange(float(SAMPLES))
    values = np.cumsum(rng.standard_normal(SAMPLES))

    def drawn(t: NDArray[np.float64], x: NDArray[np.float64]) -> None:
        figure = new_figure()
        figure.subplots().plot(t, x)
        with tempfile.TemporaryDirectory() as folder:
            save(figure, f"{folder}/one.png")

    few = seconds(lambda: drawn(*reduced(times, values, 1280)))
    few = min(few, seconds(lambda: drawn(*reduced(times, values, 1280))))
    every = seconds(lambda: drawn(times, values))
    print(f"a figure of {SAMPLES:,} points, reduced\n    {few:.2f} s, all of them {every:.2f} s: "
          f"{every / few:.0f} times as fast (goal: at least 10)")  # fmt: skip


def recordings() -> None:
    """A year of 1-minute rows of 200 channels: read, summarised; a foreign CSV; a report as PDF."""
    rng, count = np.random.default_rng(16), 200
    minutes = np.arange(365 * 24 * 60)
    columns = tuple(Column(f"c{k}", "°C") for k in range(count))
    identity = KeptIdentity(maker="m", model="fichte-8", serial="K2-00417", firmware="1.4")
    about = About(device=identity, source="recording", run="year")
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder) / "store")
        for month in np.array_split(minutes, 12):
            steps = rng.standard_normal((month.size, count)).cumsum(axis=0)
            values = np.round(20.0 + steps / 100.0, 2).astype(np.float64)
            codes = np.zeros(values.shape, np.uint8)
            times: NDArray[np.float64] = 1.7672256e9 + 60.0 * month.astype(np.float64)
            store.append(Series(columns, times, values, codes), about)
        paths = [part.path for part in store.parts("K2-00417")]

        def bare() -> None:
            tables = [parquet.read_table(path, partitioning=None) for path in paths]
            table = pa.concat_tables(tables)
            for column in columns:
                table[column.name].to_numpy()
                table[f"{column.name}.quality"].combine_chunks()

        pairs = [(seconds(lambda: store.read("K2-00417")), seconds(bare)) for _ in range(4)]
        # The shortest of each: what takes longer waited for memory.
        read, arrow = (min(side) for side in zip(*pairs, strict=True))
        ratio = read / arrow
        print(
            "a year of 1-minute rows of 200 channels, read from the store\n"
            f"    {read:.2f} s, by pyarrow alone {arrow:.2f} s: {ratio:.2f} times (goal: at most 1.3)"
        )
        series = store.read("K2-00417", [f"c{k}" for k in range(20)])
        frame = series.to_dataframe()
        # describe() has no mean kinetic temperature: voltages have none, temperatures do.
        for unit in ("V", "°C"):
            held = replace(series, columns=tuple(Column(c.name, unit) for c in series.columns))

            def ours_of(held: Series = held) -> None:
                summarise(held)

            ours, theirs, ratio = compare(
                ours_of, lambda: frame.describe(percentiles=[0.05, 0.25, 0.5, 0.75, 0.95])
            )
            print(f"summary of 20 channels of it in {unit}, against describe() of pandas\n    {ours:.2f} s "
                  f"against {theirs:.2f} s: {1.0 / ratio:.1f} times as fast (goal: at least 3)")  # fmt: skip
        path = Path(folder) / "foreign.csv"
        few = slice(0, 200_000)
        lines = ["time," + ",".join(c.name for c in columns[:10])]
        moments = (series.times_s[few] * 1e3).astype("datetime64[ms]")
        lines += [f"{when}," + ",".join(map(str, row)) for when, row in
                  zip(moments, series.values[few, :10].tolist(), strict=True)]  # fmt: skip
        path.write_text("\n".join(lines) + "\n", "utf-8")
        form = ForeignForm("time", {c.name: c for c in columns[:10]})
        ours = min(seconds(lambda: read_foreign(path, form)) for _ in range(2))
        theirs = min(seconds(lambda: arrow_csv.read_csv(path)) for _ in range(2))
        print(
            f"a CSV of another program, {few.stop:,} rows of 10 columns, against pyarrow.csv\n"
            f"    {ours:.2f} s against {theirs:.2f} s: {ours / theirs:.2f} times (goal: at most 1.5)"
        )
        short = store.read("K2-00417", [f"c{k}" for k in range(200)], end_s=1.7672256e9 + 86400)
        made = make_report(short, about, None, ReportOptions())
        text = made.markdown + "\n" + made.markdown
        spent = seconds(lambda: page_pdf(text, made.title, made.pictures))
        pages = page_pdf(text, made.title, made.pictures).count(b"/Type /Page\n")
        print(f"a report of {pages} pages as PDF\n    {spent:.2f} s")


ROWS = 20_000_000


def many_rows() -> None:
    """A store of many rows: summary, alarms, shares of 10 minutes, condensed; against NumPy by hand."""
    rng = np.random.default_rng(17)
    asked = "papers: {shares: {a: {channels: [air_top], within: 20..78 °C, each: 10 min, at_least: 95 %}}}"
    setup = checked_setup(f"{KILN}\n{asked}")
    identity = KeptIdentity(maker="m", model="fichte-8", serial="K2-00417", firmware="1.4")
    about = About(device=identity, source="recording", run="long")
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder) / "store")
        for begin in range(0, ROWS, 5_000_000):
            times: NDArray[np.float64] = 1.7723232e9 + 0.5 * (begin + np.arange(5_000_000.0))
            values = (70 + 9 * np.sin(times / 3000) + rng.normal(0, 0.1, times.size))[:, None]
            codes = np.zeros(values.shape, np.uint8)
            store.append(Series((Column("air_top", "°C"),), times, values, codes), about)
        parts = store.parts("K2-00417")

        def by_hand() -> None:
            """Count, mean, squares, extremes, a histogram, trips of an alarm, means of 10 minutes."""
            histogram = np.zeros(65536, np.int64)
            for part in parts:
                with parquet.ParquetFile(part.path) as file:
                    for batch in file.iter_batches(1_000_000):
                        moments = batch.column(0).to_numpy(zero_copy_only=False).astype(np.int64)
                        x = batch.column(1).to_numpy(zero_copy_only=False)
                        offsets = x - x[~np.isnan(x)].mean()
                        np.dot(offsets, offsets), x.min(), x.max()
                        place = (x * (65535 / 200)).astype(np.int64)
                        histogram += np.bincount(np.clip(place, 0, 65535), minlength=65536)
                        out = x > 78.0
                        (out[1:] & ~out[:-1]).sum()
                        number = moments // 600_000
                        number -= number[0]
                        np.bincount(number, x) / np.bincount(number)

        def condensed() -> None:
            for _ in condense_pieces(store.pieces("K2-00417"), 600.0, ["mean"], UTC_ZONE):
                pass

        print(f"a store of {ROWS:,} rows, against reading them and NumPy by hand")
        for what, act in (("summary, alarms, shares", lambda: store.survey("K2-00417", setup)),
                          ("condensed to 10 min", condensed)):  # fmt: skip
            pairs = [(seconds(act), seconds(by_hand)) for _ in range(3)]
            ratio = median(ours / theirs for ours, theirs in pairs)
            ours, theirs = (median(side) for side in zip(*pairs, strict=True))
            print(
                f"    {what}: {ours:.2f} s against {theirs:.2f} s: {ratio:.2f} times (goal: at most 1.3)"
            )


DEVICES = 200
ROUNDS = 5


def many_devices() -> None:
    """200 devices on 200 sockets, polled by a few threads, against the bare client doing the same."""
    with start_standin("fichte-8", "--copies", str(DEVICES)) as standin:
        sheet = find_datasheet("fichte-8")
        readings = sheet.points("readings")
        (request,) = ReadPlan(registers(readings), sheet.max_gap).requests
        devices = [open_device(sheet, address) for address in standin.addresses]
        readers = [device.reader(readings) for device in devices]
        clients = [ModbusTcpClient("127.0.0.1", port=a.port) for a in standin.addresses]
        with ThreadPoolExecutor(8) as pool:

            def ours() -> None:
                for _ in range(ROUNDS):
                    list(pool.map(lambda read: read(), readers))

            def bare() -> None:
                for _ in range(ROUNDS):
                    list(pool.map(ask, clients))

            def ask(client: ModbusTcpClient) -> None:
                client.connect()
                client.read_input_registers(request.start, count=request.count, device_id=3)

            cpu = time.process_time()
            mine, other, ratio = compare(ours, bare)
            cpu = (time.process_time() - cpu) / ((REPEATS + 1) * 2 * ROUNDS * DEVICES)
        for device in devices:
            device.close()
        for client in clients:
            client.close()
    reads = DEVICES * ROUNDS
    print(f"{DEVICES} devices on {DEVICES} sockets, 8 threads\n    {reads / mine:.0f} blocks a second "
          f"({reads * 21 / mine:.0f} readings), bare client {reads / other:.0f}: {ratio:.2f} times as "
          f"long; {cpu * 1e6:.0f} µs of processor time a block, both together")  # fmt: skip


SAMPLES = 10_000_000


UNITS, AT_ONCE, ALONE = 100, 8, 6


def batch() -> None:
    """100 devices, each of which takes 20 ms for an answer: a batch against one after the other."""
    words = ("--copies", str(UNITS), "--numbered", "--slow", "0.02")
    with tempfile.TemporaryDirectory() as folder, start_standin("fichte-8", *words) as standin:
        items = []
        for line, address in enumerate(standin.addresses):
            with open_device(find_datasheet("fichte-8"), address) as device:
                serial = device.identify().serial
            text = KILN.replace("modbus+tcp://127.0.0.1:5020?unit=3", str(address))
            items.append(BatchItem(line, checked_setup(text.replace("K2-00417", serial))))

        def carry(some: list[BatchItem], at_once: int) -> Callable[[], object]:
            passwords = {"operator": "1834"}
            options = UploadOptions(folder, {})
            return lambda: upload_batch(
                some, options, passwords=lambda setup: passwords, at_once=at_once
            )

        carry(items[:1], 1)()  # what is loaded when first used does not count
        alone = seconds(carry(items[1 : 1 + ALONE], 1)) / ALONE
        rest = items[1 + ALONE :]
        together = seconds(carry(rest, AT_ONCE))
    ratio = together / (alone * len(rest) / AT_ONCE)
    print(f"batch of {len(rest)} devices, {AT_ONCE} at once\n    {together:.1f} s, one alone "
          f"{alone:.2f} s: {ratio:.2f} times the single ones divided by {AT_ONCE} "
          "(goal: at most 1.5)")  # fmt: skip


def show_ratio(
    what: str, result: tuple[float, float, float], other: str, goal: str, *, faster: bool = False
) -> None:
    first, second, ratio = result
    text = f"{1 / ratio:.1f} times as fast" if faster else f"{ratio:.2f} times as long"
    print(f"{what}\n    {first * 1e9 / SAMPLES:.1f} ns a sample, {other} {second * 1e9 / SAMPLES:.1f} "
          f"ns: {text} (goal: {goal})")  # fmt: skip


PIECE = 16_384
LOOPED = 200_000  # samples of a loop in Python


def formulas() -> None:
    """An expression of five operations, moving functions, steps, flow and totals, on 10 million samples."""
    rng = np.random.default_rng(14)
    a, b, c = (rng.random(SAMPLES) for _ in range(3))
    five = Formula("(a * b + c) * a - b / 2.5", {"a": "", "b": "", "c": ""})

    def by_hand() -> NDArray[np.float64]:
        out = np.empty(SAMPLES)
        for k in range(0, SAMPLES, PIECE):
            x, y, z = (values[k : k + PIECE] for values in (a, b, c))
            out[k : k + PIECE] = (x * y + z) * x - y / 2.5
        return out

    frame = pd.DataFrame({"a": a, "b": b, "c": c})
    work = lambda: five(a=a, b=b, c=c)  # noqa: E731
    show_ratio("five operations", compare(work, by_hand), "NumPy by hand", "at most 1.3")
    by_pandas = compare(work, lambda: frame.eval("(a * b + c) * a - b / 2.5"))
    show_ratio("the same", by_pandas, "eval of pandas", "at most 1")
    times = np.arange(float(SAMPLES))
    series = pd.Series(a, index=pd.to_datetime(times, unit="s"))
    for name in ("mean", "min", "max"):
        for width in (10, 600):
            moving = Formula(f"moving_{name}(a, '{width} s')", {"a": ""})
            rolling = series.rolling(f"{width}s")
            result = compare(partial(moving, a=a, times_s=times), getattr(rolling, name))
            show_ratio(
                f"moving {name} over {width} samples", result, "rolling of pandas", "at most 1"
            )
    gears = Table("gears", (("1", "2.9"), ("2", "1.8"), ("3", "1.3")))
    terms = Terms(tables={"gears": gears})
    pairs = list(zip(a[:LOOPED].tolist(), b[:LOOPED].tolist(), strict=True))
    heads = a[:LOOPED].tolist()
    acts: list[tuple[str, str, str, Callable[[], object]]] = [
        ("steps of a gear", "step(a, b, gears)", "", lambda: [_step(x, y) for x, y in pairs]),
        ("flow through a flume", "parshall(a * '1 m', '3 in')", "m³/s",
         lambda: [0.1765 * h**1.547 for h in heads]),
        ("running total", "total(a)", "s", lambda: _total(heads)),
    ]  # fmt: skip
    for what, text, unit, loop in acts:
        formula = Formula(text, {"a": "", "b": ""}, unit, terms=terms)
        one = Formula(text, {"a": "", "b": ""}, unit, terms=terms)
        whole = seconds(partial(formula, a=a, b=b, times_s=times)) / SAMPLES
        alone = seconds(partial(_one_by_one, one, a, b, times)) / ALONE_SAMPLES
        plain = seconds(loop) / LOOPED
        print(f"{what}\n    {whole * 1e9:.1f} ns a sample, one sample after the other {alone * 1e9:.0f} "
              f"ns: {alone / whole:.0f} times as fast (goal: at least 50); a bare loop in Python "
              f"without qualities {plain * 1e9:.0f} ns: {plain / whole:.1f} times")  # fmt: skip


ALONE_SAMPLES = 5000


def _one_by_one(
    formula: Formula, a: NDArray[np.float64], b: NDArray[np.float64], times: NDArray[np.float64]
) -> None:
    for k in range(ALONE_SAMPLES):
        formula(a=a[k : k + 1], b=b[k : k + 1], times_s=times[k : k + 1])


def _step(fast: float, slow: float) -> int | None:
    ratio = fast / slow if slow else 0.0
    best, near = None, 0.03
    for number, wanted in enumerate((2.9, 1.8, 1.3)):
        off = abs(ratio / wanted - 1.0)
        if off <= near:
            best, near = number, off
    return best


def _total(values: list[float]) -> list[float]:
    sums, running, before = [], 0.0, values[0]
    for value in values:
        running += (value + before) / 2.0
        before = value
        sums.append(running)
    return sums


def thousand_channels() -> None:
    """One sample of 1,000 derived channels, of ten kinds."""
    graph, count, samples = Graph(), 1000, 400
    known = {f"x{k}": (graph.input(f"x{k}"), PLAIN) for k in range(count)}
    kinds = (
        "{a} * {b} + 1", "({a} - {b}) / ({a} + 2)", "sqrt({a}**2 + {b}**2)", "moving_mean({a}, '60 s')",
        "total({a})", "maximum({a}, {b}, 3)", "{a} if {b} > 0.5 else 0", "rate({a})",
        "low_pass({a}, '10 s')", "moving_max({a} - {b}, '30 s')",
    )  # fmt: skip
    texts = [
        kinds[k % len(kinds)].format(a=f"x{k}", b=f"x{(7 * k + 1) % count}") for k in range(count)
    ]
    runner = Runner(graph, [read_formula(text, known, graph).node for text in texts])
    rows = np.random.default_rng(14).random((samples, len(runner.inputs), 1))
    for k in range(samples // 2):
        runner.run_rows(np.array([float(k)]), rows[k])
    cpu = time.process_time()
    for k in range(samples // 2, samples):
        runner.run_rows(np.array([float(k)]), rows[k])
    each = (time.process_time() - cpu) / (samples // 2)
    print(f"one sample of {count} derived channels\n    {each * 1e3:.2f} ms of processor time "
          "(goal: at most 1)")  # fmt: skip


def thermocouples() -> None:
    """Against what one would write by hand in NumPy."""
    rng = np.random.default_rng(8)
    curve = CURVES["K"]
    grid = np.linspace(curve.low, curve.high, 1643)  # every kelvin
    cold, warm = curve.pieces

    def by_hand(t: NDArray[np.float64]) -> NDArray[np.float64]:
        def horner(c: tuple[float, ...], x: NDArray[np.float64]) -> NDArray[np.float64]:
            result = np.full_like(x, c[-1])
            for k in reversed(c[:-1]):
                result = result * x + k
            return result

        assert warm.hump is not None
        a0, a1, a2 = warm.hump
        hump = a0 * np.exp(a1 * (t - a2) ** 2)
        return np.where(t < 0, horner(cold.coefficients, t), horner(warm.coefficients, t) + hump)

    grid_mv = by_hand(grid)
    slope_mv = np.gradient(grid_mv, grid)

    def newton(e: NDArray[np.float64]) -> NDArray[np.float64]:
        """Two steps from a line between whole kelvins bring 0.1 mK, the same as ours."""
        t = np.interp(e, grid_mv, grid)
        slope = np.interp(t, grid, slope_mv)
        for _ in range(2):
            t = t - (by_hand(t) - e) / slope
        return t

    e = rng.uniform(-5.8, 54.8, SAMPLES)
    difference = np.abs(newton(e[:100_000]) - thermocouple.temperature(e[:100_000], "K")).max()
    result = compare(lambda: thermocouple.temperature(e, "K"), lambda: newton(e))
    show_ratio(
        f"temperature from emf, type K, {SAMPLES:,} samples (both agree to {difference * 1e3:.2f} mK)",
        result, "Newton in NumPy", "at least 5 times as fast", faster=True,
    )  # fmt: skip
    t = rng.uniform(-200, 1370, SAMPLES)
    result = compare(lambda: thermocouple.emf(t, "K"), lambda: by_hand(t))
    show_ratio("emf from temperature, type K", result, "piecewise Horner by hand", "at most 1")


def scales() -> None:
    rng = np.random.default_rng(8)
    ohm = rng.uniform(100, 390, SAMPLES)
    a, b = 3.9083e-3, -5.775e-7
    result = compare(
        lambda: rtd.temperature(ohm),
        lambda: (-a + np.sqrt(a * a - 4 * b * (1 - ohm / 100))) / (2 * b),
    )
    show_ratio("Pt100 above 0 °C", result, "bare closed form", "at most 1.5")
    x = rng.uniform(0, 10, SAMPLES)
    line = Linear(2.5, 1.0)
    result = compare(lambda: line.value(x), lambda: 2.5 * x + 1.0)
    show_ratio("a linear scale", result, "a * x + b", "at most 1.2")
    chain = line.then(Linear(3.0, 1.0), Linear(0.5, 2.0))

    def three() -> NDArray[np.float64]:
        y = 2.5 * x + 1.0
        y = 3.0 * y + 1.0
        return 0.5 * y + 2.0

    result = compare(lambda: chain.value(x), three)
    show_ratio("a chain of three linear scales", result, "three lines by hand", "at most 1.3")


class OneByOne:
    """An alarm with both points, both delays and a latch, a sample at a time, as one would write it."""

    def __init__(self, alarm: AlarmDefinition) -> None:
        self.trip, self.clear = alarm.point
        self.delay_s, self.clear_delay_s = alarm.delay_s, alarm.clear_delay_s
        self.latch = alarm.latch
        self.state, self.tripped = State.NORMAL, False
        self.since_s: float | None = None

    def take(self, time_s: float, value: float) -> State:
        """The state after one more sample."""
        waits = value <= self.clear if self.tripped else value > self.trip
        if not waits:
            self.since_s = None
            if self.state is State.PENDING:
                self.state = State.NORMAL
            return self.state
        if self.since_s is None:
            self.since_s = time_s
        if time_s - self.since_s >= (self.clear_delay_s if self.tripped else self.delay_s):
            self.tripped, self.since_s = not self.tripped, None
            ended = State.LATCHED if self.latch else State.NORMAL
            self.state = State.UNACKNOWLEDGED if self.tripped else ended
        elif self.state is State.NORMAL:
            self.state = State.PENDING
        return self.state


def alarms() -> None:
    """A recording at once against sample by sample, with events and the strip of states."""
    count, part = 10_000_000, 500_000
    rng = np.random.default_rng(8)
    times = np.arange(count, dtype=float)
    values = 70.0 + 12.0 * np.sin(times / 500.0) + rng.normal(0.0, 0.3, count)
    alarm = AlarmDefinition.above("hot", 78.0, 75.0, delay_s=30.0, clear_delay_s=10.0, latch=True)

    def at_once() -> None:
        line = alarm_timeline(alarm, times, values)
        line.strip(), line.time_s

    def one_by_one() -> None:
        machine = OneByOne(alarm)
        strip, events, before = [], [], State.NORMAL
        for time_s, value in zip(times[:part].tolist(), values[:part].tolist(), strict=True):
            state = machine.take(time_s, value)
            strip.append(state)
            if state is not before:
                events.append((time_s, state))
                before = state

    machine = OneByOne(alarm)
    same = [int(machine.take(t, v)) for t, v in zip(times[:part], values[:part], strict=True)]
    assert same == alarm_timeline(alarm, times[:part], values[:part]).strip().tolist()
    first, second, ratio = compare(at_once, one_by_one)
    scale = count / part
    print(f"an alarm over {count:,} samples\n    {first:.3f} s, one by one {second * scale:.1f} s: "
          f"{scale / ratio:.0f} times as fast (goal: at least 50)")  # fmt: skip

    many = [ChannelAlarm(f"c{k // 4}", alarm) for k in range(4 * CHANNELS)]
    board = AlarmTracker(many, [f"c{k}" for k in range(CHANNELS)])
    samples = rng.normal(76.0, 3.0, (50, CHANNELS))
    began = time.process_time()
    for k, sample in enumerate(samples):
        board.take(float(k), sample)
    each = (time.process_time() - began) / len(samples)
    print(f"a sample of {CHANNELS:,} channels with 4 alarms each\n    {each * 1e3:.1f} ms of CPU time "
          "(goal: at most 100)")  # fmt: skip


def growth() -> None:
    """Four times as much of what once took sixteen times as long."""

    def alarmed(count: int) -> str:
        every = (
            f"      a{k}: {{above: {40 + 0.01 * k:.2f} °C, clear: 30 °C}}" for k in range(count)
        )
        too_hot = "      too_hot: {above: 78 °C, clear: 75 °C, after: 30 s, severity: high}"
        return KILN.replace(too_hot, "\n".join(every))

    def checking(count: int) -> Callable[[], object]:
        setup, sheet = parse_setup(alarmed(count)), find_datasheet("fichte-8")
        return lambda: check_setup(setup, sheet)

    def receipts(folder: Path, count: int) -> Callable[[], object]:
        own, before = folder / str(count), ""
        own.mkdir()
        for k in range(count):
            content = {"receipt": 1, "by": "x", "finished": "", "what": {}, "changes": [],
                       "settings_verified": 1, "previous": before}  # fmt: skip
            raw = json.dumps(content)
            (own / f"{k:06d}-receipt.json").write_text(raw, "utf-8")
            before = content_hash(raw.encode())
        return lambda: read_history(own)

    def header(count: int) -> Callable[[], object]:
        text = "[4] = {" * count

        def read() -> None:
            with suppress(LeitwerkError):
                from_c(text)

        return read

    with tempfile.TemporaryDirectory() as folder:
        for what, act in (
            ("alarms of one channel, 2,000 against 500", checking),
            ("receipts of one device, 2,000 against 500", lambda n: receipts(Path(folder), n)),
            ("braces in a C header, 40,000 against 10,000", lambda n: header(20 * n)),
        ):
            show(what, compare(act(2000), act(500)), "ms", 1e3, "at most 5")


def lines_of_text() -> None:
    """A message of five numbers, said and understood, beside lines that are written by hand."""
    count, values = 20_000, (21.53, 55.2, -3.0, 100.25, 0.07)
    part = Part(Form(Kind.NUMBER, decimals=1), "v")
    line = LineForm("readings", "KILN", (part,) * 5)
    way = Direction(lines=(line,))
    say, listener = speaker(line, way), Listener(way)

    def ours() -> None:
        for _ in range(count):
            heard = listener.hear(packed(say(values), way)[:-2])
            assert heard is not None
            assert heard.trouble is None

    def by_hand() -> None:
        for _ in range(count):
            v = values
            said = f"KILN;{v[0]:.1f};{v[1]:.1f};{v[2]:.1f};{v[3]:.1f};{v[4]:.1f}\r\n".encode(
                "ascii"
            )
            keyword, *fields = said[:-2].decode("ascii").split(";")
            numbers = [float(field) for field in fields]
            assert keyword == "KILN"
            assert len(numbers) == 5

    result = compare(ours, by_hand)
    show("a line of five numbers, said and understood: by an exchange against by hand", result,
         "us", 1e6 / count, "at most 3")  # fmt: skip
    print(f"    {count / result[0]:,.0f} messages a second, both directions (goal: 100,000)")


if __name__ == "__main__":
    start_up()
    poll_all_channels()
    many_registers()
    many_devices()
    batch()
    check_large_setup()
    watching()
    figures()
    recordings()
    many_rows()
    formulas()
    thousand_channels()
    thermocouples()
    scales()
    alarms()
    growth()
    lines_of_text()
