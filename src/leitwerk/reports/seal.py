"""The seal of a report: a hash of all that stands before it, so that a change shows."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from leitwerk.analysis.series import Series
from leitwerk.errors import FileProblem
from leitwerk.project.files import content_hash

# Behind the end of an HTML page, or of a PDF, nothing is shown.
_FORMS = {".html": ("<!-- ", " -->"), ".pdf": ("%", "")}
_SEAL = re.compile(rb"leitwerk-seal (\{[^\n]*\}) ([0-9a-f]{64})")
_MOST = 100_000_000  # bytes of a report


@dataclass(frozen=True)
class Sealed:
    """What a seal says: of what the report is, by hashes of data and setup; and whether it is unbroken."""

    about: dict[str, str]
    is_unbroken: bool


def series_hash(series: Series) -> str:
    """SHA-256 of rows: times in ms, names, units, values and qualities."""
    heads = "\n".join(str(column) for column in series.columns).encode()
    times = np.round(series.times_s * 1e3).astype("<i8").tobytes()
    codes = b"" if series.qualities is None else np.ascontiguousarray(series.qualities).tobytes()
    values = np.ascontiguousarray(series.values, "<f8").copy()
    values[np.isnan(values)] = np.nan  # of all that are not a number, one
    return content_hash(heads + times + values.tobytes() + codes)


def sealed(content: bytes, ending: str, about: dict[str, str]) -> bytes:
    """A report with its seal behind it.

    Parameters
    ----------
    content : bytes
    ending : str
        Of the file: ``.html`` or ``.pdf``.
    about : dict
        What it is made of.

    """
    before, behind = _FORMS[ending]
    text = json.dumps(about, ensure_ascii=True, sort_keys=True).replace("--", "\\u002d\\u002d")
    digest = content_hash(content + text.encode())
    return content + f"{before}leitwerk-seal {text} {digest}{behind}\n".encode()


def read_seal(path: Path) -> Sealed:
    """The seal of a report.

    Raises
    ------
    FileProblem
        The file cannot be read, or has no seal.

    """
    try:
        if path.stat().st_size > _MOST:
            raise FileProblem(f"{path} is too large for a report", remedy="name a report")
        content = path.read_bytes()
    except OSError as error:
        raise FileProblem(f"cannot read {path}: {error.strerror}") from error
    found = list(_SEAL.finditer(content))
    if not found:
        raise FileProblem(f"{path} has no seal", remedy="a report that Leitwerk wrote")
    match = found[-1]
    before, behind = _FORMS.get(path.suffix, ("", ""))
    begin = match.start() - len(before)
    end = content[match.end() :]
    try:
        about = json.loads(match[1])
    except ValueError:
        about = {}
    whole = content_hash(content[:begin] + match[1]).encode() == match[2]
    return Sealed(
        {str(k): str(v) for k, v in about.items()}, whole and end == f"{behind}\n".encode()
    )
