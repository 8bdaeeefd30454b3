"""Changing single entries of a YAML text; every other character stays as it is.

The parser says where each key and value begins and ends. An edit replaces just that part of the text, so
that comments, order, quotes and blank lines of all other entries are left alone, and a file of
thousands of channels is edited in a moment.
"""

from __future__ import annotations

import json
import re
from bisect import bisect_right
from collections.abc import Iterator, Mapping
from itertools import accumulate
from typing import Any, TypeAlias

import yaml

from leitwerk.errors import QuantityError
from leitwerk.findings import KeyPath

Content: TypeAlias = "str | Mapping[str, Any] | list[Any]"
_STEP = 2  # spaces of one level
_WIDE = 76  # characters; a group of texts that is no longer stands in one line
# The beginning of a plain scalar; and what none may hold between braces.
_BEGINS_PLAIN = re.compile(r"[^\s\-?:,\[\]{}#&*!|>'\"%@`]|-[0-9]")
_FLOW = re.compile(r"[,\[\]{}?]")


def scalar_text(text: str, *, in_flow: bool = True) -> str:
    """A text as it stands in a file: plain where that means the same, else in quotes.

    Examples
    --------
    >>> print(scalar_text("21.5 °C"), scalar_text("Kiln 2: air"))
    21.5 °C "Kiln 2: air"
    >>> print(scalar_text("Pt100, 4-wire", in_flow=False), scalar_text("Pt100, 4-wire"))
    Pt100, 4-wire "Pt100, 4-wire"

    """
    plain = _BEGINS_PLAIN.match(text) and text == text.strip() and text.isprintable()
    marked = ": " in text or text.endswith(":") or " #" in text
    if plain and not marked and not (in_flow and _FLOW.search(text)):
        return text
    return json.dumps(text, ensure_ascii=False)


def flow_text(content: Content) -> str:
    """A value in one line.

    Examples
    --------
    >>> flow_text({"4 mA": "0 %", "20 mA": "100 %"})
    '{4 mA: 0 %, 20 mA: 100 %}'

    """
    if isinstance(content, str):
        return scalar_text(content)
    if isinstance(content, Mapping):
        parts = [f"{scalar_text(k)}: {flow_text(v)}" for k, v in content.items()]
        return f"{{{', '.join(parts)}}}"
    return f"[{', '.join(flow_text(item) for item in content)}]"


def entry_lines(key: str, content: Content, indent: int) -> list[str]:
    """The lines of an entry of a group of keys."""
    head = f"{' ' * indent}{scalar_text(key, in_flow=False)}:"
    if not isinstance(content, str):
        parts: Any = content.values() if isinstance(content, Mapping) else content
        deep = any(not isinstance(part, str) for part in parts)
        short = f"{head} {flow_text(content)}"
        if content and (deep or len(short) > _WIDE):
            lines = [head]
            if isinstance(content, Mapping):
                for name, value in content.items():
                    lines += entry_lines(name, value, indent + _STEP)
            else:
                lines += [f"{' ' * (indent + _STEP)}- {flow_text(item)}" for item in content]
            return lines
        return [short]
    return [f"{head} {scalar_text(content, in_flow=False)}"]


