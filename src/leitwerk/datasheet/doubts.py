"""Doubts about a datasheet: names that look like a slip, and points that lack what belongs to them.

A datasheet with doubts can be used. What a setup wants and the doubtful point would store is refused
by the check of the setup.
"""

from __future__ import annotations

import difflib
from collections.abc import Mapping

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import (
    ALARM_CONDITION,
    CHANNEL_QUALITY,
    CHANNEL_RANGE,
    CHANNEL_SENSOR,
    CHANNEL_VALUE,
    DRIVE_RELAY,
    INPUT_ALARM_HIGH,
    INPUT_ALARM_LOW,
    LOGIN,
    RELAY_STATE,
    VALUE_HIGH,
    VALUE_LOW,
    VOCABULARY,
    WATCHDOG_AFTER,
    WATCHDOG_COUNT,
    KnownPoint,
)
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.units import parse_unit
from leitwerk.signals.sensors import SENSORS

_LIKE = 0.8  # similarity, 0 to 1, from which on a name is taken for a slip of another
# Points of two groups of which the first is of no use without the second.
_TOGETHER = ((DRIVE_RELAY, RELAY_STATE), (WATCHDOG_AFTER, WATCHDOG_COUNT))
# Group -> family's name -> the name as it stands in the file, with the span of its index.
Written = Mapping[str, Mapping[str, str]]


def check_datasheet(datasheet: Datasheet, written: Written, findings: Findings) -> None:
    """Warn of what looks like a slip; an error for what could only fail later."""
    _check_near_misses(written, findings)
    _check_members(datasheet, written, findings)
    _check_quality(datasheet, written, findings)
    _check_clearing(datasheet, written, findings)
    _check_inputs(datasheet, findings)
    _check_slots(datasheet, written, findings)
    _check_counts(datasheet, written, findings)
    _check_roles(datasheet, findings)
    _check_decided(datasheet, written, findings)
    _check_secrets(datasheet, written, findings)
    _check_requires(datasheet, written, findings)
    _check_spans(datasheet, written, findings)
    if not datasheet.has(CHANNEL_RANGE):
        for name, kind in datasheet.inputs.items():
            if len(kind.ranges) > 1 and datasheet.has(CHANNEL_SENSOR):
                findings.warning(
                    "range-not-set",
                    ("inputs", name),
                    f"{name} has {len(kind.ranges)} ranges, and no setting {CHANNEL_RANGE} chooses one",
                    at_key=True,
                    valid=f"one range, or the setting {CHANNEL_RANGE}",
                )


def _check_near_misses(written: Written, findings: Findings) -> None:
    for group, names in written.items():
        known = [name for g, name in VOCABULARY if g == group and name not in names]
        for name in names:
            if (group, name) in VOCABULARY:
                continue
            near = difflib.get_close_matches(name, known, n=1, cutoff=_LIKE)
            if near:
                findings.warning(
                    "near-miss",
                    (group, names[name]),
                    f"{name} is not a name that Leitwerk looks for",
                    at_key=True,
                    remedy=f"did you mean {near[0]!r}?",
                )


def _check_members(datasheet: Datasheet, written: Written, findings: Findings) -> None:
    """Points of a group that make no sense one without the other."""
    fixed_ends = any(kind.ends for kind in datasheet.inputs.values())
    for (group, name), known in VOCABULARY.items():
        if fixed_ends and known in {VALUE_LOW, VALUE_HIGH}:
            continue  # the datasheet says at which signals they are
        if name in written[group]:
            missing = [other for other in known.along if other not in written[group]]
            if missing:
                _report_missing(known, ", ".join(missing), _place(written, known), findings)
    for one, other in _TOGETHER:
        if datasheet.has(one) and not datasheet.has(other):
            _report_missing(one, f"{other} ({other.group})", _place(written, one), findings)


def _report_missing(known: KnownPoint, missing: str, place: KeyPath, findings: Findings) -> None:
    findings.warning(
        "incomplete-group",
        place,
        f"{known} is there without {missing}",
        at_key=True,
        remedy="add what belongs to it, or remove it",
    )


