"""Edits of a YAML text: what is asked for is there afterwards, and every other character is as it was."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.errors import QuantityError
from leitwerk.findings import Findings
from leitwerk.parsing.cells import cell_of, entry_of, plain_data
from leitwerk.parsing.yaml_edit import YamlText, entry_lines, flow_text
from leitwerk.parsing.yaml_text import comparable, parse_yaml

keys = st.sampled_from(["above", "name", "4 mA", "too_hot", "a.b", "unit", "D1"])
texts = st.text("ab 4:#,{}[]-'\"%&*!?|>@`°=+µ", min_size=1, max_size=9).map(str.strip).filter(bool)
flat = st.dictionaries(keys, texts, min_size=1, max_size=3)
deep = st.recursive(
    flat, lambda inner: st.dictionaries(keys, texts | inner, min_size=1, max_size=4), max_leaves=12
)


def written(data, indent=0):
    """A text with comments, in which groups are written in both ways, as chance has it."""
    lines = []
    for number, (key, value) in enumerate(data.items()):
        if number % 2:
            lines += [f"{' ' * indent}# about {number}", ""]
        if isinstance(value, dict) and (len(key) + number) % 2:
            lines.append(f"{' ' * indent}{flow_text(key)}:   # a group")
            lines += written(value, indent + 2)
        else:
            lines += [
                line + ("   # kept" if number % 3 == 0 else "")
                for line in entry_lines(key, value, indent)
            ]
    return lines


def said(text):
    root = parse_yaml(text, Findings("x"))
    assert root is not None, text
    return plain_data(root)


def ways(data, path=()):
    for key, value in data.items():
        yield (*path, key)
        if isinstance(value, dict):
            yield from ways(value, (*path, key))


def at(data, path):
    for step in path:
        data = data[step]
    return data


@given(deep, st.data())
def test_an_edit_does_what_was_asked_and_nothing_else(data, draw):
    text = "\n".join(written(data)) + "\n"
    assert said(text) == data
    edit, wanted = YamlText(text), data
    every = sorted(ways(data))
    path = draw.draw(st.sampled_from(every))
    kind = draw.draw(st.sampled_from(["set", "remove", "insert", "nothing"]))
    parent = at(wanted, path[:-1])
    comments = text.count("# about")
    if kind == "set":
        value = draw.draw(texts | flat)
        edit.set(path, value)
        parent[path[-1]] = value
    elif kind == "remove":
        edit.remove(path)
        while path:
            del at(data, path[:-1])[path[-1]]
            if len(path) == 1 or at(data, path[:-1]):
                break
            path = path[:-1]
        if not data:
            return  # nothing is left of the file
    elif kind == "insert":
        value = draw.draw(texts | flat)
        edit.insert((*path[:-1], "fresh"), value)
        parent["fresh"] = value
    after = edit.edited()
    assert said(after) == data
    if kind == "nothing":
        assert after == text
    if kind == "insert" and not edit._is_flow((*path[:-1], "")):
        assert after.count("# about") == comments


@given(st.lists(st.tuples(keys, texts), min_size=1, max_size=5))
def test_several_entries_are_added_at_once(pairs):
    """As a table adds alarms to a channel that has none yet."""
    edit = YamlText(
        "channels:\n  air: {terminal: 1}   # here\n  door:\n    terminal: D1\n\n# the end\n"
    )
    wanted = {}
    for name in ("air", "door"):
        for key, value in pairs:
            edit.insert(("channels", name, "alarms", key), {"above": value})
            wanted[key] = {"above": value}
    root = said(edit.edited())
    assert root["channels"]["air"] == {"terminal": "1", "alarms": wanted}
    assert root["channels"]["door"] == {"terminal": "D1", "alarms": wanted}
    assert edit.edited().endswith("# the end\n")


def test_a_group_whose_entries_all_go_goes_with_them():
    text = "a:\n  x: 1\n  y: 2   # two\n# between\nb: {c: 1, d: 2}\ne: 3\n"
    edit = YamlText(text)
    for path in (("a", "x"), ("a", "y"), ("b", "c"), ("b", "d")):
        edit.remove(path)
    assert edit.edited() == "# between\ne: 3\n"


def test_what_is_not_there_is_refused():
    edit = YamlText("a: {b: 1}\n")
    for act in (lambda: edit.set(("a", "c"), "1"), lambda: edit.remove(("b",))):
        with pytest.raises(QuantityError, match="there is no"):
            act()


@given(deep | texts | st.lists(texts | flat, min_size=1, max_size=3))
def test_a_cell_holds_any_entry(value):
    root = parse_yaml(f"x: {flow_text(value)}\n", Findings("x"))
    cell = cell_of(root["x"])
    assert "\n" not in cell
    assert comparable(entry_of(cell)) == comparable(root["x"])
