"""Changing a setup file without touching what is not meant: comments, order and quotes stay."""

from __future__ import annotations

import io
from collections.abc import Hashable, Iterable, Mapping
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap, CommentedSeq
from ruamel.yaml.nodes import ScalarNode
from ruamel.yaml.resolver import VersionedResolver
from ruamel.yaml.tag import Tag

from leitwerk.calibration.record import CalibrationRecord
from leitwerk.calibration.tare import Tare
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings
from leitwerk.parsing.quantities import format_number, format_value
from leitwerk.parsing.units import Unit
from leitwerk.parsing.yaml_text import Map, Value, comparable, parse_yaml


def add_tare(text: str, channel: str, tare: Tare, unit: Unit) -> str:
    """The text of a setup with one more tare on a channel, which is in force from then on.

    Raises
    ------
    QuantityError
        The text has no such channel.

    """
    yaml, root = _load(text)
    entry = CommentedMap()
    entry["offset"] = format_value(tare.offset, unit)
    entry["taken"] = tare.on.isoformat(timespec="minutes").replace("+00:00", "Z")
    entry.fa.set_flow_style()
    section = _channel(root, channel)
    if not isinstance(section.get("tare"), CommentedSeq):
        section["tare"] = CommentedSeq()
    section["tare"].append(entry)
    return _verified(text, _dump(yaml, root), [("channels", channel, "tare")])


def set_calibration(text: str, channel: str, record: CalibrationRecord, unit: Unit) -> str:
    """The text of a setup with another calibration of a channel, in the place of an earlier one.

    Raises
    ------
    QuantityError
        The text has no such channel.

    """
    yaml, root = _load(text)
    found = CommentedMap()
    for point in record.found:
        found[format_value(_short(point.reading), unit)] = format_value(
            _short(point.reference), unit
        )
    found.fa.set_flow_style()
    entry = CommentedMap()
    entry["date"], entry["due"] = record.on.isoformat(), record.due.isoformat()
    entry["reference"] = record.reference
    entry["found"] = found
    entry["correct"] = record.kind
    if record.expanded:
        entry["uncertainty"] = f"{format_number(record.expanded, 2)} {unit.difference}"
    _channel(root, channel)["calibration"] = entry
    return _verified(text, _dump(yaml, root), [("channels", channel, "calibration")])


def _short(value: float) -> float:
    """Without the digits that no instrument has."""
    return float(f"{value:.9g}")


def undo_tare(text: str, channel: str) -> str:
    """The text of a setup without the last tare of a channel; the one before is in force again.

    Raises
    ------
    QuantityError
        The text has no such channel, or that has no tare.

    """
    yaml, root = _load(text)
    section = _channel(root, channel)
    tares = section.get("tare")
    if not tares:
        raise QuantityError(f"channel {channel} has no tare to undo", valid="a channel with one")
    del tares[len(tares) - 1]  # a negative index would take the comments of another line along
    if not tares:
        del section["tare"]
    return _verified(text, _dump(yaml, root), [("channels", channel, "tare")])


def with_values(text: str, values: Mapping[tuple[str, ...], str]) -> str:
    """The text of a setup with other values at some places, each named by the keys that lead there.

    Raises
    ------
    QuantityError
        The text has no such place; the message names those that it has.

    """
    yaml, root = _load(text)
    for way, value in values.items():
        section = root
        if way[:1] == ("settings",):
            # A setting that the setup does not have yet may be added, nothing else.
            root.setdefault("settings", CommentedMap())
        for key in way[:-1]:
            section = _below(section, key, way)
        if way[:1] != ("settings",):
            _below(section, way[-1], way)
        section[way[-1]] = value
    return _verified(text, _dump(yaml, root), values)


def set_place(text: str, place: str, entry: Mapping[str, str] | None) -> str:
    """The text of a setup with another transmitter at a place of its receiver, or with none.

    Keys that are not in ``entry`` stay as they are. A place that feeds a channel, or has a label, stays, and
    waits for another one.

    Raises
    ------
    QuantityError
        The place has no transmitter to take away.

    """
    yaml, root = _load(text)
    places = root.setdefault("places", CommentedMap())
    if entry is None:
        if place not in places:
            raise QuantityError(
                f"place {place} is free", valid=", ".join(places) or "no place is taken"
            )
        held = places[place]
        held.pop("id", None)  # what hangs on the place waits for another one
        if not {*held} - {"kind"}:
            del places[place]
        if not places:
            del root["places"]
    else:
        held = places.get(place)
        if held is None:
            held = places[place] = CommentedMap()
            held.fa.set_flow_style()
        for key, value in entry.items():
            held[key] = value
    return _verified(text, _dump(yaml, root), [("places", place)])


def _verified(before: str, after: str, ways: Iterable[tuple[str, ...]]) -> str:
    """The text after an edit, if it says the same as before at all other places."""
    left, right = (_without(text, ways) for text in (before, after))
    if left is None or left != right:
        raise QuantityError(
            "the edit would change more than it should",
            valid="a file whose other entries stay as they are",
            remedy="edit the file by hand, and report this",
        )
    return after


def _without(text: str, ways: Iterable[tuple[str, ...]]) -> Hashable | None:
    """What a file says, without the values at some places."""
    root = parse_yaml(text, Findings("edited"))
    if root is None:
        return None
    for way in ways:
        section: Value = root
        for key in way[:-1]:
            section = section.get(key, Map()) if isinstance(section, Map) else Map()
        if isinstance(section, Map):
            section.pop(way[-1], None)
    for section in ("settings", "places"):
        if not root.get(section, "kept"):
            del root[section]  # it was added for what was changed, or lost the last of it
    return comparable(root)


def _below(section: Any, key: str, way: tuple[str, ...]) -> Any:
    if not isinstance(section, CommentedMap) or key not in section:
        known = ", ".join(map(str, section)) if isinstance(section, CommentedMap) else "nothing"
        raise QuantityError(f"the setup has no {'.'.join(way)!r}", valid=known)
    return section[key]


class _Texts(VersionedResolver):
    """Each scalar is a text, as for the reader of setups: nothing is written in another form."""

    def resolve(self, kind: Any, value: Any, implicit: Any) -> Any:
        """The tag of a node: that of a text, unless it is empty, tagged, or no scalar."""
        if kind is ScalarNode and implicit[0] and value:
            return Tag(suffix="tag:yaml.org,2002:str")
        return super().resolve(kind, value, implicit)


def _load(text: str) -> tuple[YAML, Any]:
    yaml = YAML()
    yaml.Resolver = _Texts
    yaml.preserve_quotes = True
    yaml.width = 4096  # no line is broken that was not
    yaml.indent(mapping=2, sequence=4, offset=2)
    return yaml, yaml.load(text)


def _channel(root: Any, channel: str) -> Any:
    channels = root.get("channels", {})
    if channel not in channels:
        raise QuantityError(f"there is no channel {channel!r}", valid=", ".join(channels))
    return channels[channel]


def _dump(yaml: YAML, root: Any) -> str:
    out = io.StringIO()
    yaml.dump(root, out)
    return out.getvalue()
