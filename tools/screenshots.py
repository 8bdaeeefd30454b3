"""Draw the pictures in docs/screenshots from the demo data: ``make screenshots``.

Each command runs in a pseudo-terminal of its own; what its screen shows at the end is painted into
a PNG of about 1280 x 800.
"""

from __future__ import annotations

import copy
import fcntl
import json
import os
import pty
import select
import shlex
import shutil
import struct
import subprocess
import sys
import tempfile
import termios
import time
from importlib import resources
from pathlib import Path
from typing import IO

import numpy as np
import pyte
from matplotlib import get_data_path
from PIL import Image, ImageDraw, ImageFont

from leitwerk.analysis.series import Column, Series
from leitwerk.project.library import find_datasheet
from leitwerk.signals.quality import Quality
from leitwerk.standins.process import start_standin
from leitwerk.standins.receiver import WORLD
from leitwerk.standins.transmitters import World

PICTURES = Path(__file__).parent.parent / "docs" / "screenshots"
COLUMNS, ROWS = 120, 34
# Factory passwords of the simulated units; nothing real is guarded by them.
KILN, STATION, METER, ANALYZER, RECEIVER = "1834", "2208", "larch", "5206", "alder"
FONT_SIZE, MARGIN = 17, 24
PAPER, INK = "#fbfaf7", "#22252a"
# Inks that can be read on light paper, for the eight colours of a terminal.
INKS = {
    "red": "#b3261e", "green": "#1b6e3c", "brown": "#8a6100", "yellow": "#8a6100",
    "blue": "#1f4f9e", "magenta": "#7b2d8b", "cyan": "#0b6a78", "white": "#6b7078",
    "black": "#22252a",
}  # fmt: skip


def run_in_terminal(
    words: list[str], folder: Path, password: str = KILN, rows: int = ROWS
) -> pyte.Screen:
    """The screen of so many rows after a command has ended."""
    screen = pyte.Screen(COLUMNS, rows)
    stream = pyte.ByteStream(screen)
    near, far = pty.openpty()
    environment = {
        **os.environ, "TERM": "xterm-256color", "COLUMNS": str(COLUMNS), "LINES": str(rows),
        "LEITWERK_PASSWORD_OPERATOR": password, "XDG_DATA_HOME": str(folder / "data"),
    }  # fmt: skip
    environment.pop("NO_COLOR", None)
    screen.draw("$ " + shlex.join(["leitwerk", *words]))
    screen.linefeed()
    screen.carriage_return()
    process = subprocess.Popen(
        [sys.executable, "-m", "leitwerk", *words],
        cwd=folder, stdin=far, stdout=far, stderr=far, env=environment,
    )  # fmt: skip
    os.close(far)
    while True:
        try:
            received = os.read(near, 65536)
        except OSError:  # the other end is closed
            break
        if not received:
            break
        stream.feed(received)
    os.close(near)
    process.wait()
    return screen


def view_in_terminal(words: list[str], folder: Path, *keys: str) -> pyte.Screen:
    """The screen of the interactive view, some seconds after the last key."""
    screen = pyte.Screen(COLUMNS, ROWS)
    stream = pyte.ByteStream(screen)
    near, far = pty.openpty()
    fcntl.ioctl(near, termios.TIOCSWINSZ, struct.pack("HHHH", ROWS, COLUMNS, 0, 0))
    environment = {
        **os.environ, "TERM": "xterm-256color", "XDG_DATA_HOME": str(folder / "data"), "LOGNAME": "Ida",
    }  # fmt: skip
    environment.pop("NO_COLOR", None)
    with subprocess.Popen(
        [sys.executable, "-m", "leitwerk", *words],
        cwd=folder, stdin=far, stdout=far, stderr=far, env=environment, start_new_session=True,
    ) as process:  # fmt: skip
        os.close(far)
        for key in (*keys, ""):
            _read_for(8.0 if key == keys[0] else 4.0, near, stream)
            os.write(near, key.encode())
        shown = copy.deepcopy(screen)
        os.write(near, b"q")
        _read_for(5.0, near, stream)
        process.terminate()
    os.close(near)
    return shown


def _read_for(seconds: float, near: int, stream: pyte.ByteStream) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if not select.select([near], [], [], 0.1)[0]:
            continue
        try:
            data = os.read(near, 65536)
        except OSError:
            return
        if b"\x1b[6n" in data:  # where is the cursor?
            os.write(near, b"\x1b[1;1R")
        stream.feed(data)


