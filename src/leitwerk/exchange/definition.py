"""What an exchange is: plain values. Both ends hold the same, each from its own side."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TypeAlias

from leitwerk.exchange.terms import AnswerKind, Flow, Kind, Layout, Manner, Spaces, Wires

Carried: TypeAlias = "float | int | str | None"
"""What a part of a line carries: a number, a text or the name of a state, a moment (in s since 1970,
UTC; of a time of day, in s since midnight). None: there is no good value."""


@dataclass(frozen=True, slots=True)
class Form:
    """How one value stands in a line.

    Of a number: ``decimals`` behind the decimal sign, or ``digits`` that count, with an exponent or
    not; neither is the shortest text that gives the same number. ``width`` is the least number of
    characters, filled up with ``pad`` on the left. ``unit`` stands behind it after a space. ``before``
    and ``after`` stand around it, also around ``bad``, which is written when there is no good value.
    ``states`` are pairs of a name and its text. ``longest`` counts characters of a text.
    """

    kind: Kind
    decimals: int | None = None
    digits: int | None = None
    exponent: bool = False
    width: int = 0
    pad: str = " "
    unit: str = ""
    before: str = ""
    after: str = ""
    bad: str = "---"
    states: tuple[tuple[str, str], ...] = ()
    layout: Layout = Layout.ISO
    text: str = ""
    longest: int = 40


@dataclass(frozen=True, slots=True)
class Part:
    """One place in a line: its form, and at this end what it is about.

    ``of`` is where the value comes from, or goes to: ``channel air``, ``setting bar.high``, ``output
    valve``, ``state air.too_hot``, ``time``; empty for a constant, and for a value that is only kept.
    ``shows`` is the device's word for that, where it has one. ``unit`` is that of a number, also where
    it is not written. ``span`` is what is accepted. ``least`` and ``most``: how often it stands there;
    only the last part of a line may stand there several times.
    """

    form: Form
    name: str = ""
    of: str = ""
    shows: str = ""
    unit: str = ""
    span: tuple[float, float] | None = None
    least: int = 1
    most: int = 1

    @property
    def is_constant(self) -> bool:
        """Whether it is a text that carries no value."""
        return self.form.kind is Kind.CONSTANT


@dataclass(frozen=True, slots=True)
class Answer:
    """What a line is answered with. ``tells_errors``: whether an error is told to the other end."""

    kind: AnswerKind = AnswerKind.NOTHING
    message: str = ""
    tells_errors: bool = False


@dataclass(frozen=True, slots=True)
class LineForm:
    """One kind of line: a keyword and what follows it.

    ``answer`` is for a line that is understood; ``asks``, for one that is said, the line that answers it.
    """

    name: str
    keyword: str
    parts: tuple[Part, ...] = ()
    answer: Answer = Answer()
    asks: str = ""

    @property
    def values(self) -> tuple[Part, ...]:
        """The parts that carry a value."""
        return tuple(part for part in self.parts if not part.is_constant)


@dataclass(frozen=True, slots=True)
class Direction:
    """How lines look that go one way, and which there are.

    ``longest`` counts bytes without ``start`` and ``end``. ``confirms`` and ``refuses`` are the lines by
    which something is confirmed and refused; in ``refuses``, ``{}`` is the number of the reason and
    ``{why}`` the reason in words.
    """

    separator: str = ";"
    end: str = "\r\n"
    start: str = ""
    encoding: str = "ascii"
    decimal: str = "."
    longest: int = 200
    spaces: Spaces = Spaces.DROP
    quotes: str = ""
    one_value: bool = False
    confirms: str = "OK"
    refuses: str = "ERR {}"
    lines: tuple[LineForm, ...] = ()

    def line(self, name: str) -> LineForm:
        """A kind of line by its name; a KeyError for another name."""
        for line in self.lines:
            if line.name == name:
                return line
        raise KeyError(name)

    @property
    def end_bytes(self) -> bytes:
        """What ends a line, encoded."""
        return self.end.encode(self.encoding)


@dataclass(frozen=True, slots=True)
class Wire:
    """The line that carries an exchange. ``turn_around_s``: how long the other end takes to listen again."""

    baud: int = 9600
    data_bits: int = 8
    parity: str = "N"
    stop_bits: int = 1
    flow: Flow = Flow.NONE
    wires: Wires = Wires.RS232
    turn_around_s: float = 0.0

    @property
    def bits(self) -> int:
        """Bits on the line for one byte: start, data, parity, stop."""
        return 1 + self.data_bits + (self.parity != "N") + self.stop_bits

    def seconds(self, count: float) -> float:
        """How long so many bytes take."""
        return count * self.bits / self.baud

    def __str__(self) -> str:
        return f"{self.baud},{self.data_bits}{self.parity}{self.stop_bits}"


@dataclass(frozen=True)
class Exchange:
    """What two ends say to each other, as one of them sees it.

    ``address`` stands before each line, both ways, where several share a line. ``partner`` is the other
    end, for people.
    """

    name: str
    manner: Manner = Manner.MACHINES
    wire: Wire = Wire()
    address: str = ""
    says: Direction = field(default_factory=Direction)
    understands: Direction = field(default_factory=Direction)
    partner: str = "the other end"

    def tells_errors(self, line: str) -> bool:
        """Whether an error in a line is told; in an unknown line, where any error is told."""
        known = [one for one in self.understands.lines if one.name == line]
        return any(one.answer.tells_errors for one in known or self.understands.lines)

    @property
    def serial_place(self) -> tuple[str, int] | None:
        """The line, and the value in it (from 0), by which the other end says its serial number."""
        for line in self.understands.lines:
            for k, part in enumerate(line.values):
                if part.name == "serial":
                    return line.name, k
        return None

    def mirrored(self, name: str = "") -> Exchange:
        """The same exchange as the other end sees it. What a value is about is known at one end only.

        Opposite to an end for people is a person; a machine in that place types, and shows nothing.
        """
        return replace(
            self,
            name=name or self.name,
            manner=Manner.MACHINES if self.manner is Manner.PEOPLE else self.manner,
            says=_unbound(self.understands),
            understands=_unbound(self.says),
        )

    @cached_property
    def fingerprint(self) -> str:
        """Eight hexadecimal digits that both ends of the same exchange have in common.

        They stand for the keywords, and for kind, unit, states and number of the values behind each; not
        for how they are written, since the guarded manner carries values exactly. docs/guide/exchanges.md
        says how they are worked out.
        """
        both = sorted(_canonical(way) for way in (self.says, self.understands))
        return hashlib.sha256("\n".join(both).encode("utf-8", "surrogatepass")).hexdigest()[:8]


def _unbound(way: Direction) -> Direction:
    lines = tuple(
        replace(
            line,
            answer=Answer(),
            parts=tuple(replace(p, of="", shows="", span=None) for p in line.parts),
        )
        for line in way.lines
    )
    return replace(way, lines=lines)


def _canonical(way: Direction) -> str:
    """A direction as text: JSON without spaces, in the order of the keywords."""
    lines = [[line.keyword, [_of_value(part) for part in line.values]] for line in way.lines]
    return json.dumps(
        sorted(lines, key=lambda line: str(line[0])), ensure_ascii=True, separators=(",", ":")
    )


def _of_value(part: Part) -> list[object]:
    # A running number is a whole one at the end that understands it.
    kind = Kind.INTEGER if part.form.kind is Kind.COUNTER else part.form.kind
    return [
        kind.value,
        part.form.unit,
        sorted(name for name, _ in part.form.states),
        part.least,
        part.most,
    ]
