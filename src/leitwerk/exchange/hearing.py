"""What is understood: a line becomes a keyword and values, or says at which byte it fails and why."""

from __future__ import annotations

import enum
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from leitwerk.errors import QuantityError
from leitwerk.exchange.characters import visible
from leitwerk.exchange.definition import Carried, Direction, LineForm, Part
from leitwerk.exchange.saying import counts, repeated
from leitwerk.exchange.terms import Kind, Manner, Spaces
from leitwerk.exchange.values import NUMBER, PLAIN_NUMBER, codec
from leitwerk.parsing.quantities import format_span


class Why(enum.IntEnum):
    """Why a line is refused; the number is what ``{}`` in a refusal stands for."""

    KEYWORD = 1
    COUNT = 2
    VALUE = 3
    SPAN = 4
    SWITCHED_OFF = 5
    LENGTH = 6
    CHARACTERS = 7
    REFUSED = 8  # what it asked for could not be done

    @property
    def words(self) -> str:
        """The reason in words."""
        return _WORDS[self]


_WORDS = {
    Why.KEYWORD: "unknown keyword",
    Why.COUNT: "wrong number of values",
    Why.VALUE: "not a value of this kind",
    Why.SPAN: "outside the span",
    Why.SWITCHED_OFF: "switched off",
    Why.LENGTH: "line too long",
    Why.CHARACTERS: "characters that cannot be read",
    Why.REFUSED: "cannot be done",
}


class Trouble(NamedTuple):
    """Why a line, or one of its values, was not understood; ``at`` counts its bytes from 0."""

    why: Why
    message: str
    at: int = 0
    valid: str = ""


class Heard(NamedTuple):
    """One line that came: each value as it came (``texts``) and as it was understood (``values``).

    ``name`` is the kind of line, empty when it is not known. A value is None where the other end has no
    good one; where it was not understood, its place in ``troubles`` says why. ``trouble`` is the first of
    the line; a line with trouble changes nothing. In the guarded manner, ``id`` names this line and
    ``answers`` the one that it answers.
    """

    text: str
    name: str = ""
    texts: tuple[str, ...] = ()
    values: tuple[Carried, ...] = ()
    trouble: Trouble | None = None
    troubles: tuple[Trouble | None, ...] = ()
    raw: bytes = b""
    answers: str = ""
    id: str = ""


class Listener:
    """Understands the lines that come one way. ``off``: the names of lines that are switched off."""

    def __init__(
        self, way: Direction, *, manner: Manner = Manner.MACHINES, address: str = ""
    ) -> None:
        self.way = way
        self.address = address
        self.off: set[str] = set()
        self._folds = manner is Manner.PEOPLE
        self._by_keyword = {self._fold(line.keyword): _Kind.of(line, way) for line in way.lines}
        self._bare = self._by_keyword.get("")

    def hear(self, raw: bytes) -> Heard | None:
        """What a line says; None when it is for another address."""
        try:
            text = raw.decode(self.way.encoding)
        except UnicodeDecodeError as error:
            message = f"{visible(raw[error.start :][:1])} is no character of {self.way.encoding}"
            trouble = Trouble(Why.CHARACTERS, message, error.start)
            return Heard(visible(raw), trouble=trouble, raw=raw)
        if self.address:
            if not text.startswith(self.address):
                return None
            text = text[len(self.address) :]
        return self.understand(text, raw)

    def understand(self, text: str, raw: bytes = b"") -> Heard:
        """What the text of a line says, without address, start and end."""
        word = text.partition(self.way.separator)[0]
        kind = self._by_keyword.get(word, self._bare)
        if kind is not None and kind.pattern is not None and kind.line.name not in self.off:
            match = kind.pattern.fullmatch(text)
            if match is not None:
                texts = match.groups()
                return Heard(text, kind.line.name, texts, tuple(map(float, texts)), raw=raw)
        return self._carefully(text, raw)

    def _carefully(self, text: str, raw: bytes) -> Heard:
        """The same for any line, field by field."""
        way = self.way
        if way.quotes and way.quotes in text:
            try:
                fields, quoted = split_quoted(text, way.separator, way.quotes)
            except QuantityError as error:
                return Heard(text, trouble=Trouble(Why.VALUE, error.message), raw=raw)
        else:
            fields, quoted = text.split(way.separator), frozenset[int]()
        if way.spaces is Spaces.DROP:
            fields = [f if k in quoted else f.strip(" ") for k, f in enumerate(fields)]
        kind = self._by_keyword.get(self._fold(fields[0]))
        if kind is not None and kind.line.keyword:
            fields = fields[1:]
        elif self._bare is not None:
            kind = self._bare
        else:
            return Heard(text, trouble=self._unknown(fields[0]), raw=raw)
        name = kind.line.name
        if name in self.off:
            trouble = Trouble(Why.SWITCHED_OFF, f"{name} is switched off")
            return Heard(text, name, trouble=trouble, raw=raw)
        return kind.take(text, fields, raw, way)

    def hold(self, heard: Heard) -> Heard:
        """A line that came with its values already: its spans, and whether it is switched off."""
        if heard.name in self.off:
            return heard._replace(
                trouble=Trouble(Why.SWITCHED_OFF, f"{heard.name} is switched off")
            )
        parts = [
            p for p in repeated(self.way.line(heard.name), len(heard.values)) if not p.is_constant
        ]
        troubles = tuple(_outside(p, v) for p, v in zip(parts, heard.values, strict=True))
        first = next((t for t in troubles if t is not None), None)
        return heard._replace(trouble=first, troubles=troubles) if first else heard

    def _fold(self, keyword: str) -> str:
        return keyword.casefold() if self._folds else keyword

    def _unknown(self, word: str) -> Trouble:
        known = [k.line.keyword for k in self._by_keyword.values()]
        message = f"the keyword '{visible(word[:40])}' is not known"
        longest = max((k for k in known if k and self._fold(word).startswith(self._fold(k))),
                      key=len, default="")  # fmt: skip
        if longest:
            message += (
                f"; it begins with {longest!r}, and the separator here is "
                f"'{visible(self.way.separator)}': the first value came as part of the keyword"
            )
        return Trouble(Why.KEYWORD, message, 0, ", ".join(known[:12]))


