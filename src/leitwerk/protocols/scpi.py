"""SCPI: what is more than lines of text."""

from __future__ import annotations

from leitwerk.protocols.lines import split_fields

ASK_ERROR = "SYST:ERR?"
NO_ERROR = 0
ERRORS_AT_MOST = 32  # an error queue that does not end is not read further


def parse_error(answer: str) -> tuple[int, str]:
    """Code and text of an entry of the error queue, such as ``-222,"Data out of range"``.

    References
    ----------
    SCPI-1999, volume 1, 21.8.

    """
    code, *text = split_fields(answer)
    try:
        return int(float(code)), ",".join(text).strip('"')
    except (ValueError, OverflowError):
        return -1, f"no entry of an error queue: {answer[:60]}"
