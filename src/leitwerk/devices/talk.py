"""Talking to a device by hand over lines of text: both directions with times, kept and played again."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from leitwerk.datasheet.text_points import Replies
from leitwerk.errors import FileProblem, LinkError
from leitwerk.exchange.definition import Exchange
from leitwerk.exchange.symptoms import (
    Symptom,
    programming_port,
    readable,
    symptoms,
    understood_lines,
)
from leitwerk.exchange.terms import Flow
from leitwerk.links.byte_link import ByteLink
from leitwerk.parsing.address import LinkAddress, SerialLine
from leitwerk.project.files import read_bytes
from leitwerk.project.kept_json import KeptFile, parse_kept

_OPEN_S = 3.0
_PIECE_S = 0.05  # bytes that come closer together than this are shown as one piece
_MOST_PIECE = 4096
_MOST_ENTRIES = 100_000
# Usual serial lines, the most usual first.
LINES = tuple(
    SerialLine(baud, *bits)
    for bits in ((8, "N", 1), (7, "E", 1), (8, "E", 1), (7, "O", 1))
    for baud in (9600, 19200, 115200, 38400, 57600, 4800, 2400, 1200)
)


@dataclass(frozen=True)
class Traffic:
    """Bytes that were said or heard, ``at_s`` since the beginning."""

    at_s: float
    way: Literal["said", "heard"]
    data: bytes


class Talk:
    """A conversation at an address. Everything that is said and heard goes to ``on_traffic``.

    Raises
    ------
    NotReached, LinkError
        (all methods) The connection cannot be opened, or broke.

    """

    def __init__(
        self,
        address: LinkAddress,
        on_traffic: Callable[[Traffic], None],
        *,
        end: bytes = b"\n",
        flow: Flow = Flow.NONE,
    ) -> None:
        self._link = ByteLink(address, flow)
        self._on_traffic, self._end = on_traffic, end
        self._begun = time.monotonic()
        self._piece = bytearray()
        self._piece_s = 0.0
        self._link.open(_OPEN_S, "talk")

    def say(self, data: bytes) -> None:
        """Say bytes as they are."""
        self._link.write(data, _OPEN_S, "talk")
        self._on_traffic(Traffic(self._now(), "said", data))

    def listen(self, wait_s: float) -> None:
        """Take what comes within a time; a piece ends with a line, or when nothing follows."""
        data = self._link.read_some(min(wait_s, _PIECE_S), _OPEN_S, "talk")
        if data and not self._piece:
            self._piece_s = self._now()
        self._piece += data
        while (at := self._piece.find(self._end)) >= 0:
            self._give(at + len(self._end))
        if self._piece and (not data or len(self._piece) > _MOST_PIECE):
            self._give(len(self._piece))

    def listen_for(self, seconds: float) -> None:
        """Take what comes for a while."""
        until = time.monotonic() + seconds
        while (left := until - time.monotonic()) > 0:
            self.listen(left)
        self.listen(0.0)

    def close(self) -> None:
        """End the conversation."""
        self._link.close()

    def _give(self, count: int) -> None:
        piece = bytes(self._piece[:count])
        del self._piece[:count]
        self._on_traffic(Traffic(self._piece_s, "heard", piece))

    def _now(self) -> float:
        return time.monotonic() - self._begun


# ---------------------------------------------------------------------- kept and played again


class _Head(KeptFile):
    talk: Literal[1]
    at: str
    started: str


class _Entry(KeptFile):
    s: float
    way: Literal["said", "heard"]
    hex: str


def head_line(at: LinkAddress, started: str) -> str:
    """The first line of a kept conversation."""
    return json.dumps({"talk": 1, "at": str(at), "started": started}) + "\n"


def traffic_line(traffic: Traffic) -> str:
    """A further line of it."""
    entry = {"s": round(traffic.at_s, 3), "way": traffic.way, "hex": traffic.data.hex()}
    return json.dumps(entry) + "\n"


def read_talk(path: Path) -> list[Traffic]:
    """A conversation that was kept.

    Raises
    ------
    FileProblem
        It cannot be read, or is not one.

    """
    lines = read_bytes(path).splitlines()[: _MOST_ENTRIES + 1]
    try:
        parse_kept(lines[0] if lines else b"", _Head)
        entries = [parse_kept(line, _Entry) for line in lines[1:]]
        return [Traffic(entry.s, entry.way, bytes.fromhex(entry.hex)) for entry in entries]
    except ValueError as error:
        message = f"{path} is not a conversation that Leitwerk kept: {error}"
        raise FileProblem(message, remedy="keep one with 'leitwerk talk --keep'") from None


def play_again(talk: Talk, kept: list[Traffic]) -> Iterator[Traffic]:
    """Say again what was said, at the same times; gives each piece before it is said."""
    before = 0.0
    for traffic in kept:
        if traffic.way == "said":
            talk.listen_for(max(0.0, min(traffic.at_s - before, 60.0)))
            before = traffic.at_s
            yield traffic
            talk.say(traffic.data)
    last = max((t.at_s for t in kept), default=0.0)
    talk.listen_for(max(0.2, min(last - before, 60.0)))


# ---------------------------------------------------------------------- diagnosis


@dataclass(frozen=True)
class Diagnosis:
    """What was heard from a device, what is wrong, and the line on which it makes sense, if another."""

    sent: bytes
    came: bytes
    understood: int
    symptoms: tuple[Symptom, ...]
    line: SerialLine | None = None


def diagnose(
    exchange: Exchange,
    address: LinkAddress,
    *,
    listen_s: float = 2.0,
    replies: Replies | None = None,
    identity: str = "",
    on_try: Callable[[SerialLine], None] = lambda line: None,
) -> Diagnosis:
    """Listen to a device at the other end of a line, ask it something, and say what is wrong.

    Where no text comes over a serial port, the usual lines are tried. Where the device refuses, it may be the
    port that programs it: then it answers ``identity``, a query of its datasheet, with no refusal.

    Raises
    ------
    NotReached, LinkError
        The port does not open, or the connection broke.

    """
    sent, came = _ask(exchange, address, listen_s)
    found = symptoms(exchange, sent, came)
    if identity and replies is not None and any(s.word == "refused" for s in found):
        _, said = _ask(exchange, address, listen_s, identity.encode("ascii") + replies.end)
        lines = said.decode("latin-1").splitlines()
        if any(line and replies.refusal(line) is None for line in lines):
            found = [programming_port(said)]
    understood = understood_lines(exchange, came)
    words = {symptom.word for symptom in found}
    if not address.is_serial or not words & {"garbage", "parity", "silence"}:
        return Diagnosis(sent, came, understood, tuple(found))
    best, best_line = (understood, readable(came)), None
    for line in LINES:
        if line == address.line:
            continue
        on_try(line)
        try:
            _, tried = _ask(exchange, address.with_line(line), listen_s)
        except LinkError:
            continue  # this port cannot be set so
        score = (understood_lines(exchange, tried), readable(tried))
        if score > best and score[1] > 0.9:
            best, best_line = score, line
        if score[0]:
            break
    return Diagnosis(sent, came, understood, tuple(found), best_line)


def _ask(
    exchange: Exchange, address: LinkAddress, listen_s: float, query: bytes | None = None
) -> tuple[bytes, bytes]:
    """What was sent to a device, and what came within a time."""
    came = bytearray()
    sent = probe(exchange) if query is None else query

    def take(traffic: Traffic) -> None:
        if traffic.way == "heard":
            came.extend(traffic.data)

    talk = Talk(address, take, end=exchange.says.end_bytes)
    try:
        if sent:
            talk.say(sent)
        talk.listen_for(listen_s)
    finally:
        talk.close()
    return sent, bytes(came)


def probe(exchange: Exchange) -> bytes:
    """A line that a device answers and that changes nothing: it asks for a message."""
    way = exchange.understands
    for line in way.lines:
        if not line.parts and line.answer.message:
            text = way.start + exchange.address + line.keyword + way.end
            return text.encode(way.encoding, "replace")
    return b""
