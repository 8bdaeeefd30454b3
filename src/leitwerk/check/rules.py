"""Checking rules: do they name what there is, can they be carried out, do they fight or go in rings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import assert_never

from leitwerk.alarms.conditions import Compared, Condition, Stated, in_units, sentences
from leitwerk.alarms.states import State
from leitwerk.check.channels import CheckedChannel
from leitwerk.check.exchange_rules import exchange_rules, lines_of
from leitwerk.check.outputs import CheckedOutput, RelayOutput
from leitwerk.check.rule_conflicts import check_fights, check_rings
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import CONTACT_NUMBER, DRIVE_RELAY
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import Quantity, format_span
from leitwerk.parsing.units import Unit, convert_difference
from leitwerk.rules.definition import (
    Action,
    Change,
    ChangeSetting,
    ControlRecording,
    Escalation,
    HandleAlarm,
    Notify,
    Pulse,
    Rule,
    Say,
    Snapshot,
    SwitchLine,
    SwitchOutput,
    Trigger,
    WriteLog,
)
from leitwerk.rules.message_text import SECRETS, message_parts, names_in
from leitwerk.setup.contacts import Contact
from leitwerk.setup.model import Setup
from leitwerk.setup.rules import MAX_RULES, RuleEntry

ALARM_STATES = ("active", *(state.words for state in State))
# What templates may name beside channels and outputs.
NAMES = ("title", "serial", "model", "time", "rule", "why", "alarms")
_MOST_PARTS = 4  # text messages that one notification may take
_INSIDE_ONLY = ("serial", "model")  # contacts outside need not know


@dataclass(frozen=True)
class _Known:
    """Everything that a rule may name."""

    channels: Mapping[str, CheckedChannel]
    alarms: frozenset[str]
    outputs: Mapping[str, CheckedOutput]
    contacts: Mapping[str, Contact]
    datasheet: Datasheet
    setup: Setup


def check_rules(
    setup: Setup,
    datasheet: Datasheet,
    channels: Sequence[CheckedChannel],
    outputs: Sequence[CheckedOutput],
    findings: Findings,
) -> list[Rule]:
    """The rules of a setup, ready to be followed; findings take what does not fit."""
    known = _known(setup, datasheet, channels, outputs)
    _check_conditions(known, findings)
    _check_contact_count(setup, datasheet, findings)
    if len(setup.rules) > MAX_RULES:
        message = f"{len(setup.rules):,} rules are too many"
        findings.error("too-many-rules", ("rules",), message, valid=f"at most {MAX_RULES:,}")
        return []
    rules = []
    own = [(name, text, ("rules", name)) for name, text in setup.rules.items()]
    for name, text, path in [*own, *exchange_rules(setup)]:
        _check_rule(text, known, path, findings)
        for k, action in enumerate((*text.do, *text.escalate)):
            # A single action stands without a list.
            place = (
                (*path, "do", str(k))
                if k < len(text.do)
                else (*path, "escalate", str(k - len(text.do)))
            )
            _check_action(action, known, place, findings)
        if not _is_in_device(path, setup):
            rules.append(_rule(name, text, known))
    check_fights(rules, findings)
    check_rings(rules, findings)
    return rules


def _is_in_device(path: KeyPath, setup: Setup) -> bool:
    """Whether what a message waits for is the device's own matter: it runs the exchange."""
    return path[0] == "exchanges" and setup.exchanges[path[1]].at is None


def _check_contact_count(setup: Setup, datasheet: Datasheet, findings: Findings) -> None:
    family = datasheet.family(CONTACT_NUMBER)
    reached = [name for name, contact in setup.contacts.items() if contact.text_message]
    if family is not None and len(reached) > len(family.indices):
        most = len(family.indices)
        findings.error(
            "too-many-contacts",
            ("contacts", reached[most]),
            f"{datasheet.model} keeps {most} contacts, this setup has {len(reached)}",
            at_key=True,
            valid=f"at most {most} contacts with a number",
        )


def _known(
    setup: Setup,
    datasheet: Datasheet,
    channels: Sequence[CheckedChannel],
    outputs: Sequence[CheckedOutput],
) -> _Known:
    return _Known(
        {c.name: c for c in channels},
        frozenset(name for c in channels for name, _ in c.named_alarms()),
        {o.name: o for o in outputs},
        setup.contacts,
        datasheet,
        setup,
    )


