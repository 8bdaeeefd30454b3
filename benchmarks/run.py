"""Benchmarks: ratios within one run, so that they hold on any machine. Run with ``make bench``.

Each pair of measurements is taken in turn, several times; the median of the ratios is printed with
the goal. Nothing here fails: a benchmark informs, the tests decide.
"""

from __future__ import annotations

import gc
import subprocess
import sys
import time
from collections.abc import Callable
from importlib import resources
from pathlib import Path
from statistics import median

import yaml
from pymodbus.client import ModbusTcpClient

from leitwerk.check import check_into
from leitwerk.datasheet import Datasheet, parse_datasheet
from leitwerk.findings import Findings
from leitwerk.links import connect
from leitwerk.live.poller import Poller
from leitwerk.project import check_file, find_datasheet, write_atomic
from leitwerk.setup import parse_setup
from leitwerk.standins import start_standin
from leitwerk.standins.profile import find_profile
from leitwerk.transfer import upload
from leitwerk.yamltext import parse_yaml

CHANNELS = 10_000
REPEATS = 7
POLLS = 400


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


def large_datasheet() -> Datasheet:
    """The logger's datasheet with 10,000 terminals; its addresses serve no device."""
    text = (resources.files("leitwerk") / "datasheets" / "fichte-8.yaml").read_text("utf-8")
    for old, new in (
        ("1..8: ", f"1..{CHANNELS}: "),
        ("slot: 9", f"slot: {CHANNELS + 1}"),
        ("channels: 8", f"channels: {CHANNELS}"),
        ("alarms: 12", f"alarms: {CHANNELS}"),
        ("{n 1..10}", f"{{n 1..{CHANNELS + 2}}}"),
        ("{k 1..12}", f"{{k 1..{CHANNELS}}}"),
        ("40 n", "4 n"),
        ("10 k", "4 k"),
    ):
        text = text.replace(old, new)
    return parse_datasheet(text, file="large")


def large_setup() -> str:
    """10,000 channels of the kinds of the kiln, all with an expectation, half with an alarm."""
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
        for n in range(1, CHANNELS + 1)
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
    show(f"{title}, against our own bare parse of it", own, "ms", 1e3, "at most 2")


def poll_all_channels() -> None:
    model = "fichte-8"
    text = (resources.files("leitwerk") / "examples" / "kiln.yaml").read_text("utf-8")
    with start_standin(model) as standin:
        setup = parse_setup(text.replace("127.0.0.1:5020", f"127.0.0.1:{standin.address.port}"))
        sheet = find_datasheet(model)
        channels = check_into(setup, sheet, Findings("kiln"))
        with connect(setup) as device:
            passwords = find_profile(model).passwords
            upload(setup, device, keep="build/bench", passwords=passwords)
            poller = Poller(device, channels)
            (request,) = device.readings_plan(sheet.points("readings")).requests
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
    def run(*code: str) -> Callable[[], object]:
        return lambda: subprocess.run([sys.executable, *code], check=True, capture_output=True)

    library = run("-c", "import click")
    for option in ("--help", "--version"):
        result = compare(run("-m", "leitwerk", option), library)
        show(f"leitwerk {option}, against importing click", result, "ms", 1e3, "under 2")


if __name__ == "__main__":
    start_up()
    poll_all_channels()
    check_large_setup()
