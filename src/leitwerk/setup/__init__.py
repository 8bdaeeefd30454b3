"""The setup: everything that one device is to be told, and everything expected of it afterwards."""

from leitwerk.setup.alarms import Alarm, Band
from leitwerk.setup.limits import LimitSet, parse_limits
from leitwerk.setup.model import Channel, DeviceSection, Setup, parse_setup
from leitwerk.setup.rules import Contact, Output, Rule, Services, parse_contacts
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
    "Contact",
    "DataSheetFigures",
    "DeviceSection",
    "Factor",
    "Found",
    "LimitSet",
    "Logarithm",
    "Output",
    "Pairs",
    "Root",
    "Rule",
    "ScaleText",
    "Services",
    "Setup",
    "TareEntry",
    "parse_contacts",
    "parse_limits",
    "parse_scale",
    "parse_setup",
]
