"""The datasheet: what a device model is capable of, and where each setting lives."""

from leitwerk.datasheet.model import (
    Datasheet,
    Input,
    OutputTerminal,
    ProgramLayout,
    Range,
    Terminal,
)
from leitwerk.datasheet.points import Point, PointFamily, Stored
from leitwerk.datasheet.read import parse_datasheet

__all__ = [
    "Datasheet",
    "Input",
    "OutputTerminal",
    "Point",
    "PointFamily",
    "ProgramLayout",
    "Range",
    "Stored",
    "Terminal",
    "parse_datasheet",
]
