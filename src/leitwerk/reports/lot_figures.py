"""Figures of a lot: faults by their number, distributions with their limits, values in the order of test."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.reports.canvas import BLUE, GREY, ORANGE, VERMILION, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from leitwerk.commissioning.lot_results import LotResult, MeasureOfLot

_MOST_FAULTS = 12
_MOST_AXES = 12


def draw_pareto(lot: LotResult, path: str | Path) -> None:
    """Draw the faults, the most frequent first, with their share of all, added up.

    Raises
    ------
    FileProblem
        The file cannot be written.

    """
    save(pareto_figure(lot), path)


def pareto_figure(lot: LotResult) -> Figure:
    """The faults of a lot, the most frequent first, with their share of all, added up."""
    figure = new_figure()
    axes = figure.add_subplot()
    shown = list(lot.pareto[:_MOST_FAULTS])
    more = sum(count for _, count in lot.pareto[_MOST_FAULTS:])
    if more:
        shown.append(("others", more))
    counts = np.array([count for _, count in shown], np.float64)
    places = np.arange(counts.size)
    bars = axes.bar(places, counts, color=BLUE, width=0.75)
    axes.bar_label(bars, labels=[f"{count:.0f}" for count in counts], padding=3)
    axes.set_xticks(places, [fault for fault, _ in shown], rotation=25, ha="right", fontsize=11)
    axes.set_ylabel("units with this as their first fault")
    axes.margins(y=0.12)
    axes.spines[["top", "right"]].set_visible(False)
    if counts.size:
        share = axes.twinx()
        total = np.cumsum(counts) / counts.sum() * 100.0
        share.plot(places, total, color=VERMILION, marker="o", linewidth=1.6)
        share.set_ylim(0.0, 106.0)
        share.set_ylabel("share of all faults, added up, in %", color=VERMILION)
        share.spines[["top", "left"]].set_visible(False)
    low, high = (100.0 * end for end in lot.interval)
    figure.suptitle(
        f"{lot.passed} of {len(lot.records)} units passed: {100.0 * lot.share:.1f} % "
        f"(95 %: {low:.1f} to {high:.1f} %)",
        fontsize=14,
    )
    figure.tight_layout()
    return figure


def draw_distributions(measures: Sequence[MeasureOfLot], title: str, path: str | Path) -> None:
    """Draw the distribution of each measure with its limits, at most twelve of them.

    Raises
    ------
    FileProblem
        The file cannot be written.

    """
    save(distribution_figure(measures, title), path)


def distribution_figure(measures: Sequence[MeasureOfLot], title: str) -> Figure:
    """The distribution of each measure with its limits, at most twelve of them."""
    return _filled(measures, title, _fill_distribution)


def draw_trends(measures: Sequence[MeasureOfLot], title: str, path: str | Path) -> None:
    """Draw the values of each measure in the order of test, with limits and trend, at most twelve of them.

    Raises
    ------
    FileProblem
        The file cannot be written.

    """
    save(_filled(measures, title, _fill_trend), path)


def _filled(
    measures: Sequence[MeasureOfLot], title: str, fill: Callable[[Axes, MeasureOfLot], None]
) -> Figure:
    """A figure with a part for each measure."""
    figure = new_figure()
    for axes, measure in zip(_grid(figure, len(measures)), measures, strict=False):
        fill(axes, measure)
    figure.suptitle(title, fontsize=14)
    figure.tight_layout()
    return figure


def _grid(figure: Figure, count: int) -> list[Axes]:
    count = min(max(1, count), _MOST_AXES)
    columns = math.ceil(math.sqrt(count))
    rows = math.ceil(count / columns)
    return [figure.add_subplot(rows, columns, k + 1) for k in range(count)]


def _fill_distribution(axes: Axes, measure: MeasureOfLot) -> None:
    values = measure.values[np.isfinite(measure.values)]
    ends = [end for end in (measure.low, measure.high) if math.isfinite(end)]
    # What lies far outside would leave the rest no room: it is counted at the edge.
    middle, spread = (
        float(np.median(values)),
        float(np.percentile(values, 84) - np.median(values)) or 1.0,
    )
    near = values[np.abs(values - middle) <= 8.0 * spread]
    low, high = min([near.min(), *ends]), max([near.max(), *ends])
    margin = 0.06 * (high - low) or 1.0
    edges = np.linspace(low - margin, high + margin, 41)
    axes.hist(np.clip(values, edges[0], edges[-1]), bins=edges.tolist(), color=BLUE, alpha=0.8)
    for end in ends:
        axes.axvline(end, color=VERMILION, linewidth=1.6)
    known = measure.capability
    text = ""
    if known is not None:
        low_end, high_end = known.cpk_interval
        text = f", Cpk {known.cpk:.2f} ({low_end:.2f} to {high_end:.2f})"
    axes.set_title(f"{measure.channel or measure.test}{text}", fontsize=10)
    axes.set_xlabel(measure.unit, fontsize=9)
    outside = int((values < edges[0]).sum() + (values > edges[-1]).sum())
    if outside:
        axes.annotate(
            f"{outside} outside", (0.98, 0.9), xycoords="axes fraction", ha="right", color=GREY
        )
    axes.spines[["top", "right"]].set_visible(False)
    axes.tick_params(labelsize=8)


def _fill_trend(axes: Axes, measure: MeasureOfLot) -> None:
    numbers = np.arange(1, measure.values.size + 1)
    axes.plot(numbers, measure.values, ".", color=BLUE, markersize=3)
    for end in (measure.low, measure.high):
        if math.isfinite(end):
            axes.axhline(end, color=VERMILION, linewidth=1.2)
    for place in measure.outliers:
        axes.plot(
            place + 1, measure.values[place], "o", color=ORANGE, markersize=7, fillstyle="none"
        )
    found = measure.trend
    title = measure.channel or measure.test
    if found is not None and found.is_clear:
        title += f": changes by {found.change:.3g} {measure.unit}".rstrip()
    axes.set_title(title, fontsize=10)
    ends = [end for end in (measure.low, measure.high) if math.isfinite(end)]
    known = measure.values[np.isfinite(measure.values)]
    low, high = np.percentile(known, [1, 99])
    spans = [*ends, float(low), float(high)]
    margin = 0.15 * (max(spans) - min(spans)) or 1.0
    axes.set_ylim(min(spans) - margin, max(spans) + margin)
    axes.set_xlabel("unit", fontsize=9)
    axes.spines[["top", "right"]].set_visible(False)
    axes.tick_params(labelsize=8)
