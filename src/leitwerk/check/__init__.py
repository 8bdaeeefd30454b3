"""Checking a setup against a datasheet, before anything reaches a device."""
