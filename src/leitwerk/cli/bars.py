"""leitwerk bars."""

from __future__ import annotations

import sys
from contextlib import suppress
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import DURATION, JSON, every_option, for_option, link_options

if TYPE_CHECKING:
    from collections.abc import Sequence

    from leitwerk.commissioning.touch_watch import TouchResult, TouchWatch
    from leitwerk.links.options import LinkOptions

_REFRESH_S = 0.2
_KEPT = 600  # samples of the one channel that is drawn over time
_ENDLESS_S = 1e9
_HEADS = (
    "Channel", "Rest", "Noise", "Touched", "Threshold", "Hysteresis", "Margins", "Held (margins)"
)  # fmt: skip


@click.command()
@click.argument("setup")
@click.option("--channel", "names", multiple=True, metavar="NAME",
              help="Only these; one alone is drawn over time.")  # fmt: skip
@click.option("--rest", "rest_s", type=DURATION, default="2 s", show_default=True, metavar="TIME",
              help="How long to learn the baseline first, while nothing is touched.")  # fmt: skip
@for_option("How long to watch; until you end it, if not given.")
@every_option("50 ms")
@JSON
@link_options(1.0)
def bars(
    setup: str,
    *,
    names: tuple[str, ...],
    rest_s: float,
    duration_s: float | None,
    period_s: float,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Show what a finger does: channels of SETUP as bars against their baseline and threshold.

    The baseline is learnt first. A channel has the threshold that its device holds, where that has one (such
    as button.1.threshold for button.1.signal). At the end a threshold and a hysteresis are suggested for each
    channel that was touched, with their margins to noise and response; a suggestion is not written anywhere.

    Exit code 0: each channel that was touched has a threshold with room on both sides. 1: one has not, or
    none was touched. 2: usage. 3: not reached.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.commissioning.touch_watch import TouchWatch
    from leitwerk.devices.device import connect
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    with connect(checked, link=link) as device:
        watch = TouchWatch(checked, device, names)
        click.echo(f"learning the baseline for {rest_s:g} s: touch nothing", err=True)
        watch.learn(rest_s, period_s)
        click.echo("touch the buttons one after the other; end it with Ctrl+C", err=True)
        with suppress(KeyboardInterrupt):
            _show(
                watch, duration_s or _ENDLESS_S, period_s, shows=sys.stdout.isatty() and not as_json
            )
    found = watch.results()
    if as_json:
        echo_json({one.channel: one.to_dict() for one in found})
    else:
        _print(found)
    return FINE if found and all(one.ok for one in found) else FOUND


def _show(watch: TouchWatch, duration_s: float, period_s: float, *, shows: bool) -> None:
    """Watch; on a terminal, with a picture that is refreshed."""
    moments = watch.watch(duration_s, period_s)
    if not shows:
        for _ in moments:
            pass
        return
    from rich.console import Group
    from rich.live import Live
    from rich.text import Text

    from leitwerk.cli.tables import console
    from leitwerk.reports.touch_pictures import bar_lines, curve_of_touch

    terminal, shown_s, touches = console(), 0.0, watch.touches
    history: list[tuple[float, float]] = []
    with Live(console=terminal, auto_refresh=False, vertical_overflow="crop") as live:
        for now_s in moments:
            history = [*history[1 - _KEPT :], (now_s, float(touches.last[0]))]
            if now_s - shown_s < _REFRESH_S:
                continue
            shown_s = now_s
            if len(touches.names) == 1:
                held = watch.thresholds.get(touches.names[0])
                lines = [
                    (text, False) for text in curve_of_touch(touches, held, history, terminal.width)
                ]
            else:
                lines = list(bar_lines(touches, watch.thresholds, terminal.width))
            live.update(Group(*(Text(t, "bold" if b else "") for t, b in lines)), refresh=True)


def _print(found: Sequence[TouchResult]) -> None:
    from leitwerk.cli.printing import print_columns

    if not found:
        click.echo("no channel was touched long enough")
        return
    rows = []
    for result in found:
        one, margins = result.suggested, result.held_margins
        held = (
            "" if margins is None else f"{result.held:g} ({', '.join(f'{m:.0f}' for m in margins)})"
        )
        rows.append(
            (result.channel, f"{one.rest:.5g}", f"{one.noise:.2g}", f"{one.touched:.5g}",
             f"{one.threshold:.4g}", f"{one.hysteresis:.3g}", f"{one.below:.0f}, {one.above:.0f}", held)
        )  # fmt: skip
    print_columns(_HEADS, rows)
    click.echo("margins: in standard deviations of the noise, to rest and to response")
