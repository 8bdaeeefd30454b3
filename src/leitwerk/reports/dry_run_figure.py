"""The figure of a dry run: values with trip and clear lines, and a strip of states for each alarm."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.alarms.definition import Watch
from leitwerk.alarms.states import State
from leitwerk.reports.canvas import BLUE, GREEN, GREY, ORANGE, VERMILION, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from numpy.typing import NDArray

    from leitwerk.alarms.timeline import Timeline
    from leitwerk.evaluation.dry_run import DryRun, Track

_MOST = 6  # channels that can be read on one page
_POINTS = 4000
_COLOURS = {
    State.NORMAL: "#DDE5DD",
    State.PENDING: "#F0E442",
    State.UNACKNOWLEDGED: VERMILION,
    State.ACKNOWLEDGED: ORANGE,
    State.RETURNED: "#CC79A7",
    State.LATCHED: "#CC79A7",
    State.LATCHED_ACKNOWLEDGED: "#E8C6D9",
    State.SHELVED: "#56B4E9",
    State.SUPPRESSED: "#999999",
    State.OUT_OF_SERVICE: "#333333",
}


def draw_dry_run(rehearsal: DryRun, path: str | Path) -> None:
    """Draw the channels whose alarms changed (else all with alarms) into a PNG file.

    Raises
    ------
    FileProblem
        The file cannot be written.

    """
    tracks = [t for t in rehearsal.tracks if t.timelines]
    moved = [t for t in tracks if any(line.state.size for line in t.timelines)]
    shown = (moved or tracks or list(rehearsal.tracks))[:_MOST]
    figure = new_figure()
    if not shown:
        figure.text(0.5, 0.5, "no channel has a course or an alarm", ha="center")
        save(figure, path)
        return
    heights = [h for t in shown for h in (3.0, max(0.35 * len(t.timelines), 0.05))]
    grid = figure.subplots(
        2 * len(shown), 1, squeeze=False, sharex=True, gridspec_kw={"height_ratios": heights}
    )
    factor, unit = _time_axis(rehearsal.times_s)
    for k, track in enumerate(shown):
        _draw_values(grid[2 * k][0], track, rehearsal.times_s * factor)
        _draw_strips(grid[2 * k + 1][0], track.timelines, rehearsal.times_s * factor)
    grid[-1][0].set_xlabel(f"time since start in {unit}")
    grid[-1][0].tick_params(labelbottom=True)
    used = sorted({s for t in shown for line in t.timelines for s in (0, *line.state.tolist())})
    handles = [
        figure.gca().barh([0], [0], color=_COLOURS[State(s)], label=State(s).words) for s in used
    ]
    figure.legend(handles=handles, loc="lower center", ncols=len(used), frameon=False, fontsize=10)
    figure.suptitle(f"{rehearsal.title}: dry run of the alarms", fontsize=13)
    figure.tight_layout(rect=(0.0, 0.05, 1.0, 1.0), h_pad=0.6)
    save(figure, path)


def _time_axis(times_s: NDArray[np.float64]) -> tuple[float, str]:
    length = float(times_s[-1] - times_s[0]) if times_s.size else 0.0
    for unit, seconds in (("d", 86_400.0), ("h", 3600.0), ("min", 60.0)):
        if length >= 3 * seconds:
            return 1.0 / seconds, unit
    return 1.0, "s"


def _draw_values(axes: Axes, track: Track, times: NDArray[np.float64]) -> None:
    step = max(1, times.size // _POINTS)
    axes.plot(times[::step], track.values[::step], color=BLUE, linewidth=1.2)
    unit = track.channel.unit.symbol
    for line in track.timelines:
        alarm = line.alarm
        if alarm.watch is not Watch.VALUE or track.channel.states is not None:
            continue
        for trip, clear in zip(alarm.trip, alarm.clear, strict=True):
            if math.isinf(trip):
                continue
            axes.axhline(trip, color=VERMILION, linewidth=1)
            above = clear <= trip
            text = f"{alarm.name} trips at {trip:g} {unit}"
            _label(axes, trip, text, VERMILION, above=above)
            if clear != trip:
                axes.axhline(clear, color=GREEN, linewidth=1, linestyle="--")
                _label(axes, clear, f"clears at {clear:g} {unit}", GREEN, above=not above)
    axes.set_title(track.channel.label, fontsize=11, loc="left")
    axes.set_ylabel(unit)
    axes.margins(x=0.0, y=0.15)
    axes.grid(visible=True, alpha=0.3)


def _label(axes: Axes, at: float, text: str, colour: str, *, above: bool) -> None:
    axes.annotate(
        text, (1.0, at), xycoords=("axes fraction", "data"), xytext=(-6, 3 if above else -3),
        textcoords="offset points", ha="right", va="bottom" if above else "top", fontsize=9, color=colour,
    )  # fmt: skip


def _draw_strips(axes: Axes, lines: tuple[Timeline, ...], times: NDArray[np.float64]) -> None:
    end = times[-1] if times.size else 1.0
    for row, line in enumerate(lines):
        starts = [times[0], *times[line.sample].tolist()] if times.size else []
        states = [int(State.NORMAL), *line.state.tolist()]
        spans = [
            (begin, until - begin) for begin, until in zip(starts, [*starts[1:], end], strict=True)
        ]
        colours = [_COLOURS[State(state)] for state in states]
        axes.broken_barh(spans, (row + 0.1, 0.8), facecolors=colours)
    axes.set_yticks([k + 0.5 for k in range(len(lines))], [line.alarm.name for line in lines])
    axes.tick_params(axis="y", length=0, labelsize=9)
    axes.set_ylim(len(lines), 0)
    for side in ("top", "right", "bottom", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="x", labelbottom=False, color=GREY)
