"""The guarded manner: numbered lines with length, fingerprint and CRC; acknowledged and repeated.

docs/guide/exchanges.md has the form to the byte, with test vectors. One line is under way at a time:
the next is sent when it is acknowledged. So its order is kept, and nothing is taken twice.
"""

from __future__ import annotations

import math
import re
import zlib
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import IntEnum
from typing import NamedTuple

from leitwerk.errors import QuantityError
from leitwerk.exchange.definition import Carried, Form, LineForm
from leitwerk.exchange.saying import counts, repeated
from leitwerk.exchange.terms import Kind
from leitwerk.exchange.values import CannotSay

END = b"\r\n"
MOST_BODY = 4000  # characters
MOST_OUT = 65_536  # bytes that wait for a slow receiver
MOST_WAITING = 1000  # lines that wait to be sent
REPEAT_S, TRIES = 1.0, 5
_SESSIONS, _NUMBERS = 1 << 16, 1 << 16
_LINE = re.compile(
    r"(?P<kind>[DAN])(?P<session>[0-9A-F]{4})(?P<number>[0-9A-F]{4})(?P<fingerprint>[0-9a-f]{8})"
    r"(?P<length>[0-9A-F]{4})(?P<body>[ -~]*)(?P<crc>[0-9A-F]{8})",
    re.ASCII,
)
_SAFE = frozenset("\"#$&'()*+,-./:<=>?[\\]^_`{|}~ 0123456789"
                  "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz")  # fmt: skip
_BAD = "!"  # in place of a value: there is no good one
_FLOAT = re.compile(r"-?\d{1,20}(?:\.\d{1,20})?(?:e[+-]?\d{1,3})?", re.ASCII)
_WHOLE = re.compile(r"-?\d{1,30}", re.ASCII)


class Guard(NamedTuple):
    """One line of the guarded manner, taken apart."""

    kind: str  # D carries a body, A acknowledges one, N refuses it
    session: int
    number: int
    fingerprint: str
    body: str = ""


class NotTaken(IntEnum):
    """Why a line is refused."""

    OTHER_DESCRIPTION = 1
    UNKNOWN_SESSION = 2


def write_guarded(line: Guard) -> bytes:
    """A line with its length and CRC, without its end.

    Examples
    --------
    >>> write_guarded(Guard("D", 0x1A2B, 1, "0123abcd", "t;21.5"))
    b'D1A2B00010123abcd0006t;21.59A8ACAF4'

    """
    text = f"{line.kind}{line.session:04X}{line.number:04X}{line.fingerprint}{len(line.body):04X}{line.body}"
    return f"{text}{zlib.crc32(text.encode('ascii')):08X}".encode("ascii")


def read_guarded(raw: bytes) -> Guard | None:
    """The parts of a line; None when its length or CRC is not right."""
    match = _LINE.fullmatch(raw.decode("latin-1"))
    if match is None or int(match["length"], 16) != len(match["body"]):
        return None
    if zlib.crc32(raw[:-8]) != int(match["crc"], 16):
        return None
    number, session = int(match["number"], 16), int(match["session"], 16)
    return Guard(match["kind"], session, number, match["fingerprint"], match["body"])


# ---------------------------------------------------------------------- bodies: typed values, exactly


def write_body(line: LineForm, values: Sequence[Carried]) -> str:
    """The keyword of a line and its values, each exactly.

    Raises
    ------
    CannotSay
        A value is of another kind, or there are too many.

    """
    few, many = counts(line)
    if not few <= len(values) <= many:
        raise CannotSay(f"{line.name} carries {few} to {many} values, not {len(values)}")
    parts = [p for p in repeated(line, len(values)) if not p.is_constant]
    texts = [_write(p.form, v) for p, v in zip(parts, values, strict=True)]
    body = ";".join([escape(line.keyword), *texts])
    if len(body) > MOST_BODY:
        raise CannotSay(f"{line.name} is {len(body)} characters long", valid=f"at most {MOST_BODY}")
    return body


def read_body(line: LineForm, texts: Sequence[str]) -> tuple[Carried, ...]:
    """The values behind the keyword of a line.

    Raises
    ------
    QuantityError
        They are not those of this line.

    """
    few, many = counts(line)
    if not few <= len(texts) <= many:
        raise QuantityError(f"{line.name} carries {few} to {many} values, not {len(texts)}")
    parts = [p for p in repeated(line, len(texts)) if not p.is_constant]
    return tuple(_read(p.form, text) for p, text in zip(parts, texts, strict=True))


def _write(form: Form, value: Carried) -> str:
    if value is None or (isinstance(value, float) and not math.isfinite(value)):
        return _BAD
    if form.kind in _TEXTS:
        if not isinstance(value, str):
            raise CannotSay(f"{value!r:.40} is not a text")
        if form.kind is Kind.TEXT and len(value) > form.longest:
            valid = f"at most {form.longest} characters"
            raise CannotSay(f"the text '{value[:40]}' has {len(value)} characters", valid=valid)
        return escape(value)
    if isinstance(value, str):
        raise CannotSay(f"{value!r:.40} is not a number")
    return repr(float(value)) if form.kind is Kind.NUMBER else str(round(value))


def _read(form: Form, text: str) -> Carried:
    if text == _BAD:
        return None
    if form.kind in _TEXTS:
        found = _unescape(text)
        if form.kind is Kind.STATE and found not in dict(form.states):
            raise QuantityError(f"{found[:40]!r} is not one of its states")
        if form.kind is Kind.TEXT and len(found) > form.longest:
            raise QuantityError(f"'{found[:40]}' has more than {form.longest} characters")
        return found
    look = _FLOAT if form.kind is Kind.NUMBER else _WHOLE
    if look.fullmatch(text) is None:
        raise QuantityError(f"{text[:40]!r} is not a number")
    return float(text) if form.kind is Kind.NUMBER else int(text)


