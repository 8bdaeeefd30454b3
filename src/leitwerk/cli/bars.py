"""leitwerk bars."""

from __future__ import annotations

import math
import sys
from contextlib import suppress
from typing import TYPE_CHECKING, Any

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import DURATION, JSON, every_option, for_option, link_options

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from rich.console import RenderableType

    from leitwerk.check.channels import CheckedChannel
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.links.options import LinkOptions
    from leitwerk.lots.thresholds import SuggestedThreshold
    from leitwerk.lots.touches import Touches

_REFRESH_S = 0.2
_BAR = 40  # characters
_KEPT = 600  # samples of the one channel that is drawn over time
_ENDLESS_S = 1e9


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
    from leitwerk.commissioning.unit_test import for_serial
    from leitwerk.devices.device import connect
    from leitwerk.lots.touches import Touches
    from leitwerk.monitoring.watching import DeviceWatch
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    channels = _chosen(checked, names)
    touches = Touches(tuple(channel.name for channel in channels))
    with connect(checked, link=link) as device:
        identity = device.identify()
        watch = DeviceWatch(for_serial(checked, identity.serial), device)
        thresholds = _thresholds(channels, device.read_settings().values)
        columns = [k for k, c in enumerate(watch.board.channels) if c.name in touches.names]
        click.echo(f"learning the baseline for {rest_s:g} s: touch nothing", err=True)
        for values in _samples(watch, columns, rest_s, period_s):
            touches.take_rest(values)
        click.echo("touch the buttons one after the other; end it with Ctrl+C", err=True)
        wanted_s = _ENDLESS_S if duration_s is None else duration_s
        with suppress(KeyboardInterrupt):
            _watch(
                _samples(watch, columns, wanted_s, period_s), touches, thresholds, as_json=as_json
            )
    found = {name: touches.suggestion(name) for name in touches.names}
    known = {name: one for name, one in found.items() if one is not None}
    if as_json:
        echo_json({name: _plain(one, thresholds.get(name)) for name, one in known.items()})
    else:
        _print(known, thresholds)
    return (
        FINE
        if known and all(_is_fine(one, thresholds.get(n)) for n, one in known.items())
        else FOUND
    )


def _chosen(checked: CheckedSetup, names: Sequence[str]) -> list[CheckedChannel]:
    from leitwerk.errors import QuantityError

    known = {channel.name: channel for channel in checked.channels if channel.states is None}
    for name in names:
        if name not in known:
            raise QuantityError(
                f"there is no channel {name!r} with numbers", valid=", ".join(known)
            )
    return [channel for name, channel in known.items() if not names or name in names]


def _thresholds(
    channels: Sequence[CheckedChannel], settings: Mapping[str, Any]
) -> dict[str, float]:
    """The threshold of each channel: the setting beside its reading."""
    from leitwerk.check.channels import ReadingChannel

    found = {}
    for channel in channels:
        if isinstance(channel, ReadingChannel):
            value = settings.get(f"{channel.point.name.rpartition('.')[0]}.threshold")
            if isinstance(value, float | int):
                found[channel.name] = float(value)
    return found


def _samples(
    watch: Any, columns: Sequence[int], duration_s: float, period_s: float
) -> Iterator[Any]:
    from itertools import count

    from leitwerk.monitoring.pacing import paced
    from leitwerk.project.clock import REAL_TIME

    end = REAL_TIME.monotonic() + duration_s
    for _ in paced(count(), period_s, REAL_TIME):
        yield watch.take().values[columns]
        if REAL_TIME.monotonic() >= end:
            return


def _watch(
    samples: Iterator[Any], touches: Touches, thresholds: Mapping[str, float], *, as_json: bool
) -> None:
    """Take samples; on a terminal, show them."""
    from leitwerk.project.clock import REAL_TIME

    if as_json or not sys.stdout.isatty():
        for values in samples:
            touches.take(values)
        return
    from rich.live import Live

    from leitwerk.cli.tables import console

    terminal, shown_s = console(), 0.0
    history: list[tuple[float, float]] = []
    with Live(console=terminal, auto_refresh=False, vertical_overflow="crop") as live:
        for values in samples:
            touches.take(values)
            now_s = REAL_TIME.monotonic()
            history = [*history[1 - _KEPT :], (now_s, float(values[0]))]
            if now_s - shown_s >= _REFRESH_S:
                shown_s = now_s
                live.update(_picture(touches, thresholds, history, terminal.width), refresh=True)


def _picture(
    touches: Touches,
    thresholds: Mapping[str, float],
    history: Sequence[tuple[float, float]],
    width: int,
) -> RenderableType:
    from rich.console import Group
    from rich.text import Text

    if len(touches.names) == 1:
        return Group(*(Text(line) for line in _over_time(touches, thresholds, history, width)))
    cells = max(10, min(_BAR, width - 50))
    head = f"{'channel':16} {'value':>9} {'change':>9} {'from baseline':{cells}}  │: threshold"
    lines = [Text(head, "bold")]
    shared = [
        _full(touches, k, thresholds[n]) for k, n in enumerate(touches.names) if n in thresholds
    ]
    for k, name in enumerate(touches.names):
        threshold = thresholds.get(name)
        full = _full(touches, k, None) if threshold is None else max(shared)
        text, is_over = _bar(touches, k, threshold, full, cells)
        lines.append(Text(text, "bold" if is_over else ""))
    return Group(*lines)


