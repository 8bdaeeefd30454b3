"""SCPI: texts of IEEE 488.2, without a socket."""

from __future__ import annotations

from leitwerk.errors import LinkError

MAX_LINE = 65_536  # bytes: a block of readings; more is no answer but a flood
NO_ERROR = 0


class LineReader:
    """Lines from bytes as they arrive, in whatever pieces."""

    def __init__(self) -> None:
        self._rest = bytearray()

    def feed(self, data: bytes) -> list[str]:
        """The lines that are complete now.

        Raises
        ------
        LinkError
            A line grows beyond ``MAX_LINE``.

        """
        self._rest += data
        *lines, rest = bytes(self._rest).split(b"\n")
        self._rest = bytearray(rest)
        if len(rest) > MAX_LINE:
            raise LinkError(f"a line of more than {MAX_LINE} bytes is no answer")
        return [line.rstrip(b"\r").decode("latin-1") for line in lines]


def split_fields(answer: str) -> list[str]:
    """The fields of an answer; a comma inside quotes parts none (IEEE 488.2, 8.7.8).

    Examples
    --------
    >>> split_fields('1,"a, b",3')
    ['1', '"a, b"', '3']

    """
    fields, quoted = [""], False
    for character in answer:
        if character == '"':
            quoted = not quoted
        if character == "," and not quoted:
            fields.append("")
        else:
            fields[-1] += character
    return [field.strip() for field in fields]


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
