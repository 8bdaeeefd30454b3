"""One value as the text of a line, and back, by its form. What is not exactly of that form is refused."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from functools import lru_cache
from typing import NamedTuple

from leitwerk.errors import QuantityError
from leitwerk.exchange.characters import visible
from leitwerk.exchange.definition import Carried, Direction, Form
from leitwerk.exchange.terms import Kind, Layout, Spaces

Write = Callable[[Carried], str]
Read = Callable[[str], Carried]

MOST_DIGITS = 30  # of a number that is read
_DIGITS = rf"\d{{1,{MOST_DIGITS}}}(?:\.\d{{0,{MOST_DIGITS}}})?|\.\d{{1,{MOST_DIGITS}}}"
# With at most 99 in the exponent, no text of this form is too large for a number.
PLAIN_NUMBER = rf"[+-]?(?:{_DIGITS})(?:[eE][+-]?\d{{1,2}})?"
NUMBER = re.compile(rf"[+-]?(?:{_DIGITS})(?:[eE][+-]?\d{{1,3}})?", re.ASCII)
LARGEST = 1e25  # of a number that is written without an exponent
SMALLEST = (
    1e-15  # of one that is written with a number of digits: its zeros would be more than are read
)
_INTEGER = re.compile(rf"[+-]?\d{{1,{MOST_DIGITS}}}", re.ASCII)
_HEX = re.compile(r"[0-9A-Fa-f]{1,16}", re.ASCII)
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029\ud800-\udfff]")
_LAYOUTS = {
    Layout.ISO: "%Y-%m-%dT%H:%M:%SZ",
    Layout.DATE_TIME: "%Y-%m-%d %H:%M:%S",
    Layout.TIME_OF_DAY: "%H:%M:%S",
}
_LOOKS = {
    Layout.ISO: (re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ", re.ASCII), "2026-03-02T06:00:00Z"),
    Layout.DATE_TIME: (
        re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d", re.ASCII),
        "2026-03-02 06:00:00",
    ),
    Layout.TIME_OF_DAY: (re.compile(r"\d\d:\d\d:\d\d", re.ASCII), "06:00:00"),
    Layout.SECONDS: (re.compile(r"\d{1,10}", re.ASCII), "1772431200"),
}
_DAY_S, _LAST_S = 86_400, 4_102_444_800  # 2100-01-01


class CannotSay(QuantityError):
    """A value or a line that cannot be said in this exchange, so that the other end would understand it."""


class Codec(NamedTuple):
    """How one value is written and read. ``read`` raises QuantityError."""

    write: Write
    read: Read


@lru_cache(maxsize=4096)
def codec(form: Form, way: Direction) -> Codec:
    """How values of a form are written and read in a direction."""
    plain = _plain(form, way)
    write, read = plain.write, plain.read
    if form.before or form.after:
        write, read = _between(form, way, plain)
    if form.kind is Kind.TEXT and way.quotes:
        write = _quoting(write, way.quotes)
    return Codec(write, read)


def _between(form: Form, way: Direction, plain: Codec) -> Codec:
    """The value between two texts."""
    head, tail = form.before, form.after
    heard_head, heard_tail = (
        _heard(head.lstrip(" "), head, way),
        _heard(tail.rstrip(" "), tail, way),
    )
    least = len(heard_head) + len(heard_tail)

    def read(text: str) -> Carried:
        if len(text) < least or not text.startswith(heard_head) or not text.endswith(heard_tail):
            around = f"{visible(heard_head)}…{visible(heard_tail)}"
            raise QuantityError(f"{_shown(text)} does not stand between its texts", valid=around)
        return plain.read(text[len(heard_head) : len(text) - len(heard_tail)])

    return Codec(lambda value: head + plain.write(value) + tail, read)


def _heard(without: str, text: str, way: Direction) -> str:
    """A fixed text as it is heard: the spaces around a field may have been dropped."""
    return without if way.spaces is Spaces.DROP else text


def _quoting(write: Write, quotes: str) -> Write:
    return lambda value: quotes + write(value).replace(quotes, 2 * quotes) + quotes


def template(form: Form, way: Direction) -> str | None:
    """What ``str.format`` takes for good numbers of this form; None where it cannot write them."""
    if form.kind is not Kind.NUMBER or form.exponent or way.decimal != "." or form.decimals is None:
        return None
    width = f"{'0' * (form.pad == '0')}{form.width}" if form.width else ""
    around = (form.before, f" {form.unit}{form.after}" if form.unit else form.after)
    head, tail = (text.replace("{", "{{").replace("}", "}}") for text in around)
    return f"{head}{{:z{width}.{form.decimals}f}}{tail}"


def looks_good(form: Form, way: Direction) -> bool:
    """Whether what a form writes for no value reads as a value."""
    if form.kind in {Kind.TEXT, Kind.CONSTANT}:
        return False  # such a text cannot be said
    other = replace(form, bad="\0", before="", after="")
    bad = form.bad.strip(" ") if way.spaces is Spaces.DROP else form.bad
    try:
        return codec(other, way).read(bad) is not None
    except QuantityError:
        return False


# ---------------------------------------------------------------------- kinds


def _plain(form: Form, way: Direction) -> Codec:
    match form.kind:
        case Kind.NUMBER:
            return _number(form, way)
        case Kind.INTEGER | Kind.COUNTER | Kind.HEXADECIMAL:
            return _integer(form)
        case Kind.TEXT:
            return _text(form, way)
        case Kind.STATE:
            return _state(form, way)
        case Kind.TIME:
            return _time(form)
        case Kind.CONSTANT:
            return _constant(form, way)


def _number(form: Form, way: Direction) -> Codec:
    decimal, unit = way.decimal, f" {form.unit}" if form.unit else ""
    digits, bad = _digits(form), _bad(form)

    def write(value: Carried) -> str:
        if not isinstance(value, float | int) or not math.isfinite(value):
            return bad.written
        if abs(value) >= LARGEST and not form.exponent:
            raise CannotSay(f"{value:g} has too many digits", valid=f"less than {LARGEST:g}")
        text = _filled(digits(value), form)
        return (text if decimal == "." else text.replace(".", decimal)) + unit

    def read(text: str) -> Carried:
        if bad.is_in(text):
            return None
        number = text
        if unit:
            number = text.removesuffix(unit)
            if number == text:
                raise QuantityError(f"{_shown(text)} is without its unit", valid=f"21{unit}")
        number = _unfilled(number, form)
        if decimal != ".":
            # A point is no decimal sign here: whatever is not a number is refused below.
            number = number.replace(".", "?").replace(decimal, ".")
        if NUMBER.fullmatch(number) is None or not math.isfinite(found := float(number)):
            raise QuantityError(
                f"{_shown(text)} is not a number", valid=f"such as 21{decimal}5{unit}"
            )
        return found

    return Codec(write, read)


def _digits(form: Form) -> Callable[[float], str]:
    """How the digits of a number are written, with a decimal point."""
    if form.decimals is not None and not form.exponent:
        layout = f"z.{form.decimals}f"
        return lambda value: format(value, layout)
    if form.digits is None and not form.exponent:
        return lambda value: repr(float(value) + 0.0).removesuffix(".0")
    layout = f"z.{(form.digits or (form.decimals or 0) + 1) - 1}E"
    if form.exponent:
        return lambda value: format(value, layout)

    def positional(value: float) -> str:
        if 0.0 < abs(value) < SMALLEST:
            raise CannotSay(f"{value:g} has too many digits", valid=f"0, or {SMALLEST:g} and more")
        return _positional(format(value, layout))

    return positional


class _Bad(NamedTuple):
    """What stands for no good value, as wide as a value."""

    written: str
    heard: str

    def is_in(self, text: str) -> bool:
        """Whether it stands in the place of a value that has no spaces around it."""
        return text.strip(" ") == self.heard


def _bad(form: Form) -> _Bad:
    return _Bad(form.bad.rjust(form.width), form.bad.strip(" "))


def _positional(text: str) -> str:
    """``2.150E+01`` as 21.50: the digits that count, without an exponent."""
    mantissa, _, exponent = text.partition("E")
    sign, digits = ("-", mantissa[1:]) if mantissa.startswith("-") else ("", mantissa)
    digits, shift = digits.replace(".", ""), int(exponent)
    if shift >= len(digits) - 1:
        return sign + digits + "0" * (shift - len(digits) + 1)
    if shift < 0:
        return f"{sign}0.{'0' * (-shift - 1)}{digits}"
    return f"{sign}{digits[: shift + 1]}.{digits[shift + 1 :]}"


def _filled(text: str, form: Form) -> str:
    if form.pad == "0":
        return text.zfill(form.width)
    return text.rjust(form.width)


def _unfilled(text: str, form: Form) -> str:
    """Without the spaces that fill it up on the left."""
    return text.lstrip(" ") if form.width and form.pad == " " else text


def _integer(form: Form) -> Codec:
    is_hex, is_counter = form.kind is Kind.HEXADECIMAL, form.kind is Kind.COUNTER
    look, valid = (_HEX, "digits 0 to F") if is_hex else (_INTEGER, "a whole number")
    bad = _bad(form)

    def write(value: Carried) -> str:
        if not isinstance(value, float | int) or not math.isfinite(value):
            return bad.written
        number = round(value)
        if is_hex and not 0 <= number < 1 << 64:
            raise CannotSay(
                f"{number} has no hexadecimal form here", valid="0 to FFFF FFFF FFFF FFFF"
            )
        if is_counter and form.width:
            number %= 10**form.width
        text = f"{number:X}" if is_hex else str(number)
        if len(text) > MOST_DIGITS:
            raise CannotSay(f"{text[:12]}… has too many digits", valid=f"at most {MOST_DIGITS}")
        return _filled(text, form)

    def read(text: str) -> Carried:
        if bad.is_in(text):
            return None
        digits = _unfilled(text, form)
        if look.fullmatch(digits) is None:
            raise QuantityError(f"{_shown(text)} is not a number of this kind", valid=valid)
        return int(digits, 16 if is_hex else 10)

    return Codec(write, read)


def _text(form: Form, way: Direction) -> Codec:
    bad = _bad(form)

    def write(value: Carried) -> str:
        if value is None:
            return bad.written
        text = str(value)
        if why := _why_not(text, form, way):
            raise CannotSay(f"the text {_shown(text)} {why}", valid=_valid_text(form, way))
        return text

    def read(text: str) -> Carried:
        # Quotes have been taken away where the line was divided.
        if bad.is_in(text):
            return None
        if len(text) > form.longest:
            raise QuantityError(
                f"{_shown(text)} is too long", valid=f"at most {form.longest} characters"
            )
        if _CONTROL.search(text):
            raise QuantityError(
                f"{_shown(text)} has control characters", valid="printable characters"
            )
        return text

    return Codec(write, read)


def _why_not(text: str, form: Form, way: Direction) -> str:
    """Why a text would not be understood as what it is; empty where it would."""
    if len(text) > form.longest:
        return f"has {len(text)} characters"
    if _CONTROL.search(text):
        return "has control characters"
    if _bad(form).is_in(text):
        return "is the one that stands for no value"
    marks = [c for c in (way.end, way.start, "" if way.quotes else way.separator) if c]
    around = form.before + text + form.after
    if any(c in around for c in marks):
        return "holds what divides, begins or ends a line"
    # What follows could join with its last characters to a separator or an end.
    if not way.quotes and any(_overlaps(around, c) for c in marks):
        return "ends as what divides or ends a line begins"
    if not way.quotes and way.spaces is Spaces.DROP and around != around.strip(" "):
        return "begins or ends with a space"
    return ""


def _overlaps(text: str, mark: str) -> bool:
    return any(text.endswith(mark[:k]) for k in range(1, len(mark)))


def _valid_text(form: Form, way: Direction) -> str:
    marks = way.end if way.quotes else way.separator + way.end
    return f"at most {form.longest} printable characters without {visible(marks)}"


def _state(form: Form, way: Direction) -> Codec:
    texts = dict(form.states)
    names = {_heard(text.strip(" "), text, way): name for name, text in form.states}
    bad = _bad(form)

    def write(value: Carried) -> str:
        return texts.get(str(value), bad.written)

    def read(text: str) -> Carried:
        if text in names:
            return names[text]
        if bad.is_in(text):
            return None
        raise QuantityError(f"{_shown(text)} is not one of its states", valid=", ".join(names))

    return Codec(write, read)


def _time(form: Form) -> Codec:
    bad = _bad(form)
    layout = _LAYOUTS.get(form.layout)
    look, example = _LOOKS[form.layout]
    most = _DAY_S if form.layout is Layout.TIME_OF_DAY else _LAST_S

    def write(value: Carried) -> str:
        if not isinstance(value, float | int) or not 0 <= value < most:
            return bad.written
        if layout is None:
            return str(int(value))
        return datetime.fromtimestamp(int(value), UTC).strftime(layout)

    def read(text: str) -> Carried:
        if bad.is_in(text):
            return None
        if look.fullmatch(text) is None:
            raise QuantityError(
                f"{_shown(text)} is not a time of this form", valid=f"such as {example}"
            )
        if layout is None:
            return int(text)
        try:
            found = datetime.strptime(text, layout).replace(tzinfo=UTC)
        except ValueError:
            raise QuantityError(f"there is no time {_shown(text)}", valid=example) from None
        if form.layout is Layout.TIME_OF_DAY:
            return found.hour * 3600 + found.minute * 60 + found.second
        return int(found.timestamp())

    return Codec(write, read)


def _constant(form: Form, way: Direction) -> Codec:
    heard = _heard(form.text.strip(" "), form.text, way)

    def read(text: str) -> Carried:
        if text != heard:
            raise QuantityError(f"{_shown(text)} is another text", valid=visible(form.text))
        return form.text

    return Codec(lambda value: form.text, read)


def _shown(text: str) -> str:
    return f"'{visible(text[:40])}'"
