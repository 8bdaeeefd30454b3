"""Adopting a device: a setup file written from what it holds, to start from."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator

from leitwerk.check.compile import check_setup
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point
from leitwerk.datasheet.settings import DeviceSettings, diff_settings, is_documented, show_setting
from leitwerk.datasheet.vocabulary import (
    ALARM_CHANNEL,
    ALARM_CLEAR,
    ALARM_CONDITION,
    ALARM_DELAY,
    ALARM_SEVERITY,
    ALARM_TRIP,
    BUS_UNIT,
    CAMPAIGN_STORES,
    CHANNEL_LABEL,
    CHANNEL_RANGE,
    CHANNEL_SENSOR,
    CHANNEL_UNIT,
    EVALUATION_WEIGHTING,
    INPUT_ALARM_DELAY,
    INPUT_ALARM_HIGH,
    INPUT_ALARM_HYSTERESIS,
    INPUT_ALARM_LOW,
    NAME,
    OF_NET,
    OF_PHASES,
    OF_VOLTAGES,
    PLACE_ID,
    PULSE_FILTER,
    PULSE_GATE,
    PULSE_MISSING,
    PULSE_MISSING_AFTER,
    REPORT_INTERVAL,
    SAMPLE_INTEGRATION,
    SAMPLE_INTERVAL,
    SIGNAL_HIGH,
    SIGNAL_LOW,
    STORAGE_INTERVAL,
    TITLE,
    VALUE_HIGH,
    VALUE_LOW,
    VOCABULARY,
    WHEN_FULL,
)
from leitwerk.errors import SetupError
from leitwerk.identity import Identity
from leitwerk.project.setups import parse_setup
from leitwerk.setup.fields import CONTACT, COUNTER
from leitwerk.signals.pulse_inputs import PERIOD, PULSE_WIDTH, PULSED
from leitwerk.signals.sensors import SENSORS
from leitwerk.transfer.adopt_sections import (
    schedule_lines,
    sound_lines,
    trigger_lines,
    wired_system,
    wireless_lines,
    wiring_lines,
)
from leitwerk.transfer.adopt_text import exact_text, yaml_text

# Settings that a setup has keys of its own for: what they are called there, and in what unit.
_TIMED = (
    (STORAGE_INTERVAL, "store: every", "s"),
    (REPORT_INTERVAL, "report: every", "s"),
    (SAMPLE_INTEGRATION, "integration:", "ms"),
    (WHEN_FULL, "when_full:", ""),
)
_ELSEWHERE = {k.name for k in (TITLE, SAMPLE_INTERVAL, BUS_UNIT, *(k for k, _, _ in _TIMED))}
_BLOCKS = tuple(
    known.block.partition("{")[0]
    for known in (
        CHANNEL_SENSOR,
        ALARM_CONDITION,
        PULSE_GATE,
        CAMPAIGN_STORES,
        EVALUATION_WEIGHTING,
        PLACE_ID,
    )
)
_CHOICES = 8  # that are named in a comment
_NAME = 40  # characters of a channel's name
_SECONDS = "s"


def adopt(settings: DeviceSettings, identity: Identity, address: str, datasheet: Datasheet) -> str:
    """A setup file that says what a device holds: uploaded unchanged, it changes nothing.

    Every value has a comment that says what it may be. What a setup cannot say stands in a comment
    at the top of the file.

    Parameters
    ----------
    settings : DeviceSettings
        All settings of the device.
    identity : Identity
    address : str
        How it is reached, or its name in the inventory.
    datasheet : Datasheet

    """
    begin = [
        *_head(settings, identity, address, datasheet),
        *wiring_lines(settings, datasheet),
        *trigger_lines(settings, datasheet),
        *schedule_lines(settings, datasheet),
        *sound_lines(settings, datasheet),
        *wireless_lines(settings, datasheet),
        *_channels(settings, datasheet),
    ]
    said = _said("\n".join([*begin, ""]), datasheet)

    def whole(own: Collection[str]) -> tuple[str, list[str]]:
        text = "\n".join([*begin, *_settings(settings, datasheet, said, own)]) + "\n"
        return text, _remarks(text, settings, datasheet)

    text, remarks = whole(())
    if remarks:
        # What is not in use, and not as an upload would leave it, has no key: by its own name, then.
        text, remarks = min(
            (text, remarks),
            whole(_changed(text, settings, datasheet)),
            key=lambda found: len(found[1]),
        )
    return "\n".join([f"# Setup of {identity}, as it was read from it.", *remarks, text])


def _head(
    settings: DeviceSettings, identity: Identity, address: str, sheet: Datasheet
) -> list[str]:
    title = settings.get(TITLE) or settings.get(NAME) or sheet.summary
    lines = [
        "leitwerk: 1",
        f"title: {yaml_text(title)}",
        "",
        "device:",
        f"  model: {yaml_text(identity.model)}",
        f"  at: {yaml_text(address)}",
        f"  serial: {yaml_text(identity.serial)}    # any other device is refused",
        "",
    ]
    interval = settings.get(SAMPLE_INTERVAL)
    if sheet.limits.interval_s is not None and isinstance(interval, float):
        low, high = (exact_text(end) for end in sheet.limits.interval_s)
        every = f"sample: every {exact_text(interval)} {_SECONDS}"
        lines += [f"{every}    # {low} to {high} {_SECONDS}"]
    for known, key, unit in _TIMED:
        value = settings.get(known)
        if value is not None and value != 0.0:
            shown = f"{exact_text(value)} {unit}" if not isinstance(value, str) else str(value)
            lines.append(f"{key} {shown}")
    return [*lines, ""] if lines[-1] else lines


# ---------------------------------------------------------------------- channels


def _channels(settings: DeviceSettings, sheet: Datasheet) -> list[str]:
    blocks = list(_wired(settings, sheet)) or list(_own(settings, sheet))
    sections = (wired_system, sound_lines, wireless_lines)
    if not blocks and any(section(settings, sheet) for section in sections):
        return []
    if not blocks:
        return ["channels: {}    # nothing is wired to it yet", ""]
    names: set[str] = set()
    lines = ["channels:"]
    for wish, block in blocks:
        name = _free(wish, names)
        lines += [f"  {name}:", *(f"    {line}" for line in block), ""]
    return lines


def _wired(settings: DeviceSettings, sheet: Datasheet) -> Iterator[tuple[str, list[str]]]:
    """The terminals that are in use, each with a wish for a name and its lines."""
    alarms = _alarms(settings, sheet)
    for terminal in sheet.terminals.values():
        slot = terminal.slot
        sensor = settings.get(CHANNEL_SENSOR, slot)
        if sensor in {None, CHANNEL_SENSOR.cleared}:
            continue
        label = str(settings.get(CHANNEL_LABEL, slot) or "")
        lines = [f"label: {yaml_text(label)}"] if label else []
        lines.append(f"terminal: {terminal.name}    # takes {' or '.join(terminal.takes)}")
        lines += _measurement(str(sensor), settings, slot, sheet)
        unit = str(settings.get(CHANNEL_UNIT, slot) or "")
        own = [_alarm_line(settings, k, unit) for k in alarms.get(slot, ())]
        own += _input_alarm_lines(settings, slot)
        lines += ["alarms:", *(f"  {line}" for line in own)] if own else []
        yield label or f"terminal_{terminal.name}", lines


def _measurement(sensor: str, settings: DeviceSettings, slot: int, sheet: Datasheet) -> list[str]:
    if sensor in {CONTACT, COUNTER}:
        return [f"signal: {sensor}", *_pulses(settings, slot)]
    unit = str(settings.get(CHANNEL_UNIT, slot) or "")
    if sensor in SENSORS:
        lines = [f"sensor: {sensor}"]
    else:
        kind = sheet.inputs[sensor]
        symbol = kind.unit.symbol
        ends = kind.ends or [float(settings.get(s, slot) or 0.0) for s in (SIGNAL_LOW, SIGNAL_HIGH)]
        values = [float(settings.get(v, slot) or 0.0) for v in (VALUE_LOW, VALUE_HIGH)]
        low, high, first, last = map(exact_text, (*ends, *values))
        named = sensor in {PERIOD, PULSE_WIDTH}
        lines = [f"signal: {sensor}" if named else f"signal: {low}..{high} {symbol}"]
        first, last = f"{first} {unit}".strip(), f"{last} {unit}".strip()
        lines.append(
            f'scale: {{"{low} {symbol}": {yaml_text(first)}, "{high} {symbol}": {yaml_text(last)}}}'
        )
    chosen = settings.get(CHANNEL_RANGE, slot)
    if chosen not in {None, "none"}:
        lines.append(f"range: {yaml_text(chosen)}")
    if unit:
        lines.append(f"unit: {yaml_text(unit)}")
    return [*lines, *(_pulses(settings, slot) if sensor in PULSED else ())]


def _pulses(settings: DeviceSettings, slot: int) -> list[str]:
    """How an input counts pulses."""
    gate, shortest, missing, after = (
        settings.get(known, slot)
        for known in (PULSE_GATE, PULSE_FILTER, PULSE_MISSING, PULSE_MISSING_AFTER)
    )
    if gate is None:
        return []
    times = [f"{key}: {exact_text(float(value or 0.0))} {unit}" for key, value, unit in
             (("gate", gate, "s"), ("filter", shortest, "ms"), ("after", after, "s"))]  # fmt: skip
    return [f"pulses: {{{', '.join([*times, f'missing: {missing}'])}}}"]


def _alarms(settings: DeviceSettings, sheet: Datasheet) -> dict[int, list[int]]:
    """The numbers of the alarms that are switched on, by the slot that they watch."""
    family = sheet.family(ALARM_CONDITION)
    by_slot: dict[int, list[int]] = {}
    for k in family.indices if family else ():
        if settings.get(ALARM_CONDITION, k) not in {None, ALARM_CONDITION.cleared}:
            by_slot.setdefault(int(float(settings.get(ALARM_CHANNEL, k) or 0)), []).append(k)
    return by_slot


def _alarm_line(settings: DeviceSettings, k: int, unit: str) -> str:
    trip, clear = (
        yaml_text(f"{exact_text(float(settings.get(known, k) or 0.0))} {unit}".strip())
        for known in (ALARM_TRIP, ALARM_CLEAR)
    )
    delay = exact_text(float(settings.get(ALARM_DELAY, k) or 0.0))
    severity = settings.get(ALARM_SEVERITY, k) or "medium"
    return (
        f"alarm_{k}: {{{settings.get(ALARM_CONDITION, k)}: {trip}, clear: {clear}, "
        f"after: {delay} {_SECONDS}, severity: {severity}}}"
    )


def _input_alarm_lines(settings: DeviceSettings, slot: int) -> Iterator[str]:
    """The alarms that belong to an input."""
    delay, apart = (settings.get(k, slot) for k in (INPUT_ALARM_DELAY, INPUT_ALARM_HYSTERESIS))
    for known, name, side, sign in (
        (INPUT_ALARM_HIGH, "high", "above", -1.0),
        (INPUT_ALARM_LOW, "low", "below", 1.0),
    ):
        trip = settings.get(known, slot)
        if trip is None or isinstance(trip, str):
            continue
        more = f", after: {exact_text(float(delay))} {_SECONDS}" if delay else ""
        more += f", clear: {exact_text(trip + sign * float(apart))}" if apart else ""
        yield f"{name}: {{{side}: {exact_text(trip)}{more}}}"


def _own(settings: DeviceSettings, sheet: Datasheet) -> Iterator[tuple[str, list[str]]]:
    """What a device measures by itself, but for what follows from a wiring, or from evaluations."""
    has_wiring = wired_system(settings, sheet) is not None
    of_sound = ("evaluation.", "band.") if sound_lines(settings, sheet) else ()
    for name, point in sheet.own_readings.items():
        follows = (has_wiring and _is_of_net(name)) or name.startswith((*of_sound, "place."))
        if not point.choice_names and not follows:
            unit = f"    # in {point.unit}" if point.unit else ""
            yield name, [f"reading: {name}{unit}"]


def _is_of_net(name: str) -> bool:
    """Whether a reading is one of a net, which another kind of wiring may have."""
    return any(
        one.known.name == name
        or (one.known.block and name.startswith(one.known.name.partition("{")[0]))
        for one in (*OF_VOLTAGES, *OF_PHASES, *OF_NET)
    )


# ---------------------------------------------------------------------- further settings


def _said(text: str, sheet: Datasheet) -> set[str]:
    """The settings that follow from the sections of a text."""
    try:
        wanted = check_setup(parse_setup(text), sheet).wanted
    except SetupError:
        return set()
    families = ((w, sheet.family(w.known)) for w in wanted)
    return {family.name_at(w.number) for w, family in families if family is not None}


def _settings(
    settings: DeviceSettings, sheet: Datasheet, said: Collection[str], own: Collection[str]
) -> list[str]:
    """The section ``settings``: what is not ``said`` by another one, and what is named in ``own``."""
    lines, has_keys = [], _ELSEWHERE | ({*said} - {*own})
    for name, value in settings.values.items():
        point = sheet.settings.get(name)
        has_key = name in has_keys or (_is_in_blocks(name, sheet) and name not in own)
        if has_key or point is None or point.read_only:
            continue
        if not is_documented(point, value):
            shown = show_setting(value, point.unit)
            lines.append(f"  # {name}: is {shown}, which the device does not accept")
            continue
        shown = yaml_text(show_setting(value, point.fixed_unit)) if value != "" else '""'
        lines.append(f"  {name}: {shown}{_span(point)}")
    has_values = any(not line.startswith("  #") for line in lines)
    return ["settings:" if has_values else "# settings:", *lines] if lines else []


def _is_in_blocks(name: str, sheet: Datasheet) -> bool:
    """Whether a setting is one of a channel or an alarm that a setup has keys for."""
    family, _ = sheet.setting_places[name]
    return name.startswith(_BLOCKS) and ("settings", family) in VOCABULARY


def _span(point: Point) -> str:
    """What a setting may be, as a comment."""
    if names := point.choice_names:
        more = ", …" if len(names) > _CHOICES else ""
        return f"    # {', '.join(names[:_CHOICES])}{more}"
    if point.is_text or point.limits is None:
        return ""
    low, high = point.limits
    return f"    # {exact_text(low)} to {exact_text(high)} {point.unit}".rstrip()


# ---------------------------------------------------------------------- how it is written


def _remarks(text: str, settings: DeviceSettings, sheet: Datasheet) -> list[str]:
    """What an upload of this text would change after all, as comments."""
    try:
        checked = check_setup(parse_setup(text), sheet)
    except SetupError as error:
        found = error.findings
    else:
        found = tuple(finding for finding in checked.findings if finding.is_error)
    if found:
        lines = [_comment(finding) for finding in found]
        return ["# It cannot be uploaded as it stands:", *lines]
    asked = checked.settings
    changes = diff_settings(settings, asked, sheet)
    if not changes:
        return []
    return ["# A setup cannot say all of it; an upload would change:", *map(_comment, changes)]


def _changed(text: str, settings: DeviceSettings, sheet: Datasheet) -> list[str]:
    """The settings that an upload of this text would change."""
    try:
        asked = check_setup(parse_setup(text), sheet).settings
    except SetupError:
        return []
    return [change.setting for change in diff_settings(settings, asked, sheet)]


def _comment(what: object) -> str:
    return "\n".join(f"#   {line}" for line in str(what).splitlines())


def _free(wish: str, names: set[str]) -> str:
    """A name for a channel that no other has, from a label."""
    plain = re.sub(r"[^a-z0-9]+", "_", wish.casefold().replace("°", "")).strip("_")[: _NAME - 4]
    if not plain or not plain[0].isalpha():
        plain = f"channel_{plain}".rstrip("_")
    name = next(n for n in (plain, *(f"{plain}_{k}" for k in range(2, 10_000))) if n not in names)
    names.add(name)
    return name
