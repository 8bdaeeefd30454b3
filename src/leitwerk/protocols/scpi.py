"""SCPI: what is more than lines of text."""

from __future__ import annotations

from leitwerk.errors import LinkError
from leitwerk.protocols.lines import split_fields

ASK_ERROR = "SYST:ERR?"
NO_ERROR = 0
ERRORS_AT_MOST = 32  # an error queue that does not end is not read further
BLOCK_AT_MOST = 1_048_576  # bytes of one block: files are read in pieces


def parse_block_head(head: bytes) -> int:
    """How many digits of its length follow the first two bytes of a block.

    Raises
    ------
    LinkError
        This is no block of a stated length.

    References
    ----------
    IEEE 488.2-1992, 8.7.9 (definite length arbitrary block response data).

    """
    if len(head) != 2 or head[:1] != b"#" or head[1:] not in b"123456789":
        raise LinkError(
            f"{head!r} does not begin a block of a stated length",
            remedy="does the datasheet fit this device?",
        )
    return int(head[1:])


def parse_block_length(digits: bytes) -> int:
    """How many bytes of a block follow the digits of its length.

    Raises
    ------
    LinkError
        These are no digits, or the block is longer than is taken at once.

    """
    if not digits.isdigit() or int(digits) > BLOCK_AT_MOST:
        raise LinkError(
            f"{digits!r} is no length of a block that is taken",
            remedy=f"at most {BLOCK_AT_MOST} bytes at once",
        )
    return int(digits)


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
