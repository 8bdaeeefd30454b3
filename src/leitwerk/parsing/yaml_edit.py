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
_FLOW = re.compile(r"[,\[\]{}]")


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

    """

    def __init__(self, text: str) -> None:
        # A text without an end of its last line has no place behind it.
        self.text = text if text.endswith("\n") or not text else f"{text}\n"
        self._starts = [0, *accumulate(len(line) for line in self.text.splitlines(keepends=True))]
        self._root: Any = yaml.compose(self.text, Loader=yaml.CSafeLoader)
        self._edits: list[tuple[int, int, str]] = []
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
        key, node = self._find(path)
        start, end = self._offset(node.start_mark), self._offset(node.end_mark)
        in_flow = self._is_flow(path)
        in_line = isinstance(node, yaml.ScalarNode) and node.style not in {"|", ">"}
        if in_line and isinstance(content, str):
            text = scalar_text(content, in_flow=in_flow)
            self._edits.append((start, end, ("" if end > start else " ") + text))
        elif in_line or node.flow_style or in_flow:
            self._edits.append((start, end, ("" if end > start else " ") + flow_text(content)))
        elif key is None:
            raise QuantityError(
                f"{'.'.join(path)}: an item of a list is not replaced by one of more lines"
            )
        else:
            self.replace_lines(path, entry_lines(path[-1], content, key.start_mark.column))

    def replace_lines(self, path: KeyPath, lines: list[str]) -> None:
        """Put other lines in the place of those of an entry.

        Raises
        ------
        QuantityError
            The entry does not stand on lines of its own.

        """
        if self._is_flow(path):
            raise QuantityError(f"{'.'.join(path)} does not stand on a line of its own")
        first, end = self.lines_of(path)
        before = self.text[self._starts[first] : self._offset(self._find(path)[0].start_mark)]
        if before.strip():
            raise QuantityError(f"{'.'.join(path)} does not stand on a line of its own")
        self._edits.append(
            (self._starts[first], self._starts[end], "".join(f"{line}\n" for line in lines))
        )

    def remove(self, path: KeyPath) -> None:
        """Take an entry away; a group that has no other entry goes with it."""
        _, parent = self._find(path[:-1])
        if len(path) > 1 and len(self._children(parent)) == 1:
            self.remove(path[:-1])
        elif not self._is_flow(path):
            self.replace_lines(path, [])
        else:
            left = {k: _plain(v) for k, (_, v) in self._children(parent).items() if k != path[-1]}
            self.set(path[:-1], left)

    def insert(self, path: KeyPath, content: Content, *, after: str | None = None) -> None:
        """Add an entry to a group, behind one of its entries, or as its last one.

        A group that is not there yet is added with it.
        """
        parent = path[:-1]
        if not self.has(parent):
            self.insert(parent, {path[-1]: content})
            return
        children = self._children(self._find(parent)[1])
        if not children:
            self.set(parent, {path[-1]: content})
        elif self._is_flow((*parent, "")):
            held = {key: _plain(node) for key, (_, node) in children.items()}
            self.set(parent, {**held, path[-1]: content})
        else:
            indent = next(iter(children.values()))[0].start_mark.column
            self.insert_lines(parent, entry_lines(path[-1], content, indent), after=after)

    def insert_lines(self, parent: KeyPath, lines: list[str], *, after: str | None = None) -> None:
        """Add lines to a block, behind one of its entries, or as its last ones."""
        children = self._children(self._find(parent)[1])
        name = after if after in children else next(reversed(children))
        _, end = self.lines_of((*parent, name))
        place = self._starts[end]
        self._edits.append((place, place, "".join(f"{line}\n" for line in lines)))

    def indent_below(self, parent: KeyPath) -> int:
        """How far to the right the entries of a block stand."""
        children = self._children(self._find(parent)[1])
        return int(next(iter(children.values()))[0].start_mark.column) if children else 0

    def edited(self) -> str:
        """The text after all edits.

        Raises
        ------
        QuantityError
            Two edits want the same part of the text.

        """
        parts, reached = [], 0
        for start, end, text in sorted(self._edits, key=lambda edit: edit[:2]):
            if start < reached:
                line = bisect_right(self._starts, start)
                raise QuantityError(f"two edits of line {line} do not go together")
            parts += [self.text[reached:start], text]
            reached = end
        return "".join([*parts, self.text[reached:]])


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