def _full(touches: Touches, column: int, threshold: float | None) -> float:
    """The deviation that fills a bar; those with a threshold share the largest one."""
    away = 0.0 if threshold is None else abs(threshold - float(touches.baseline[column]))
    return max(
        float(touches.largest[column]), away * 1.25, 10.0 * float(touches.noise[column]), 1e-9
    )


def _bar(
    touches: Touches, column: int, threshold: float | None, full: float, cells: int
) -> tuple[str, bool]:
    """One channel: its value, how far it is from its baseline, with the place of the threshold."""
    name, value = touches.names[column], float(touches.last[column])
    deviation, base = float(touches.deviation[column]), float(touches.baseline[column])
    deviation = 0.0 if abs(deviation) < 1e-9 * abs(base) else deviation  # of the last digit
    away = 0.0 if threshold is None else threshold - base
    filled = 0 if math.isnan(deviation) else min(cells, round(abs(deviation) / full * cells))
    text = "█" * filled + " " * (cells - filled)
    if threshold is not None:
        at = min(cells - 1, round(abs(away) / full * cells))
        text = text[:at] + "│" + text[at + 1 :]
    is_over = threshold is not None and abs(deviation) >= abs(away)
    return (
        f"{name[:16]:16} {value:9.5g} {deviation:+9.4g} {text} {'TOUCHED' if is_over else ''}",
        is_over,
    )


def _over_time(
    touches: Touches,
    thresholds: Mapping[str, float],
    history: Sequence[tuple[float, float]],
    width: int,
) -> Iterator[str]:
    """One channel over the last half-minute, with its numbers."""
    import numpy as np

    from leitwerk.reports.terminal_pictures import curve_lines

    name, high_rows = touches.names[0], 12
    times, values = np.array(history).T
    lines = curve_lines(times, values, max(30, width - 14), high_rows)
    threshold = thresholds.get(name)
    marks = {"baseline": float(touches.baseline[0]), "threshold": threshold}
    low, high = float(np.nanmin(values)), float(np.nanmax(values))
    for mark, value in marks.items():
        if value is not None and low <= value <= high and high > low and lines:
            row = min(len(lines) - 1, int((high - value) / (high - low) * len(lines)))
            lines[row] = _marked(lines[row], mark, max(30, width - 14))
    yield from lines
    at = "" if threshold is None else f", threshold {threshold:g}"
    over = threshold is not None and abs(touches.deviation[0]) >= abs(
        threshold - touches.baseline[0]
    )
    yield (
        f"{name} {touches.last[0]:.5g}, baseline {touches.baseline[0]:.5g} ± {touches.noise[0]:.2g}{at}"
        f"{', TOUCHED' if over else ''}"
    )
    found = touches.suggestion(name)
    if found is not None:
        yield f"suggested: threshold {found.threshold:.4g}, hysteresis {found.hysteresis:.3g}"


def _marked(line: str, mark: str, width: int) -> str:
    """A line of the curve with a mark at its height, where nothing else is drawn."""
    head = len(line) - len(line.lstrip(" 0123456789.-+e"))
    body = line[head:].replace("\u2800", " ").ljust(width - head)
    return line[:head] + body.replace(" ", "·") + f" {mark}"


def _is_fine(found: SuggestedThreshold, threshold: float | None) -> bool:
    return found.ok if threshold is None else min(_margins(found, threshold)) >= found.wanted


def _margins(found: SuggestedThreshold, threshold: float) -> tuple[float, float]:
    """The margins of the threshold that a device holds, in standard deviations of the noise."""
    noise = found.noise or 1e-9
    way = 1.0 if found.touched > found.rest else -1.0
    return way * (threshold - found.rest) / noise, way * (found.touched - threshold) / noise


def _plain(found: SuggestedThreshold, threshold: float | None) -> dict[str, Any]:
    return {
        "threshold": found.threshold, "hysteresis": found.hysteresis, "rest": found.rest,
        "touched": found.touched, "noise": found.noise,
        "margins": [found.below, found.above], "ok": found.ok,
        "held": threshold, "held_margins": None if threshold is None else list(_margins(found, threshold)),
    }  # fmt: skip


def _print(known: Mapping[str, SuggestedThreshold], thresholds: Mapping[str, float]) -> None:
    from leitwerk.cli.printing import print_columns

    if not known:
        click.echo("no channel was touched long enough")
        return
    rows = []
    for name, one in known.items():
        held = thresholds.get(name)
        now = (
            ""
            if held is None
            else f"{held:g} ({', '.join(f'{m:.0f}' for m in _margins(one, held))})"
        )
        rows.append(
            (name, f"{one.rest:.5g}", f"{one.noise:.2g}", f"{one.touched:.5g}", f"{one.threshold:.4g}",
             f"{one.hysteresis:.3g}", f"{one.below:.0f}, {one.above:.0f}", now)
        )  # fmt: skip
    heads = (
        "Channel",
        "Rest",
        "Noise",
        "Touched",
        "Threshold",
        "Hysteresis",
        "Margins",
        "Held (margins)",
    )
    print_columns(heads, rows)
    click.echo("margins: in standard deviations of the noise, to rest and to response")