def paint(screen: pyte.Screen, path: Path) -> None:
    """The screen as a picture."""
    fonts = {
        bold: ImageFont.truetype(
            f"{get_data_path()}/fonts/ttf/DejaVuSansMono{'-Bold' if bold else ''}.ttf", FONT_SIZE
        )
        for bold in (False, True)
    }
    wide = fonts[False].getlength("M")
    high = FONT_SIZE + 5
    size = (round(COLUMNS * wide) + 2 * MARGIN, screen.lines * high + 2 * MARGIN)
    picture = Image.new("RGB", size, PAPER)
    draw = ImageDraw.Draw(picture)
    for y in range(screen.lines):
        for x in range(COLUMNS):
            cell = screen.buffer[y][x]
            left, top = MARGIN + x * wide, MARGIN + y * high
            ink = INKS.get(cell.fg, INK)
            if cell.reverse:
                draw.rectangle((left, top, left + wide, top + high), fill=ink)
                ink = PAPER
            if 0x2800 < ord(cell.data[:1] or " ") < 0x2900:  # Braille, which the font does not have
                paint_dots(draw, ord(cell.data) - 0x2800, (left, top), (wide / 2, high / 4), ink)
            elif cell.data.strip():
                draw.text((left, top), cell.data, font=fonts[cell.bold], fill=ink)
    picture.save(path, optimize=True)


def paint_dots(
    draw: ImageDraw.ImageDraw,
    dots: int,
    at: tuple[float, float],
    step: tuple[float, float],
    ink: str,
) -> None:
    """The dots of a Braille character: two columns of four."""
    for row, bits in enumerate(((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))):
        for column, bit in enumerate(bits):
            if dots & bit:
                x, y = at[0] + (column + 0.5) * step[0], at[1] + (row + 0.5) * step[1]
                draw.ellipse((x - 1.6, y - 1.6, x + 1.6, y + 1.6), fill=ink)


def setup_file(folder: Path, address: object, changes: dict[str, str]) -> str:
    """The kiln's setup for an address, with some changes."""
    text = (resources.files("leitwerk") / "examples" / "kiln.yaml").read_text("utf-8")
    for old, new in {"modbus+tcp://127.0.0.1:5020?unit=3": str(address), **changes}.items():
        assert old in text, old
        text = text.replace(old, new, 1)
    (folder / "kiln.yaml").write_text(text, encoding="utf-8")
    return "kiln.yaml"


MISTAKES = {
    "every 10 s": "every 100 ms",
    "terminal: 2": "terminal: 1",
    "sensor: type K": "senser: type K",
    "range: ±1 V": "range: ±10 V",
    "clear: 75 °C": "clear: 80 °C",
    "below: 25 %, clear: 28 %": "below: 25 bar, clear: 28 %",
    "label: Kiln door": "label: Door of the kiln number 2",
}


def draw_samples(folder: Path) -> None:
    """An hour of the kiln, with a spike, a gap, and a sensor that is open for a while."""
    count = 36_000
    rng, at = np.random.default_rng(1), np.arange(count, dtype=np.float64)
    times = 1_772_438_400.0 + at * 0.1  # 2026-03-02, 8:00 UTC
    times[20_000:] += 300.0
    top = 60 + 20 * np.sin(at / 9000) + rng.normal(0, 0.2, count)
    top[5000] = 90.0
    values = np.array([top, top - 6 + rng.normal(0, 0.2, count), 115 - top], np.float64).T
    qualities = np.zeros((count, 3), np.uint8)
    qualities[9000:9400, 1] = Quality.OPEN_SENSOR
    columns = (Column("air_top", "°C"), Column("air_bottom", "°C"), Column("humidity", "%"))
    text = Series(columns, times, values, qualities).csv()
    (folder / "run.csv").write_text(text, encoding="utf-8")


def shoot_watching(folder: Path) -> None:
    """The interactive view, one large value, and a figure of samples."""
    hot = {"above: 78 °C, clear: 75 °C, after: 30 s": "above: 20 °C, clear: 19 °C, after: 1 s"}
    with start_standin("fichte-8", "--open", "2") as standin, start_standin("linde") as charger:
        path = setup_file(folder, standin.address, hot)
        station = (resources.files("leitwerk") / "examples" / "station.yaml").read_text("utf-8")
        at = next(line for line in station.splitlines() if line.startswith("  at: "))
        (folder / "station.yaml").write_text(station.replace(at, f"  at: {charger.address}"))
        run_in_terminal(["upload", path, "--by", "Ida"], folder)
        run_in_terminal(["upload", "station.yaml", "--by", "Ida"], folder, STATION)
        down = "\x1b[B"
        words = ["live", path, "station.yaml", "--every", "1 s"]
        paint(view_in_terminal(words, folder, down), PICTURES / "live-view.png")


