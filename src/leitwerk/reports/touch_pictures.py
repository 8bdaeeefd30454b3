"""Pictures of channels that are touched, made of characters: bars, and one channel over time."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from leitwerk.lots.touches import Touches
from leitwerk.reports.terminal_pictures import curve_lines

_BAR = 40  # characters
_ROWS = 12
_BESIDE = 50  # characters beside a bar
_SPAN = 1.25  # of a bar, in deviations of the threshold


def bar_lines(
    touches: Touches, thresholds: Mapping[str, float], width: int
) -> Iterator[tuple[str, bool]]:
    """Each channel as a bar from its baseline, with its threshold; whether it is beyond that.

    Bars of channels with a threshold have one scale, so that fingers can be compared.
    """
    cells = max(10, min(_BAR, width - _BESIDE))
    yield f"{'channel':16} {'value':>9} {'change':>9} {'from baseline':{cells}}  │: threshold", True
    shared = [
        _full(touches, k, thresholds[n]) for k, n in enumerate(touches.names) if n in thresholds
    ]
    for k, name in enumerate(touches.names):
        threshold = thresholds.get(name)
        full = _full(touches, k, None) if threshold is None else max(shared)
        yield _bar(touches, k, threshold, full, cells)


def _full(touches: Touches, column: int, threshold: float | None) -> float:
    """The deviation that fills a bar."""
    away = 0.0 if threshold is None else abs(threshold - float(touches.baseline[column]))
    noise = float(touches.noise[column])
    return max(float(touches.largest[column]), away * _SPAN, 10.0 * noise, 1e-9)


def _bar(
    touches: Touches, column: int, threshold: float | None, full: float, cells: int
) -> tuple[str, bool]:
    name, value = touches.names[column], float(touches.last[column])
    deviation, base = float(touches.deviation[column]), float(touches.baseline[column])
    deviation = 0.0 if abs(deviation) < 1e-9 * abs(base) else deviation  # of the last digit
    away = 0.0 if threshold is None else threshold - base
    filled = 0 if math.isnan(deviation) else min(cells, round(abs(deviation) / full * cells))
    text = "█" * filled + " " * (cells - filled)
    if threshold is not None:
        at = min(cells - 1, round(abs(away) / full * cells))
        text = f"{text[:at]}│{text[at + 1 :]}"
    is_over = threshold is not None and abs(deviation) >= abs(away)
    word = "TOUCHED" if is_over else ""
    return f"{name[:16]:16} {value:9.5g} {deviation:+9.4g} {text} {word}".rstrip(), is_over


def curve_of_touch(
    touches: Touches,
    threshold: float | None,
    history: Sequence[tuple[float, float]],
    width: int,
) -> Iterator[str]:
    """The one channel over time, with its baseline and threshold, its numbers, and what is suggested.

    Parameters
    ----------
    touches : Touches
        Of one channel.
    threshold : float, optional
    history : sequence of pairs
        Time in s and value.
    width : int
        In characters.

    """
    name, base = touches.names[0], float(touches.baseline[0])
    times, values = np.array(history).T
    wide = max(30, width - 14)
    lines = curve_lines(times, values, wide, _ROWS)
    low, high = float(np.nanmin(values)), float(np.nanmax(values))
    for mark, value in (("baseline", base), ("threshold", threshold)):
        if value is not None and low <= value <= high and high > low and lines:
            row = min(len(lines) - 1, int((high - value) / (high - low) * len(lines)))
            lines[row] = _marked(lines[row], mark, wide)
    yield from lines
    held = "" if threshold is None else f", threshold {threshold:g}"
    is_over = threshold is not None and abs(touches.deviation[0]) >= abs(threshold - base)
    yield (
        f"{name} {touches.last[0]:.5g}, baseline {base:.5g} ± {touches.noise[0]:.2g}{held}"
        f"{', TOUCHED' if is_over else ''}"
    )
    found = touches.suggestion(name)
    if found is not None:
        yield f"suggested: threshold {found.threshold:.4g}, hysteresis {found.hysteresis:.3g}"


def _marked(line: str, mark: str, width: int) -> str:
    """A line of the curve with a mark at its height, where nothing else is drawn."""
    head = len(line) - len(line.lstrip(" 0123456789.-+e"))
    body = line[head:].replace("\u2800", " ").ljust(width - head)
    return f"{line[:head]}{body.replace(' ', '·')} {mark}"
