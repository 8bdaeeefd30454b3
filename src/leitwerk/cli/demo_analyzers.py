"""The threads of the two analyzers in leitwerk demo: each step is one command, printed and carried out."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import chdir, contextmanager
from importlib import resources
from pathlib import Path

import click

from leitwerk.cli.exit_codes import FINE, FOUND

_PATIENCE_S = 60.0


def supply_thread(folder: Path) -> int:
    """A week at the main board of the saw hall, speeded up: from the wiring to the report."""
    with _analyzer(folder, "ulme-3p", "saw-supply", time_factor=80_000):
        _run("check", "saw-supply.yaml")
        _run("upload", "saw-supply.yaml")
        wired = _run("wiring", "saw-supply.yaml", "--power", "14 ± 3 kW", "--figure", "wiring.png")
        _run("timetable", "saw-supply.yaml")
        _record("saw-supply.yaml", hours=7 * 24.0)
        _run("fetch", "saw-supply.yaml", "--store")
        _run("waveforms", "saw-supply.yaml", _first("*-dip.wav"))
        _run("summary", "PA-0117", "--setup", "saw-supply.yaml")
        verdict = _run(
            "report",
            "PA-0117",
            "--setup",
            "saw-supply.yaml",
            "--kind",
            "supply",
            "--to",
            "week.pdf",
        )
        return FINE if wired == verdict == FINE else FOUND


def sound_thread(folder: Path) -> int:
    """A shift at the saw, speeded up: from the evaluations to the daily exposure."""
    with _analyzer(folder, "eibe", "saw-hall", time_factor=10_000):
        _run("check", "saw-hall.yaml")
        _run("upload", "saw-hall.yaml")
        _run("live", "saw-hall.yaml", "--for", "2 s", "--every", "0.5 s")
        _record("saw-hall.yaml", hours=8.0)
        _run("fetch", "saw-hall.yaml", "--store")
        _run("levels", "saw-hall.yaml", _first("*-sound.wav"))
        _run("draw", "SH-0093", "--channel", "main_equivalent", "--to", "shift.png")
        _run("summary", "SH-0093", "--setup", "saw-hall.yaml")
        # More than 85 dB a day: the report says so, and that is its result.
        _run(
            "report", "SH-0093", "--setup", "saw-hall.yaml", "--kind", "noise", "--to", "shift.pdf"
        )
        return FINE


@contextmanager
def _analyzer(folder: Path, model: str, example: str, *, time_factor: int) -> Iterator[None]:
    """The simulated device, its setup in a folder, and its password, as long as this lasts."""
    from leitwerk.project.files import write_atomic
    from leitwerk.standins.process import start_standin
    from leitwerk.standins.profile import find_profile

    folder.mkdir(parents=True, exist_ok=True)
    variable = "LEITWERK_PASSWORD_OPERATOR"
    before = os.environ.get(variable)
    with start_standin(model, "--time-factor", str(time_factor)) as standin, chdir(folder):
        file = resources.files("leitwerk") / "examples" / f"{example}.yaml"
        lines = file.read_text(encoding="utf-8").splitlines()
        at = next(k for k, line in enumerate(lines) if line.strip().startswith("at: "))
        lines[at] = f"  at: {standin.address}"
        write_atomic(Path(f"{example}.yaml"), "\n".join(lines) + "\n")
        click.echo(
            f"{model} at {standin.address}, simulated; its time goes {time_factor:,} times faster"
        )
        os.environ[variable] = find_profile(model).passwords["operator"]
        try:
            yield
        finally:
            os.environ.pop(variable)
            if before is not None:
                os.environ[variable] = before
    files = [path for path in folder.rglob("*") if path.is_file()]
    click.echo(f"\nThe device is gone again; {len(files)} files are in {folder}/")


def _run(*words: str) -> int:
    """Print a command as it would be typed, and carry it out; its exit code."""
    from leitwerk.cli import main

    shown = " ".join(f"'{word}'" if " " in word else word for word in words)
    click.secho(f"\n$ leitwerk {shown}", bold=True)
    code = main.main([*words], prog_name="leitwerk", standalone_mode=False)
    return int(code or FINE)


def _record(file: str, *, hours: float) -> None:
    """Record for so many hours of the device's own time."""
    from leitwerk.devices.device import connect
    from leitwerk.devices.recordings import list_recordings
    from leitwerk.project.setups import read_setup

    _run("record", file, "start")
    with connect(read_setup(file)) as device:
        end = time.monotonic() + _PATIENCE_S
        while time.monotonic() < end:
            held = list_recordings(device)
            if held and held[-1].rows * held[-1].interval_s >= 3600.0 * hours:
                break
            time.sleep(0.2)
    _run("record", file, "stop")


def _first(pattern: str) -> str:
    """The first file of the store that fits."""
    return str(next(iter(sorted(Path("recordings").rglob(pattern))), pattern))
