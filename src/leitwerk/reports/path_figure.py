"""The figure of paths: which transmitters reach a receiver directly, and which over which relays."""

from __future__ import annotations

from pathlib import Path as FilePath
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.reports.canvas import BLUE, GREEN, GREY, ORANGE, VERMILION, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from leitwerk.commissioning.place_list import PlaceList
    from leitwerk.wireless.air import Path

_INKS = (VERMILION, GREEN, ORANGE, "#CC79A7", "#56B4E9")  # of relays; what is direct is blue
_LEFT, _RELAYS, _RIGHT = 0.36, 0.66, 0.93  # where names end, where relays stand, and the receiver
_WIDEST = 5.0  # points, of the line of most telegrams


def draw_paths(listed: PlaceList, path: str | FilePath) -> None:
    """Draw the paths into a PNG or SVG file: a line for each transmitter and path, wider for more telegrams.

    Raises
    ------
    FileProblem
        The file cannot be written.

    """
    paths = listed.paths()
    relays = [one for one in paths if one.relay]
    rows = _rows(listed)
    figure = new_figure()
    axes = figure.add_axes((0.01, 0.03, 0.98, 0.88))
    axes.set(xlim=(0, 1), ylim=(-0.04, 1.04))
    axes.axis("off")
    heights = dict(zip(rows, np.linspace(1.0, 0.0, max(2, len(rows))), strict=False))
    stations = dict(zip(relays, _between(len(relays)), strict=True))
    size = 11 if len(rows) <= 24 else 8
    most = max((count for over in rows.values() for count in over.values()), default=1)
    for name, over in rows.items():
        is_bound = bool(over) and not name.endswith(_STRANGERS)
        axes.text(
            _LEFT - 0.01, heights[name], name, ha="right", va="center", fontsize=size,
            color="black" if is_bound else GREY,
        )  # fmt: skip
        for one, count in over.items():
            ink = _ink(one, relays)
            y = stations.get(one)
            xs = [_LEFT, _RIGHT] if y is None else [_LEFT, _RELAYS, _RIGHT]
            ys = [heights[name], 0.5] if y is None else [heights[name], y, 0.5]
            width = max(0.8, _WIDEST * count / most)
            axes.plot(xs[:2], ys[:2], color=ink, linewidth=width, alpha=0.6, solid_capstyle="butt")
    for one, y in stations.items():
        total = sum(over.get(one, 0) for over in rows.values())
        axes.plot(
            [_RELAYS, _RIGHT], [y, 0.5], color=_ink(one, relays), linewidth=_WIDEST, alpha=0.6
        )
        _box(
            axes, _RELAYS, y, f"relay {one.relay}\n{one.way}, {total} telegrams", _ink(one, relays)
        )
    _box(axes, _RIGHT, 0.5, listed.receiver.replace(" ", "\n", 1), GREY)
    figure.suptitle(
        f"{listed.receiver}: paths of {len(listed.places)} bound transmitters, "
        f"and of {listed.strangers} that are not bound (blue: direct)",
        fontsize=13,
    )
    save(figure, path)


_STRANGERS = "not bound"


def _rows(listed: PlaceList) -> dict[str, dict[Path, int]]:
    """For each line its telegrams over each path; of what is not bound, the transmitters."""
    rows: dict[str, dict[Path, int]] = {}
    for entry in listed.places:
        counts = {} if entry.heard is None else entry.heard.paths
        rows[f"{entry.place}  {entry.name}" + ("" if counts else " (not heard)")] = {
            one: count.times for one, count in counts.items()
        }
    for one, others in listed.strangers_over.items():
        rows[f"{others} over {one}, {_STRANGERS}"] = {one: others}
    return dict(sorted(rows.items(), key=lambda row: min((o.relay for o in row[1]), default=9)))


def _between(count: int) -> list[float]:
    """Heights of so many relays, away from the middle line where there is room."""
    return [0.5] if count == 1 else np.linspace(0.85, 0.15, count).tolist()


def _ink(path: Path, relays: list[Path]) -> str:
    return _INKS[relays.index(path) % len(_INKS)] if path.relay else BLUE


def _box(axes: Axes, x: float, y: float, text: str, ink: str) -> None:
    axes.text(
        x, y, text, ha="center", va="center", fontsize=11,
        bbox={"boxstyle": "round,pad=0.5", "facecolor": "white", "edgecolor": ink, "linewidth": 1.8},
    )  # fmt: skip
