"""A line taken apart step by step, for people: how it is divided, converted, stored, answered, or fails."""

from __future__ import annotations

from typing import NamedTuple

from leitwerk.exchange.characters import hexadecimal, name_characters, visible
from leitwerk.exchange.definition import Exchange
from leitwerk.exchange.hearing import Heard, Listener, Trouble, Why
from leitwerk.exchange.lines import LineCutter
from leitwerk.exchange.terms import AnswerKind, Manner


class Step(NamedTuple):
    """One step: its name and what it gave. ``failed``: nothing follows."""

    title: str
    text: str
    failed: bool = False


def explain_line(exchange: Exchange, data: bytes) -> tuple[list[Step], list[Heard]]:
    """What becomes of bytes that arrive, up to the answer. For machines and people."""
    way = exchange.understands
    end = b"\n" if exchange.manner is Manner.PEOPLE else way.end_bytes
    steps = [Step("bytes", f"{visible(data)}   {hexadecimal(data)}")]
    cutter = LineCutter(end, way.longest + len(exchange.address), way.start.encode(way.encoding))
    lines = cutter.feed(data, 0.0)
    if not lines:
        what = f"no end '{name_characters(way.end)}' has come: it waits for more"
        return [*steps, Step("line", what, failed=True)], []
    listener = Listener(way, manner=exchange.manner, address=exchange.address)
    found = []
    for line in lines:
        if line.trouble:
            steps.append(Step("line", line.trouble, failed=True))
            found.append(Heard("", trouble=Trouble(Why.LENGTH, line.trouble), raw=line.data))
            continue
        steps.append(Step("line", visible(line.data)))
        heard = listener.hear(
            line.data.rstrip(b"\r") if exchange.manner is Manner.PEOPLE else line.data
        )
        if heard is None:
            message = f"it does not begin with {exchange.address!r}: it is for another device"
            steps.append(Step("address", message, failed=True))
            continue
        found.append(heard)
        steps += _explained(exchange, heard)
    return steps, found


def _explained(exchange: Exchange, heard: Heard) -> list[Step]:
    way, trouble = exchange.understands, heard.trouble
    if not heard.name:
        assert trouble is not None
        return [
            Step("keyword", f"{_at(trouble)}{trouble.message}", failed=True),
            *_refusal(exchange, heard),
        ]
    line = way.line(heard.name)
    steps = [Step("keyword", f"{line.keyword or '(no keyword)'}: {line.name}")]
    troubles = heard.troubles or (None,) * len(heard.values)
    for part, text, value, own in zip(
        line.values, heard.texts, heard.values, troubles, strict=False
    ):
        if own is not None:
            steps.append(
                Step(part.name, f"'{visible(text)}': {_at(own)}{own.message}", failed=True)
            )
        else:
            what = (
                "no good value at the other end"
                if value is None
                else f"{part.form.kind.value} {value}"
            )
            goes = f", to {part.of}" if part.of else ", kept"
            steps.append(Step(part.name, f"'{visible(text)}' is {what}{goes}"))
    if trouble is not None:
        if not heard.values:
            steps.append(Step("values", f"{_at(trouble)}{trouble.message}", failed=True))
        return [*steps, *_refusal(exchange, heard)]
    answer = line.answer
    said = {
        AnswerKind.NOTHING: "nothing",
        AnswerKind.CONFIRMATION: visible(exchange.says.confirms + exchange.says.end),
        AnswerKind.MESSAGE: f"message {answer.message}",
    }[answer.kind]
    return [*steps, Step("answer", said)]


def _at(trouble: Trouble) -> str:
    return f"at byte {trouble.at + 1}, "


def _refusal(exchange: Exchange, heard: Heard) -> list[Step]:
    assert heard.trouble is not None
    if not exchange.tells_errors(heard.name):
        return [Step("answer", "nothing")]
    why = heard.trouble.why
    text = exchange.says.refuses.replace("{}", str(int(why))).replace("{why}", why.words)
    return [Step("answer", f"{visible(text + exchange.says.end)}   ({why.words})")]
