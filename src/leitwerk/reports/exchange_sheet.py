"""The sheet for whoever programs the other end of an exchange, as Markdown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from leitwerk.exchange.characters import hexadecimal, name_characters, visible
from leitwerk.exchange.definition import Direction, Exchange, Form, LineForm, Part
from leitwerk.exchange.hearing import Why
from leitwerk.exchange.saying import example_values, packed, places, speaker
from leitwerk.exchange.terms import AnswerKind, Kind, Layout, Manner
from leitwerk.exchange.values import CannotSay
from leitwerk.parsing.quantities import format_span
from leitwerk.reports.html_page import plain

_TIMES = {
    Layout.ISO: "date and time in UTC, as 2026-03-02T06:00:00Z",
    Layout.DATE_TIME: "date and time in UTC, as 2026-03-02 06:00:00",
    Layout.TIME_OF_DAY: "local time of day, as 06:00:00",
    Layout.SECONDS: "seconds since 1970-01-01, UTC",
}


def sheet_markdown(exchange: Exchange, device: str) -> str:
    """The sheet as Markdown.

    Parameters
    ----------
    exchange : Exchange
        As the device sees it.
    device : str
        What to call the device.

    """
    return "\n".join(_lines(exchange, device)) + "\n"


def _lines(exchange: Exchange, device: str) -> Iterator[str]:
    wire = exchange.wire
    yield f"# {plain(device)}: exchange {exchange.name}"
    yield ""
    names = f"Characters that cannot be seen have names: {_code('⟨CR⟩')}."
    yield f"For whoever programs {plain(exchange.partner)}. {names}"
    yield ""
    yield "## The line"
    yield ""
    bits = f"{wire.data_bits} data bits, parity {_PARITY[wire.parity]}, {_count(wire.stop_bits, 'stop bit')}"
    rows = [
        ("Serial line", f"{wire} ({wire.baud} Bd, {bits})"),
        ("Wires", str(wire.wires)),
        ("Flow control", str(wire.flow)),
        ("Manner", _MANNERS[exchange.manner]),
    ]
    if exchange.address:
        rows.append(("Before each line", _code(exchange.address)))
    if exchange.manner is Manner.GUARDED:
        rows.append(("Fingerprint", _code(exchange.fingerprint)))
    yield from _table(("What", "How"), rows)
    yield from _direction(f"What {plain(device)} says", exchange.says)
    for line in exchange.says.lines:
        yield from _line(line, exchange.says, exchange)
    yield from _direction(f"What {plain(device)} understands", exchange.understands)
    for line in exchange.understands.lines:
        yield from _line(line, exchange.understands, exchange)
        yield f"Answer: {_answer(line, exchange)}"
        yield ""
    yield from _errors(exchange)


def _direction(title: str, way: Direction) -> Iterator[str]:
    yield f"## {title}"
    yield ""
    rows = [
        ("Separator", _mark(way.separator)),
        ("End of a line", _mark(way.end)),
        *([("Beginning of a line", _mark(way.start))] if way.start else []),
        ("Encoding", way.encoding),
        ("Decimal sign", _code(way.decimal)),
        ("Longest line", f"{way.longest} bytes, without its end"),
        ("Spaces around a value", {"keep": "belong to it", "drop": "are dropped"}[way.spaces]),
        *(
            [("Texts stand in", f"{_code(way.quotes)}, doubled inside a text")]
            if way.quotes
            else []
        ),
    ]
    yield from _table(("What", "How"), rows)


def _line(line: LineForm, way: Direction, exchange: Exchange) -> Iterator[str]:
    yield f"### {line.name}"
    yield ""
    values = example_values(line)
    try:
        data = packed(speaker(line, way)(values), way, exchange.address)
        found = places(line, way, values)
    except CannotSay as error:
        yield f"No example: {plain(error.message)}."
        yield ""
        return
    between = _code(name_characters(way.separator))
    cells, heads = [], []
    for k, place in enumerate(found):
        if k:
            heads.append(" ")
            cells.append(between)
        heads.append(plain(place.name))
        cells.append(_code(visible(place.text)))
    yield from _table([*heads, "end"], [[*cells, _code(name_characters(way.end))]])
    if exchange.manner is not Manner.GUARDED:
        yield f"Example: {_code(visible(data))}"
        yield ""
        yield f"In hexadecimal: {_code(hexadecimal(data))}"
        yield ""
    rows = [(plain(p.name or "text"), _what(p, way)) for p in line.parts]
    if rows:
        yield from _table(("Value", "What it is"), rows)


def _what(part: Part, way: Direction) -> str:
    form = part.form
    words = {
        Kind.NUMBER: f"number{_digits(form)}",
        Kind.INTEGER: "whole number",
        Kind.HEXADECIMAL: "hexadecimal number",
        Kind.TEXT: f"text, at most {form.longest} characters",
        Kind.STATE: "one of "
        + ", ".join(f"{_code(text)} ({plain(name)})" for name, text in form.states),
        Kind.TIME: _TIMES[form.layout],
        Kind.COUNTER: "running number",
        Kind.CONSTANT: f"always {_code(form.text)}",
    }[form.kind]
    more = [f"in {plain(part.unit)}"] if part.unit else []
    if form.unit:
        more.append(f"with its unit {_code(form.unit)}")
    if form.width:
        filled = "zeros" if form.pad == "0" else "spaces"
        more.append(f"at least {form.width} characters, filled with {filled} on the left")
    if form.before or form.after:
        more.append(f"between {_code(form.before)} and {_code(form.after)}")
    if part.span is not None and abs(part.span[0]) < 1e12 > abs(part.span[1]):
        more.append(f"accepted: {format_span(*part.span, None)}")
    if (part.least, part.most) != (1, 1):
        more.append(f"{part.least} to {part.most} times")
    if form.kind is not Kind.CONSTANT:
        more.append(
            f"{_code(form.bad)} when there is no good value"
            if form.bad
            else "empty for no good value"
        )
    del way
    return "; ".join([words, *more])


def _digits(form: Form) -> str:
    if form.decimals is not None and not form.exponent:
        return f" with {_count(form.decimals, 'decimal')}"
    digits = form.digits or ((form.decimals or 0) + 1 if form.exponent else 0)
    return f" with {digits} digits that count{' and an exponent' * form.exponent}" if digits else ""


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'s' * (number != 1)}"


def _answer(line: LineForm, exchange: Exchange) -> str:
    answer, says = line.answer, exchange.says
    words = {
        AnswerKind.NOTHING: "nothing",
        AnswerKind.CONFIRMATION: _code(visible(says.confirms + says.end)),
        AnswerKind.MESSAGE: f"the line {answer.message}",
    }[answer.kind]
    if not answer.tells_errors:
        return f"{words}; nothing when it is not understood"
    return f"{words}; {_code(visible(says.refuses + says.end))} when it is not understood or cannot be done"


def _errors(exchange: Exchange) -> Iterator[str]:
    if not any(line.answer.tells_errors for line in exchange.understands.lines):
        return
    yield "## Reasons of a refusal"
    yield ""
    yield from _table(("{}", "{why}"), [(str(int(why)), why.words) for why in Why])


def _table(head: Sequence[str], rows: Sequence[Sequence[str]]) -> Iterator[str]:
    for row in (head, ["---"] * len(head), *rows):
        yield f"| {' | '.join(cell or ' ' for cell in row)} |"
    yield ""


def _mark(mark: str) -> str:
    return f"{_code(name_characters(mark))} ({hexadecimal(mark.encode('utf-8'))})"


def _code(text: str) -> str:
    if not text:
        return "nothing"
    fence = (
        "`" * (1 + max((len(run) for run in text.split("`")), default=0)) if "`" in text else "`"
    )
    inner = f" {text} " if text.startswith((" ", "`")) or text.endswith((" ", "`")) else text
    return f"{fence}{inner}{fence}".replace("|", "\\|")


_PARITY = {"N": "none", "E": "even", "O": "odd"}
_MANNERS = {
    Manner.MACHINES: "for machines: silent, no echo",
    Manner.PEOPLE: "for people: what is typed is shown and can be corrected",
    Manner.GUARDED: "guarded: numbered lines with length and CRC, as the guide describes",
}