def _rule(name: str, text: RuleEntry, known: _Known) -> Rule:
    units = {c.name: c.unit for c in known.channels.values()}

    def fitted(condition: Condition | None) -> Condition | None:
        if condition is None:
            return None
        try:
            return in_units(condition, units)
        except QuantityError:
            return condition  # has its finding

    trigger = text.when
    if trigger.condition is not None:
        trigger = Trigger(condition=fitted(trigger.condition))
    elif trigger.change is not None and (unit := units.get(trigger.change.channel)) is not None:
        with suppress(QuantityError):  # has its finding
            trigger = Trigger(change=_dead_band(trigger.change, unit))
    escalation = None
    if text.escalate and text.escalate_after is not None:
        escalation = Escalation(text.escalate_after.seconds, text.escalate)
    return Rule(
        name,
        trigger,
        text.do,
        fitted(text.only_if),
        text.again.seconds if text.again else None,
        text.at_most or 0.0,
        text.quiet,
        escalation,
    )


def _check_rule(rule: RuleEntry, known: _Known, path: KeyPath, findings: Findings) -> None:
    condition = rule.when.condition
    if condition is not None:
        _check_names(condition, known, (*path, "when"), findings)
    _check_trigger(rule.when, known, (*path, "when"), findings)
    if rule.only_if is not None:
        _check_names(rule.only_if, known, (*path, "only_if"), findings)
    if rule.again is not None and condition is None:
        message = "'again' repeats while a condition holds; this rule has none in 'when'"
        findings.error("useless-key", (*path, "again"), message, at_key=True, remedy="remove it")
    if rule.again is not None and rule.again.seconds <= 0:
        findings.error("bad-value", (*path, "again"), "again: it would never rest", valid="10 min")
    if bool(rule.escalate) != (rule.escalate_after is not None):
        message = "'escalate' and 'escalate_after' belong together"
        findings.error("missing-key", path, message, at_key=True)
    stated = [s for s in sentences(condition) if isinstance(s, Stated)] if condition else []
    if rule.escalate and not any(s.subject in known.alarms for s in stated):
        findings.error(
            "nothing-to-acknowledge",
            (*path, "escalate"),
            "only an alarm can be acknowledged, and 'when' names none",
            at_key=True,
            valid="when: air_top.too_hot is active",
        )


def _check_trigger(trigger: Trigger, known: _Known, path: KeyPath, findings: Findings) -> None:
    """Whether the exchange that a trigger names is there, and the channel whose changes it follows."""
    what, _, name = trigger.event.partition(" ")
    if what == "key" and not _is_in_device(path, known.setup):
        message = "Leitwerk has no keys; only a device that runs an exchange itself has"
        findings.error("cannot-do", path, message, valid="a condition: door is ajar")
    if what in _EVENTS:
        _check_exchanged(name, (_EVENTS[what],), known, path, findings)
    if trigger.change is not None:
        channel = known.channels.get(trigger.change.channel)
        if channel is None and trigger.change.channel in known.setup.channels:
            return  # it has a finding of its own
        if channel is None or channel.states is not None:
            message = f"there is no channel {trigger.change.channel!r} with a number"
            findings.error("unknown-name", path, message, valid=", ".join(known.channels))
            return
        try:
            _dead_band(trigger.change, channel.unit)
        except QuantityError as error:
            findings.error("wrong-unit", path, error.message, valid=error.valid)


def _dead_band(change: Change, unit: Unit) -> Change:
    """The same with its dead band, which is a difference, in a unit."""
    band = change.band
    value = band.value if band.unit is None else convert_difference(band.value, band.unit, unit)
    return Change(change.channel, Quantity(value, unit))


_EVENTS = {"heard": "keyword", "said": "message"}


def _check_exchanged(
    name: str, kinds: tuple[str, ...], known: _Known, path: KeyPath, findings: Findings
) -> None:
    """Whether an exchange has such a message, or keyword, and Leitwerk is an end of it."""
    lines = lines_of(known.setup)
    if lines.get(name) not in kinds:
        fits = [n for n, kind in lines.items() if kind in kinds]
        message = f"no exchange has a {' or '.join(kinds)} {name[:60]!r}"
        findings.error("unknown-name", path, message, valid=", ".join(fits[:12]) or "none")
        return
    exchange = name.partition(".")[0]
    entry = known.setup.exchanges.get(
        exchange
    )  # None where its name has a point: an error by itself
    if entry is not None and entry.at is None and path[:2] != ("exchanges", exchange):
        message = f"rules of Leitwerk do not reach {exchange}: the device itself is this end"
        remedy = "an exchange with 'at: …' has Leitwerk as its end"
        findings.error("cannot-do", path, message, remedy=remedy)