def _check_quality(datasheet: Datasheet, written: Written, findings: Findings) -> None:
    value = datasheet.family(CHANNEL_VALUE)
    if value is None or datasheet.has(CHANNEL_QUALITY) or value.template.tells_missing_values:
        return
    findings.warning(
        "no-quality",
        _place(written, CHANNEL_VALUE),
        f"{CHANNEL_VALUE} does not say when it is not a reading: an open sensor would pass for one",
        at_key=True,
        valid=f"the reading {CHANNEL_QUALITY}, or 'special', 'value_if_sensor_missing' or 'span'",
    )


def _check_clearing(datasheet: Datasheet, written: Written, findings: Findings) -> None:
    """Parts that setups assign and that cannot be given up."""
    for known in (CHANNEL_SENSOR, ALARM_CONDITION):
        choices = datasheet.choices(known)
        if choices and known.cleared not in choices:
            findings.warning(
                "cannot-be-cleared",
                _place(written, known),
                f"{known} has no choice {known.cleared!r}: what a setup does not use stays as it was",
                at_key=True,
                valid=f"{known.cleared!r} among the choices, if the device has it",
            )
    for known in (INPUT_ALARM_HIGH, INPUT_ALARM_LOW):
        words = datasheet.point(known).special_words if datasheet.has(known) else ()
        if datasheet.has(known) and known.cleared not in words:
            findings.warning(
                "cannot-be-cleared",
                _place(written, known),
                f"{known} has no code for {known.cleared!r}: an alarm that a setup does not use stays",
                at_key=True,
                valid="special: {0x8000: none}, if the device has such a code",
            )


def _check_inputs(datasheet: Datasheet, findings: Findings) -> None:
    """Terminals whose value nothing shows, and sensors without the input that they need."""
    if datasheet.terminals and not datasheet.has(CHANNEL_VALUE):
        findings.error(
            "no-value",
            ("terminals",),
            f"no reading {CHANNEL_VALUE} shows what is measured at them",
            at_key=True,
            remedy="add it to the readings; what the device measures by itself has no terminals",
        )
    for name in datasheet.sensors:
        quantity = SENSORS[name].quantity
        if quantity not in datasheet.inputs:
            findings.error(
                "sensor-without-input",
                ("inputs",),
                f"the device takes {name}, and has no input for {quantity}",
                at_key=True,
                valid=f"{quantity}: {{unit: {SENSORS[name].signal_unit}, ranges: [...]}}",
            )


def _check_slots(datasheet: Datasheet, written: Written, findings: Findings) -> None:
    """Terminals whose slot the points of a channel do not have."""
    for group in ("readings", "settings"):
        for name, family in datasheet.groups[group].items():
            if not name.startswith("channel.{"):
                continue
            outside = [t.name for t in datasheet.terminals.values() if t.slot not in family.indices]
            if outside:
                findings.error(
                    "slot-outside",
                    (group, written[group][name]),
                    f"{name} has no index for terminal {', '.join(outside[:8])}",
                    at_key=True,
                    remedy="compare the slots under 'terminals' with the span of the index",
                )


def _check_counts(datasheet: Datasheet, written: Written, findings: Findings) -> None:
    family = datasheet.family(ALARM_CONDITION)
    if family is not None and len(family.indices) != datasheet.limits.alarms:
        findings.warning(
            "alarms-differ",
            ("limits", "alarms"),
            f"the limits say {datasheet.limits.alarms} alarms, {written['settings'][ALARM_CONDITION.name]} "
            f"has {len(family.indices)}",
        )


def _check_roles(datasheet: Datasheet, findings: Findings) -> None:
    roles = datasheet.writing.roles
    if datasheet.has(LOGIN) and not roles:
        findings.warning(
            "login-unused",
            ("access", LOGIN.name),
            "no role logs in there: settings are written without a password",
            at_key=True,
            valid="transfer: {roles: [operator]}",
        )
    for point in (*datasheet.points("settings"), *datasheet.points("secrets")):
        if point.role and point.role not in roles:
            findings.error(
                "unknown-role",
                ("transfer", "roles"),
                f"{point.name} needs the role {point.role!r}, which is not among the roles",
                valid=", ".join(roles) or "a list of roles",
            )
    for name in datasheet.writing.minimum:
        if name not in datasheet.groups["status"]:
            findings.error(
                "unknown-point",
                ("transfer", "minimum_to_write", name),
                f"{name!r} is not a point of the status",
                valid=", ".join(list(datasheet.groups["status"])[:12]),
            )


