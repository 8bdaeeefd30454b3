"""The figure of a channel's scale: its curve with range, alarms, expectation and the present point."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.evaluation.signal_chain import curve_points
from leitwerk.reports.canvas import BLUE, GREEN, GREY, ORANGE, VERMILION, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from leitwerk.check.channels import SignalChannel
    from leitwerk.evaluation.signal_chain import Explanation


def draw_scale(channel: SignalChannel, explanation: Explanation, path: str | Path) -> None:
    """Draw the scale of a channel into a PNG file: the whole range, and what matters close up.

    Raises
    ------
    FileProblem
        The file cannot be written.

    """
    figure = new_figure()
    whole, near = figure.subplots(1, 2)
    signals, values = curve_points(channel, explanation)
    for axes in (whole, near):
        axes.plot(signals, values, color=BLUE, linewidth=1.6, label="scale")
        _draw_marks(axes, explanation)
        axes.set_xlabel(f"signal in {explanation.signal_unit}")
        axes.set_ylabel(f"{explanation.label} in {explanation.unit or '1'}")
        axes.grid(visible=True, alpha=0.3)
    if channel.range is not None:
        per = channel.measurement.axis.per_typed if channel.measurement.axis else 1.0
        for end in (channel.range.low, channel.range.high):
            whole.axvline(end / per, color=GREY, linestyle=":", linewidth=1.1)
    whole.set_title("over the whole range (dotted: its ends)", fontsize=11)
    near.set_title("what is expected and watched", fontsize=11)
    _zoom(near, explanation)
    value = "no value" if explanation.value is None else f"{explanation.value:.5g}"
    figure.suptitle(
        f"{explanation.channel}: {explanation.signal:.5g} {explanation.signal_unit} reads {value} "
        f"{explanation.unit} ({explanation.quality}), range {channel.range}",
        fontsize=13,
    )
    handles, labels = near.get_legend_handles_labels()
    unique = dict(zip(labels, handles, strict=True))
    figure.legend(
        unique.values(), unique.keys(), loc="lower center", ncols=len(unique), frameon=False
    )
    figure.tight_layout(rect=(0, 0.05, 1, 1), w_pad=2.0)
    save(figure, path)


def _draw_marks(axes: Axes, explanation: Explanation) -> None:
    ends = [mark.value for mark in explanation.marks if mark.what in {"from", "to"}]
    if ends:
        axes.axhspan(min(ends), max(ends), color=GREEN, alpha=0.18, linewidth=0, label="expected")
    for mark in explanation.marks:
        if mark.what in {"from", "to"}:
            continue
        trips = mark.what.startswith("trips")
        colour, style = (VERMILION, "-") if trips else (ORANGE, "--")
        label = f"{mark.name.removeprefix('alarm ')} {mark.what}"
        axes.axhline(mark.value, color=colour, linestyle=style, linewidth=1.1, label=label)
        if mark.signal is not None:
            axes.plot([mark.signal], [mark.value], color=colour, marker="o", markersize=5)
    if explanation.value is not None:
        axes.plot(
            [explanation.signal], [explanation.value], color=GREY, marker="D", markersize=8,
            linestyle="none", label="now",
        )  # fmt: skip


def _zoom(axes: Axes, explanation: Explanation) -> None:
    points = [(m.signal, m.value) for m in explanation.marks if m.signal is not None]
    if explanation.value is not None:
        points.append((explanation.signal, explanation.value))
    if len(points) < 2:
        return
    x, y = np.array(points).T
    for low, high, limit in ((x.min(), x.max(), axes.set_xlim), (y.min(), y.max(), axes.set_ylim)):
        margin = 0.2 * (high - low) or 1.0
        limit(low - margin, high + margin)
