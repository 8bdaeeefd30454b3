"""YAML text to plain values that know where they stand.

PyYAML's C parser delivers events; the small builder here keeps line and column of every key and
value, and is stricter than YAML has to be: a duplicate key, an alias, an anchor, a tag, a second
document, or more depth and nodes than any setup needs is a finding instead of a surprise.

Every scalar stays the text that was typed: ``no``, ``12:30``, ``00417`` and ``1e3`` mean what the
key they belong to says, not what some version of YAML makes of them. Quotes never change a value.
"""

from __future__ import annotations

import gc
import re
from collections.abc import Hashable, Iterator
from contextlib import contextmanager
from typing import Any, Never, TypeAlias

import yaml

from leitwerk.findings import Findings, KeyPath

MAX_BYTES = 16_000_000  # 10,000 channels are 3 MB
MAX_DEPTH = 16
MAX_NODES = 1_000_000
# All controls but tab and line ends, and those that turn the direction of what is shown.
_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u2028-\u202e\u2066-\u2069]")


class _Stop(Exception):
    """Reading cannot go on; the finding is already made."""


def parse_yaml(data: str | bytes, findings: Findings) -> Map | None:
    """The mapping that a YAML text holds, or None when it cannot be read.

    Parameters
    ----------
    data : str or bytes
        Text in UTF-8.
    findings : Findings
        Takes what is wrong; its ``root`` is set, so that later findings find their place.

    """
    text = _decode(data, findings)
    if text is None:
        return None
    try:
        with collector_paused():
            root = _Builder(text, findings).document()
    except _Stop:
        return None
    except (yaml.YAMLError, UnicodeEncodeError) as error:
        _report_syntax(error, findings)
        return None
    if isinstance(root, Map):
        findings.root = root
        return root
    findings.error("not-a-mapping", (), "the file holds no keys", valid="lines of 'key: value'")
    return None


def _decode(data: str | bytes, findings: Findings) -> str | None:
    if len(data) > MAX_BYTES:
        message = f"the file has {len(data) / 1e6:.0f} MB; nothing of that size is a setup"
        findings.error("too-large", (), message, valid=f"at most {MAX_BYTES / 1e6:.0f} MB")
        return None
    try:
        text = data if isinstance(data, str) else data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = error.object.count(b"\n", 0, error.start) + 1
        message = (
            f"byte {error.start + 1} is not UTF-8: this is not a text file, or an old encoding"
        )
        findings.error("not-text", (), message, valid="a text file in UTF-8", at=(line, 1))
        return None
    if (at := text.find("\0")) >= 0:
        message = "the file holds a zero byte: this is not a text file"
        place = (text.count("\n", 0, at) + 1, 1)
        findings.error("not-text", (), message, valid="a text file in UTF-8", at=place)
        return None
    if not text.strip():
        _report_empty(findings)
        return None
    return text


def _report_empty(findings: Findings) -> None:
    remedy = "start from a copy of the example that 'leitwerk example' prints"
    findings.error("empty", (), "the file is empty", remedy=remedy)


def _report_syntax(error: Exception, findings: Findings) -> None:
    mark = getattr(error, "problem_mark", None)
    problem = getattr(error, "problem", None) or "an unreadable character"
    findings.error(
        "not-yaml",
        (),
        f"this is not YAML: {problem}",
        at=(mark.line + 1, mark.column + 1) if mark else None,
        valid="'key: value' lines, indented with spaces; texts with ': ' or ' #' in quotes",
        remedy="look at this line and the one before it",
    )


