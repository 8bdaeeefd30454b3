"""Tables of numbers as CSV (RFC 4180): a column of times, then a column for each channel."""

from __future__ import annotations

import csv
import io
import math
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from numpy.typing import NDArray


def read_table(
    text: str, first: str, valid: str
) -> tuple[list[str], list[str], NDArray[np.float64]]:
    """The names of the columns behind the first, the first one's cells, and the numbers.

    An empty cell is NaN.

    Parameters
    ----------
    first : str
        What the first column is called.
    valid : str
        What such a table is like, for the error message.

    Returns
    -------
    names, stamps, values : values of shape (n_rows, n_names)

    Raises
    ------
    QuantityError
        The text is not such a table.

    """
    try:
        rows = list(csv.reader(io.StringIO(text.lstrip("\ufeff"), newline="")))
    except csv.Error as error:
        raise QuantityError(f"this is not a CSV: {error}", valid=valid) from None
    if len(rows) < 2 or not rows[0] or rows[0][0].strip() != first:
        raise QuantityError("this is not a recording", valid=valid)
    head = [name.strip() for name in rows[0]]
    values = np.empty((len(rows) - 1, len(head) - 1))
    for k, row in enumerate(rows[1:]):
        if len(row) != len(head):
            message = f"line {k + 2} has {len(row)} cells, the first line {len(head)}"
            raise QuantityError(message, valid=valid)
        for column, cell in enumerate(row[1:]):
            values[k, column] = cell_number(cell, f"line {k + 2}")
    return head[1:], [row[0] for row in rows[1:]], values


def cell_number(cell: str, where: str) -> float:
    """The number in a cell, NaN when it is empty.

    Raises
    ------
    QuantityError
        It holds something else.

    """
    try:
        return float(cell) if cell.strip() else math.nan
    except ValueError:
        message = f"{where}: {cell[:20]!r} is not a number"
        raise QuantityError(message, valid="numbers with a decimal point") from None
