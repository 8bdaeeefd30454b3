"""Links: how devices are reached. Thin; what a setting means is not known here."""

from leitwerk.links.device import Device, Status, connect, open_device
from leitwerk.links.kinds import LinkKind
from leitwerk.links.patience import USUAL, Patience
from leitwerk.links.readdress import Moved, change_name, change_unit
from leitwerk.links.recordings import Recording, RecordingInfo
from leitwerk.links.trial import Tried, try_datasheet
from leitwerk.links.watchdog import WatchdogTest, try_watchdog

__all__ = [
    "USUAL",
    "Device",
    "LinkKind",
    "Moved",
    "Patience",
    "Recording",
    "RecordingInfo",
    "Status",
    "Tried",
    "WatchdogTest",
    "change_name",
    "change_unit",
    "connect",
    "open_device",
    "try_datasheet",
    "try_watchdog",
]