# ---------------------------------------------------------------------- conditions


def _check_conditions(known: _Known, findings: Findings) -> None:
    """Conditions of alarms and of planned runs."""
    for c in known.channels.values():
        for alarm in c.alarms:
            if alarm.only_while is not None:
                path = ("channels", c.name, "alarms", alarm.name, "only_while")
                _check_names(alarm.only_while, known, path, findings)
    for name, run in known.setup.schedule.items():
        if run.start.when is not None:
            _check_names(run.start.when, known, ("schedule", name, "start"), findings)


def _check_names(condition: Condition, known: _Known, path: KeyPath, findings: Findings) -> None:
    for sentence in sentences(condition):
        if isinstance(sentence, Compared):
            _check_compared(sentence, known, path, findings)
        elif isinstance(sentence, Stated):
            _check_stated(sentence, known, path, findings)


def _check_compared(sentence: Compared, known: _Known, path: KeyPath, findings: Findings) -> None:
    channel = known.channels.get(sentence.channel)
    if channel is None:
        if sentence.channel not in known.setup.channels:
            valid = ", ".join(known.channels)
            message = f"there is no channel {sentence.channel!r}"
            findings.error("unknown-name", path, message, valid=valid)
        return
    if channel.states is not None:
        message = f"{channel.name} has states and no number"
        valid = " or ".join(f"{channel.name} is {state}" for state in channel.states.names)
        findings.error("wrong-state", path, message, valid=valid)
        return
    try:
        limit = sentence.limit.value_in(channel.unit)
    except QuantityError as error:
        findings.error("wrong-unit", path, f"{sentence}: {error.message}", valid=error.valid)
        return
    low, high = channel.span
    if not low <= limit <= high:
        message = f"{sentence} can never be true"
        valid = format_span(low, high, channel.unit)
        findings.warning("never-holds", path, message, valid=f"{channel.name} shows {valid}")


def _check_stated(sentence: Stated, known: _Known, path: KeyPath, findings: Findings) -> None:
    subject = sentence.subject
    if subject in known.alarms:
        states: Sequence[str] = ALARM_STATES
    elif subject in known.outputs and isinstance(known.outputs[subject], RelayOutput):
        states = ("on", "off")
    elif (channel := known.channels.get(subject)) is not None and channel.states is not None:
        states = channel.states.names
    elif subject.partition(".")[0] in known.setup.channels and subject not in known.channels:
        if subject.partition(".")[0] in known.channels:
            message = f"there is no alarm {subject!r}"
            findings.error("unknown-name", path, message, valid=", ".join(sorted(known.alarms)[:8]))
        return
    elif subject in known.channels:
        valid = f"{subject} above …, {subject} below …"
        message = f"{subject} has a number and no states"
        findings.error("wrong-state", path, message, valid=valid)
        return
    else:
        names = [*sorted(known.alarms), *known.outputs]
        message = f"there is no contact, alarm or output {subject!r}"
        findings.error("unknown-name", path, message, valid=", ".join(names[:8]))
        return
    if sentence.state not in states:
        message = f"{subject} is never {sentence.state!r}"
        findings.error("wrong-state", path, message, valid=", ".join(states))


# ---------------------------------------------------------------------- actions


def _check_action(  # noqa: C901 - a line for each kind
    action: Action, known: _Known, path: KeyPath, findings: Findings
) -> None:
    match action:
        case SwitchOutput(output) | Pulse(output):
            _check_switched(output, known, path, findings)
        case Notify(contacts, text):
            _check_text(text, known, path, findings)
            for name in contacts:
                _check_contact(name, text, known, path, findings)
        case WriteLog(text):
            _check_text(text, known, path, findings)
        case ControlRecording():
            _check_recording(known, path, findings)
        case ChangeSetting(setting, value):
            _check_change(setting, value, known, path, findings)
        case HandleAlarm(_, alarm):
            _check_alarm(alarm, known, path, findings)
        case Say(message):
            _check_exchanged(message, ("message",), known, path, findings)
        case SwitchLine(line):
            _check_exchanged(line, ("message", "keyword"), known, path, findings)
        case Snapshot():
            pass  # any label will do
        case never:
            assert_never(never)