@dataclass(frozen=True, slots=True)
class _Kind:
    """A kind of line that is understood, ready for use.

    ``pattern`` matches lines of nothing but plain numbers, each a group: the quick way, for those only.
    """

    line: LineForm
    few: int
    many: int
    pattern: re.Pattern[str] | None

    @classmethod
    def of(cls, line: LineForm, way: Direction) -> _Kind:
        return cls(line, *counts(line), _pattern(line, way))

    def take(self, text: str, fields: Sequence[str], raw: bytes, way: Direction) -> Heard:
        """A line whose fields behind the keyword are known."""
        line = self.line
        constants = len(line.parts) - len(line.values)
        count = len(fields) - constants
        if not self.few <= count <= self.many:
            least, most = self.few + constants, self.many + constants
            message = f"{len(fields)} fields follow"
            valid = f"{least}" if least == most else f"{least} to {most}"
            return Heard(text, line.name, trouble=Trouble(Why.COUNT, message, 0, valid), raw=raw)
        found: list[tuple[str, Carried, Trouble | None]] = []
        first = None
        for number, (part, field) in enumerate(zip(repeated(line, count), fields, strict=True)):
            value, trouble = _value(part, field, way)
            if trouble is not None:
                at = _at(text, fields[:number], line.keyword, way)
                trouble = trouble._replace(at=at)
                first = first or trouble
            if not part.is_constant:
                found.append((field, value, trouble))
        texts, values, troubles = zip(*found, strict=True) if found else ((), (), ())
        return Heard(text, line.name, texts, values, first, troubles if first else (), raw)


def _pattern(line: LineForm, way: Direction) -> re.Pattern[str] | None:
    """What matches only lines that the careful way understands, too, and as the same."""
    is_plain = all(
        part.form.kind is Kind.NUMBER
        and not (part.form.unit or part.form.before or part.form.after or part.span)
        and part.least == part.most == 1
        and NUMBER.fullmatch(part.form.bad.strip()) is None
        for part in line.parts
    )
    if not line.parts or not is_plain or way.decimal != ".":
        return None
    spaces = " *" if way.spaces is Spaces.DROP else ""
    number = rf"{spaces}({PLAIN_NUMBER}){spaces}"
    head = [re.escape(line.keyword)] if line.keyword else []
    return re.compile(re.escape(way.separator).join(head + [number] * len(line.parts)), re.ASCII)


def _value(part: Part, field: str, way: Direction) -> tuple[Carried, Trouble | None]:
    try:
        value = codec(part.form, way).read(field)
    except QuantityError as error:
        return None, Trouble(Why.VALUE, error.message, valid=error.valid)
    outside = _outside(part, value)
    return (None, outside) if outside is not None else (value, None)


def _outside(part: Part, value: Carried) -> Trouble | None:
    span = part.span
    if span is None or not isinstance(value, float | int) or span[0] <= value <= span[1]:
        return None
    return Trouble(Why.SPAN, f"{value:g} is outside the span", valid=format_span(*span, None))


def _at(text: str, before: Sequence[str], keyword: str, way: Direction) -> int:
    """The byte at which a field begins behind others; in a line with quotes, about that."""
    at = 0
    for field in ([keyword] if keyword else []) + list(before):
        at = text.find(field, at) + len(field)
        at = max(at, text.find(way.separator, at)) + len(way.separator)
    return len(text[:at].encode(way.encoding, "replace"))


def split_quoted(text: str, separator: str, quotes: str) -> tuple[list[str], frozenset[int]]:
    """The fields of a line, and which of them stood in quotes. A doubled quote stands for itself.

    Raises
    ------
    QuantityError
        A quote is not closed, or something stands behind it.

    Examples
    --------
    >>> split_quoted("T;'a;b ''c''';2", ";", "'")
    (['T', "a;b 'c'", '2'], frozenset({1}))

    """
    fields: list[str] = []
    quoted = set()
    at = 0
    while True:
        begins = at
        while text.startswith(" ", begins):
            begins += 1
        if not text.startswith(quotes, begins):
            end = text.find(separator, at)
            fields.append(text[at:] if end < 0 else text[at:end])
            at = end
        else:
            quoted.add(len(fields))
            content, at = _quoted(text, begins + len(quotes), quotes)
            fields.append(content)
            while text.startswith(" ", at) and not text.startswith(separator, at):
                at += 1
            if at == len(text):
                at = -1
            elif not text.startswith(separator, at):
                behind = visible(text[at : at + 20])
                raise QuantityError(f"'{behind}' stands behind a closing quote")
        if at < 0:
            return fields, frozenset(quoted)
        at += len(separator)


def _quoted(text: str, at: int, quotes: str) -> tuple[str, int]:
    pieces = []
    while True:
        end = text.find(quotes, at)
        if end < 0:
            raise QuantityError("a quote is not closed")
        pieces.append(text[at:end])
        at = end + len(quotes)
        if not text.startswith(quotes, at):
            return quotes.join(pieces), at
        at += len(quotes)