PAPERS = """
zone: Europe/Vienna
papers:
  header: {company: Tannried Mill, load: "Spruce, 40 boards", job: drying run 7}
  judged:
    heat: {alarms: [air_top.too_hot], at_most: 0}
    dryness: {alarms: [humidity.too_dry], at_most: 4 h}
"""


def shoot_wiring_sheet(folder: Path) -> None:
    """The wiring sheet of a kiln that was made from its template."""
    device = [
        "--at",
        "modbus+tcp://127.0.0.1:5020?unit=3",
        "--model",
        "fichte-8",
        "--serial",
        "K2-00417",
    ]
    chosen = [
        "--defaults",
        "--with",
        "cores=2",
        "--with",
        "air_sensor=kiln-pt100",
        "--sheet",
        "sheet.pdf",
    ]
    run_in_terminal(["begin", "kiln", "sheet.yaml", *device, *chosen], folder)
    draws = shutil.which("pdftoppm")
    assert draws is not None, "install poppler-utils"
    subprocess.run([draws, "-r", "110", "-png", "sheet.pdf", "sheet"], cwd=folder, check=True)
    page = Image.open(min(folder.glob("sheet-*.png")))
    page.crop((0, 60, page.width, int(page.height * 0.62))).save(PICTURES / "wiring-sheet.png")


def shoot_editor() -> None:
    """An editor that completes a setup by its schema; it needs node with npm, and Chromium."""
    npm, chromium = shutil.which("npm"), shutil.which("chromium")
    if npm is None or chromium is None:
        print("left as it is, without npm or chromium:", PICTURES / "editor.png")
        return
    source, made = Path(__file__).parent / "editor", Path("build/editor").absolute()
    made.mkdir(parents=True, exist_ok=True)
    for file in source.iterdir():
        if file.is_file():
            text = file.read_text("utf-8").replace("../../src/", f"{source.parent.parent}/src/")
            (made / file.name).write_text(text, "utf-8")
    subprocess.run([npm, "install", "--silent"], cwd=made, check=True)
    subprocess.run([npm, "run", "--silent", "build"], cwd=made, check=True)
    words = ["--headless=new", "--no-sandbox", "--hide-scrollbars", "--window-size=1100,610"]
    words += ["--virtual-time-budget=5000", f"--screenshot={PICTURES / 'editor.png'}"]
    subprocess.run(
        [chromium, *words, (made / "page.html").as_uri()], check=True, capture_output=True
    )


def shoot_reports(folder: Path) -> None:
    """The first pages of two reports, side by side; 'pdftoppm' draws them."""
    draw_samples(folder)
    path = setup_file(folder, "modbus+tcp://127.0.0.1:5020?unit=3", {})
    with (folder / path).open("a", encoding="utf-8") as file:
        file.write(PAPERS)
    words = [
        "--setup",
        path,
        "--panel",
        "air_top,air_bottom",
        "--panel",
        "humidity",
        "--to",
        "run.pdf",
    ]
    run_in_terminal(["report", "run.csv", *words], folder)
    record_a_shift(folder)
    words = ["--setup", "hall.yaml", "--kind", "noise", "--to", "shift.pdf"]
    run_in_terminal(["report", "SH-0093", *words], folder)
    draws = shutil.which("pdftoppm")
    assert draws is not None, "install poppler-utils"
    pages = []
    for name in ("run", "shift"):
        subprocess.run([draws, "-r", "75", "-png", f"{name}.pdf", name], cwd=folder, check=True)
        pages.append(Image.open(min(folder.glob(f"{name}-*.png"))))
    picture = Image.new("RGB", (1280, 880), "#dddddd")
    for number, page in enumerate(pages):
        picture.paste(page.convert("RGB"), (10 + 635 * number, 0))
    picture.save(PICTURES / "report.png")


