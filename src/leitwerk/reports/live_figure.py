"""The figure of a live check: values against their expectations."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING

from leitwerk.evaluation.verdict import ChannelReport, Verdict
from leitwerk.reports.canvas import BLUE, GREEN, GREY, VERMILION, new_figure, save
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    import numpy as np
    from matplotlib.axes import Axes
    from numpy.typing import NDArray

    from leitwerk.commissioning.live_report import LiveReport

_COLOURS = {
    Verdict.PASS: BLUE,
    Verdict.FAIL: VERMILION,
    Verdict.NO_READING: VERMILION,
    Verdict.NO_EXPECTATION: GREY,
}


def draw_report(report: LiveReport, path: str | Path) -> None:
    """Draw every channel over time, with its expectation as a band, into a PNG file.

    Raises
    ------
    FileProblem
        The file cannot be written.

    """
    figure = new_figure()
    count = max(1, len(report.channels))
    columns = min(3, count) if count <= 9 else math.ceil(math.sqrt(count))
    rows = math.ceil(count / columns)
    grid = figure.subplots(rows, columns, squeeze=False, sharex=True)
    cells = list(grid.flat)
    for column, (channel, axes) in enumerate(zip(report.channels, cells, strict=False)):
        _draw_channel(
            axes, channel, report.times_s, report.values[:, column], report.qualities[:, column]
        )
    for axes in cells[len(report.channels) :]:
        axes.set_visible(False)
    for axes in cells[max(0, len(report.channels) - columns) : len(report.channels)]:
        axes.set_xlabel("time since start in s")
        axes.tick_params(labelbottom=True)
    figure.suptitle(f"{report.title}\n{report.summary()}", fontsize=13)
    figure.align_ylabels()
    figure.tight_layout(h_pad=2.0, w_pad=1.5)
    save(figure, path)


def _draw_channel(
    axes: Axes,
    channel: ChannelReport,
    times: NDArray[np.float64],
    values: NDArray[np.float64],
    qualities: NDArray[np.uint8],
) -> None:
    colour = _COLOURS[channel.verdict]
    good = qualities == Quality.GOOD
    if channel.expected is not None and channel.tolerance is not None:
        axes.axhspan(
            channel.expected - channel.tolerance,
            channel.expected + channel.tolerance,
            color=GREEN,
            alpha=0.18,
            linewidth=0,
        )
        axes.axhline(channel.expected, color=GREEN, linewidth=1)
    axes.plot(times[good], values[good], color=colour, marker=".", markersize=4, linewidth=1.2)
    if channel.states is not None:
        numbers = channel.states.numbers
        axes.set_ylim(min(numbers) - 0.2, max(numbers) + 0.2)
        axes.set_yticks(numbers, channel.states.names)
    else:
        axes.set_ylabel(channel.unit)
        axes.margins(y=0.25)
    axes.set_title(f"{channel.label}: {channel.verdict.value}", fontsize=11, color=colour)
    axes.grid(visible=True, alpha=0.3)
    if not good.any():
        axes.text(
            0.5, 0.5, channel.quality, transform=axes.transAxes, ha="center", va="center",
            color=colour, fontsize=12, bbox={"facecolor": "white", "edgecolor": colour},
        )  # fmt: skip
