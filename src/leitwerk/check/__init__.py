"""Checking a setup against a datasheet, before anything reaches a device."""

from leitwerk.check.assignment import Assignment, assign_channels
from leitwerk.check.setup import check_into, check_link, check_setup

__all__ = ["Assignment", "assign_channels", "check_into", "check_link", "check_setup"]
