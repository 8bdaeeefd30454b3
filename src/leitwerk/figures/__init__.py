"""Figures as PNG files. Matplotlib is loaded when one is drawn."""

from leitwerk.figures.live import draw_report
from leitwerk.figures.rehearsal import draw_rehearsal
from leitwerk.figures.scale import draw_scale

__all__ = ["draw_rehearsal", "draw_report", "draw_scale"]