def record_a_shift(folder: Path) -> None:
    """Eight hours of the saw hall, recorded by the sound level meter and fetched into the store."""
    with start_standin("eibe", "--time-factor", "3600") as standin:
        hall = (resources.files("leitwerk") / "examples" / "saw-hall.yaml").read_text("utf-8")
        at = next(line for line in hall.splitlines() if line.startswith("  at: "))
        text = hall.replace(at, f"  at: {standin.address}").replace(
            "integration: 10 s", "integration: 60 s"
        )
        (folder / "hall.yaml").write_text(text, "utf-8")
        for words in (["upload"], ["record", "start"], ["record", "stop"], ["fetch", "--store"]):
            if words[-1] == "stop":
                time.sleep(4.0)  # with what the commands take, a shift
            run_in_terminal([words[0], "hall.yaml", *words[1:]], folder, METER)


def shoot_wiring(folder: Path) -> None:
    """The phasors of the analyzer at the main board, with a sensor reversed."""
    with start_standin("ulme-3p", "--miswired", "reverse I2") as standin:
        supply = (resources.files("leitwerk") / "examples" / "saw-supply.yaml").read_text("utf-8")
        at = next(line for line in supply.splitlines() if line.startswith("  at: "))
        (folder / "supply.yaml").write_text(supply.replace(at, f"  at: {standin.address}"), "utf-8")
        run_in_terminal(["upload", "supply.yaml"], folder, ANALYZER)
        words = [
            "wiring",
            "supply.yaml",
            "--for",
            "1 s",
            "--power",
            "import",
            "--figure",
            "wiring.png",
        ]
        run_in_terminal(words, folder)
        shutil.copy(folder / "wiring.png", PICTURES / "wiring.png")


def shoot_feeder(folder: Path) -> None:
    """The page of the analyzer at the main board, after a half-hour with some events."""
    with start_standin("ulme-3p", "--time-factor", "2000") as standin:
        supply = (resources.files("leitwerk") / "examples" / "saw-supply.yaml").read_text("utf-8")
        at = next(line for line in supply.splitlines() if line.startswith("  at: "))
        (folder / "feeder.yaml").write_text(supply.replace(at, f"  at: {standin.address}"), "utf-8")
        run_in_terminal(["upload", "feeder.yaml"], folder, ANALYZER)
        run_in_terminal(["record", "feeder.yaml", "start"], folder, ANALYZER)
        time.sleep(1.0)  # half an hour of its own time
        run_in_terminal(["record", "feeder.yaml", "stop"], folder, ANALYZER)
        screen = run_in_terminal(["device", "feeder.yaml", "--readings"], folder, ANALYZER)
        paint(screen, PICTURES / "device.png")


GAUGES = {  # at the gang saw: what is heard directly, over one relay, over two
    0: "Thickness of the board", 1: "Width of the board", 2: "Stop at the infeed", 4: "Thickness, spare",
    5: "Height of the log", 6: "Gate of the infeed", 7: "Gate of the saw", 8: "Thickness, outfeed",
    3: "Gate of the stacker", 15: "Gate of the sorter", 9: "Width, stacker", 21: "Length, sorter",
}  # fmt: skip


def shoot_paths(folder: Path) -> None:
    """Which transmitters of the saw reach their receiver over which relay."""
    sheet = find_datasheet("hasel")
    assert sheet.telegrams is not None
    world = World(sheet.telegrams.form, WORLD)
    lines = [
        f"  {place}: {{id: {world.every[k].number}, kind: {world.every[k].kind}, label: {json.dumps(label)}}}"
        for place, (k, label) in enumerate(GAUGES.items(), 1)
    ]
    with start_standin("hasel", "--time-factor", "20") as standin:
        gauges = (resources.files("leitwerk") / "examples" / "board-gauges.yaml").read_text("utf-8")
        at = next(line for line in gauges.splitlines() if line.startswith("  at: "))
        text = "\n".join([gauges.replace(at, f"  at: {standin.address}"), "places:", *lines, ""])
        (folder / "gauges.yaml").write_text(text, "utf-8")
        run_in_terminal(["upload", "gauges.yaml"], folder, RECEIVER)
        words = ["places", "gauges.yaml", "--for", "20 s", "--figure", "paths.png"]
        run_in_terminal(words, folder, RECEIVER)
        shutil.copy(folder / "paths.png", PICTURES / "paths.png")


