"""Rows as a sheet of XLSX."""

from __future__ import annotations

import io
import math
from datetime import UTC, datetime

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
    try:
        from openpyxl import Workbook  # noqa: PLC0415 - an optional package
        from openpyxl.cell import WriteOnlyCell  # noqa: PLC0415
    except ImportError:
        raise FileProblem(
            "XLSX needs the package openpyxl",
            remedy="pip install 'leitwerk[spreadsheet]', or write CSV",
        ) from None
    book = Workbook(write_only=True)
    sheet = book.create_sheet("rows")
    with_quality = series.qualities is not None
    heads = []
    for head in series_heading(series.columns, dated=series.dated, qualities=with_quality):
        cell = WriteOnlyCell(sheet, head)
        cell.data_type = "s"
        heads.append(cell)
    sheet.append(heads)
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
        sheet.append(cells)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()
