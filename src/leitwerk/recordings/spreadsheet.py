"""Rows as a sheet of XLSX."""

from __future__ import annotations

import io
import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from leitwerk.analysis.series import Series, series_heading
from leitwerk.errors import FileProblem, QuantityError
from leitwerk.signals.quality import Quality

_MOST_ROWS = 1_048_575  # of a sheet (ECMA-376), below its head


def series_xlsx(series: Series) -> bytes:
    """A series as a sheet: times in UTC, values, and qualities in words. No text can be a formula.

    Raises
    ------
    QuantityError
        It has more rows than a sheet.
    FileProblem
        The package for XLSX is not there.

    """
    if series.times_s.size > _MOST_ROWS:
        raise QuantityError(
            f"{series.times_s.size:,} rows do not fit into a sheet",
            valid=f"{_MOST_ROWS:,} at most",
            remedy="choose a time with --from and --until, or write .parquet",
        )
    return sheets_xlsx({"rows": _rows(series)})


def _rows(series: Series) -> Iterator[Sequence[object]]:
    with_quality = series.qualities is not None
    yield series_heading(series.columns, dated=series.dated, qualities=with_quality)
    codes = [None] * series.times_s.size if series.qualities is None else series.qualities.tolist()
    for time_s, values, row in zip(
        series.times_s.tolist(), series.values.tolist(), codes, strict=True
    ):
        moment: object = time_s
        if series.dated:
            moment = datetime.fromtimestamp(time_s, UTC).replace(tzinfo=None)
        cells: list[object] = [moment]
        for k, value in enumerate(values):
            cells.append(value if math.isfinite(value) else None)
            if row is not None:
                cells.append(Quality(row[k]).reason)
        yield cells


def sheets_xlsx(sheets: Mapping[str, Iterable[Sequence[object]]]) -> bytes:
    """Rows of cells as sheets of a workbook. No text can be a formula.

    Raises
    ------
    FileProblem
        The package for XLSX is not there.

    """
    try:
        from openpyxl import Workbook  # noqa: PLC0415 - an optional package
        from openpyxl.cell import WriteOnlyCell  # noqa: PLC0415
    except ImportError:
        raise FileProblem(
            "XLSX needs the package openpyxl",
            remedy="pip install 'leitwerk[spreadsheet]', or write CSV",
        ) from None
    book = Workbook(write_only=True)

    def cell(sheet: Any, value: object) -> object:
        if not isinstance(value, str) or not value.startswith("="):
            return value
        text = WriteOnlyCell(sheet, value)
        text.data_type = "s"  # it begins like a formula
        return text

    for name, rows in sheets.items():
        sheet = book.create_sheet(name)
        for row in rows:
            sheet.append([cell(sheet, value) for value in row])
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()
