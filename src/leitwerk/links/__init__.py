"""Links: how devices are reached. Thin; what a setting means is not known here."""

from leitwerk.links.device import Device, Identity, Status, connect, open_device
from leitwerk.links.trial import Tried, try_datasheet

__all__ = ["Device", "Identity", "Status", "Tried", "connect", "open_device", "try_datasheet"]