_TEXTS = (Kind.TEXT, Kind.STATE)


def escape(text: str) -> str:
    """A text as a body holds it: bytes of UTF-8 that are not safe as ``%`` and two digits."""
    try:
        return "".join(
            c if c in _SAFE else "".join(f"%{b:02X}" for b in c.encode("utf-8")) for c in text
        )
    except UnicodeEncodeError:
        raise CannotSay(f"{text[:40]!r} is not a text of characters") from None


def _unescape(text: str) -> str:
    pieces = text.split("%")
    data = bytearray(pieces[0].encode("latin-1"))
    for piece in pieces[1:]:
        if not re.fullmatch("[0-9A-F]{2}", piece[:2]):
            raise QuantityError(f"{text[:40]!r} is not escaped in a right way")
        data += bytes([int(piece[:2], 16)]) + piece[2:].encode("latin-1")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        raise QuantityError(f"{text[:40]!r} is not a text of characters") from None


# ---------------------------------------------------------------------- the two ends


@dataclass(slots=True)
class _UnderWay:
    body: str
    number: int
    line: bytes
    tries: int
    due_s: float


@dataclass(slots=True)
class GuardedEnd:
    """One end: what is to be sent, what was received. ``session`` is any number, another at each start.

    ``lost`` are bodies that were not acknowledged, ``counts`` what was not as it should be.
    """

    fingerprint: str
    session: int
    address: bytes = b""
    out: bytearray = field(default_factory=bytearray)
    lost: list[str] = field(default_factory=list)
    counts: dict[str, int] = field(default_factory=dict)
    other_description: str = ""
    _waiting: deque[str] = field(default_factory=deque)
    _under_way: _UnderWay | None = None
    _number: int = 0
    _their_session: int | None = None
    _their_number: int = 0
    _ended: deque[int] = field(default_factory=lambda: deque(maxlen=8))

    @property
    def is_idle(self) -> bool:
        """Whether all that was to be sent has been acknowledged or given up."""
        return self._under_way is None and not self._waiting

    @property
    def sent(self) -> str:
        """What names the line that was sent last: its session and number."""
        return f"{self.session:04X}{self._number:04X}"

    @property
    def heard(self) -> str:
        """What names the line that was heard last."""
        return f"{self._their_session or 0:04X}{self._their_number:04X}"

    def send(self, body: str, now_s: float) -> None:
        """Send a body, when those before it have been acknowledged."""
        if len(self._waiting) >= MOST_WAITING:
            self._count("not sent")
            self.lost.append(self._waiting.popleft())
        self._waiting.append(body)
        self.look(now_s)

    def look(self, now_s: float) -> None:
        """Repeat what was not acknowledged in time, or begin with the next."""
        under_way = self._under_way
        if under_way is not None and now_s >= under_way.due_s:
            if under_way.tries >= TRIES:
                self._count("not acknowledged")
                self.lost.append(under_way.body)
                self._under_way = None
            else:
                under_way.tries += 1
                under_way.due_s = now_s + REPEAT_S
                self._count("repeated")
                self._put(under_way.line)
        if self._under_way is None and self._waiting:
            self._number = self._number % (_NUMBERS - 1) + 1
            self._begin(self._waiting.popleft(), now_s)

    def hear(self, raw: bytes, now_s: float) -> str | None:
        """Take a line from the other end, without its end; a body, when it brings a new one."""
        line = read_guarded(raw)
        if line is None:
            self._count("damaged")
            return None
        if line.fingerprint != self.fingerprint:
            self._count("other description")
            self.other_description = line.fingerprint
            if line.kind == "D":
                self._refuse(line, NotTaken.OTHER_DESCRIPTION)
            return None
        if line.kind == "D":
            return self._take(line)
        under_way = self._under_way
        if under_way is None or (line.session, line.number) != (self.session, under_way.number):
            self._count("late")
        elif line.kind == "A":
            self._under_way = None
            self.look(now_s)
        elif line.body == str(int(NotTaken.UNKNOWN_SESSION)):
            # The other end has been started anew, and knows nothing of what was before.
            self.session, self._number = (self.session + 1) % _SESSIONS, 1
            self._begin(under_way.body, now_s)
        return None

    def _begin(self, body: str, now_s: float) -> None:
        line = write_guarded(Guard("D", self.session, self._number, self.fingerprint, body))
        self._under_way = _UnderWay(body, self._number, line, 1, now_s + REPEAT_S)
        self._put(line)

    def _take(self, line: Guard) -> str | None:
        if line.session != self._their_session:
            if line.session in self._ended:
                self._count("late")
                return None
            if line.number != 1:
                self._refuse(line, NotTaken.UNKNOWN_SESSION)
                return None
            if self._their_session is not None:
                self._ended.append(self._their_session)
            self._their_session, self._their_number = line.session, 0
        is_next = line.number == self._their_number % (_NUMBERS - 1) + 1
        if not is_next and line.number != self._their_number:
            self._count("late")
            return None
        acknowledged = Guard("A", line.session, line.number, self.fingerprint)
        self._put(write_guarded(acknowledged))
        if not is_next:
            self._count("twice")
            return None
        self._their_number = line.number
        return line.body

    def _refuse(self, line: Guard, why: NotTaken) -> None:
        refused = Guard("N", line.session, line.number, self.fingerprint, str(int(why)))
        self._put(write_guarded(refused))

    def _put(self, line: bytes) -> None:
        if len(self.out) < MOST_OUT:  # what the other end does not take is repeated
            self.out += self.address + line + END

    def _count(self, what: str) -> None:
        self.counts[what] = self.counts.get(what, 0) + 1
