"""Benchmarks of tables; ``make bench`` runs them after the others."""

from __future__ import annotations

import tempfile
from pathlib import Path

import openpyxl
from run import compare, show

from leitwerk.project.setup_tables import read_entries
from leitwerk.project.sheets import write_sheets

CHANNELS = 2000
HEAD = [
    "name",
    "label",
    "terminal",
    "signal",
    "range",
    "scale",
    "unit",
    "expect",
    "time constant [s]",
]


def importing() -> None:
    """A sheet of 2,000 channels read into entries, beside reading its bare cells."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "plan.xlsx"
        rows = [
            [f"dry_{i:04}", f"Board {i}", str(i), "4..20 mA", "0..24 mA", "{4 mA: 0 %, 20 mA: 100 %}", "%",
             f"{30 + i % 40}.5 ± 2", "130"]
            for i in range(1, CHANNELS + 1)
        ]  # fmt: skip
        write_sheets(path, {"channels": [HEAD, *rows]})

        def bare() -> None:
            book = openpyxl.load_workbook(path, read_only=True)
            assert (
                sum(len(row) for row in book.worksheets[0].iter_rows(values_only=True)) > CHANNELS
            )

        def ours() -> None:
            assert len(read_entries(path)[0].rows) == CHANNELS

        what = "A sheet of 2,000 channels read into entries, against its bare cells"
        show(what, compare(ours, bare), "ms", 1e3, "at most 1.5")


if __name__ == "__main__":
    importing()