def shoot_lot(folder: Path) -> None:
    """The verdict on a board that fills the terminal, and the faults of a lot."""
    texts = {
        name: (resources.files("leitwerk") / f"{name}.yaml").read_text("utf-8")
        for name in ("examples/panel-board", "testplans/panel-board-tests")
    }
    # A robot that changes boards touches no buttons.
    plan = "".join(
        line
        for line in texts["testplans/panel-board-tests"].splitlines(keepends=True)
        if "touch" not in line
    )
    plan = plan.replace("±6 spreads", "150..280").replace("stimuli:\n", "")
    (folder / "panel-board-tests.yaml").write_text(plan, "utf-8")
    for picture, count, faulty in (("verdict", 1, 100), ("faults", 80, 45)):
        words = [
            "test-lot",
            "panel-board-tests.yaml",
            "--units",
            str(count),
            "--ledger",
            f"{picture}.jsonl",
        ]
        with start_standin(
            "buche-6", "--operate", "--lot", str(count), "--faulty", str(faulty)
        ) as standin:
            at = next(
                line
                for line in texts["examples/panel-board"].splitlines()
                if line.startswith("  at: ")
            )
            setup = texts["examples/panel-board"].replace(at, f"  at: {standin.address}")
            (folder / "panel-board.yaml").write_text(setup, "utf-8")
            operate = standin.process.stdin
            assert operate is not None
            if picture == "verdict":
                operate.write("insert\n")
                operate.flush()
                paint(run_in_terminal(words, folder, rows=24), PICTURES / "verdict.png")
                continue
            change_boards(words, folder, operate)
    run_in_terminal(["lot", "faults.jsonl", "--figures", "figures"], folder)
    shutil.copy(folder / "figures" / "faults.png", PICTURES / "faults.png")


def change_boards(words: list[str], folder: Path, operate: IO[str]) -> None:
    """Run a command, and change the boards as it asks."""
    with subprocess.Popen(
        [sys.executable, "-m", "leitwerk", *words], cwd=folder, stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE, encoding="utf-8",
    ) as process:  # fmt: skip
        assert process.stderr is not None
        for line in process.stderr:
            word = line.partition(" ")[0]
            if word in {"insert", "remove"}:
                operate.write(f"{word}\n")
                operate.flush()


COURSE = "air_top: 21.5; to 85 in 5 min; swing ±4 every 40 s for 2 min; to 60 in 5 min; noise 0.2; stay 1 min"


def main() -> None:
    """All pictures."""
    PICTURES.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)

        def shoot(picture: str, *words: str) -> None:
            paint(run_in_terminal(list(words), folder), PICTURES / f"{picture}.png")
            print(PICTURES / f"{picture}.png")

        paint(run_in_terminal(["demo"], folder, rows=30), PICTURES / "demo.png")
        path = setup_file(folder, "modbus+tcp://127.0.0.1:5020?unit=3", {})
        shoot("explain", "explain", path, "humidity", "--figure", "scale.png")
        shutil.copy(folder / "scale.png", PICTURES / "scale.png")
        with start_standin("fichte-8", "--short", "3", "--open", "2") as standin:
            shoot("check", "check", setup_file(folder, standin.address, MISTAKES))
            path = setup_file(folder, standin.address, {})
            run_in_terminal(["upload", path, "--by", "Ida"], folder)
            shoot("live", "live", path, "--for", "3 s", "--figure", "figure.png")
            shutil.copy(folder / "figure.png", PICTURES / "figure-fail.png")
        shoot_watching(folder)
        shoot_wiring_sheet(folder)
        shoot_editor()
        shoot_reports(folder)
        shoot_wiring(folder)
        shoot_feeder(folder)
        shoot_paths(folder)
        shoot_lot(folder)
        with start_standin("linde") as standin:
            station = (resources.files("leitwerk") / "examples" / "station.yaml").read_text("utf-8")
            at = next(line for line in station.splitlines() if line.startswith("  at: "))
            (folder / "station.yaml").write_text(station.replace(at, f"  at: {standin.address}"))
            screen = run_in_terminal(["upload", "station.yaml", "--by", "Ida"], folder, STATION, 36)
            paint(screen, PICTURES / "upload.png")
        guard = (resources.files("leitwerk") / "examples" / "kiln-guard.yaml").read_text("utf-8")
        (folder / "kiln-guard.yaml").write_text(guard, encoding="utf-8")
        drawn = ("--course", COURSE, "--every", "1 s", "--figure", "dry-run.png")
        run_in_terminal(["dry-run", "kiln-guard.yaml", *drawn], folder)
        shutil.copy(folder / "dry-run.png", PICTURES / "dry-run.png")
        shoot("prove", "prove", "kiln-guard.yaml", "air_top.too_hot", "--simulated")
        with start_standin("linde", "weide", "--bus") as bus:
            port = str(bus.address).replace("?unit=5", "?unit=1")
            shoot("find", "find", port, "--units", "1..12", "--remember")


if __name__ == "__main__":
    main()
