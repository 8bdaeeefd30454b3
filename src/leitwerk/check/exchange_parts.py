"""The parts of the lines of an exchange: what each field carries, and where each value goes."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from leitwerk.check.channels import CheckedChannel, MeasuredChannel
from leitwerk.check.outputs import CheckedOutput, RelayOutput
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point
from leitwerk.errors import QuantityError
from leitwerk.exchange.definition import Form, Part
from leitwerk.exchange.terms import Kind
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import format_number, format_span
from leitwerk.parsing.units import parse_unit
from leitwerk.setup.exchanges import FieldEntry, FormEntry, ValueEntry
from leitwerk.setup.model import Setup

_SOURCES = ("given", "channel", "setting", "state", "device", "text", "time", "counter")
_KINDS = ("number", "integer", "hexadecimal", "text", "state", "time", "constant")
_ON_OFF = (("on", "on"), ("off", "off"))
_ACTIVE = (("active", "active"), ("not active", "not active"))
_DEVICE_TEXT = 40


@dataclass(frozen=True)
class Nameable:
    """What fields and values may name."""

    setup: Setup
    datasheet: Datasheet
    channels: Mapping[str, CheckedChannel]
    outputs: Mapping[str, CheckedOutput]
    alarms: frozenset[str]


# ---------------------------------------------------------------------- fields that are said


def field_part(
    field: FieldEntry, known: Nameable, path: KeyPath, findings: Findings
) -> Part | None:
    """A field of a message: what it carries and how; None where that is not known."""
    given = [key for key in _SOURCES if getattr(field, key) is not None]
    if len(given) != 1:
        message = f"a field carries one thing, this {', '.join(given) or 'nothing'}"
        findings.error("bad-value", path, message, valid=f"one of {', '.join(_SOURCES)}")
        return None
    key = given[0]
    subject = str(getattr(field, key))
    if key == "text":
        return Part(Form(Kind.CONSTANT, text=subject))
    if key == "given":
        return _given(field, path, findings)
    if key == "time" and field.time is not None:
        return Part(replace(_form(field, Kind.TIME), layout=field.time), "time", "time")
    if key == "counter":
        counted = replace(_form(field, Kind.COUNTER), width=field.counter or 1, pad="0")
        return Part(counted, "counter", "counter")
    if key == "device":
        return Part(
            replace(_form(field, Kind.TEXT), longest=_DEVICE_TEXT), subject, f"device {subject}"
        )
    form_of = {"channel": _channel_form, "setting": _setting_form, "state": _state_form}[key]
    form = form_of(field, subject, known, path, findings)
    channel = known.channels.get(subject) if key == "channel" else None
    point = known.datasheet.settings.get(subject) if key == "setting" else None
    shows = channel.kind if channel is not None else ""
    unit = channel.symbol if channel is not None else point.unit if point is not None else ""
    return None if form is None else Part(form, subject, f"{key} {subject}", shows, unit)


def _given(field: FieldEntry, path: KeyPath, findings: Findings) -> Part:
    """A value that is given when the message is said."""
    kind = Kind(field.given or "number")
    form = replace(_form(field, kind), longest=field.longest or _DEVICE_TEXT, layout=field.layout)
    if kind is Kind.STATE:
        form = replace(form, states=tuple(field.states.items()))
        if not field.states:
            findings.error("missing-key", path, "a state needs its texts", valid="states: {on: ON}")
    least, most = field.times or (1, 1)
    return Part(form, field.name or kind.value, "given", least=least, most=most)


def _form(entry: FormEntry, kind: Kind, unit: str = "") -> Form:
    return Form(
        kind,
        entry.decimals,
        entry.digits,
        entry.exponent == "yes",
        entry.width,
        "0" if entry.pad == "zeros" else " ",
        unit if entry.unit == "yes" else "",
        entry.before,
        entry.after,
        entry.bad,
    )


def _channel_form(
    field: FieldEntry, name: str, known: Nameable, path: KeyPath, findings: Findings
) -> Form | None:
    channel = known.channels.get(name)
    if channel is None:
        if name not in known.setup.channels:
            message = f"there is no channel {name[:40]!r}"
            findings.error("unknown-name", path, message, valid=", ".join(known.channels))
        return None
    if channel.states is not None:
        return _states(field, [(n, n) for n in channel.states.names], path, findings)
    if field.hexadecimal == "yes":
        return _form(field, Kind.HEXADECIMAL)
    resolution = 0.0
    if isinstance(channel, MeasuredChannel):
        resolution = channel.value_point(known.datasheet).resolution
    return _number(field, channel.symbol, resolution, name, path, findings)


def _number(
    field: FormEntry, unit: str, resolution: float, name: str, path: KeyPath, findings: Findings
) -> Form:
    form = _form(field, Kind.NUMBER, unit)
    if not 0.0 < resolution < math.inf:
        return form
    fine = max(0, min(9, -math.floor(math.log10(resolution) + 1e-9)))
    if form.decimals is None and form.digits is None and not form.exponent:
        return replace(form, decimals=fine)
    if form.decimals is not None and not form.exponent and form.decimals < fine:
        message = f"{name} is resolved to {format_number(resolution)}, and said with {form.decimals} decimals"
        findings.warning("loses-digits", path, message, valid=f"decimals: {fine}")
    return form


def _setting_form(
    field: FieldEntry, name: str, known: Nameable, path: KeyPath, findings: Findings
) -> Form | None:
    point = _setting(name, known, path, findings)
    if point is None:
        return None
    if point.choice_names:
        return _states(field, [(n, n) for n in point.choice_names], path, findings)
    if point.is_text:
        return replace(_form(field, Kind.TEXT), longest=getattr(point, "max_length", _DEVICE_TEXT))
    return _number(field, point.unit, point.resolution, name, path, findings)


def _state_form(
    field: FieldEntry, name: str, known: Nameable, path: KeyPath, findings: Findings
) -> Form | None:
    if name in known.alarms:
        return _states(field, _ACTIVE, path, findings)
    if isinstance(known.outputs.get(name), RelayOutput):
        return _states(field, _ON_OFF, path, findings)
    channel = name.partition(".")[0]
    if channel in known.setup.channels and channel not in known.channels:
        return None  # it has a finding of its own
    valid = ", ".join([*sorted(known.alarms)[:8], *known.outputs])
    findings.error("unknown-name", path, f"there is no alarm or output {name[:40]!r}", valid=valid)
    return None


def _states(
    entry: FormEntry, names: Iterable[tuple[str, str]], path: KeyPath, findings: Findings
) -> Form:
    texts = dict(names)
    for name, text in entry.states.items():
        if name not in texts:
            message = f"there is no state {name[:40]!r}"
            findings.error(
                "wrong-state", (*path, "states", name), message, at_key=True, valid=", ".join(texts)
            )
        else:
            texts[name] = text
    return replace(_form(entry, Kind.STATE), states=tuple(texts.items()))


def _setting(name: str, known: Nameable, path: KeyPath, findings: Findings) -> Point | None:
    point = known.datasheet.settings.get(name)
    if point is None:
        message = f"{known.datasheet.model} has no setting {name[:60]!r}"
        findings.error(
            "unknown-setting", path, message, valid=", ".join(list(known.datasheet.settings)[:12])
        )
    return point


# ---------------------------------------------------------------------- values that are understood


def value_part(
    entry: ValueEntry, known: Nameable, path: KeyPath, findings: Findings
) -> Part | None:
    """A value behind a keyword: its kind and where it goes; None where that is not known."""
    given = [key for key in _KINDS if getattr(entry, key) is not None]
    if len(given) != 1:
        message = f"a value is of one kind, this of {', '.join(given) or 'none'}"
        findings.error("bad-value", path, message, valid=f"one of {', '.join(_KINDS)}")
        return None
    kind = Kind(given[0])
    if kind is Kind.CONSTANT:
        return Part(Form(kind, text=entry.constant or ""))
    unit, form = "", _form(entry, kind)
    if kind is Kind.NUMBER:
        try:
            unit = parse_unit(entry.number or "").symbol
        except QuantityError as error:
            findings.error("bad-value", (*path, "number"), error.message, valid=error.valid)
        form = _form(entry, kind, unit)
    elif kind is Kind.TEXT:
        form = replace(form, longest=entry.text or 0)
    elif kind is Kind.TIME and entry.time is not None:
        form = replace(form, layout=entry.time)
    elif kind is Kind.STATE:
        form = replace(form, states=tuple(entry.states.items()))
        if not entry.states:
            valid = "states: {on: ON, off: OFF}"
            findings.error("missing-key", path, "a state needs its texts", valid=valid)
    least, most = entry.times or (1, 1)
    part = Part(form, entry.name or "", entry.to or "", unit=unit, least=least, most=most)
    part = _with_target(part, entry, unit, known, path, findings)
    return part if part.name else replace(part, name=part.of.partition(" ")[2] or kind.value)


def _with_target(
    part: Part, entry: ValueEntry, unit: str, known: Nameable, path: KeyPath, findings: Findings
) -> Part:
    """The value with where it goes, and what is accepted there."""
    span = _span(entry, unit, path, findings)
    if entry.to is None:
        return replace(part, span=span)
    place = (*path, "to")
    what, _, name = entry.to.partition(" ")
    name = name.strip()
    if what == "setting":
        point = _setting(name, known, place, findings)
        if point is None:
            return part
        return _to_setting(part, span, point, unit, place, findings)
    if what == "output":
        output = known.outputs.get(name)
        if not isinstance(output, RelayOutput) or output.follows:
            valid = (
                ", ".join(o.name for o in known.outputs.values() if isinstance(o, RelayOutput))
                or "none"
            )
            findings.error(
                "unknown-output", place, f"there is no switched output {name[:40]!r}", valid=valid
            )
        elif part.form.kind is not Kind.STATE or {n for n, _ in part.form.states} != {"on", "off"}:
            message = f"{name} is switched on or off"
            findings.error(
                "wrong-state", place, message, valid="state: yes, states: {on: ON, off: OFF}"
            )
        return part
    message = f"{entry.to[:40]!r} is nowhere a value can go"
    findings.error("bad-value", place, message, valid="setting bar.high, output valve")
    return part


def _to_setting(
    part: Part,
    span: tuple[float, float] | None,
    point: Point,
    unit: str,
    path: KeyPath,
    findings: Findings,
) -> Part:
    kind = part.form.kind
    if point.read_only:
        findings.error(
            "read-only", path, f"{point.name} can be read and not written", remedy="remove it"
        )
    if point.choice_names:
        unknown = [n for n, _ in part.form.states if n not in point.choice_names]
        if kind is not Kind.STATE or unknown:
            message = f"{point.name} takes one of its choices"
            findings.error("wrong-state", path, message, valid=", ".join(point.choice_names))
    elif point.is_text:
        most = getattr(point, "max_length", _DEVICE_TEXT)
        if kind is not Kind.TEXT:
            findings.error("wrong-kind", path, f"{point.name} takes a text", valid=f"text: {most}")
        elif part.form.longest > most:
            message = f"{point.name} takes {most} characters, {part.form.longest} may come"
            findings.error("too-long", path, message, valid=f"text: {most}")
    elif kind not in {Kind.NUMBER, Kind.INTEGER, Kind.HEXADECIMAL}:
        message = f"{point.name} is a number, and a {kind.value} could come: it would be lost"
        findings.error("text-to-number", path, message, valid="number: " + (point.unit or "1"))
    else:
        return _to_number(part, span, point, unit, path, findings)
    return part


def _to_number(
    part: Part,
    span: tuple[float, float] | None,
    point: Point,
    unit: str,
    path: KeyPath,
    findings: Findings,
) -> Part:
    if point.unit and unit and unit != point.unit:
        message = f"{point.name} is in {point.unit}, the value comes in {unit}"
        findings.error("wrong-unit", path, message, valid=f"number: {point.unit}")
    low, high = point.span()
    if span is not None and not low <= span[0] <= span[1] <= high:
        valid = format_span(low, high, None)
        findings.error(
            "outside-span", (*path[:-1], "span"), f"{point.name} takes {valid}", valid=valid
        )
    return replace(part, span=span or (low, high))


def _span(
    entry: ValueEntry, unit: str, path: KeyPath, findings: Findings
) -> tuple[float, float] | None:
    if entry.span is None:
        return None
    try:
        return entry.span.ends_in(parse_unit(unit))
    except QuantityError as error:
        findings.error("wrong-unit", (*path, "span"), error.message, valid=error.valid)
        return None
