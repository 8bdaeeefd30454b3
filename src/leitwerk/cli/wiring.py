"""leitwerk wiring."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.options import JSON, for_option, link_options

if TYPE_CHECKING:
    from leitwerk.commissioning.wiring_check import WiringCheck
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("setup")
@click.option(
    "--power",
    metavar="TEXT",
    help="What flows now: import, export, or what another meter shows: '13 ± 1 kW'.",
)
@click.option(
    "--terminals", is_flag=True, help="Print what goes to which terminal, without the device."
)
@click.option("--figure", type=click.Path(path_type=Path), help="Draw the phasors: PNG or SVG.")
@for_option("How long to read.", "5 s")
@JSON
@link_options(2.0)
def wiring(
    setup: str,
    *,
    power: str | None,
    terminals: bool,
    figure: Path | None,
    duration_s: float,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Verify that the analyzer of SETUP is wired as SETUP says, before a survey begins.

    Reads voltages and currents with their angles for some seconds, and names what is wrong: phases that
    are exchanged, a sensor that is reversed or at another phase, a missing voltage, the wrong rotation, a
    ratio that is off, an open neutral. Where currents are too small or power may flow either way, it says
    what was not shown.

    Exit code 0: passed. 1: not passed, or not shown. 2: usage. 3: device not reached. 4: it refused, or
    is set for another wiring.
    """
    from leitwerk.check.wiring import judged_by
    from leitwerk.cli.exit_codes import FINE, result_code
    from leitwerk.cli.printing import echo_json, print_columns
    from leitwerk.commissioning.wiring_check import check_wiring
    from leitwerk.devices.device import connect
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    if terminals:
        wires = checked.datasheet.wirings[judged_by(checked).system.name]
        if as_json:
            echo_json(dict(wires))
        else:
            print_columns(("Terminal", "Wire"), list(wires.items()))
        return FINE
    with connect(checked, link=link) as device:
        found = check_wiring(checked, device, duration_s=duration_s, power=power)
    if figure is not None:
        from leitwerk.reports.canvas import new_figure, save
        from leitwerk.reports.mean_figures import fill_phasors

        drawn = new_figure()
        title = f"{checked.setup.title}: wiring {found.outcome}"
        fill_phasors(drawn, found.named(), title=title, remarks=found.reasons)
        save(drawn, figure)
    if as_json:
        echo_json(found.to_dict())
    else:
        _print(found, checked.setup.title)
    return result_code(found)


def _print(found: WiringCheck, title: str) -> None:
    from rich.box import SIMPLE_HEAD
    from rich.table import Table
    from rich.text import Text

    from leitwerk.cli.tables import OUTCOME_STYLES, console
    from leitwerk.power.hypotheses import lags
    from leitwerk.power.system import PHASES

    out = console(wraps=True)
    table = Table(title=f"{title}: {found.wiring.system.name}", title_justify="left", title_style="bold",
                  box=SIMPLE_HEAD, pad_edge=False)  # fmt: skip
    for name, justify in (
        ("Reading", "left"),
        ("Amount", "right"),
        ("Angle", "right"),
        ("", "left"),
    ):
        table.add_column(name, justify=justify)  # type: ignore[arg-type]
    remarks = {}
    if found.wiring.system.has_neutral:
        behind = lags(found.voltages, found.currents).tolist()
        remarks = {f"I {PHASES[k]}": _behind(lag) for k, lag in enumerate(behind)}
    for name, (one, unit) in found.named().items():
        angle = math.degrees(math.atan2(one.imag, one.real))
        table.add_row(name, f"{abs(one):.4g} {unit}", f"{angle:.1f}°", remarks.get(name, ""))
    out.print(table)
    for mistake in found.verdict.mistakes:
        out.print(Text(f"{mistake.what}", "bold red"))
        out.print(f"  shown by: {mistake.shows}")
        out.print(f"  remedy: {mistake.remedy}")
    for other in found.verdict.alternatives:
        out.print(f"or: {other}")
    for text in found.verdict.not_shown:
        out.print(f"not shown: {text}")
    summary = f"wiring {found.outcome}, from {found.count} readings"
    out.print(Text(summary, f"bold {OUTCOME_STYLES[found.outcome]}"))


def _behind(lag: float) -> str:
    if not math.isfinite(lag):
        return ""
    return f"{abs(lag):.0f}° {'behind' if lag >= 0.0 else 'before'} its voltage"