class YamlText:
    """A YAML text, and edits of it that are carried out at once by ``edited``.

    Parameters
    ----------
    text : str
        What ``parse_yaml`` has read without a finding.

    Raises
    ------
    QuantityError
        It is not YAML.

    """

    def __init__(self, text: str) -> None:
        # A text without an end of its last line has no place behind it.
        self.text = text if text.endswith("\n") or not text else f"{text}\n"
        self._starts = [0, *accumulate(len(line) for line in self.text.splitlines(keepends=True))]
        try:
            self._root: Any = yaml.compose(self.text, Loader=yaml.CSafeLoader)
        except yaml.YAMLError as error:
            mark = getattr(error, "problem_mark", None)
            where = f", line {mark.line + 1}" if mark else ""
            raise QuantityError(f"the text cannot be edited, as it is not YAML{where}") from None
        self._edits: list[tuple[int, int, str]] = []
        self._sets: dict[KeyPath, Content] = {}
        self._removed: set[KeyPath] = set()
        self._inserted: dict[KeyPath, dict[str, tuple[Any, str | None]]] = {}
        self._touched: set[KeyPath] = set()
        self._entries: dict[int, dict[str, tuple[Any, Any]]] = {}

    # ------------------------------------------------------------------ looking

    def _offset(self, mark: Any) -> int:
        return int(self._starts[mark.line] + mark.column)

    def _children(self, node: Any) -> dict[str, tuple[Any, Any]]:
        if not isinstance(node, yaml.MappingNode):
            return {}
        found = self._entries.get(id(node))
        if found is None:
            found = self._entries[id(node)] = {key.value: (key, v) for key, v in node.value}
        return found

    def _find(self, path: KeyPath) -> tuple[Any, Any]:
        key, node = None, self._root
        for step in path:
            if (
                isinstance(node, yaml.SequenceNode)
                and step.isdecimal()
                and int(step) < len(node.value)
            ):
                key, node = None, node.value[int(step)]
                continue
            children = self._children(node)
            if step not in children:
                raise QuantityError(f"there is no {'.'.join(path)!r}", valid=", ".join(children))
            key, node = children[step]
        return key, node

    def has(self, path: KeyPath) -> bool:
        """Whether the text has an entry there."""
        try:
            self._find(path)
        except QuantityError:
            return False
        return True

    def stands_on_lines(self, path: KeyPath) -> bool:
        """Whether a value is a group whose entries each stand on lines of their own."""
        if not self.has(path):
            return False
        node = self._find(path)[1]
        is_block = isinstance(node, yaml.MappingNode) and not node.flow_style and bool(node.value)
        return is_block and not self._is_flow(path)

    def _is_flow(self, path: KeyPath) -> bool:
        """Whether an entry stands between braces or brackets."""
        return any(self._find(path[:depth])[1].flow_style for depth in range(len(path)))

    def _last_line(self, node: Any) -> int:
        """The last line that a value has a character on."""
        if isinstance(node, yaml.CollectionNode) and not node.flow_style and node.value:
            last = node.value[-1]
            return self._last_line(last[1] if isinstance(last, tuple) else last)
        if node.end_mark.column == 0 and node.end_mark.line > node.start_mark.line:
            return int(node.end_mark.line) - 1
        return int(node.end_mark.line)

    def lines_of(self, path: KeyPath) -> tuple[int, int]:
        """The lines of an entry of a block, from 0: the first one, and the one behind its last."""
        key, node = self._find(path)
        return int(key.start_mark.line), self._last_line(node) + 1

    def slice(self, path: KeyPath) -> str:
        """The lines of an entry of a block, as far to the left as they can stand."""
        first, end = self.lines_of(path)
        indent = self._find(path)[0].start_mark.column
        part = self.text[self._starts[first] : self._starts[end]]
        return "".join(line[indent:] or "\n" for line in part.splitlines(keepends=True))

    def texts(self) -> Iterator[tuple[KeyPath, str]]:
        """The way to each text, and the text."""
        yield from _texts(self._root, ())

    # ------------------------------------------------------------------ changing

    def set(self, path: KeyPath, content: Content) -> None:
        """Put another value in the place of one that is there."""
        self._find(path)
        self._sets[path] = content
        self._touch(path)

    def remove(self, path: KeyPath) -> None:
        """Take an entry away; a group that has no other entry goes with it."""
        self._find(path)
        self._removed.add(path)
        self._touch(path)

    def insert(self, path: KeyPath, content: Content, *, after: str | None = None) -> None:
        """Add an entry to a group, behind one of its entries, or as its last one.

        A group that is not there yet is added with it.
        """
        depth = next(k for k in range(len(path) - 1, -1, -1) if self.has(path[:k]))
        parent, key, below = path[:depth], path[depth], path[depth + 1 :]
        for step in reversed(below):
            content = {step: content}
        held = self._inserted.setdefault(parent, {})
        if key in held and below:
            content = _merged(held[key][0], content)
        held[key] = (content, after)
        self._touch(parent)

    def replace_lines(self, path: KeyPath, lines: list[str]) -> None:
        """Put other lines in the place of those of an entry.

        Raises
        ------
        QuantityError
            The entry does not stand on lines of its own.

        """
        self._require_lines(path)
        first, end = self.lines_of(path)
        self._edits.append((self._starts[first], self._starts[end], _joined(lines)))

    def append(self, path: KeyPath, content: Mapping[str, Any]) -> None:
        """Add a group of keys to a list, behind its last item."""
        key, node = self._find(path)
        indent = " " * (key.start_mark.column + _STEP if key is not None else 0)
        if not node.flow_style and node.value:
            indent = " " * node.start_mark.column
        lines = [
            line for k, v in content.items() for line in entry_lines(k, v, len(indent) + _STEP)
        ]
        lines[0] = f"{indent}- {lines[0].lstrip()}"
        if node.flow_style or not node.value:
            held = [f"{indent}- {flow_text(_plain(item))}" for item in node.value]
            head = f"{' ' * key.start_mark.column}{scalar_text(path[-1], in_flow=False)}:"
            self.replace_lines(path, [head, *held, *lines])
            return
        place = self._starts[self._last_line(node) + 1]
        self._edits.append((place, place, _joined(lines)))

    def insert_lines(self, parent: KeyPath, lines: list[str], *, after: str | None = None) -> None:
        """Add lines to a block, behind one of its entries, or as its last ones."""
        self._edits.append((*self._behind(parent, after), _joined(lines)))

    def indent_below(self, parent: KeyPath) -> int:
        """How far to the right the entries of a block stand."""
        children = self._children(self._find(parent)[1])
        return int(next(iter(children.values()))[0].start_mark.column) if children else 0

    def edited(self) -> str:
        """The text after all edits.

        Raises
        ------
        QuantityError
            An entry that is to be changed does not stand where it can be, or two edits want the same part.

        """
        edits = list(self._edits)
        if self._touched:
            self._resolve((), self._root, edits)
        parts, reached = [], 0
        for start, end, text in sorted(edits, key=lambda edit: edit[:2]):
            if start < reached:
                line = bisect_right(self._starts, start)
                raise QuantityError(f"two edits of line {line} do not go together")
            parts += [self.text[reached:start], text]
            reached = end
        return "".join([*parts, self.text[reached:]])

    def _touch(self, path: KeyPath) -> None:
        for depth in range(len(path) + 1):
            self._touched.add(path[:depth])

    def _require_lines(self, path: KeyPath) -> None:
        key, _ = self._find(path)
        before = "" if key is None else self.text[
            self._starts[key.start_mark.line] : self._offset(key.start_mark)
        ]  # fmt: skip
        if key is None or before.strip() or self._is_flow(path):
            raise QuantityError(f"{'.'.join(path)} does not stand on a line of its own")

    def _behind(self, parent: KeyPath, after: str | None) -> tuple[int, int]:
        """The place behind an entry of a block, or behind its last one."""
        children = self._children(self._find(parent)[1])
        name = after if after in children else next(reversed(children))
        place = self._starts[self.lines_of((*parent, name))[1]]
        return place, place

    # ------------------------------------------------------------------ from what was asked to edits

    def _resolve(self, path: KeyPath, node: Any, edits: list[tuple[int, int, str]]) -> bool:
        """Add the edits of a value and all below it; True if nothing of it is left."""
        if path in self._sets:
            self._put(path, node, self._sets[path], edits)
            return False
        if isinstance(node, yaml.CollectionNode) and node.flow_style:
            return self._resolve_flow(path, node, edits)
        inserted = self._inserted.get(path, {})
        if not isinstance(node, yaml.CollectionNode) or not node.value:
            if inserted:
                self._put(
                    path, node, {key: content for key, (content, _) in inserted.items()}, edits
                )
            return False
        own: list[tuple[int, int, str]] = []
        gone = 0
        for step, child in self._steps(node):
            place = (*path, step)
            if place not in self._touched:
                continue
            if place in self._removed or self._resolve(place, child, own):
                self._require_lines(place)
                first, end = self.lines_of(place)
                own.append((self._starts[first], self._starts[end], ""))
                gone += 1
        if gone == len(node.value) and not inserted:
            return True
        indent = self.indent_below(path) if inserted else 0
        for key, (content, after) in inserted.items():
            own.append((*self._behind(path, after), _joined(entry_lines(key, content, indent))))
        edits += own
        return False

    def _resolve_flow(self, path: KeyPath, node: Any, edits: list[tuple[int, int, str]]) -> bool:
        """The edits of a group between braces: of single texts, or of all of it where keys come or go."""
        inside = [p for p in self._touched if len(p) > len(path) and p[: len(path)] == path]
        below = {p: self._sets[p] for p in inside if p in self._sets}
        removed = [p for p in inside if p in self._removed]
        inserted = {p: self._inserted[p] for p in (path, *inside) if p in self._inserted}
        plain_sets = all(isinstance(c, str) for c in below.values()) and all(
            isinstance(self._find(p)[1], yaml.ScalarNode) for p in below
        )
        if not removed and not inserted and plain_sets:
            for place, content in below.items():
                self._put(place, self._find(place)[1], content, edits)
            return False
        data = _plain(node)
        for place, content in below.items():
            _within(data, place[len(path) :])[place[-1]] = content
        for place in removed:
            _within(data, place[len(path) :]).pop(place[-1], None)
        for place, entries in inserted.items():
            held = _within(data, (*place[len(path) :], ""))
            held.update({key: content for key, (content, _) in entries.items()})
        if not data:
            return True
        edits.append((self._offset(node.start_mark), self._offset(node.end_mark), flow_text(data)))
        return False

    def _put(
        self, path: KeyPath, node: Any, content: Content, edits: list[tuple[int, int, str]]
    ) -> None:
        """Add the edit that puts another value in the place of one."""
        start, end = self._offset(node.start_mark), self._offset(node.end_mark)
        in_flow = self._is_flow(path)
        in_line = isinstance(node, yaml.ScalarNode) and node.style not in {"|", ">"}
        key, _ = self._find(path)
        is_small = isinstance(content, str) or len(entry_lines("k", content, 0)) == 1
        if (in_line or node.flow_style) and (is_small or in_flow or key is None):
            text = (
                scalar_text(content, in_flow=in_flow)
                if isinstance(content, str)
                else flow_text(content)
            )
            edits.append((start, end, ("" if end > start else " ") + text))
            return
        self._require_lines(path)
        first, last = self.lines_of(path)
        lines = entry_lines(path[-1], content, key.start_mark.column)
        edits.append((self._starts[first], self._starts[last], _joined(lines)))

    def _steps(self, node: Any) -> list[tuple[str, Any]]:
        if isinstance(node, yaml.MappingNode):
            return [(key.value, value) for key, value in node.value]
        return [(str(k), value) for k, value in enumerate(node.value)]


def _joined(lines: list[str]) -> str:
    return "".join(f"{line}\n" for line in lines)


def _merged(held: Any, more: Any) -> Any:
    """Two nested groups as one."""
    if not isinstance(held, Mapping) or not isinstance(more, Mapping):
        return more
    return {**held, **{key: _merged(held.get(key), value) for key, value in more.items()}}


def _within(data: Any, path: KeyPath) -> Any:
    """The group that holds the last step of a path."""
    for step in path[:-1]:
        data = data[int(step)] if isinstance(data, list) else data[step]
    return data


def _texts(node: Any, path: KeyPath) -> Iterator[tuple[KeyPath, str]]:
    if isinstance(node, yaml.MappingNode):
        for key, value in node.value:
            yield from _texts(value, (*path, key.value))
    elif isinstance(node, yaml.SequenceNode):
        for number, value in enumerate(node.value):
            yield from _texts(value, (*path, str(number)))
    elif node is not None:
        yield path, node.value


def _plain(node: Any) -> Any:
    if isinstance(node, yaml.MappingNode):
        return {key.value: _plain(value) for key, value in node.value}
    if isinstance(node, yaml.SequenceNode):
        return [_plain(item) for item in node.value]
    return node.value
