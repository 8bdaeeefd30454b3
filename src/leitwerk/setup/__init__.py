"""The setup: everything that one device is to be told, and everything expected of it afterwards."""

from leitwerk.setup.fields import Scale
from leitwerk.setup.model import Alarm, Channel, DeviceSection, Setup, parse_setup

__all__ = ["Alarm", "Channel", "DeviceSection", "Scale", "Setup", "parse_setup"]
