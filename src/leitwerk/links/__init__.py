"""Links: how devices are reached. Thin; what a setting means is not known here."""

from leitwerk.links.device import Device, Identity, Status, connect
from leitwerk.links.trial import Tried, try_datasheet

__all__ = ["Device", "Identity", "Status", "Tried", "connect", "try_datasheet"]
