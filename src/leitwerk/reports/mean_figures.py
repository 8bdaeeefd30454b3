"""Figures of means: the bands of a spectrum as bars, and phasors."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from textwrap import wrap
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.levels import BAND_NAME, level_of, powers
from leitwerk.analysis.summary import usual_interval, weights
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import parse_quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.reports.canvas import BLUE, GREEN, ORANGE, VERMILION
from leitwerk.reports.time_figure import Trace

if TYPE_CHECKING:
    from matplotlib.figure import Figure
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_ANGLE = "_angle"
_COLOURS = (BLUE, VERMILION, GREEN, ORANGE)


def fill_means(figure: Figure, form: str, traces: Sequence[Trace], *, title: str) -> None:
    """Draw means over the time of a recording on a figure, in place of what is on it.

    Parameters
    ----------
    figure : matplotlib.figure.Figure
    form : str
        ``bands``: bars over the mid frequency; channels whose name ends with one (``band_63_Hz``,
        ``l_1_kHz``), all in one unit. Of levels, the mean of their powers; with the highest as a line.
        ``phasors``: arrows; of each channel ``NAME_angle`` in ° with its magnitude ``NAME``.
    traces : sequence of Trace
    title : str

    Raises
    ------
    QuantityError
        No channels are such, or there is no such form.

    """
    if form not in FORMS:
        raise QuantityError(f"there is no figure {form[:30]!r}", valid=", ".join(FORMS))
    figure.clear()
    FORMS[form](figure, traces)
    figure.suptitle(title, fontsize=13)
    figure.tight_layout()


def band_means(traces: Sequence[Trace]) -> tuple[list[float], list[float], list[float], str]:
    """The bands of a spectrum: mid frequencies in Hz, rising; mean and highest value of each; their unit.

    Raises
    ------
    QuantityError
        No channel is named after a frequency, or they have several units.

    """
    bands = []
    for trace in traces:
        match = BAND_NAME.fullmatch(trace.name)
        if match is not None:
            number = match[1].replace(",", ".").replace("_", ".")
            unit = match[2].lower().replace("hz", "Hz")
            frequency = parse_quantity(f"{number} {unit}").value_in(parse_unit("Hz"))
            bands.append((frequency, trace))
    units = {str(trace.channel.unit) for _, trace in bands}
    if len(units) != 1:
        what = (
            "no channel is the band of a spectrum" if not bands else "the bands have several units"
        )
        raise QuantityError(what, valid="channels of one unit, named band_63_Hz, band_1_kHz, …")
    (unit,) = units
    bands.sort(key=lambda band: band[0])
    means = [_mean(trace, is_level=unit == "dB") for _, trace in bands]
    highest = [float(np.nanmax(trace.values, initial=-np.inf)) for _, trace in bands]
    return [frequency for frequency, _ in bands], means, highest, unit


def phasors(traces: Sequence[Trace]) -> Mapping[str, tuple[complex, str]]:
    """The mean phasor of each channel that has an angle beside it, with its unit.

    Raises
    ------
    QuantityError
        No channel has one.

    """
    known = {trace.name: trace for trace in traces}
    found = {}
    for name, trace in known.items():
        angle = known.get(f"{name}{_ANGLE}")
        if angle is not None and str(angle.channel.unit) == "°":
            turned = trace.values * np.exp(1j * np.deg2rad(angle.values))
            good = np.isfinite(turned)
            if good.any():
                spent = weights(trace.times_s, usual_interval(trace.times_s))[good]
                mean = np.average(turned[good], weights=spent if spent.sum() else None)
                found[name] = complex(mean), str(trace.channel.unit)
    if not found:
        raise QuantityError("no channel is a phasor", valid="u1 in V with u1_angle in °")
    return found


def _mean(trace: Trace, *, is_level: bool) -> float:
    good = np.isfinite(trace.values)
    if not good.any():
        return float("nan")
    values = trace.values[good]
    spent = weights(trace.times_s, usual_interval(trace.times_s))[good]
    even = spent if spent.sum() else None
    if is_level:
        return level_of(float(np.average(powers(values), weights=even)))
    return float(np.average(values, weights=even))


def _draw_bands(figure: Figure, traces: Sequence[Trace]) -> None:
    frequencies, means, highest, unit = band_means(traces)
    axes = figure.subplots()
    places = np.arange(len(frequencies))
    low = min(0.0, *means) if unit != "dB" else float(np.floor(min(means) / 10.0) * 10.0 - 10.0)
    axes.bar(places, np.array(means) - low, bottom=low, color=BLUE, alpha=0.8, label="mean")
    axes.plot(
        places, highest, "_", color=VERMILION, markersize=18, markeredgewidth=2, label="highest"
    )
    axes.set_xticks(places, [_short(f) for f in frequencies])
    axes.set_xlabel("mid frequency in Hz")
    axes.set_ylabel(unit)
    axes.grid(visible=True, axis="y", alpha=0.3)
    axes.legend(loc="upper right")


def _short(frequency: float) -> str:
    return f"{frequency / 1000.0:g}k" if frequency >= 1000.0 else f"{frequency:g}"


def fill_phasors(
    figure: Figure,
    found: Mapping[str, tuple[complex, str]],
    *,
    title: str,
    remarks: Sequence[str] = (),
) -> None:
    """Draw phasors with their units as arrows, with some lines of text below.

    Parameters
    ----------
    figure : matplotlib.figure.Figure
    found : mapping of str to (complex, str)
    title : str
    remarks : sequence of str

    """
    figure.clear()
    _draw_arrows(figure, found)
    figure.suptitle(title, fontsize=13)
    lines = [line for text in remarks for line in wrap(text, 120)]
    figure.tight_layout(rect=(0.0, 0.03 + 0.03 * len(lines), 1.0, 1.0))
    figure.text(0.04, 0.02, "\n".join(lines), fontsize=10, va="bottom")


def _draw_phasors(figure: Figure, traces: Sequence[Trace]) -> None:
    _draw_arrows(figure, phasors(traces))


def _draw_arrows(figure: Figure, found: Mapping[str, tuple[complex, str]]) -> None:
    axes = figure.subplots(subplot_kw={"projection": "polar"})
    units = list(dict.fromkeys(unit for _, unit in found.values()))
    longest = {unit: max(abs(p) for p, own in found.values() if own == unit) for unit in units}
    drawn = dict.fromkeys(units, 0)
    for name, (phasor, unit) in found.items():
        # Each quantity has its own length, or the currents would not be seen beside the voltages.
        part = 1.0 - 0.3 * (units.index(unit) % 3)
        length = part * abs(phasor) / (longest[unit] or 1.0)
        angle = float(np.angle(phasor))
        # Those of one phase have one colour.
        colour = _COLOURS[drawn[unit] % len(_COLOURS)]
        drawn[unit] += 1
        arrow = {"arrowstyle": "-|>", "color": colour, "linewidth": 2}
        axes.annotate("", xy=(angle, length), xytext=(0.0, 0.0), arrowprops=arrow)
        plate = {"facecolor": "white", "edgecolor": "none", "pad": 1.0, "alpha": 0.85}
        axes.text(angle, length + 0.08, name, color=colour, ha="center", va="center", bbox=plate)
        text = f"{name} {abs(phasor):.4g} {unit}, {np.rad2deg(angle):.1f}°"
        axes.plot([], [], color=colour, label=text)
    axes.set_ylim(0.0, 1.15)
    around = range(0, 360, 45)
    axes.set_xticks(np.deg2rad(around), [f"{a if a <= 180 else a - 360}°" for a in around])
    axes.set_yticklabels([])
    axes.legend(loc="center left", bbox_to_anchor=(1.08, 0.5))


FORMS: Mapping[str, Callable[[Figure, Sequence[Trace]], None]] = {
    "bands": _draw_bands,
    "phasors": _draw_phasors,
}