def _check_recording(known: _Known, path: KeyPath, findings: Findings) -> None:
    if "start" not in known.datasheet.commands:
        message = f"{known.datasheet.model} has no command to start or stop recording"
        findings.error("cannot-do", path, message, remedy="remove the action")


def _check_alarm(alarm: str, known: _Known, path: KeyPath, findings: Findings) -> None:
    if alarm not in known.alarms:
        valid = ", ".join(sorted(known.alarms)[:8])
        findings.error("unknown-name", path, f"there is no alarm {alarm[:60]!r}", valid=valid)


def _check_switched(output: str, known: _Known, path: KeyPath, findings: Findings) -> None:
    found = known.outputs.get(output)
    if not isinstance(found, RelayOutput):
        switches = [o.name for o in known.outputs.values() if isinstance(o, RelayOutput)]
        message = f"there is no switched output {output[:40]!r}"
        valid = ", ".join(switches) or "none; name it under 'outputs'"
        findings.error("unknown-output", path, message, valid=valid)
    elif found.follows:
        message = f"{output} follows alarms in the device; nothing else switches it"
        findings.error("output-follows", path, message)
    elif not known.datasheet.has(DRIVE_RELAY):
        message = f"the relays of {known.datasheet.model} cannot be driven over its link"
        findings.error("cannot-do", path, message, remedy="remove the action")


def _check_text(text: str, known: _Known, path: KeyPath, findings: Findings) -> None:
    try:
        names = names_in(text)
    except QuantityError as error:
        findings.error("bad-text", path, error.message, valid=error.valid)
        return
    for name in names:
        if name in NAMES or name in known.channels or name in known.outputs:
            continue
        if SECRETS.search(name):
            message = f"{{{name}}} would reveal a secret; a text must not"
            findings.error("secret-in-text", path, message, remedy="remove it")
            continue
        if name in known.setup.channels:
            continue  # it has a finding of its own
        valid = ", ".join([*known.channels, *known.outputs, *NAMES][:24])
        findings.error("unknown-name", path, f"nothing is called {name[:40]!r}", valid=valid)


def _check_contact(name: str, text: str, known: _Known, path: KeyPath, findings: Findings) -> None:
    contact = known.contacts.get(name)
    if contact is None:
        valid = ", ".join(known.contacts) or "none; name them under 'contacts'"
        message = f"there is no contact {name[:40]!r}"
        findings.error("unknown-contact", path, message, valid=valid)
        return
    ways = contact_ways(contact)
    if not ways:
        message = f"{name} cannot be reached in any way"
        valid = "text_message, mail, web or topic"
        findings.error("contact-unreachable", ("contacts", name), message, at_key=True, valid=valid)
    services = known.setup.services
    for way, service in (("text_message", "text_messages"), ("mail", "mail"), ("topic", "broker")):
        if way in ways and (services is None or getattr(services, service) is None):
            message = f"{name} is reached by {way}, and no service {service!r} is named"
            findings.error("no-service", path, message, remedy=f"add '{service}: …' to 'services'")
    if "mail" in ways and services is not None and services.mail and services.mail_from is None:
        message = "mails need a sender"
        findings.error("no-service", path, message, remedy="add 'mail_from: …' to 'services'")
    if "text_message" in ways and (parts := message_parts(text)) > 1:
        report = findings.error if parts > _MOST_PARTS else findings.note
        valid = "160 characters, 70 with others than the usual ones"
        report("long-text", path, f"the text takes {parts} text messages", valid=valid)
    if contact.outside == "yes" and any(f"{{{inner}}}" in text for inner in _INSIDE_ONLY):
        message = f"{name} is outside, and the text reveals which device this is"
        findings.warning("reveals-device", path, message)


def contact_ways(contact: Contact) -> list[str]:
    """In which ways a contact is reached."""
    return [way for way in ("text_message", "mail", "web", "topic") if getattr(contact, way)]


def _check_change(
    setting: str, value: str, known: _Known, path: KeyPath, findings: Findings
) -> None:
    point = known.datasheet.settings.get(setting)
    if point is None or point.read_only:
        message = f"{known.datasheet.model} has no setting {setting[:60]!r} to change"
        findings.error("unknown-setting", path, message)
        return
    try:
        point.storable(point.value_of(value))
    except QuantityError as error:
        findings.error("not-storable", path, f"{setting}: {error.message}", valid=error.valid)
