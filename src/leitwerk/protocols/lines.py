"""Lines of text: from bytes as they arrive, and into fields. Without a socket."""

from __future__ import annotations

from leitwerk.errors import LinkError

MAX_LINE = 65_536  # bytes: a block of readings; a longer line is refused


class LineReader:
    """Lines from bytes as they arrive, in pieces of any size.

    ``end`` is what ends a line; a carriage return before a line feed belongs to the end.
    """

    def __init__(self, end: bytes = b"\n") -> None:
        self._end = end[-1:]
        self._rest = bytearray()

    def feed(self, data: bytes) -> list[str]:
        """The lines that are complete now.

        Raises
        ------
        LinkError
            A line grows beyond ``MAX_LINE``.

        """
        self._rest += data
        *lines, rest = bytes(self._rest).split(self._end)
        self._rest = bytearray(rest)
        if len(rest) > MAX_LINE:
            raise LinkError(f"a line of more than {MAX_LINE} bytes is too long for an answer")
        return [line.strip(b"\r\n").decode("latin-1") for line in lines]


def split_fields(answer: str, separator: str = ",") -> list[str]:
    """The fields of an answer; a separator inside quotes divides nothing (IEEE 488.2, 8.7.8).

    Examples
    --------
    >>> split_fields('1,"a, b",3')
    ['1', '"a, b"', '3']

    """
    if '"' not in answer:
        return [field.strip() for field in answer.split(separator)]
    fields, quoted = [""], False
    for character in answer:
        if character == '"':
            quoted = not quoted
        if character == separator and not quoted:
            fields.append("")
        else:
            fields[-1] += character
    return [field.strip() for field in fields]
