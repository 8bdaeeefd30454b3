"""Contacts, outputs, services and rules as a setup file holds them."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, WithJsonSchema

from leitwerk.alarms.conditions import TimeOfDay, parse_condition
from leitwerk.alarms.states import OperatorAction
from leitwerk.errors import QuantityError
from leitwerk.parsing.durations import DAY_S, parse_duration, parse_time_of_day
from leitwerk.parsing.models import Model, OnOff, reader, text_of
from leitwerk.parsing.quantities import Quantity, parse_quantity
from leitwerk.rules.definition import (
    EVENTS,
    Action,
    Change,
    ChangeSetting,
    ControlRecording,
    HandleAlarm,
    Notify,
    Pulse,
    Say,
    Snapshot,
    SwitchLine,
    SwitchOutput,
    Trigger,
    WriteLog,
)
from leitwerk.setup.alarms import ConditionField
from leitwerk.setup.fields import (
    DurationField,
    Line,
    QuantityField,
    RangeField,
    TerminalField,
    text_schema,
)

MAX_RULES = 20_000
_EVERY = re.compile(r"every +(\S.*)")
_DAILY = re.compile(r"daily at +(\d\d:\d\d)")
_MESSAGE = re.compile(r"message +(\w{1,40})")
_EVENT = re.compile(r"device +(\w+)")
_NAMED_EVENT = re.compile(r"(heard|said) +(\w{1,40}\.\w{1,40})|key +(\w{1,20})")
_CHANGE = re.compile(r"(\w{1,40}) +changes +by +(\S.*)")
_PAUSE = re.compile(r"once in +(\S.*)")
_TRIGGERS = (
    "a condition (air_top.too_hot is active), every 10 min, daily at 06:00, message STATUS, "
    f"device {', device '.join(EVENTS)}, heard office.set_point, said office.temperatures, key 1, "
    "air_top changes by 0.5 °C"
)


class Output(Model):
    """A signal that the device drives: switched, or analog when it ``shows`` a channel."""

    terminal: TerminalField
    label: Line | None = None
    # Switched
    normal: OnOff = Field("off", description="How it is without a request")
    safe: OnOff = Field("off", description="How it is left at the end, or when the link is lost")
    follows: list[Line] = Field(
        default_factory=list, description="Alarms that switch it on while one of them is active"
    )
    least_on: DurationField | None = Field(None, description="Once on, it stays on for this time")
    least_off: DurationField | None = Field(
        None, description="Once off, it stays off for this time"
    )
    limit: DurationField | None = Field(
        None, description="Goes to its safe state after this time without a new request"
    )
    # Analog
    shows: Line | None = Field(None, description="The channel whose value it carries")
    span: RangeField | None = Field(None, description="The values at both ends of the signal")
    signal: RangeField | None = Field(None, description="The signal: 4..20 mA, 0..10 V")
    bad: QuantityField | Literal["hold"] | None = Field(
        None, description="The signal for a value that is bad, or 'hold'"
    )
    load: QuantityField | None = Field(None, description="The resistance in the loop")
    supply: QuantityField | None = Field(None, description="The voltage that drives the loop")


class RuleEntry(Model):
    """When this happens, and all of these hold, do these in order."""

    when: TriggerField
    only_if: ConditionField | None = None
    do: ActionsField
    again: DurationField | None = Field(
        None, description="Repeats it after this time while the condition lasts"
    )
    at_most: PauseField | None = None
    quiet: QuietField | None = None
    escalate_after: DurationField | None = Field(
        None, description="If not acknowledged within this time, do 'escalate'"
    )
    escalate: ActionsField = ()


# ---------------------------------------------------------------------- triggers and actions


def _trigger(value: object) -> Trigger:
    if isinstance(value, str):
        text = value.strip()
        if match := _EVERY.fullmatch(text):
            return Trigger(every_s=_duration(match[1]))
        if match := _DAILY.fullmatch(text):
            return Trigger(daily_s=parse_time_of_day(match[1]) % DAY_S)
        if match := _MESSAGE.fullmatch(text):
            return Trigger(message=match[1].upper())
        if (match := _EVENT.fullmatch(text)) and match[1] in EVENTS:
            return Trigger(event=f"device {match[1]}")
        if match := _NAMED_EVENT.fullmatch(text):
            return Trigger(event=" ".join(text.split()))
        if match := _CHANGE.fullmatch(text):
            return Trigger(change=Change(match[1], _dead_band(match[2])))
    try:
        return Trigger(condition=parse_condition(value))
    except QuantityError as error:
        raise QuantityError(error.message, valid=_TRIGGERS) from None


def _triggers(value: object) -> tuple[Trigger, ...]:
    entries = value if isinstance(value, list) else [value]
    return tuple(_trigger(entry) for entry in entries)


def _dead_band(text: str) -> Quantity:
    band = parse_quantity(text)
    if band.value <= 0:
        raise QuantityError(f"{text[:40]!r} is no dead band", valid="more than 0: 0.5 °C")
    return band


def _duration(text: str) -> float:
    seconds = parse_duration(text).seconds
    if seconds == 0:
        raise QuantityError(
            f"{text!r} is not a length of time", valid="more than 0 s, such as 10 min"
        )
    return seconds


def _set(entry: Mapping[str, Any]) -> Action:
    state = str(entry.get("to", ""))
    if state not in {"on", "off"}:
        raise QuantityError(f"an output is set 'to' on or off, not {state[:20]!r}", valid="to: on")
    return SwitchOutput(str(entry["set"]), state)


def _permit(entry: Mapping[str, Any]) -> Action:
    state = str(entry.get("to", ""))
    if state not in {"on", "off"}:
        message = f"a line is switched 'to' on or off, not {state[:20]!r}"
        raise QuantityError(message, valid="{exchange: office.set_point, to: off}")
    return SwitchLine(str(entry["exchange"]), on=state == "on")


def _notify(entry: Mapping[str, Any]) -> Action:
    to = entry["notify"]
    names = [str(name) for name in to] if isinstance(to, list) else [str(to)]
    return Notify(tuple(names), _text(entry, "text"))


def _text(entry: Mapping[str, Any], key: str) -> str:
    text = entry.get(key)
    if not isinstance(text, str) or not text.strip():
        raise QuantityError(f"the key {key!r} is missing", valid=f"{key}: a text")
    if len(text) > 2000:
        raise QuantityError("the text is too long", valid="at most 2000 characters")
    return text


def _recording(entry: Mapping[str, Any]) -> Action:
    if entry["recording"] not in {"start", "stop"}:
        raise QuantityError(f"{entry['recording']!r:.40} is nothing to do", valid="start, stop")
    return ControlRecording(entry["recording"] == "start")


def _handle(action: OperatorAction) -> Callable[[Mapping[str, Any]], Action]:
    def make(entry: Mapping[str, Any]) -> Action:
        lasts = _duration(_text(entry, "for")) if action is OperatorAction.SHELVE else 0.0
        return HandleAlarm(action, str(entry[action.value]), lasts)

    return make


# Each kind of action by the key that names it, with the other keys that it takes.
_ACTIONS: dict[str, tuple[tuple[str, ...], Callable[[Mapping[str, Any]], Action]]] = {
    "set": (("to",), _set),
    "pulse": (("for",), lambda e: Pulse(str(e["pulse"]), _duration(_text(e, "for")))),
    "notify": (("text",), _notify),
    "recording": ((), _recording),
    "snapshot": ((), lambda e: Snapshot(_text(e, "snapshot"))),
    "change": (("to",), lambda e: ChangeSetting(str(e["change"]), _text(e, "to"))),
    "log": ((), lambda e: WriteLog(_text(e, "log"))),
    "say": ((), lambda e: Say(_text(e, "say"))),
    "exchange": (("to",), _permit),
    "acknowledge": ((), _handle(OperatorAction.ACKNOWLEDGE)),
    "reset": ((), _handle(OperatorAction.RESET)),
    "shelve": (("for",), _handle(OperatorAction.SHELVE)),
}
_ACTION_EXAMPLES = "{set: fan, to: on}, {notify: foreman, text: Too hot}, {pulse: horn, for: 2 s}"


def _action(entry: object) -> Action:
    if not isinstance(entry, Mapping):
        raise QuantityError("an action is a group of keys", valid=_ACTION_EXAMPLES)
    kinds = [key for key in entry if key in _ACTIONS]
    if len(kinds) != 1:
        raise QuantityError(
            f"an action does one thing, this {', '.join(kinds) or 'nothing'}",
            valid=f"one of {', '.join(_ACTIONS)}; such as {_ACTION_EXAMPLES}",
        )
    more, make = _ACTIONS[kinds[0]]
    unknown = [key for key in entry if key != kinds[0] and key not in more]
    if unknown:
        message = f"{kinds[0]!r} takes no key {unknown[0][:40]!r}"
        raise QuantityError(message, valid=", ".join(more) or "no further key")
    if kinds[0] != "notify" and not isinstance(entry[kinds[0]], str):
        raise QuantityError(f"{kinds[0]!r} names one thing", valid=_ACTION_EXAMPLES)
    return make(entry)


def _actions(value: object) -> tuple[Action, ...]:
    entries = value if isinstance(value, list) else [value]
    if not entries:
        raise QuantityError("it does nothing", valid=_ACTION_EXAMPLES)
    return tuple(_action(entry) for entry in entries)


def _quiet(value: object) -> TimeOfDay:
    text = text_of(value, "22:00..06:00").strip()
    found = parse_condition(f"time {text}")
    if not isinstance(found, TimeOfDay):
        raise QuantityError(f"{text[:40]!r} are not hours", valid="22:00..06:00")
    return found


def _pause(value: object) -> float:
    match = _PAUSE.fullmatch(text_of(value, "once in 1 h").strip())
    if match is None:
        raise QuantityError(f"{value!r:.60} says not how often", valid="once in 1 h")
    return _duration(match[1])


TriggerField = Annotated[
    Trigger,
    reader(Trigger, _trigger),
    WithJsonSchema(
        {
            "description": f"When the rule acts: {_TRIGGERS}",
            "anyOf": [{"type": "string"}, {"type": "array"}, {"type": "object"}],
        }
    ),
]
TriggersField = Annotated[
    tuple[Trigger, ...],
    reader(tuple, _triggers),
    WithJsonSchema(
        {
            "description": f"When a message is said, one or several of: {_TRIGGERS}",
            "anyOf": [{"type": "string"}, {"type": "array"}, {"type": "object"}],
        }
    ),
]
ActionsField = Annotated[
    tuple[Action, ...],
    reader(tuple, _actions),
    WithJsonSchema(
        {
            "description": f"What to do, in order: {_ACTION_EXAMPLES}",
            "anyOf": [{"type": "object"}, {"type": "array", "items": {"type": "object"}}],
        }
    ),
]
QuietField = Annotated[
    TimeOfDay,
    reader(TimeOfDay, _quiet),
    text_schema("Hours without notifications", "22:00..06:00"),
]
PauseField = Annotated[
    float, reader(float, _pause), text_schema("How often it may act at most", "once in 1 h")
]
RuleEntry.model_rebuild()


# ---------------------------------------------------------------------- files of their own
