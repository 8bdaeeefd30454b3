"""What is said: values become a line, as a message of an exchange lays it out."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import NamedTuple

from leitwerk.exchange.characters import visible
from leitwerk.exchange.definition import Carried, Direction, Exchange, LineForm, Part
from leitwerk.exchange.terms import Kind, Spaces
from leitwerk.exchange.values import LARGEST, CannotSay, codec, template

Say = Callable[[Sequence[Carried]], str]


class Place(NamedTuple):
    """Where a part stands in a line that is said: from and to, in characters."""

    name: str
    text: str


def speaker(line: LineForm, way: Direction) -> Say:
    """A function that makes the text of a line, without address, start and end, from its values.

    It takes the values of the parts that carry one, in their order. For good numbers in plain forms it is
    one ``str.format``.

    Raises
    ------
    CannotSay
        (the function) A value would not be understood as what it is.

    """
    few, many = counts(line)
    separator = way.separator
    head = [line.keyword] if line.keyword else []

    def say(values: Sequence[Carried]) -> str:
        if not few <= len(values) <= many:
            raise CannotSay(f"{line.name} carries {_span(few, many)} values, not {len(values)}")
        left = iter(values)
        parts = repeated(line, len(values))
        return separator.join(
            head + [codec(p.form, way).write(None if p.is_constant else next(left)) for p in parts]
        )

    quick = [template(part.form, way) for part in line.parts]
    if not line.parts or few != many or not all(quick):
        return say
    pattern = separator.join([_escaped(text) for text in head] + [str(text) for text in quick])
    fill, finite = pattern.format, math.isfinite

    def say_numbers(values: Sequence[Carried]) -> str:
        try:
            # A sum is finite only if all its parts are.
            if len(values) == few and finite(sum(values)) and max(values) < LARGEST > -min(values):  # type: ignore[arg-type,type-var,operator]
                return fill(*values)
        except (TypeError, ValueError):
            pass
        return say(values)

    return say_numbers


def require_exact(line: LineForm, way: Direction, values: Sequence[Carried]) -> None:
    """Insist that values are said as they are: not rounded, and not as no value where they are not known.

    What a person or a program gives is meant exactly; None alone stands for no value. What is measured
    is rounded to the digits of its form instead.

    Raises
    ------
    CannotSay
        A value would be said as another one; the form says what is valid.

    """
    few, many = counts(line)
    if not few <= len(values) <= many:
        raise CannotSay(f"{line.name} carries {_span(few, many)} values, not {len(values)}")
    parts = [part for part in repeated(line, len(values)) if not part.is_constant]
    for part, value in zip(parts, values, strict=True):
        one = codec(part.form, way)
        text = one.write(value)
        if part.form.kind is Kind.TEXT:
            continue  # what cannot be said of a text is refused where it is written
        heard = one.read(text.strip(" ") if way.spaces is Spaces.DROP else text)
        if not _is_same(value, heard):
            valid = ", ".join(name for name, _ in part.form.states)
            raise CannotSay(
                f"{part.name} {value!r} would be said as {text.strip()!r}",
                valid=valid or "a value that its form can say exactly",
            )


def _is_same(value: Carried, heard: Carried) -> bool:
    if isinstance(value, float | int) and isinstance(heard, float | int):
        return math.isclose(value, heard, rel_tol=1e-12, abs_tol=1e-12)
    return value == heard


def counts(line: LineForm) -> tuple[int, int]:
    """How many values a line carries, at least and at most."""
    values = line.values
    fixed = len(values)
    if not values:
        return 0, 0
    last = values[-1]
    return fixed - 1 + last.least, fixed - 1 + last.most


def repeated(line: LineForm, count: int) -> tuple[Part, ...]:
    """The parts of a line that carries so many values: its last part as often as it takes."""
    more = count - len(line.values)
    return line.parts[:more] if more < 0 else line.parts + line.parts[-1:] * more


def places(line: LineForm, way: Direction, values: Sequence[Carried]) -> list[Place]:
    """The parts of a line that is said, each with its text: for a preview."""
    found = [Place("keyword", line.keyword)] if line.keyword else []
    left = iter(values)
    for part in repeated(line, len(values)):
        value = None if part.is_constant else next(left)
        found.append(Place(part.name or part.of or "text", codec(part.form, way).write(value)))
    return found


def packed(text: str, way: Direction, address: str = "") -> bytes:
    """A line as bytes, with all that stands around it.

    Raises
    ------
    CannotSay
        It is too long, or has characters that the encoding does not know.

    """
    try:
        data = (address + text).encode(way.encoding)
        if len(data) > way.longest:
            raise CannotSay(
                f"the line has {len(data)} bytes: {visible(text[:60])}",
                valid=f"at most {way.longest} bytes",
            )
        return way.start.encode(way.encoding) + data + way.end_bytes
    except UnicodeEncodeError as error:
        raise CannotSay(
            f"{way.encoding} has no {text[max(0, error.start - len(address)) :][:1]!r}",
            valid=f"characters of {way.encoding}",
        ) from None


def longest_bytes(line: LineForm, way: Direction, exchange: Exchange) -> int:
    """How many bytes a line may have, without start and end: of numbers without a span, an estimate."""
    parts = repeated(line, counts(line)[1])
    texts = [line.keyword] * bool(line.keyword) + [_longest(part, way) for part in parts]
    return len((exchange.address + way.separator.join(texts)).encode(way.encoding, "replace"))


def _longest(part: Part, way: Direction) -> str:
    """The longest text of a part; free texts have the bytes that one character may have."""
    form = part.form
    around = len(form.before) + len(form.after)
    if form.kind is Kind.TEXT:
        wide = 4 if way.encoding == "utf-8" else 1
        return "x" * (form.longest * wide + around + 2 * len(way.quotes))
    ends = part.span or _USUAL
    values: list[Carried] = [None, *[name for name, _ in form.states]]
    if form.kind is Kind.COUNTER:
        values.append(10 ** (form.width or 6) - 1)
    elif form.kind in {Kind.NUMBER, Kind.INTEGER}:
        values += [max(-_LARGE, ends[0]), min(_LARGE, ends[1])]
    elif form.kind is Kind.HEXADECIMAL:
        values.append(min(_LARGE, max(0.0, ends[1])))
    elif form.kind is Kind.TIME:
        values.append(0)
    write = codec(form, way).write
    return max((write(value) for value in values), key=len)


_USUAL, _LARGE = (
    (-99_999.0, 99_999.0),
    1e9,
)  # of values whose span is not known, or as good as endless


def example_values(line: LineForm) -> list[Carried]:
    """Values to show a line with."""
    return [_example(part) for part in line.values for _ in range(max(1, part.least))]


def _example(part: Part) -> Carried:
    form = part.form
    low, high = part.span or (0.0, 100.0)
    middle: dict[str, Carried] = {
        "number": round(low + 0.215 * (high - low), 1),
        "integer": round(low + 0.21 * (high - low)),
        "hexadecimal": 26,
        "text": "text"[: form.longest],
        "state": form.states[0][0] if form.states else None,
        "time": 21_600 if form.layout.value == "time of day" else 1_772_431_200,
        "counter": 1,
        "constant": form.text,
    }
    return middle[form.kind.value]


def _escaped(text: str) -> str:
    return text.replace("{", "{{").replace("}", "}}")


def _span(least: int, most: int) -> str:
    return str(least) if least == most else f"{least} to {most}"
