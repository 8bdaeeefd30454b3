"""The setup: everything that one device is to be told, and everything expected of it afterwards."""

from leitwerk.setup.alarms import Alarm, Band
from leitwerk.setup.limits import LimitSet, parse_limits
from leitwerk.setup.model import Channel, DeviceSection, Setup, parse_setup
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
    "Band",
    "Calibration",
    "Channel",
    "DataSheetFigures",
    "DeviceSection",
    "Factor",
    "Found",
    "LimitSet",
    "Logarithm",
    "Pairs",
    "Root",
    "ScaleText",
    "Setup",
    "TareEntry",
    "parse_limits",
    "parse_scale",
    "parse_setup",
]
