"""Recordings: fetched from devices, and condensed to statistics."""
