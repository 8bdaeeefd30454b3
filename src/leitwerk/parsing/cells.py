"""Cells of tables as people fill them in: units in headings, decimal commas, texts that are no formulas."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from functools import lru_cache
from typing import Any

from leitwerk.errors import QuantityError
from leitwerk.findings import Findings
from leitwerk.parsing.yaml_edit import flow_text
from leitwerk.parsing.yaml_text import EMPTY, List, Map, Value, parse_yaml

_HEADING = re.compile(
    r"(?P<name>.*?)\s*(?:\[(?P<square>[^\[\]]+)\]|\((?P<round>[^()]+)\)|\bin (?P<word>\S+))?"
)
_NUMBER = r"[-+−]?\d[\d.,]*"
_PLAIN_NUMBER = re.compile(_NUMBER)
_WITHOUT_UNIT = re.compile(
    rf"\s*(?:±\s*)?{_NUMBER}(?:\s*(?:\.\.|…)\s*{_NUMBER})?(?:\s*(?:±|\+/-|\+-)\s*{_NUMBER})?\s*"
)
_DIGITS = re.compile(r"\d+(?:[.,]\d+)+")
# What a spreadsheet takes for the begin of a formula. A number with a unit does not begin one.
_FORMULA = re.compile(r"[=@\t\r]|[+-](?!\d[\d.,]*(?:\s?[^\s=+\-*/|!()]{1,8})?$)")
_COMMA_GROUPS, _POINT_GROUPS = re.compile(r"\d{1,3}(?:,\d{3})+"), re.compile(r"\d{1,3}(?:\.\d{3})+")
COMMA, POINT = "comma", "point"


def split_heading(text: str) -> tuple[str, str]:
    """The name of a column, and the unit of its cells; the unit is empty where none stands there.

    Examples
    --------
    >>> split_heading("expect [°C]"), split_heading("time constant (s)"), split_heading("label")
    (('expect', '°C'), ('time constant', 's'), ('label', ''))

    """
    match = _HEADING.fullmatch(text.strip())
    if match is None or not match["name"]:
        return text.strip(), ""
    return match["name"].strip(), (match["square"] or match["round"] or match["word"] or "").strip()


def with_unit(text: str, unit: str) -> str:
    """A cell with the unit of its column, where it has none itself.

    Examples
    --------
    >>> with_unit("21.5 ± 0.5", "°C"), with_unit("294 K", "°C"), with_unit("0..100", "%")
    ('21.5 ± 0.5 °C', '294 K', '0..100 %')

    """
    return f"{text} {unit}" if unit and _WITHOUT_UNIT.fullmatch(text) else text


def decimal_mark(texts: Iterable[str]) -> str | None:
    """What marks decimals in most numbers of a table: ``comma`` or ``point``; None where no number tells.

    A group of three digits, as in 1,234, could be either, and tells nothing.

    Examples
    --------
    >>> decimal_mark(["21,5 °C", "4..20 mA"]), decimal_mark(["7"]), decimal_mark(["0.5..1.5 bar"])
    ('comma', None, 'point')

    """
    counts = {POINT: 0, COMMA: 0}
    for text in texts:
        for number in _DIGITS.findall(text):
            last = max(",.", key=number.rfind)
            in_groups = (_COMMA_GROUPS if last == "," else _POINT_GROUPS).fullmatch(number)
            if ("," in number and "." in number) or (number.count(last) == 1 and not in_groups):
                counts[COMMA if last == "," else POINT] += 1
    return max(counts, key=lambda mark: counts[mark]) if any(counts.values()) else None


def with_point(text: str, mark: str) -> str:
    """A quantity with a decimal point, and without marks between groups of three digits.

    Raises
    ------
    QuantityError
        A number in it has the other mark.

    Examples
    --------
    >>> with_point("1.250,5 kg", "comma"), with_point("1,250.5 kg", "point")
    ('1250.5 kg', '1250.5 kg')

    """

    def number(match: re.Match[str]) -> str:
        whole, dot, part = match[0].partition("," if mark == COMMA else ".")
        groups = _POINT_GROUPS if mark == COMMA else _COMMA_GROUPS
        if not (whole.isdigit() or groups.fullmatch(whole)) or (dot and not part.isdigit()):
            other = POINT if mark == COMMA else COMMA
            raise QuantityError(
                f"{text[:60]!r} does not have a decimal {mark} as the table has",
                valid=f"decimals marked by a {mark} in the whole table",
                remedy=f"correct it, or say --decimal {other}",
            )
        return "".join(c for c in whole if c.isdigit()) + ("." + part if dot else "")

    if "," not in text and mark == POINT:
        return text
    return _DIGITS.sub(number, text)


def guarded(text: str) -> str:
    """A text for a cell of CSV that no spreadsheet takes for a formula: an apostrophe is put before it.

    Examples
    --------
    >>> guarded("=1+1"), guarded("-5.5 °C"), guarded("+49 170 0000001"), guarded("'x")
    ("'=1+1", '-5.5 °C', "'+49 170 0000001", "''x")

    """
    return f"'{text}" if _FORMULA.match(text) or text.startswith("'") else text


def unguarded(text: str) -> str:
    """A text as it was before ``guarded``."""
    is_guarded = text.startswith("'") and (_FORMULA.match(text[1:]) or text[1:2] == "'")
    return text[1:] if is_guarded else text


def cell_of(value: Value) -> str:
    """An entry of a file as a cell: a text as it is, anything else in one line between braces."""
    if isinstance(value, str):
        # What would be read as something else stands in quotes.
        odd = not value or value != value.strip() or value[0] in '{["' or "\n" in value
        return json.dumps(value, ensure_ascii=False) if odd else value
    return flow_text(value)


@lru_cache(maxsize=4096)  # many cells of a column are alike
def entry_of(cell: str) -> Value:
    """What a cell stands for.

    Raises
    ------
    QuantityError
        It begins like a group, a list or a quoted text, and cannot be read as one.

    """
    if cell[0] not in '{["':
        return cell
    findings = Findings("cell")
    root = parse_yaml(f"cell: {cell}\n", findings)
    if root is None or [*root] != ["cell"]:
        valid = "{4 mA: 0 %, 20 mA: 100 %}, [a, b], or a text in quotes"
        raise QuantityError(f"{cell[:60]!r} cannot be read", valid=valid)
    found = root["cell"]
    return EMPTY if found == "" else found


def plain_data(value: Any) -> Any:
    """A value of a file as plain mappings and lists, for comparing and writing."""
    if isinstance(value, Mapping):
        return {key: plain_data(item) for key, item in value.items()}
    if isinstance(value, List | list):
        return [plain_data(item) for item in value]
    return value


def flat(section: Map, groups: Iterable[str]) -> dict[str, Value]:
    """The entries of a group of keys by column: those of inner groups under ``group.key``."""
    found: dict[str, Value] = {}
    for key, value in section.items():
        if key in groups and isinstance(value, Map) and value:
            for inner, item in value.items():
                found[f"{key}.{inner}"] = item
        else:
            found[key] = value
    return found
