"""The setup: everything that one device is to be told, and everything expected of it afterwards."""

from leitwerk.setup.model import Alarm, Channel, DeviceSection, Setup, parse_setup
from leitwerk.setup.scales import (
    DataSheetFigures,
    Factor,
    Logarithm,
    Pairs,
    Root,
    ScaleText,
    parse_scale,
)
from leitwerk.setup.upkeep import Calibration, Found, TareEntry

__all__ = [
    "Alarm",
    "Calibration",
    "Channel",
    "DataSheetFigures",
    "DeviceSection",
    "Factor",
    "Found",
    "Logarithm",
    "Pairs",
    "Root",
    "ScaleText",
    "Setup",
    "TareEntry",
    "parse_scale",
    "parse_setup",
]
