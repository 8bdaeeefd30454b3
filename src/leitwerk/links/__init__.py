"""Links: how devices are reached. Thin; what a setting means is not known here."""

from leitwerk.links.device import Device, Identity, Status, connect

__all__ = ["Device", "Identity", "Status", "connect"]
