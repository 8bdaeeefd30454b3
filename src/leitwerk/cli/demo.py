"""leitwerk demo: the whole thread once, on a simulated device."""

from __future__ import annotations

import shutil
import sys
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING, Self

import click

from leitwerk.cli.exit_codes import FINE, FOUND

if TYPE_CHECKING:
    from rich.console import Console

    from leitwerk.parsing.address import LinkAddress

_WATCH_S = 4.0
_PERIOD_S = 0.2
# The mistakes planted in the first setup: what is right, and what stands there instead.
_MISTAKES = (
    ("range: ±1 V", "range: ±100 mV"),
    ("clear: 75 °C", "clear: 80 °C"),
)


@click.command()
@click.option(
    "--thread",
    type=click.Choice(["kiln", "supply", "sound"]),
    default="kiln",
    show_default=True,
    help="What is done: a logger uploaded and verified; a week of a supply; a shift of noise.",
)
@click.option(
    "--folder",
    default="leitwerk-demo",
    show_default=True,
    metavar="FOLDER",
    help="Where the demo leaves its files.",
)
def demo(folder: str, *, thread: str) -> int:
    """See the whole work in less than a minute, with a simulated device.

    Starts the logger fichte-8 of the kiln at Tannried as a process of its own, checks a setup with
    two planted mistakes, uploads the corrected one and compares the readings with expectations.

    With --thread supply or sound, an analyzer: setup, check, upload, wiring, recording, verdict, report; one
    command for each step.
    """
    if thread != "kiln":
        from leitwerk.cli.demo_analyzers import sound_thread, supply_thread

        return {"supply": supply_thread, "sound": sound_thread}[thread](Path(folder))
    from leitwerk.cli.printing import counts_text, print_findings
    from leitwerk.cli.tables import console
    from leitwerk.project.setups import check_file
    from leitwerk.standins.process import start_standin

    out = console()
    where = Path(folder)
    with start_standin("fichte-8") as standin:
        _say(out, "1. A logger", f" at {standin.address}, simulated, in factory condition.")
        wrong, right = _write_setups(where, standin.address)
        _say(out, "\n2. Check", f" {wrong}, in which two mistakes are planted:\n")
        result = check_file(wrong)
        print_findings(result.findings)
        out.print(f"{wrong}: cannot be uploaded like this ({counts_text(result.findings)})")
        passed = _upload_and_watch(where, right, out)
    out.print(f"\nThe logger is gone again. The files are in {where}/:")
    for path in sorted(p for p in where.rglob("*") if p.is_file()):
        out.print(f"  {path.relative_to(where)}")
    out.print(
        "\nNext, an alarm that trips, sends messages and clears, on a sensor that warms by itself:"
    )
    program = _program()
    out.print(f"  {program} example kiln-guard > kiln-guard.yaml")
    out.print(f"  {program} prove kiln-guard.yaml air_top.too_hot --simulated")
    return FINE if passed else FOUND


def _program() -> str:
    """How this program is called here: by its name, or by its path where the name is not found."""
    path = Path(sys.argv[0])
    if path.name != "leitwerk" or shutil.which("leitwerk") is not None:
        return "leitwerk"
    return str(path)


def _write_setups(folder: Path, address: LinkAddress) -> tuple[Path, Path]:
    from leitwerk.project.files import write_atomic

    file = resources.files("leitwerk") / "examples" / "kiln.yaml"
    text = file.read_text(encoding="utf-8")
    at = next(line for line in text.splitlines() if line.strip().startswith("at: "))
    text = text.replace(at, f"  at: {address}")
    mistaken = text
    for right, wrong in _MISTAKES:
        mistaken = mistaken.replace(right, wrong)
    paths = folder / "kiln-with-mistakes.yaml", folder / "kiln.yaml"
    for path, content in zip(paths, (mistaken, text), strict=True):
        write_atomic(path, content)
    return paths


def _upload_and_watch(folder: Path, path: Path, out: Console) -> bool:
    from leitwerk.cli.live_check import TableView
    from leitwerk.cli.progress import StepView
    from leitwerk.cli.tables import closing_text
    from leitwerk.commissioning.live_check import verify
    from leitwerk.devices.device import connect
    from leitwerk.project.files import write_atomic
    from leitwerk.project.setups import read_setup
    from leitwerk.reports.live_figure import draw_report
    from leitwerk.results import Outcome
    from leitwerk.standins.profile import find_profile
    from leitwerk.transfer.task import UploadOptions
    from leitwerk.transfer.upload import upload

    setup = read_setup(path)
    _say(out, "\n3. Upload", f" {path}, the corrected one:\n")
    with connect(setup) as device:
        with StepView() as steps:
            receipt = upload(
                setup,
                device,
                UploadOptions(
                    folder / "kept",
                    find_profile(setup.datasheet.model).passwords,
                    by="demo",
                    on_progress=steps.show,
                ),
            )
        text = str(receipt).split("  changes:")[0].rstrip()
        out.print(f"\n{text}\n  changes:   {len(receipt.changes)}, listed in the receipt there")
        _say(out, "\n4. Live", f" for {_WATCH_S:g} s:\n")
        with TableView(setup.setup.title) if out.is_terminal else _Nothing() as view:
            report = verify(
                setup, device, duration_s=_WATCH_S, period_s=_PERIOD_S, on_sample=view.show
            )
    if not out.is_terminal:
        for line in report.lines():
            out.print(line)
    out.print(closing_text(report))
    draw_report(report, folder / "live.png")
    write_atomic(folder / "live.csv", report.to_csv())
    return report.outcome is Outcome.PASSED


def _say(out: Console, head: str, text: str) -> None:
    from rich.text import Text

    out.print(Text(head, "bold").append(text, "not bold"))


class _Nothing:
    """Shows nothing while readings come in."""

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        pass

    def show(self, sample: object) -> None:
        """Nothing."""
