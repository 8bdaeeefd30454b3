"""Protocols that installed packages bring."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint


def further_protocols() -> dict[str, EntryPoint]:
    """The protocols that installed packages bring, by name; see ``links/kinds.py``."""
    from importlib.metadata import entry_points  # noqa: PLC0415 - 60 ms, and seldom needed

    return {point.name: point for point in entry_points(group="leitwerk.links")}
