"""The console examples of the guide: each command is run, and prints what its page shows."""

import re
import shlex
from contextlib import ExitStack
from pathlib import Path

import pytest

from conftest import EXAMPLES, example
from leitwerk.standins.process import start_standin
from leitwerk.standins.profile import find_profile

GUIDE = Path(__file__).parent.parent / "docs" / "guide"
# These run until they are stopped, or need a serial port, a broker, a second device, a hand, or days of rows.
# Each has tests of its own.
NOT_RUN = {"standin", "ports", "find", "readdress", "request", "station", "batch", "recover",
           "attend", "prove", "talk", "example", "summary", "report", "verify-report",
           "correct-rows", ("stations", "fetch")}  # fmt: skip
# Without a device, every figure is the same each time.
EXACT = {"check", "dry-run", "limits", "explain", "timetable", "budget", "datasheet", "program",
         "preview", "hear", "match", "rating"}  # fmt: skip
DEVICES = {
    "fichte-8": ("kiln", "kiln-guard"),
    "linde": ("station",),
    "weide": ("mill-race",),
    "birke": ("cabin",),
}
OPTIONS = {"fichte-8": ("--clock-ahead", "75"), "birke": ("--rtu",)}
TALKS = "/dev/ttyUSB1"  # on the pages
# What a page takes for granted: another page has led there.
BEFORE = {
    ("links", "device"): ["upload kiln.yaml --by Ida"],
    ("live", "live"): ["upload kiln.yaml --by Ida"],
    ("links", "devices"): ["device station.yaml"],
    ("upload", "compare"): ["upload station.yaml"],
    ("upload", "adopt"): ["device station.yaml", "devices --rename linde valley"],
    ("recordings", "fetch"): [
        "upload kiln.yaml",
        "record kiln.yaml start",
        "record kiln.yaml stop",
    ],
    ("scales", "tare"): ["upload kiln.yaml"],
    ("rules", "pulse"): ["upload kiln-guard.yaml"],
    ("rules", "loop"): ["upload mill-race.yaml"],
}
BACKUPS = "kept/*/*-backup.json"
RECORDING = "time_utc,air_top\n2026-03-02T05:00:00Z,21.5\n2026-03-02T05:30:00Z,22.5\n"
MISTAKES = {"clear: 75 °C": "clear: 80 °C", "range: ±1 V": "range: ±100 mV"}


def consoles(page: Path) -> list[tuple[str, list[str]]]:
    """The commands of a page, each with the lines that it prints there."""
    found: list[tuple[str, list[str]]] = []
    inside = False
    for line in page.read_text("utf-8").splitlines():
        if line.startswith("    $ leitwerk "):
            found.append((line.removeprefix("    $ leitwerk "), []))
            inside = True
        elif inside and line.startswith("    "):
            found[-1][1].append(line.removeprefix("    "))
        elif line:
            inside = False
    return found


def shape(line: str) -> str:
    """A line without what differs from run to run: numbers, digests, addresses, widths."""
    line = re.sub(r"SHA-256 [0-9a-f]+…?|\b[a-z]+\+[a-z]+://\S+", "#", line)
    return re.sub(r"\s+", " ", re.sub(r"\d[\d.:,TZ+-]*", "#", line)).strip()


@pytest.fixture
def workshop(tmp_path, monkeypatch, page):
    """A folder with the examples; the devices that a page speaks of are simulated, and known by name."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    monkeypatch.setenv("LOGNAME", "Ida")
    Path("recording-1.csv").write_text(RECORDING, "utf-8")
    Path("datasheets").mkdir()
    own = re.findall(
        r"```yaml\n(datasheet: 1\n.*?)```", (GUIDE / "own-device.md").read_text("utf-8"), re.S
    )
    Path("datasheets/pump-7.yaml").write_text(own[0], "utf-8")
    for file in EXAMPLES.glob("*.yaml"):
        Path(file.name).write_text(file.read_text("utf-8"), encoding="utf-8")
    text, talking = page.read_text("utf-8"), ""
    with ExitStack() as stack:
        for model, setups in DEVICES.items():
            if not any(re.search(rf"\b{name}\b", text) for name in (model, *setups)):
                continue
            standin = stack.enter_context(start_standin(model, *OPTIONS.get(model, ())))
            for name in setups:
                Path(f"{name}.yaml").write_text(example(name, standin.address), encoding="utf-8")
            if model == "birke":
                talking = re.search(r"//(/[^?]+)", standin.process.stdout.readline())[1]
        yield talking


@pytest.mark.process
@pytest.mark.parametrize("page", sorted(GUIDE.glob("*.md")), ids=lambda p: p.stem)
def test_commands_on_a_page_print_what_it_shows(page, leitwerk, monkeypatch, workshop):
    def run(words):
        model = next(
            (m for m, names in DEVICES.items() for n in names if f"{n}.yaml" in words), "linde"
        )
        monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", find_profile(model).passwords["operator"])
        words = [word.replace(TALKS, workshop) for word in words]
        return leitwerk(*words).output.splitlines()

    for command, shown in consoles(page):
        words = shlex.split(command)
        if NOT_RUN & {words[0], (page.stem, words[0])} or "--try" in words:
            continue
        for line in BEFORE.get((page.stem, words[0]), ()):
            run(shlex.split(line))
        words = [
            str(next(Path().glob(BACKUPS))) if "-backup.json" in word else word for word in words
        ]
        wrong = any(" error: " in line for line in shown)  # the page plants mistakes before
        kiln = Path("kiln.yaml")
        text = kiln.read_text("utf-8")
        for right, mistake in MISTAKES.items() if wrong else ():
            kiln.write_text(kiln.read_text("utf-8").replace(right, mistake, 1), "utf-8")
        output = run(words[: words.index(">")] if ">" in words else words)
        if wrong:
            kiln.write_text(text, "utf-8")
        printed = iter(output)
        same = str.rstrip if EXACT & set(words[:2]) else shape
        for line in shown:
            if line != "…" and not line.startswith("Password"):
                assert any(same(line) == same(one) for one in printed), (line, output)
