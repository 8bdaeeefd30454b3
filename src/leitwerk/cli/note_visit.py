"""Keeping a visit at the end of a command."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.options import user

if TYPE_CHECKING:
    from leitwerk.devices.device import Device
    from leitwerk.reports.device_page import DevicePage


def note_visit(
    device: Device, kept: Path, why: str, page: DevicePage | None = None, by: str = ""
) -> str:
    """Keep a visit, and say what has changed since the one before; a failure stops nothing."""
    from leitwerk.errors import LeitwerkError
    from leitwerk.reports.device_page import read_page
    from leitwerk.reports.visits import changes_since, keep_visit, read_visit

    try:
        page = page or read_page(device, folder=kept)
        visit = read_visit(device, page, why=why, by=by or user())
        changes = changes_since(visit, kept)
        keep_visit(visit, kept)
    except LeitwerkError as error:
        click.echo(f"note: this visit is not kept: {error.message}", err=True)
        return ""
    return "" if changes is None else changes.summary()
