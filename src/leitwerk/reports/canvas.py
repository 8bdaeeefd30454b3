"""What all figures share: size, colours, saving."""

from __future__ import annotations

from pathlib import Path

from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from leitwerk.errors import FileProblem

_DPI = 100
_SIZE_PX = (1280, 800)
# Colours that people with red-green colour blindness can distinguish (Okabe and Ito 2008).
BLUE, VERMILION, GREEN, GREY, ORANGE = "#0072B2", "#D55E00", "#009E73", "#555555", "#E69F00"


def new_figure(height_px: int = _SIZE_PX[1]) -> Figure:
    """An empty figure of 1280 x 800 pixels, or of another height."""
    figure = Figure(figsize=(_SIZE_PX[0] / _DPI, height_px / _DPI), dpi=_DPI)
    FigureCanvasAgg(figure)
    return figure


def save(figure: Figure, path: str | Path) -> None:
    """Write a figure as PNG, or as SVG where the name ends with .svg.

    Raises
    ------
    FileProblem
        The file cannot be written.

    """
    try:
        figure.savefig(path, format="svg" if Path(path).suffix == ".svg" else "png")
    except OSError as error:
        reason = error.strerror or type(error).__name__
        raise FileProblem(
            f"cannot write {path}: {reason}", remedy="is the folder there?"
        ) from error
