"""Pictures made of characters: a text that can be read across a room, and a coarse curve."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.reduction import extremes

if TYPE_CHECKING:
    from numpy.typing import NDArray

# A character of Braille has two columns of four dots.
_BRAILLE, _ACROSS, _DOWN = 0x2800, 2, 4
_DOTS = np.array([[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]])
_HALVES = (" ", "▀", "▄", "█")  # nothing, the upper half, the lower half, both
_LEAST_HEIGHT = 4
_GAP = 5.0  # usual intervals, from which on samples are not joined


@lru_cache(maxsize=64)
def big_text(text: str, width: int, height: int) -> tuple[str, ...]:
    """A text as large as it fits into so many characters; as it is where it does not fit larger.

    Examples
    --------
    >>> len(big_text("21.5 °C", 60, 10)) <= 10
    True

    """
    from PIL import Image, ImageDraw, ImageFont  # noqa: PLC0415 - takes long to load

    for size in range(2 * height, _LEAST_HEIGHT, -1):
        font = ImageFont.load_default(size)
        left, top, right, bottom = (round(x) for x in font.getbbox(text))
        if right - left <= width and bottom - top <= 2 * height:
            picture = Image.new("L", (right - left, bottom - top + (bottom - top) % 2))
            ImageDraw.Draw(picture).text((-left, -top), text, fill=255, font=font)
            dots = np.asarray(picture) > 110
            return _half_blocks(dots)
    return (text[:width],)


def _half_blocks(dots: NDArray[np.bool_]) -> tuple[str, ...]:
    """Two rows of dots in each line of characters."""
    pairs = dots[0::2].astype(np.intp) + 2 * dots[1::2]
    return tuple("".join(_HALVES[k] for k in row).rstrip() for row in pairs)


def _on_line(
    times_s: NDArray[np.float64], values: NDArray[np.float64], moments: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Values at some moments, on lines between samples; none beside a sample without a value, or in a gap."""
    usual = float(np.median(np.diff(times_s))) if times_s.size > 1 else 0.0
    after = np.clip(np.searchsorted(times_s, moments), 1, max(1, times_s.size - 1))
    if times_s.size == 1:
        return moments, np.full(moments.size, values[0])
    begin, end = times_s[after - 1], times_s[after]
    share = (moments - begin) / np.maximum(end - begin, 1e-12)
    found = values[after - 1] + (values[after] - values[after - 1]) * np.clip(share, 0.0, 1.0)
    return moments, np.where(end - begin > _GAP * usual, np.nan, found)


def curve_lines(
    times_s: NDArray[np.float64], values: NDArray[np.float64], width: int, height: int
) -> list[str]:
    """A coarse curve in so many characters, with its ends written beside it.

    Parameters
    ----------
    times_s, values : arrays of shape (n,)
        NaN where there is no value: nothing is drawn there.
    width, height : int
        In characters.

    """
    good = values[np.isfinite(values)]
    if not good.size or height < 1:
        return []
    low, high = float(good.min()), float(good.max())
    labels = [f"{high:.6g}", f"{low:.6g}"]
    margin = max(map(len, labels)) + 1
    columns, rows = _ACROSS * max(1, width - margin), _DOWN * height
    begin_s, end_s = float(times_s[0]), max(float(times_s[-1]), float(times_s[0]) + 1e-9)
    if times_s.size < columns:  # few samples: the line between them
        times_s, values = _on_line(times_s, values, np.linspace(begin_s, end_s, columns))
    least, most = extremes(times_s, values, begin_s, end_s, columns)
    scale = (rows - 1) / (high - low) if high > low else 0.0
    middle = 0.0 if scale else (rows - 1) / 2.0
    dots = np.zeros((rows, columns), bool)
    before = None
    for column in range(columns):
        if not math.isfinite(least[column]):
            before = None
            continue
        first = round(rows - 1 - middle - (most[column] - low) * scale)
        last = round(rows - 1 - middle - (least[column] - low) * scale)
        ends = (first, last)
        if before is not None:  # joined to what stands beside it
            first, last = min(first, before[1]), max(last, before[0])
        dots[first : last + 1, column] = True
        before = ends
    cells = dots.reshape(height, _DOWN, columns // _ACROSS, _ACROSS).transpose(0, 2, 1, 3)
    codes = _BRAILLE + (cells * _DOTS).sum(axis=(2, 3))
    lines = []
    for k, row in enumerate(codes.tolist()):
        label = labels[0] if k == 0 else labels[1] if k == height - 1 and height > 1 else ""
        lines.append(
            f"{label:>{margin - 1}} " + "".join(map(chr, row)).replace(chr(_BRAILLE), " ").rstrip()
        )
    return lines
