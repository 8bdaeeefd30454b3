"""The manner for people: what is typed is shown and can be corrected, and what comes does not disturb it."""

from __future__ import annotations

import codecs
from dataclasses import dataclass, field

from leitwerk.exchange.definition import Direction, Exchange
from leitwerk.exchange.saying import example_values, speaker
from leitwerk.exchange.values import CannotSay

_BACKSPACE, _BELL, _NEW_LINE = b"\b \b", b"\a", b"\r\n"
_CLEAR = b"\x1b[2J\x1b[H"  # ISO/IEC 6429: erase the page, cursor home
MOST_OUT = 65_536  # bytes that wait for a slow receiver
HELP, KEEP, CLEAR = "help", "keep", "clear"


@dataclass(slots=True)
class LineEditor:
    """Takes the keys of a terminal. ``feed`` gives the lines that were entered; ``out`` is what it shows.

    Backspace takes away the last character, Ctrl+U the whole line; arrow keys do nothing.
    """

    encoding: str = "ascii"
    longest: int = 200
    prompt: str = "> "
    keeps_lines: bool = True
    out: bytearray = field(default_factory=bytearray)
    _typed: str = ""
    _escape: str = ""
    _was_cr: bool = False
    _decode: codecs.IncrementalDecoder = field(init=False)

    def __post_init__(self) -> None:
        self._decode = codecs.getincrementaldecoder(self.encoding)("replace")
        self._put(self._encoded(self.prompt))

    def feed(self, data: bytes) -> list[str]:
        """The lines that were entered."""
        lines = []
        for key in self._decode.decode(data):
            line = self._press(key)
            if line is not None:
                lines.append(line)
        return lines

    def show(self, text: str) -> None:
        """Show a line above the one that is being typed."""
        erase = len(self.prompt) + len(self._typed)
        self._put(b"\r" + b" " * erase + b"\r" + self._encoded(text) + _NEW_LINE)
        self._put(self._encoded(self.prompt + self._typed))

    def answer(self, texts: list[str]) -> None:
        """Show the answer to the line that was entered last, and wait for the next."""
        if not self.keeps_lines:
            self._put(_CLEAR)
        for text in texts:
            self._put(self._encoded(text) + _NEW_LINE)
        self._put(self._encoded(self.prompt))

    def _press(self, key: str) -> str | None:
        was_cr, self._was_cr = self._was_cr, key == "\r"
        if self._escape or key == "\x1b":
            self._take_escape(key)
        elif key == "\n" and was_cr:
            return None  # the second half of CR LF
        elif key in "\r\n":
            self._put(_NEW_LINE)
            line, self._typed = self._typed, ""
            return line
        elif key in "\b\x7f":
            if self._typed:
                self._typed = self._typed[:-1]
                self._put(_BACKSPACE)
        elif key in "\x15\x03":  # Ctrl+U and Ctrl+C
            self._put(_BACKSPACE * len(self._typed))
            self._typed = ""
        elif not key.isprintable() or key == "\ufffd" or len(self._typed) >= self.longest:
            self._put(_BELL)
        else:
            self._typed += key
            self._put(self._encoded(key))
        return None

    def _take_escape(self, key: str) -> None:
        """Arrow and function keys, ISO/IEC 6429: ESC, [ or O, parameters, and a letter or ~."""
        if not self._escape:
            self._escape = "\x1b"
        elif (len(self._escape) == 1 and key in "[O") or (
            len(self._escape) > 1 and key in "0123456789;" and len(self._escape) < 10
        ):
            self._escape += key
        else:
            self._escape = ""

    def _put(self, data: bytes) -> None:
        if len(self.out) < MOST_OUT:  # a terminal that takes nothing misses what comes
            self.out += data

    def _encoded(self, text: str) -> bytes:
        return text.encode(self.encoding, "replace")


def help_lines(exchange: Exchange) -> list[str]:
    """What is understood, a line each, for people."""
    way = exchange.understands
    lines = [f"  {_example(line.name, way)}" for line in way.lines]
    return [
        "This device understands:",
        *lines,
        f"  {HELP}    shows this list",
        f"  {CLEAR}   clears the screen before each answer, '{KEEP}' keeps earlier lines on it",
    ]


def _example(name: str, way: Direction) -> str:
    line = way.line(name)
    try:
        example = speaker(line, way)(example_values(line))
    except CannotSay:
        example = line.keyword
    title = name.replace("_", " ")
    return f"{example}    {title}" if line.parts else f"{example}    {title}, without a value"
