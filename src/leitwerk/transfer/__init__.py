"""Carrying a setup to a device, and proving that it is there."""

from leitwerk.transfer.receipt import Receipt
from leitwerk.transfer.upload import upload

__all__ = ["Receipt", "upload"]
