"""Whether the lines of an exchange can be divided, told apart and read: before a wire is laid."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from leitwerk.exchange.characters import name_characters, visible
from leitwerk.exchange.definition import Direction, Exchange, Form, LineForm
from leitwerk.exchange.person import CLEAR, HELP, KEEP
from leitwerk.exchange.terms import Kind, Layout, Manner
from leitwerk.exchange.values import looks_good
from leitwerk.findings import Findings, KeyPath

# What the lines of a direction are called in a setup file, and where their parts stand.
_GROUPS = {"says": ("messages", "fields"), "understands": ("keywords", "values")}
_NUMBERS = (Kind.NUMBER, Kind.INTEGER, Kind.HEXADECIMAL, Kind.COUNTER)


def check_lines(exchange: Exchange, path: KeyPath, findings: Findings) -> None:
    """Findings on both directions of an exchange; ``path`` leads to it in its file."""
    if exchange.manner is not Manner.GUARDED:
        for key, text in (("confirms", exchange.says.confirms), ("refuses", exchange.says.refuses)):
            # A separator in there divides nothing: such a line is taken as a whole.
            whole = replace(exchange.says, separator=exchange.says.end)
            _check_text(whole, text, (*path, "says", key), findings)
    for key in _GROUPS:
        way: Direction = getattr(exchange, key)
        place = (*path, key)
        if exchange.manner is not Manner.GUARDED:
            _check_marks(way, place, findings)
        _check_keywords(exchange, way, place, key, findings)
        for line in way.lines:
            _check_line(exchange, way, line, (*place, _GROUPS[key][0], line.name), key, findings)
    _check_address(exchange, path, findings)
    if exchange.manner is Manner.PEOPLE:
        _check_for_people(exchange, path, findings)


def _check_address(exchange: Exchange, path: KeyPath, findings: Findings) -> None:
    """What stands before each line, both ways, neither begins nor ends one."""
    address = exchange.address
    ways = [] if exchange.manner is Manner.GUARDED else [exchange.says, exchange.understands]
    marks = {mark for way in ways for mark in (way.end, way.start) if mark}
    held = [m for m in marks if _begins_in(m, set(address), exchange.says)]
    if not (address.isascii() and address.isprintable()) or held:
        message = f"the address '{visible(address)}' cannot stand before a line"
        valid = "printable characters of ASCII, without those that begin or end a line"
        findings.error("bad-address", (*path, "address"), message, valid=valid)


def _check_marks(way: Direction, path: KeyPath, findings: Findings) -> None:
    """Separator, end, start and quotes among each other."""
    marks = {"separator": way.separator, "end": way.end, "start": way.start, "quotes": way.quotes}
    used = {key: mark for key, mark in marks.items() if mark}
    for key, mark in used.items():
        for other, text in used.items():
            if key < other and (set(mark) & set(text)):
                findings.error(
                    "marks-alike",
                    (*path, key),
                    f"{key} '{visible(mark)}' and {other} '{visible(text)}' have characters in common: "
                    "one could be taken for the beginning of the other",
                    valid="characters that differ",
                )
        try:
            mark.encode(way.encoding)
        except UnicodeEncodeError:
            message = f"{way.encoding} has no '{visible(mark)}'"
            findings.error(
                "not-encodable", (*path, key), message, valid=f"characters of {way.encoding}"
            )


def _check_keywords(
    exchange: Exchange, way: Direction, path: KeyPath, key: str, findings: Findings
) -> None:
    lines = way.lines
    group = _GROUPS[key][0]
    for k, line in enumerate(lines):
        place, word = (*path, group, line.name, "keyword"), line.keyword
        _check_keyword(way, line, place, findings)
        if not word:
            if len(lines) > 1:
                message = f"{line.name} has no keyword, so no other line can be told from it"
                findings.error(
                    "no-keyword", place[:-1], message, at_key=True, remedy="add 'keyword: …'"
                )
            continue
        for other in lines[:k]:
            _check_pair(line, other, place, findings)
        if key == "understands" and word in {way.confirms, exchange.says.confirms}:
            message = f"{word!r} is also what confirms a line"
            findings.warning("keyword-confirms", place, message, remedy="take another word")


def _check_pair(line: LineForm, other: LineForm, path: KeyPath, findings: Findings) -> None:
    word, known = line.keyword, other.keyword
    if not known:
        return
    if word == known:
        message = f"{line.name} and {other.name} have the same keyword {word!r}"
        findings.error("keyword-twice", path, message, valid="a word of its own")
    elif word.casefold() == known.casefold():
        message = f"{word!r} and {known!r} ({other.name}) differ by capital letters only"
        findings.warning("keywords-alike", path, message, remedy="take another word")
    elif word.startswith(known) or known.startswith(word):
        message = (
            f"of {word!r} and {known!r} ({other.name}), one is the beginning of the other: a separator "
            "that is missing turns one into the other"
        )
        findings.warning("keywords-alike", path, message, remedy="take another word")


def _check_keyword(way: Direction, line: LineForm, path: KeyPath, findings: Findings) -> None:
    word = line.keyword
    only = line.parts[0] if len(line.parts) == 1 else None
    if not word and not line.parts:
        message = f"{line.name} has neither a keyword nor a value"
        findings.error("empty-line", path[:-1], message, at_key=True)
    elif not word and only is not None and not only.least and only.form.kind is Kind.TEXT:
        message = (
            f"{line.name} has no keyword and one text that may be missing: an empty line means both"
        )
        findings.error("empty-line", path[:-1], message, at_key=True, remedy="add 'keyword: …'")
    if word != word.strip(" ") or not word.isprintable() or (way.quotes and way.quotes in word):
        message = f"{word!r} is not a keyword"
        valid = "printable characters, without spaces at its ends and without quotes"
        findings.error("bad-keyword", path, message, valid=valid)


def _check_line(
    exchange: Exchange, way: Direction, line: LineForm, path: KeyPath, key: str, findings: Findings
) -> None:
    guarded = exchange.manner is Manner.GUARDED
    inner = _GROUPS[key][1]
    if not guarded:
        _check_text(way, line.keyword, (*path, "keyword"), findings)
    for number, part in enumerate(line.parts):
        place, form = (*path, inner, str(number)), part.form
        if (part.least, part.most) != (1, 1) and (part is not line.parts[-1] or part.is_constant):
            message = "only the last value of a line may stand there several times"
            findings.error("repeats-inside", place, message)
        if guarded:
            continue
        for text in _fixed(form):
            _check_text(way, text, place, findings)
        _check_variable(way, form, place, findings)
        _check_meaning(way, form, place, findings)
    if way.one_value and len(line.values) > 1:
        message = f"{line.name} has {len(line.values)} values, and a line is to have one"
        findings.error("several-values", path, message, at_key=True)


def _fixed(form: Form) -> Iterator[str]:
    """The texts that a form always writes as they are."""
    if form.kind is Kind.CONSTANT:
        yield form.text
        return
    around = (form.before, form.after)
    yield from around
    yield form.bad
    if form.kind is Kind.STATE:
        yield from (text for _, text in form.states)
    if form.unit:
        yield f" {form.unit}"


def _check_text(way: Direction, text: str, path: KeyPath, findings: Findings) -> None:
    """A fixed text: nothing in it divides, begins or ends a line, and the encoding knows it."""
    for name, mark in (("separator", way.separator), ("end", way.end), ("start", way.start)):
        if mark and _begins_in(mark, set(text), way):
            message = f"'{visible(text)}' holds the {name} '{visible(mark)}', or its beginning"
            remedy = f"take another {name}, such as {_other(way)}"
            findings.error("mark-in-text", path, message, remedy=remedy)
    if way.quotes and way.quotes in text:
        message = f"'{visible(text)}' holds the quotes {way.quotes}"
        findings.error("mark-in-text", path, message, remedy="take other quotes")
    if not text.isprintable():
        message = f"'{visible(text)}' has control characters"
        findings.error("bad-text", path, message, valid="printable characters")
    try:
        text.encode(way.encoding)
    except UnicodeEncodeError:
        message = f"{way.encoding} cannot encode {text[:40]!r}"
        findings.error("not-encodable", path, message, remedy="another text, or another encoding")


def _check_variable(way: Direction, form: Form, path: KeyPath, findings: Findings) -> None:
    """What changes from line to line: digits, signs, times, free texts."""
    if form.kind is Kind.TEXT:
        if not way.quotes:
            findings.warning(
                "text-divides",
                path,
                f"a text may hold the separator '{visible(way.separator)}'; such a text cannot be said",
                remedy="add quotes: '\"' to both directions that carry texts",
            )
        return
    letters = _letters(form, way)
    for name, mark in (("separator", way.separator), ("end", way.end), ("start", way.start)):
        if mark and _begins_in(mark, letters, way):
            what = "a time" if form.kind is Kind.TIME else "a number"
            message = f"{what} may hold the {name} '{visible(mark)}', or its beginning"
            remedy = f"take another {name}, such as {_other(way)}"
            findings.error("mark-in-number", path, message, remedy=remedy)
    if way.quotes and set(way.quotes) & letters:
        message = f"the quotes {way.quotes} may stand in a number"
        findings.error("mark-in-number", path, message, remedy="take other quotes")


def _letters(form: Form, way: Direction) -> set[str]:
    """The characters that the changing part of a form may have."""
    if form.kind is Kind.TIME:
        return (
            set("0123456789")
            | {
                Layout.ISO: set("-T:Z"),
                Layout.DATE_TIME: set("- :"),
                Layout.TIME_OF_DAY: set(":"),
                Layout.SECONDS: set(),
            }[form.layout]
        )
    if form.kind not in _NUMBERS:
        return set()
    letters = set("0123456789-")
    if form.kind is Kind.HEXADECIMAL:
        letters |= set("ABCDEF")
    if form.kind is Kind.NUMBER:
        letters.add(way.decimal)
        if form.exponent or (form.decimals is None and form.digits is None):
            letters |= set("eE+")
    if form.width and form.pad == " ":
        letters.add(" ")
    return letters


def _begins_in(mark: str, letters: set[str], way: Direction) -> bool:
    """Whether a mark could begin inside a text of these characters, and be completed by what follows."""
    for k in range(1, len(mark) + 1):
        if not set(mark[:k]) <= letters:
            return False
        if k == len(mark) or mark[k] in {way.separator[:1], way.end[:1]}:
            return True
    return False


def _other(way: Direction) -> str:
    taken = way.separator + way.end + way.start + way.quotes + way.decimal
    return next(
        f"'{name_characters(c)}'" for c in (";", "|", "\t", "/", ",", "\x1f") if c not in taken
    )


def _check_meaning(way: Direction, form: Form, path: KeyPath, findings: Findings) -> None:
    """Whether what stands for no value could be taken for one, and states for each other."""
    if form.kind is not Kind.CONSTANT and looks_good(form, way):
        message = f"{form.bad!r} stands for no value, and reads as one"
        findings.error("bad-looks-good", path, message, valid="a text such as ---")
    texts = [text.strip(" ") for _, text in form.states]
    if len(set(texts)) < len(texts):
        twice = next(t for t in texts if texts.count(t) > 1)
        message = f"two states are both written as {twice!r}"
        findings.error("states-alike", path, message, valid="a text of its own for each state")


def _check_for_people(exchange: Exchange, path: KeyPath, findings: Findings) -> None:
    way = exchange.understands
    if way.end not in {"\r", "\n", "\r\n"}:
        message = f"a person ends a line with the enter key, not with '{visible(way.end)}'"
        findings.error(
            "not-for-people", (*path, "understands", "end"), message, valid="CR, LF or CR LF"
        )
    if way.encoding != exchange.says.encoding:
        message = (
            f"a terminal has one encoding, here are {exchange.says.encoding} and {way.encoding}"
        )
        findings.error(
            "not-for-people",
            (*path, "understands", "encoding"),
            message,
            valid=exchange.says.encoding,
        )
    for key, mark in (("separator", way.separator), ("start", way.start)):
        if mark and not mark.isprintable():
            message = f"a person cannot type the {key} '{visible(mark)}'"
            findings.error(
                "not-for-people", (*path, "understands", key), message, valid="printable"
            )
    if way.start or exchange.address:
        key = "start" if way.start else "address"
        message = "a person does not type what stands before each line"
        place = (*path, "understands", key) if way.start else (*path, key)
        findings.error("not-for-people", place, message, remedy="remove it")
    for line in way.lines:
        if line.keyword.casefold() in {HELP, KEEP, CLEAR}:
            place = (*path, "understands", "keywords", line.name, "keyword")
            message = f"{line.keyword!r} has a meaning of its own for people"
            findings.error("not-for-people", place, message, valid=f"not {HELP}, {KEEP} or {CLEAR}")
