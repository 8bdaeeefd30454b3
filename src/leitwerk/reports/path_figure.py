"""The figure of paths: which transmitters reach a receiver directly, and which over which relays."""

from __future__ import annotations

from pathlib import Path as FilePath
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.reports.canvas import BLUE, GREEN, GREY, ORANGE, VERMILION, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from leitwerk.commissioning.place_list import ListedPlace, PlaceList
    from leitwerk.wireless.air import Path

_INKS = (VERMILION, GREEN, ORANGE, "#CC79A7", "#56B4E9")  # of relays; what is direct is blue
_DASHES = ("-", "--", ":")  # of the ways over one relay
_LEFT, _RELAYS, _RIGHT = 0.36, 0.66, 0.93  # where names end, where relays stand, and the receiver
_WIDEST = 5.0  # points, of the line of most telegrams
_FEW_LINES = 24
_NOT_BOUND = "not bound"


def draw_paths(listed: PlaceList, path: str | FilePath) -> None:
    """Draw the paths into a PNG or SVG file: a line for each transmitter and path, wider for more telegrams.

    Raises
    ------
    FileProblem
        The file cannot be written.

    """
    paths, lines = list(listed.paths()), _lines(listed)
    relays = _heights(sorted({one.relay for one in paths} - {0}))
    styles = _styles(paths)
    figure = new_figure()
    axes = figure.add_axes((0.01, 0.06, 0.98, 0.86))
    axes.set(xlim=(0, 1), ylim=(-0.04, 1.04))
    axes.axis("off")
    most = max((count for one in listed.places for count in _counts(one).values()), default=1)
    size = 11 if len(lines) <= _FEW_LINES else 8
    for y, (name, over) in zip(np.linspace(1.0, 0.0, max(2, len(lines))), lines, strict=False):
        ink = GREY if not over or _NOT_BOUND in name else "black"
        axes.text(_LEFT - 0.01, y, name, ha="right", va="center", fontsize=size, color=ink)
        for one, count in over.items():
            ends = (_RELAYS, relays[one.relay]) if one.relay else (_RIGHT, 0.5)
            width = min(_WIDEST, max(0.8, _WIDEST * count / most))
            _line(axes, (_LEFT, float(y)), ends, styles[one], width)
    for relay, y in relays.items():
        own = [one for one in paths if one.relay == relay]
        _line(axes, (_RELAYS, y), (_RIGHT, 0.5), styles[own[0]], _WIDEST)
        counted = [f"{one.way}: {_telegrams(lines, one)} telegrams" for one in own]
        _box(axes, _RELAYS, y, "\n".join([f"relay {relay}", *counted]), styles[own[0]][0])
    _box(axes, _RIGHT, 0.5, listed.receiver.replace(" ", "\n", 1), GREY)
    for one, (ink, dash) in styles.items():
        axes.plot([], [], color=ink, linestyle=dash, linewidth=2.0, label=str(one))
    if styles:
        figure.legend(loc="lower center", ncols=len(styles), frameon=False)
    figure.suptitle(
        f"{listed.receiver}: paths of {listed.bound} bound transmitters, "
        f"and of {len(listed.strangers)} that are not bound",
        fontsize=13,
    )
    save(figure, path)


def _lines(listed: PlaceList) -> list[tuple[str, dict[Path, int]]]:
    """Names with their telegrams over each path, ordered by relays; those that are not bound at the end."""
    lines = [(_name(entry), _counts(entry)) for entry in listed.places]
    lines.sort(key=lambda line: min((one.relay for one in line[1]), default=1_000))
    return lines + [
        (f"{use.strangers} {_NOT_BOUND}, {one}", {one: use.of_strangers})
        for one, use in listed.paths().items()
        if use.strangers
    ]


def _name(entry: ListedPlace) -> str:
    waits = not entry.number and not entry.label
    remark = " (waits)" if waits else "" if entry.heard is not None else " (not heard)"
    return f"{entry.place}  {entry.name}{remark}"


def _counts(entry: ListedPlace) -> dict[Path, int]:
    return {} if entry.heard is None else {p: c.times for p, c in entry.heard.paths.items()}


def _telegrams(lines: list[tuple[str, dict[Path, int]]], path: Path) -> int:
    return sum(over.get(path, 0) for _, over in lines)


def _heights(relays: list[int]) -> dict[int, float]:
    """Where relays stand: by turns above and below the middle, where the direct lines end."""
    steps = 0.35 / max(1, (len(relays) + 1) // 2 - 1) if len(relays) > 2 else 0.0
    return {
        relay: 0.85 - steps * (k // 2) if k % 2 == 0 else 0.15 + steps * (k // 2)
        for k, relay in enumerate(relays)
    }


def _styles(paths: list[Path]) -> dict[Path, tuple[str, str]]:
    """Colour and dashes of each path: a colour for each relay, dashes for each further way over it."""
    relays = sorted({one.relay for one in paths} - {0})
    found: dict[Path, tuple[str, str]] = {}
    for one in paths:
        before = sum(other.relay == one.relay for other in found)
        ink = _INKS[relays.index(one.relay) % len(_INKS)] if one.relay else BLUE
        found[one] = ink, _DASHES[before % len(_DASHES)]
    return found


def _line(
    axes: Axes,
    begin: tuple[float, float],
    end: tuple[float, float],
    style: tuple[str, str],
    width: float,
) -> None:
    xs, ys = zip(begin, end, strict=True)
    ink, dash = style
    axes.plot(xs, ys, color=ink, linestyle=dash, linewidth=width, alpha=0.6)


def _box(axes: Axes, x: float, y: float, text: str, ink: str) -> None:
    axes.text(
        x, y, text, ha="center", va="center", fontsize=11,
        bbox={"boxstyle": "round,pad=0.5", "facecolor": "white", "edgecolor": ink, "linewidth": 1.8},
    )  # fmt: skip
