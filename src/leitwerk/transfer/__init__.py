"""Carrying a setup to a device, and proving that it is there."""

from leitwerk.transfer.batch import Outcome, Unit, read_units, upload_batch
from leitwerk.transfer.history import History, read_history
from leitwerk.transfer.receipt import Receipt, read_backup
from leitwerk.transfer.recover import Aftermath, Found, look_back, recover, unfinished
from leitwerk.transfer.restore import restore
from leitwerk.transfer.terms import Allowed, Terms
from leitwerk.transfer.upload import Plan, plan_upload, upload

__all__ = [
    "Aftermath",
    "Allowed",
    "Found",
    "History",
    "Outcome",
    "Plan",
    "Receipt",
    "Terms",
    "Unit",
    "look_back",
    "plan_upload",
    "read_backup",
    "read_history",
    "read_units",
    "recover",
    "restore",
    "unfinished",
    "upload",
    "upload_batch",
]
