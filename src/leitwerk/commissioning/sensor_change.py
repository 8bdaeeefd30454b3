"""One sensor of a setup replaced by another, with everything that hangs on it followed through."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from leitwerk.check.channels import CheckedChannel, SignalChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.errors import QuantityError, SetupError
from leitwerk.evaluation.signal_chain import explain_channel
from leitwerk.findings import Finding
from leitwerk.parsing.quantities import format_number, format_value
from leitwerk.parsing.units import Unit
from leitwerk.parsing.yaml_edit import Content, YamlText, flow_text
from leitwerk.parsing.yaml_text import List, Map, Value
from leitwerk.project.setups import CheckedFile, check_file, check_text

# What belongs to the old sensor, and goes with it.
_OF_SENSOR = (
    "sensor", "sensor_serial", "signal", "scale", "shunt", "leads", "range", "unit", "time_constant",
)  # fmt: skip
_MEASURED_WITH = ("calibration", "tare")
_JUDGED_BY = ("expect", "alarms", "limits", "bands", "band_hysteresis")
# Keys whose bare numbers are in the unit of the channel.
_IN_UNIT = {
    "above", "below", "outside", "inside", "clear", "hysteresis", "by", "rises", "falls", "changes", "to",
    "expect", "band_hysteresis",
}  # fmt: skip


@dataclass(frozen=True)
class SensorChange:
    """A setup as it would be with another sensor at one channel.

    ``lines`` say what becomes of everything that hangs on the sensor; ``findings`` are new with it.
    """

    text: str
    lines: tuple[str, ...]
    findings: tuple[Finding, ...]

    @property
    def ok(self) -> bool:
        """Whether the setup can be used like this."""
        return not any(finding.is_error for finding in self.findings)


def replace_sensor(
    path: str | Path, channel: str, entries: Mapping[str, Content], *, drop: bool = False
) -> SensorChange:
    """A setup with another sensor at a channel; the file is not written.

    Parameters
    ----------
    path : path
        The setup file, without errors.
    channel : str
    entries : mapping
        What describes the new sensor: ``sensor``, or ``signal`` and ``scale``, and further keys of a channel.
    drop : bool
        Whether expectation, alarms and bands go where the new sensor measures another quantity.

    Raises
    ------
    FileProblem
        The file cannot be read.
    SetupError
        The setup has errors as it is.
    QuantityError
        There is no such channel, it has no sensor, or what it is judged by does not fit the new one.

    """
    before = check_file(path)
    if before.checked is None or not before.ok:
        raise SetupError(str(path), before.findings)
    old = before.checked.channel(channel)
    section = _section(before.checked, old)
    text = before.checked.setup.source.content.decode("utf-8-sig")
    # First without all that may not fit: in which unit would it measure?
    tried = check_text(_edited(text, channel, section, entries, old, drop=None), path)
    unit = _unit_of(tried.checked, channel)
    kept_unit = {} if "unit" in entries else _kept_unit(section, old.unit, unit)
    if kept_unit:
        unit = old.unit
    is_other = unit is not None and unit.dimension != old.unit.dimension
    judged = [key for key in _JUDGED_BY if key in section]
    if is_other and judged and not drop:
        raise QuantityError(
            f"{channel} would measure {unit.dimension if unit else '?'} and no longer "
            f"{old.unit.dimension}: {', '.join(judged)} do not fit",
            remedy="--drop takes them away; give them again afterwards",
        )
    gone = judged if is_other and drop else []
    made = _edited(text, channel, section, {**kept_unit, **entries}, old, drop=gone,
                   bare=unit is not None and unit != old.unit and not is_other)  # fmt: skip
    made, after = _with_range(made, path, channel, section, entries)
    lines = list(_lines(before.checked, after.checked, channel, section, entries, gone))
    known = {(f.rule, f.path, f.message) for f in before.findings}
    fresh = [f for f in after.findings if (f.rule, f.path, f.message) not in known]
    return SensorChange(made, tuple(lines), tuple(fresh))


def _section(checked: CheckedSetup, old: CheckedChannel) -> Map:
    root = checked.setup.source.root or Map()
    channels = root.get("channels")
    section = channels.get(old.name) if isinstance(channels, Map) else None
    if not isinstance(old, SignalChannel) or not isinstance(section, Map):
        raise QuantityError(
            f"channel {old.name} has no sensor that could be replaced",
            valid=", ".join(c.name for c in checked.channels if isinstance(c, SignalChannel)),
        )
    if "like" in section:
        raise QuantityError(
            f"channel {old.name} is like {section['like']!r}, and has the sensor from there",
            remedy=f"replace the sensor of {section['like']}, or give {old.name} entries of its own",
        )
    return section


def _kept_unit(section: Map, old: Unit, natural: Unit | None) -> dict[str, Value]:
    """The unit of a channel as before, where the new sensor measures the same quantity."""
    if natural is None or natural.dimension != old.dimension:
        return {}
    if "unit" in section:
        return {"unit": section["unit"]}
    return {} if natural.symbol == old.symbol else {"unit": old.symbol}


def _unit_of(checked: CheckedSetup | None, channel: str) -> Unit | None:
    """The unit of a channel that could be read; None where it could not."""
    found = [c for c in checked.channels if c.name == channel] if checked else []
    return found[0].unit if found else None


def _edited(
    text: str, channel: str, section: Map, entries: Mapping[str, Content], old: CheckedChannel,
    *, drop: list[str] | None, bare: bool = False,
) -> str:  # fmt: skip
    """The text with other entries; with ``drop`` None, without all that could not fit."""
    edit = YamlText(text)
    path = ("channels", channel)
    after = "terminal" if "terminal" in section else next(iter(section))
    gone = set(_JUDGED_BY if drop is None else drop) | {*_MEASURED_WITH}
    for key, value in section.items():
        if key in entries:
            if key in _OF_SENSOR:
                edit.set((*path, key), entries[key])
        elif key in _OF_SENSOR or key in gone:
            edit.remove((*path, key))
        elif bare:
            for way, number in _bare(value, (key,)):
                edit.set((*path, *way), f"{number} {old.unit.symbol}")
    for key in reversed([key for key in entries if key not in section]):
        edit.insert((*path, key), entries[key], after=after)
    return edit.edited()


def _bare(value: Value, path: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], str]]:
    """The numbers without a unit that are in that of the channel, and the way to each."""
    if isinstance(value, Map):
        for key, item in value.items():
            yield from _bare(item, (*path, key))
    elif isinstance(value, List):
        for number, item in enumerate(value):
            yield from _bare(item, (*path, str(number)))
    elif path[-1] in _IN_UNIT and value and value.strip()[-1:].isdigit():
        yield path, value


def _with_range(
    text: str, path: str | Path, channel: str, section: Map, entries: Mapping[str, Content]
) -> tuple[str, CheckedFile]:
    """The text with the range that fits, where there was one and none was asked for."""
    result = check_text(text, path)
    found = [c for c in result.checked.channels if c.name == channel] if result.checked else []
    new = found[0] if found else None
    if "range" not in section or "range" in entries or not isinstance(new, SignalChannel):
        return text, result
    own = result.checked.setup.channels[channel].own_sensor if result.checked else None
    if new.range is None or (own is not None and "range" in own.entries):
        return text, result
    edit = YamlText(text)
    edit.insert(
        ("channels", channel, "range"),
        new.range.name,
        after="sensor" if "sensor" in entries else "signal",
    )
    result = check_text(edit.edited(), path)
    return edit.edited(), result


def _lines(
    before: CheckedSetup, checked: CheckedSetup | None, channel: str, section: Map,
    entries: Mapping[str, Content], gone: list[str],
) -> Iterator[str]:  # fmt: skip
    """What becomes of everything that hangs on the sensor, a line each."""
    for key in _OF_SENSOR:
        yield from _entry_line(key, section.get(key), entries.get(key))
    found = [c for c in checked.channels if c.name == channel] if checked else []
    pair = before.channel(channel), (found[0] if found else None)
    yield from _replaced(*pair)
    for key in _MEASURED_WITH:
        if key in section:
            yield f"{key}: goes, it was measured with the old sensor; take a new one"
    for key in gone:
        yield f"{key}: goes, the new sensor measures another quantity"
    yield from _marks(*pair)
    likes = [name for name, entry in before.setup.channels.items() if entry.like == channel]
    if likes:
        yield f"also {', '.join(likes)}: they are like {channel}"


def _entry_line(key: str, old: Value | None, new: Content | None) -> Iterator[str]:
    if old is not None and new is not None and flow_text(old) != flow_text(new):
        yield f"{key}: {flow_text(old)} → {flow_text(new)}"
    elif old is None and new is not None:
        yield f"{key}: {flow_text(new)}, new"
    elif old is not None and new is None and key not in {"range", "unit"}:
        yield f"{key}: {flow_text(old)} goes with the old sensor"


def _replaced(old: CheckedChannel, new: CheckedChannel | None) -> Iterator[str]:
    """Range and unit, where they are others now."""
    if isinstance(new, SignalChannel) and isinstance(old, SignalChannel):
        if old.range != new.range:
            yield f"range: {old.range} → {new.range}"
        if old.unit != new.unit:
            yield f"unit: {old.unit} → {new.unit}"


def _marks(old: CheckedChannel, new: CheckedChannel | None) -> Iterator[str]:
    """At which signals alarms trip and the expectation lies: before, and with the new sensor."""
    if not isinstance(new, SignalChannel) or not isinstance(old, SignalChannel):
        return
    was, now = explain_channel(old), explain_channel(new)
    before = {(mark.name, mark.what): mark for mark in was.marks}
    for mark in now.marks:
        known = before.get((mark.name, mark.what))
        if (
            mark.what.startswith("clears")
            or mark.signal is None
            or known is None
            or known.signal is None
        ):
            continue
        value = format_value(float(f"{mark.value:.6g}"), new.unit)
        at = f"{format_number(known.signal, 4)} {was.signal_unit}"
        at += f" → {format_number(mark.signal, 4)} {now.signal_unit}"
        yield f"{mark.name} {mark.what} {value}: stays, {at}"