class _Builder:
    """Walks the parser's events once."""

    def __init__(self, text: str, findings: Findings) -> None:
        self.findings = findings
        self.nodes = 0
        # The C parser's events are untyped to mypy: their kinds differ by attribute.
        self.events: Iterator[Any] = yaml.parse(text, Loader=yaml.CSafeLoader)

    def document(self) -> Value:
        next(self.events)  # stream start
        if isinstance(next(self.events), yaml.StreamEndEvent):
            _report_empty(self.findings)
            raise _Stop
        value = self.value(next(self.events), 0)
        next(self.events)  # document end
        if not isinstance(event := next(self.events), yaml.StreamEndEvent):
            self.stop("second-document", "a second document begins here", event, valid="one")
        return value

    def stop(self, rule: str, message: str, event: Any, *, valid: str) -> Never:
        self.findings.error(rule, (), message, valid=valid, at=_place(event.start_mark))
        raise _Stop

    def value(self, event: Any, depth: int) -> Value:
        self.nodes += 1
        if depth > MAX_DEPTH or self.nodes > MAX_NODES:
            limit = f"at most {MAX_DEPTH} levels and {MAX_NODES:,} entries"
            self.stop("too-deep", "more levels or entries than any setup has", event, valid=limit)
        if isinstance(event, yaml.AliasEvent) or getattr(event, "anchor", None):
            self.stop(
                "alias",
                "anchors and aliases (& and *) are not read: each value stands where it counts",
                event,
                valid="the value itself",
            )
        if event.tag is not None and event.tag != "!":
            self.stop("tag", f"the tag {event.tag} is not read", event, valid="plain values")
        if isinstance(event, yaml.ScalarEvent):
            text: str = event.value
            if not text.isprintable() and (found := _CONTROL.search(text)):
                self.stop(
                    "control-character",
                    f"the text holds the control character {found[0]!r}",
                    event,
                    valid="characters that can be seen",
                )
            return EMPTY if not text and event.style else text
        if isinstance(event, yaml.MappingStartEvent):
            return self.mapping(depth)
        return self.sequence(depth)

    def mapping(self, depth: int) -> Map:
        result = Map()
        places = result.places
        events = self.events
        while not isinstance(event := next(events), yaml.MappingEndEvent):
            if not isinstance(event, yaml.ScalarEvent) or event.anchor:
                self.stop("key", "a key is a single text", event, valid="name: value")
            key: str = event.value
            key_mark: Any = event.start_mark
            if not key.isprintable():
                self.stop(
                    "control-character",
                    f"the key {key[:40]!r} holds a control character",
                    event,
                    valid="a name",
                )
            event = next(events)
            mark = event.start_mark
            value = self.value(event, depth + 1)
            if key in places:
                self.duplicate(key, places[key][0], key_mark)
                continue
            result[key] = value
            places[key] = (key_mark.line, key_mark.column, mark.line, mark.column)
        return result

    def duplicate(self, key: str, first_line: int, mark: Any) -> None:
        self.findings.error(
            "duplicate-key",
            (),
            f"the key {key!r} stands here again; it is already in line {first_line + 1}",
            at=_place(mark),
            valid="each key once",
            remedy="rename or remove one of the two",
        )

    def sequence(self, depth: int) -> List:
        result = List()
        while not isinstance(event := next(self.events), yaml.SequenceEndEvent):
            mark: Any = event.start_mark
            result.append(self.value(event, depth + 1))
            result.places.append((mark.line, mark.column))
        return result


def _place(mark: Any) -> tuple[int, int]:
    return mark.line + 1, mark.column + 1


Value: TypeAlias = "Map | List | str"


class _Empty(str):
    """An empty text that was typed as one, in quotes: a key without a value is another thing."""

    __slots__ = ()


EMPTY = _Empty()


class Map(dict[str, Value]):
    """A mapping; ``places[key]`` is (key line, key column, value line, value column), from 0."""

    __slots__ = ("places",)

    def __init__(self) -> None:
        super().__init__()
        self.places: dict[str, tuple[int, int, int, int]] = {}

    def over(self, others: dict[str, Any]) -> Map:
        """A mapping with the same places, and further entries where it has none of its own."""
        found = Map()
        found.update(others | self)
        found.places = self.places
        return found

    def without(self, *keys: str) -> Map:
        """A mapping with the same places, without some entries."""
        found = Map()
        found.update({key: value for key, value in self.items() if key not in keys})
        found.places = self.places
        return found

    def locate(self, path: KeyPath, *, at_key: bool = False) -> tuple[int, int]:
        """Line and column (from 1) of the value at ``path``, or of the nearest key above it."""
        line, column = 0, 0
        here: Value = self
        for depth, step in enumerate(path):
            if isinstance(here, Map) and step in here.places:
                place = here.places[step]
                key_wanted = at_key and depth == len(path) - 1
                line, column = place[:2] if key_wanted else place[2:]
                here = here[step]
            elif isinstance(here, List) and step.isdecimal() and int(step) < len(here):
                line, column = here.places[int(step)]
                here = here[int(step)]
            else:
                break
        return line + 1, column + 1


def comparable(value: Value) -> Hashable:
    """What a value says, wherever it stands: two that say the same are equal, and have one hash."""
    if isinstance(value, str):
        return value
    if isinstance(value, Map):
        return tuple([(k, v if isinstance(v, str) else comparable(v)) for k, v in value.items()])
    return tuple([comparable(item) for item in value])


class List(list[Value]):
    """A sequence; ``places[index]`` is (line, column), from 0."""

    __slots__ = ("places",)

    def __init__(self) -> None:
        super().__init__()
        self.places: list[tuple[int, int]] = []


@contextmanager
def collector_paused() -> Iterator[None]:
    """No automatic garbage collection inside the ``with`` block; as before after it."""
    collecting = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collecting:
            gc.enable()
