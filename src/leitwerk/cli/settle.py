"""The end of commands that show what would change in a file, and write it with ``--write``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND

if TYPE_CHECKING:
    from leitwerk.findings import Finding

WRITE = click.option("--write", is_flag=True, help="Write it; else it is only shown.")


def settle(
    path: str | Path, text: str, findings: Sequence[Finding], *, write: bool, summary: str = ""
) -> int:
    """Write a text to its file, if that was asked for and it has no errors; say what was done.

    Returns
    -------
    int
        The exit code: fine where it was written.

    """
    from leitwerk.cli.printing import counts_text
    from leitwerk.project.files import write_atomic

    if any(finding.is_error for finding in findings):
        click.echo(f"{path}: not written, it would have errors ({counts_text(findings)})", err=True)
        return FOUND
    what = f"{summary}; " if summary else ""
    if not write:
        click.echo(f"{path}: {what}--write writes it", err=True)
        return FOUND
    write_atomic(Path(path), text)
    click.echo(f"{path}: {what}written", err=True)
    return FINE
