"""The parts of a setup that can be tables: what a row and a column of each stands for."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from leitwerk.findings import KeyPath
from leitwerk.parsing.cells import flat
from leitwerk.parsing.models import Model
from leitwerk.parsing.yaml_text import List, Map, Value
from leitwerk.setup.alarms import Alarm
from leitwerk.setup.calibration import Calibration
from leitwerk.setup.contacts import Contact
from leitwerk.setup.model import Channel, Pulses
from leitwerk.setup.records import RecordsEntry

RECORDS = "records."  # the beginning of the name of a sheet

# Columns whose cells are no quantities: a comma in them is a comma, and they have no unit.
_TEXTS = {
    "name", "channel", "label", "reading", "computed", "inputs", "like", "sensor", "sensor_serial", "scale",
    "unit", "tare", "limits", "bands", "group", "terminal", "pulses.missing", "states.open", "states.closed",
    "calibration.date", "calibration.due", "calibration.reference", "calibration.found", "calibration.left",
    "calibration.before", "calibration.conditions",
    "calibration.correct", "calibration.certificate", "differs_from", "when", "only_while", "severity",
    "acknowledge", "text_message", "mail", "web", "topic", "outside",
}  # fmt: skip


@dataclass(frozen=True)
class TablePart:
    """A part of a setup as a table.

    ``names`` are the columns that say which entry a row is, ``groups`` the inner groups of keys that have
    columns of their own, ``model`` knows the other columns. A table that a device stores has ``free``
    columns: which ones, the device says.
    """

    title: str
    names: tuple[str, ...]
    model: type[Model]
    groups: Mapping[str, type[Model]]
    left_out: frozenset[str] = frozenset()
    free: bool = False

    @property
    def columns(self) -> list[str]:
        """All columns that a table of this part may have, in the order of the keys."""
        found = [*self.names]
        for key in self.model.__pydantic_fields__:
            if key in self.groups:
                found += [f"{key}.{inner}" for inner in self.groups[key].__pydantic_fields__]
            elif key not in self.left_out:
                found.append(key)
        return found

    def way(self, names: tuple[str, ...]) -> KeyPath:
        """The way to the entry that a row with these names stands for."""
        if self.title == "alarms":
            return ("channels", names[0], "alarms", names[1])
        if self.free:
            return ("records", self.title.removeprefix(RECORDS), "rows", names[0])
        return (self.title, names[0])

    def entries(self, root: Map) -> Iterator[tuple[tuple[str, ...], dict[str, Value]]]:
        """Each entry of a setup: its names, and its values by column."""
        if self.free:
            yield from _rows(root, self.title.removeprefix(RECORDS))
            return
        section = root.get("channels" if self.title == "alarms" else self.title)
        for name, content in section.items() if isinstance(section, Map) else ():
            if not isinstance(content, Map):
                continue
            if self.title != "alarms":
                kept = content.without(*self.left_out)
                yield (name,), flat(kept, self.groups)
                continue
            alarms = content.get("alarms")
            for alarm, held in alarms.items() if isinstance(alarms, Map) else ():
                if isinstance(held, Map):
                    yield (name, alarm), flat(held, self.groups)


def _rows(root: Map, name: str) -> Iterator[tuple[tuple[str, ...], dict[str, Value]]]:
    """The rows of a table that a device stores, each by its number."""
    tables = root.get("records")
    table = tables.get(name) if isinstance(tables, Map) else None
    rows = table.get("rows") if isinstance(table, Map) else None
    for number, row in enumerate(rows if isinstance(rows, List) else ()):
        if isinstance(row, Map):
            yield (str(number),), dict(row)


def records_part(name: str) -> TablePart:
    """The rows of a table that a device stores, as a part."""
    return TablePart(f"{RECORDS}{name}", (), RecordsEntry, {}, free=True)


def parts_of(root: Map) -> dict[str, TablePart]:
    """The parts of a setup that can be tables; of those of its device, the ones whose rows it has itself."""
    tables = root.get("records")
    own = [name for name, t in tables.items() if isinstance(t, Map) and "rows" in t] if isinstance(
        tables, Map) else []  # fmt: skip
    return {**PARTS, **{f"{RECORDS}{name}": records_part(name) for name in own}}


class _States(Model):
    """The names of the states of a contact."""

    open: Any = None
    closed: Any = None


PARTS: dict[str, TablePart] = {
    "channels": TablePart(
        "channels", ("name",), Channel,
        {"pulses": Pulses, "states": _States, "calibration": Calibration}, frozenset({"alarms"}),
    ),
    "alarms": TablePart("alarms", ("channel", "name"), Alarm, {}),
    "contacts": TablePart("contacts", ("name",), Contact, {}),
}  # fmt: skip


def is_quantity(column: str) -> bool:
    """Whether the cells of a column are numbers with units."""
    return column not in _TEXTS


def nested(cells: Mapping[str, Value], groups: Mapping[str, Any]) -> dict[str, Any]:
    """Values by column as the entries of a group of keys: the other way round as ``flat``."""
    found: dict[str, Any] = {}
    for column, value in cells.items():
        head, point, inner = column.partition(".")
        if point and head in groups:
            found.setdefault(head, {})[inner] = value
        else:
            found[column] = value
    return found
