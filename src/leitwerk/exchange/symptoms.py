"""What is wrong with a line, from the bytes that were sent and that came back."""

from __future__ import annotations

from typing import NamedTuple

from leitwerk.exchange.characters import name_characters, visible
from leitwerk.exchange.definition import Exchange
from leitwerk.exchange.hearing import Listener
from leitwerk.exchange.lines import LineCutter

_SHOWN = 40
_PROMPT = 20  # bytes that may stand before an echo
REFUSES = "it refuses what it is asked"
_GARBAGE = 0.2  # share of bytes that no text has


class Symptom(NamedTuple):
    """Something that is not as it should be, and what to do. ``word`` names it for programs."""

    word: str
    message: str
    remedy: str


def readable(data: bytes) -> float:
    """The share of bytes that a text may have: 0 to 1; 0 for none at all."""
    if not data:
        return 0.0
    return sum(0x20 <= b < 0x7F or b in b"\r\n\t\x02\x03" for b in data) / len(data)


def understood_lines(exchange: Exchange, data: bytes) -> int:
    """How many lines of what came are messages of the device. ``exchange`` is as the device sees it."""
    return sum(trouble is None for _, trouble in _lines(exchange, data))


def symptoms(exchange: Exchange, sent: bytes, came: bytes) -> list[Symptom]:
    """What is wrong, worst first; empty when what came is understood.

    Parameters
    ----------
    exchange : Exchange
        As the device sees it, which is at the other end.
    sent, came : bytes
        What was sent to it, and all that came.

    """
    if not came:
        return [Symptom(
            "silence", "nothing arrives",
            "is the device on and told to send, is it the right port, are the two data wires crossed?",
        )]  # fmt: skip
    found = []
    if sent and sent in came[: len(sent) + _PROMPT]:
        found.append(Symptom(
            "echo", f"what was sent comes back: {visible(sent[:_SHOWN])}",
            "a loop in the wiring, two wires that hear their own sender, or a device that echoes for people",
        ))  # fmt: skip
        came = came[came.index(sent) + len(sent) :]
        if not came:
            return found
    if readable(came) < 1.0 - _GARBAGE:
        return [*found, _garbage(came)]
    wrong = [t for _, t in _lines(exchange, came) if t is not None]
    if understood_lines(exchange, came) and not wrong:
        return found
    return [*found, *_texts(exchange, came, wrong)]


def programming_port(said: bytes) -> Symptom:
    """What is wrong where a device says who it is, as it does at the port that programs it."""
    message = f"this port programs the device: asked who it is, it says {visible(said[:_SHOWN])}"
    return Symptom("programming port", message, "take the talking port")


def _garbage(came: bytes) -> Symptom:
    stripped = bytes(b & 0x7F for b in came)
    letters = sum(0x20 <= b < 0x7F for b in stripped)
    if readable(stripped) >= 1.0 - _GARBAGE / 4 and letters > len(stripped) / 2:
        return Symptom(
            "parity", f"with the highest bit left away it is a text: {visible(stripped[:_SHOWN])}",
            "the device has 7 data bits and a parity bit: line=…,7E1 or 7O1",
        )  # fmt: skip
    return Symptom(
        "garbage", f"no text arrives: {visible(came[:_SHOWN])}", "is the baud rate right?"
    )


def _texts(exchange: Exchange, came: bytes, wrong: list[str]) -> list[Symptom]:
    way, found = exchange.says, []
    ends = {end: count for end, count in _count_ends(came).items() if count}
    if way.end_bytes not in ends and ends:
        one = max(ends, key=lambda e: ends[e])
        shown = name_characters(one.decode("ascii"))
        message = f"lines end with {shown}, this description says {name_characters(way.end)}"
        found.append(Symptom("end", message, f"end: {shown}"))
    elif len(ends) > 1:
        counts = ", ".join(
            f"{n} with {name_characters(e.decode('ascii'))}" for e, n in ends.items()
        )
        message = f"lines end in different ways: {counts}"
        found.append(
            Symptom("mixed ends", message, "is it several programs that write to this line?")
        )
    if REFUSES in wrong:
        message = f"it refuses what it is asked: {visible(came[:_SHOWN])}"
        remedy = "hold both descriptions together: leitwerk exchange match"
        found.append(Symptom("refused", message, remedy))
    elif any("came as part of the keyword" in message for message in wrong):
        message = next(m for m in wrong if "came as part of the keyword" in m)
        found.append(Symptom("separator", message, f"separator: {name_characters(way.separator)}"))
    elif wrong and not found:
        found.append(Symptom("not understood", f"lines arrive that are not understood: {wrong[0]}",
                             "hold both descriptions together: leitwerk exchange match"))  # fmt: skip
    return found or [Symptom("no end", f"a text arrives without an end: {visible(came[:_SHOWN])}",
                             f"does it end its lines with {name_characters(way.end)}?")]  # fmt: skip


def _count_ends(came: bytes) -> dict[bytes, int]:
    both = came.count(b"\r\n")
    return {b"\r\n": both, b"\r": came.count(b"\r") - both, b"\n": came.count(b"\n") - both}


def _lines(exchange: Exchange, data: bytes) -> list[tuple[str, str | None]]:
    """The lines of what came, each with why it is not understood; None when it is."""
    way = exchange.says
    cutter = LineCutter(
        way.end_bytes, way.longest + len(exchange.address), way.start.encode(way.encoding)
    )
    listener = Listener(way, address=exchange.address)
    found: list[tuple[str, str | None]] = []
    for line in cutter.feed(data, 0.0):
        heard = None if line.trouble else listener.hear(line.data)
        if heard is None:
            found.append((visible(line.data), line.trouble or "it is for another address"))
        elif heard.trouble is not None and heard.text != exchange.says.confirms:
            refused = REFUSES if _refuses(exchange, heard.text) else ""
            found.append((heard.text, refused or heard.trouble.message))
        else:
            found.append((heard.text, None))
    return found


def _refuses(exchange: Exchange, text: str) -> bool:
    head = exchange.says.refuses.partition("{")[0]
    return bool(head) and text.startswith(head)
