"""Carrying settings to devices, and proving that they are there."""
