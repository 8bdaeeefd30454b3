"""Carrying a setup to a device, and proving that it is there."""

from leitwerk.transfer.history import History, read_history
from leitwerk.transfer.receipt import Receipt, read_backup
from leitwerk.transfer.recover import Aftermath, Found, look_back, recover, unfinished
from leitwerk.transfer.restore import restore
from leitwerk.transfer.transaction import Allowed
from leitwerk.transfer.upload import Plan, plan_upload, upload

__all__ = [
    "Aftermath",
    "Allowed",
    "Found",
    "History",
    "Plan",
    "Receipt",
    "look_back",
    "plan_upload",
    "read_backup",
    "read_history",
    "recover",
    "restore",
    "unfinished",
    "upload",
]
