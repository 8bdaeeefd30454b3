"""Tables that a device stores, as a setup holds them: rows of columns, here or in a file."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from leitwerk.parsing.models import Model
from leitwerk.setup.fields import CellField, Line


class RecordsEntry(Model):
    """The rows of one table of a device."""

    rows: list[dict[str, CellField]] = Field(
        default_factory=list, description="The rows, from the first on"
    )
    file: Line | None = Field(
        None, description="Instead of rows: a file with them beside this one, .csv or .xlsx"
    )
    unused: Literal["cleared", "left"] = Field(
        "cleared", description="What becomes of the rows of the device behind the last one"
    )