def _check_secrets(datasheet: Datasheet, written: Written, findings: Findings) -> None:
    """What shows that a secret is set must be a point of the status, with words for both."""
    status = {point.name: point for point in datasheet.points("status")}
    for group, families in datasheet.groups.items():
        for name, family in families.items():
            other = family.template.set_shown_by
            place = (group, written[group][name], "set_shown_by")
            if other and group != "secrets":
                findings.error("set-shown-by-nothing", place, "only a secret has this key")
            elif other and not {"set", "not set"} <= set(
                status[other].choice_names if other in status else ()
            ):
                findings.error(
                    "set-shown-by-nothing",
                    place,
                    f"{other!r} is not a point of the status that says 'set' and 'not set'",
                    valid=f"status: {{{other}: {{…, choices: {{not set: 0, set: 1}}}}}}",
                )


def _check_requires(datasheet: Datasheet, written: Written, findings: Findings) -> None:
    """What must be so before something is written must be a point of the status that can say it."""
    status = {point.name: point for point in datasheet.points("status")}
    for group, families in datasheet.groups.items():
        for name, family in families.items():
            for other, must in family.template.requires:
                place = (group, written[group][name], "requires", other)
                point = status.get(other)
                if point is None:
                    message = f"{other!r} is not a point of the status"
                    findings.error("requires-nothing", place, message, valid=", ".join(status))
                elif point.choice_names and must not in point.choice_names:
                    message = f"{other} never says {must!r}"
                    valid = ", ".join(point.choice_names)
                    findings.error("requires-nothing", place, message, valid=valid)


def _check_decided(datasheet: Datasheet, written: Written, findings: Findings) -> None:
    """Readings that a setting decides: it must be there, and have units or a number."""
    for group, families in datasheet.groups.items():
        for name, family in families.items():
            point = family.template
            for key, other in (("unit_by", point.unit_by), ("decimals_by", point.decimals_by)):
                if not other:
                    continue
                problem = _decides_nothing(key, other, point.unit, datasheet)
                if group not in {"readings", "status"}:
                    problem = "only readings and points of the status can be decided by a setting"
                if problem:
                    place = (group, written[group][name], key)
                    findings.error("decided-by-nothing", place, problem)


def _check_spans(datasheet: Datasheet, written: Written, findings: Findings) -> None:
    """A span that a setting decides: the setting is there, and each of its choices has one."""
    families = datasheet.groups["settings"]
    for name, family in families.items():
        other = family.template.span_by
        if not other:
            continue
        decider = families.get(other)
        choices = decider.template.choice_names if decider is not None else ()
        missing = sorted(set(choices) ^ {choice for choice, _ in family.template.spans})
        if not choices or missing:
            findings.error(
                "decided-by-nothing",
                ("settings", written["settings"][name], "span_by"),
                f"{other} has no such choices: {', '.join(missing)}"
                if choices
                else f"the datasheet has no setting {other!r} with choices",
                valid="spans: {…}, with one for each choice: " + ", ".join(choices),
            )


def _decides_nothing(key: str, other: str, unit: str, datasheet: Datasheet) -> str:
    decider = datasheet.settings.get(other)
    if decider is None:
        return f"the datasheet has no setting {other!r}"
    if key == "decimals_by":
        return f"{other} is not a number" if decider.choice_names or decider.is_text else ""
    try:
        own = parse_unit(unit).dimension
        wrong = [name for name in decider.choice_names if parse_unit(name).dimension != own]
    except QuantityError as error:
        return error.message
    if wrong or not decider.choice_names:
        return f"the choices of {other} must be units of {own}: {', '.join(wrong) or 'it has none'}"
    return ""


def _place(written: Written, known: KnownPoint) -> KeyPath:
    return known.group, written[known.group][known.name]
