"""Where rows come from: a file of samples, or a device of a store."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path
from zoneinfo import ZoneInfo

from leitwerk.analysis.series import Series, read_series, utc_text
from leitwerk.errors import FileProblem, QuantityError
from leitwerk.recordings.about import About, read_about
from leitwerk.recordings.parquet import read_parquet
from leitwerk.recordings.rows import cut, sorted_by_time
from leitwerk.recordings.store import FOLDER, Store

ENDINGS = {".csv", ".parquet"}


def read_rows_of(
    source: str,
    *,
    store: str | Path = FOLDER,
    channels: Sequence[str] | None = None,
    begin_s: float = -math.inf,
    end_s: float = math.inf,
    version: int | None = None,
    zone: ZoneInfo | None = None,
) -> tuple[Series, About]:
    """The rows of a file, or of a device in a store, and what is known of them.

    Parameters
    ----------
    source : str
        A file ``.csv`` or ``.parquet``; else the serial number of a device.
    store : path
    channels : sequence of str, optional
        All, if not given.
    begin_s, end_s : float, in s since 1970-01-01 UTC
        Both ends count.
    version : int, optional
        Of the store: the newest, if not given.
    zone : ZoneInfo, optional
        Of times in a file that are written without one.

    Raises
    ------
    FileProblem
        There are no such rows, or they cannot be read.
    QuantityError
        They have no dates.

    """
    path = Path(source)
    if path.suffix not in ENDINGS:
        held = Store(store)
        series = held.read(source, channels, begin_s=begin_s, end_s=end_s, version=version)
        return series, held.parts(source, version)[-1].about
    series, about = _file(path, zone)
    if not series.dated:
        raise QuantityError(
            f"{path} has times without a date", valid="times such as 2026-03-02T05:00:00Z"
        )
    if channels is not None:
        series = chosen(series, channels, str(path))
    found = cut(sorted_by_time(series), begin_s, end_s)
    if not found.times_s.size:
        span = f"{utc_text(series.times_s.min())} to {utc_text(series.times_s.max())}"
        raise FileProblem(f"{path} has no rows in this time", remedy=f"it has {span}")
    return found, about


def _file(path: Path, zone: ZoneInfo | None) -> tuple[Series, About]:
    if path.suffix == ".parquet":
        series, text = read_parquet(path)
        return series, read_about(text, str(path))
    try:
        text = path.read_text("utf-8")
        beside = path.with_suffix(".about.json")
        about = read_about(beside.read_text("utf-8"), str(beside)) if beside.exists() else About()
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it is no text in UTF-8"
        raise FileProblem(f"cannot read {path}: {reason}") from None
    return read_series(text, zone), about


def chosen(series: Series, channels: Sequence[str], where: str) -> Series:
    """Some columns of a series, in this order.

    Raises
    ------
    FileProblem
        There is no such column.

    """
    places = {column.name: k for k, column in enumerate(series.columns)}
    for name in channels:
        if name not in places:
            raise FileProblem(f"{where} has no channel {name!r}", remedy=", ".join(places))
    at = [places[name] for name in channels]
    codes = None if series.qualities is None else series.qualities[:, at]
    return Series(
        tuple(series.columns[k] for k in at),
        series.times_s,
        series.values[:, at],
        codes,
        series.dated,
    )
