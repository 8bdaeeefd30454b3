"""Limit sets: named collections of alarms with parameters, in files of their own.

A set by number of cells, by nominal voltage, by the product that is stored: its alarms hold formulas
of its parameters. A setup names the set and its parameters; the resulting alarms are shown by a command.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Annotated, Any, Literal, TypeAlias

from pydantic import Field, WithJsonSchema

from leitwerk.errors import FileProblem, QuantityError, SetupError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.models import Model, reader, validate
from leitwerk.parsing.quantities import Quantity, format_number, parse_quantity
from leitwerk.parsing.units import Unit
from leitwerk.parsing.yaml_text import Map, parse_yaml
from leitwerk.setup.alarms import Alarm
from leitwerk.setup.fields import FormatVersion, Line, RangeField, UnitField
from leitwerk.setup.wiring import WiringEntry

_FORMULAS = ("above", "below", "clear", "hysteresis", "by", "rises", "falls", "changes")
_SPANS = ("inside", "outside")
_NUMBER_NAME = re.compile(r"[a-z]\w{0,39}")
FindLimits: TypeAlias = Callable[[str], "LimitSet"]


class Parameter(Model):
    """A parameter of a set: a number within ``span``, or one of ``choices``.

    Each choice brings numbers under names that the formulas use.
    """

    span: RangeField | None = None
    choices: dict[str, dict[str, Line]] = Field(default_factory=dict)
    summary: Line | None = None


class SettingRule(Model):
    """A setting of a device: a formula of the parameters, or a word that one of them brings."""

    value: Line | None = None
    unit: UnitField | None = Field(None, description="If not given, that of the set")
    word: Line | None = None


class ShareRule(Model):
    """Limits that hold in a share of all intervals, as ``papers: shares`` of a setup has them."""

    channels: list[Line] = Field(
        description="Channels by their standard names; 'voltages' are those of the wiring, "
        "'distortions' their THD"
    )
    within: Line = Field(description="The limits, formulas of the parameters: 0.9 * nominal..253")
    unit: UnitField | None = Field(None, description="If not given, that of the set")
    each: Line
    value: Literal["mean", "root mean square"] = "mean"
    at_least: Line


class LimitFile(Model):
    """The whole file."""

    limits: FormatVersion
    name: Line
    summary: Line
    source: Line = Field(description="Where the numbers come from: standard and clause, or maker")
    unit: UnitField
    parameters: dict[str, Parameter] = Field(default_factory=dict)
    alarms: dict[str, dict[str, Any]] = Field(
        default_factory=dict, description="Alarms, with formulas for their points"
    )
    settings: dict[str, SettingRule] = Field(
        default_factory=dict, description="Settings of a device by their names, with formulas"
    )
    shares: dict[str, ShareRule] = Field(
        default_factory=dict, description="Limits that hold in a share of all intervals"
    )
    settings_order: list[Line] = Field(
        default_factory=list, description="Settings whose values must rise in this order"
    )
    order: list[Line] = Field(
        default_factory=list, description="Alarms whose trip points must rise in this order"
    )


@dataclass(frozen=True, slots=True)
class UsedLimits:
    """A channel's use of a limit set, by its name, with the parameters of the set."""

    set: str
    parameters: Mapping[str, str]


def _used(value: object) -> UsedLimits:
    valid = "{set: battery, cells: 6, chemistry: lead}"
    if not isinstance(value, Mapping) or not all(isinstance(v, str) for v in value.values()):
        raise QuantityError("a limit set is used by a group of keys", valid=valid)
    parameters = dict(value)
    if "set" not in parameters:
        raise QuantityError("it is not said which limit set is meant", valid=valid)
    return UsedLimits(parameters.pop("set"), parameters)


UsedLimitsField = Annotated[
    UsedLimits,
    reader(UsedLimits, _used),
    WithJsonSchema(
        {
            "type": "object",
            "description": "The limit set to take alarms from, and its parameters",
            "properties": {"set": {"type": "string"}},
            "required": ["set"],
            "additionalProperties": {"type": ["string", "number"]},
        }
    ),
]


class LimitsGroup(Model):
    """The key of a channel that names a limit set."""

    limits: UsedLimitsField


@dataclass(frozen=True)
class LimitSet:
    """A limit set that has been read."""

    name: str
    summary: str
    source: str
    unit: Unit
    parameters: Mapping[str, Parameter]
    alarms: Mapping[str, Mapping[str, Any]]
    order: tuple[str, ...] = field(default=())
    settings: Mapping[str, SettingRule] = field(default_factory=dict)
    settings_order: tuple[str, ...] = field(default=())
    shares: Mapping[str, ShareRule] = field(default_factory=dict)

    def terms(self, given: Mapping[str, str]) -> tuple[dict[str, float], dict[str, str]]:
        """What parameters stand for, by the names that formulas use: numbers, and words.

        Raises
        ------
        QuantityError
            A parameter is missing, unknown, or outside what it may be.

        """
        unknown = [name for name in given if name not in self.parameters]
        if unknown:
            valid = ", ".join(self.parameters) or "none"
            raise QuantityError(f"{self.name} has no parameter {unknown[0][:40]!r}", valid=valid)
        numbers: dict[str, float] = {}
        words: dict[str, str] = {}
        for name, parameter in self.parameters.items():
            if name not in given:
                raise QuantityError(
                    f"{self.name} needs the parameter {name!r}",
                    valid=_valid(parameter),
                    remedy=f"add '{name}: …'",
                )
            _tell(name, given[name], parameter, numbers, words)
        return numbers, words

    def settings_for(self, given: Mapping[str, str]) -> dict[str, str]:
        """The settings as a setup would hold them.

        Raises
        ------
        QuantityError
            A parameter or a formula cannot be used, or the values are not in their order.

        """
        numbers, words = self.terms(given)
        texts = {}
        for name, rule in self.settings.items():
            if rule.word is not None:
                texts[name] = words.get(rule.word, rule.word)
                continue
            unit = rule.unit or self.unit
            texts[name] = self._worked_out(str(rule.value), numbers, unit).strip()
        self._check_order([(n, parse_quantity(texts[n]).value) for n in self.settings_order])
        return texts

    def shares_for(
        self, given: Mapping[str, str], voltages: Sequence[str]
    ) -> dict[str, dict[str, Any]]:
        """The shares as a setup would hold them.

        Parameters
        ----------
        given : mapping of str to str
            The parameters.
        voltages : sequence of str
            The channels with the voltages that the wiring measures.

        Raises
        ------
        QuantityError
            A parameter or a formula cannot be used.

        """
        numbers, _ = self.terms(given)
        groups = {"voltages": [*voltages], "distortions": [f"thd_{name}" for name in voltages]}
        return {
            name: {
                "channels": [one for text in rule.channels for one in groups.get(text, [text])],
                "within": self._worked_out(rule.within, numbers, rule.unit or self.unit),
                "each": rule.each,
                "value": rule.value,
                "at_least": rule.at_least,
            }
            for name, rule in self.shares.items()
        }

    def expand(self, given: Mapping[str, str]) -> dict[str, dict[str, Any]]:
        """The alarms with their formulas worked out, as a setup would hold them.

        Raises
        ------
        QuantityError
            A parameter or a formula cannot be used, or the trip points are not in their order.

        """
        numbers, _ = self.terms(given)
        alarms = {}
        for name, alarm in self.alarms.items():
            lines = dict(alarm)
            for key in (*_FORMULAS, *_SPANS):
                if key in lines:
                    lines[key] = self._worked_out(str(lines[key]), numbers, self.unit)
            alarms[name] = lines
        self._check_order([(name, _trip(alarms[name])) for name in self.order])
        return alarms

    def _check_order(self, values: Sequence[tuple[str, float]]) -> None:
        for (lower, low), (upper, high) in pairwise(values):
            if not low < high:
                raise QuantityError(
                    f"{self.name}: {lower} at {format_number(low)} must lie below {upper} at "
                    f"{format_number(high)} {self.unit}",
                    valid=f"values that rise: {', '.join(name for name, _ in values)}",
                )

    def _worked_out(self, text: str, numbers: Mapping[str, float], unit: Unit) -> str:
        from leitwerk.derived.formula import work_out  # noqa: PLC0415 - only where a set is used

        ends = (format_number(work_out(end, numbers), 9) for end in text.split(".."))
        return f"{'..'.join(ends)} {unit}"


def _tell(
    name: str, text: str, parameter: Parameter, numbers: dict[str, float], words: dict[str, str]
) -> None:
    """Enter the value of a parameter."""
    if parameter.choices:
        if text not in parameter.choices:
            raise QuantityError(
                f"{name}: {text[:40]!r} is not one of the choices", valid=_valid(parameter)
            )
        for key, content in parameter.choices[text].items():
            if content[:1].isalpha():
                words[key] = content
            else:
                numbers[key] = parse_quantity(content).value
        return
    quantity = parse_quantity(text)
    value = quantity.value
    if parameter.span is not None:
        unit = parameter.span.unit
        if unit is not None:
            value = quantity.value_in(unit)
        elif quantity.unit is not None:
            raise QuantityError(f"{name}: {text} has a unit", valid=_valid(parameter))
        low, high = parameter.span.low, parameter.span.high
        if not low <= value <= high:
            raise QuantityError(f"{name}: {text} is outside", valid=_valid(parameter))
    numbers[name] = value


def _valid(parameter: Parameter) -> str:
    return ", ".join(parameter.choices) if parameter.choices else str(parameter.span or "a number")


def _trip(alarm: Mapping[str, Any]) -> float:
    return parse_quantity(str(alarm.get("above", alarm.get("below")))).value


def parse_limits(text: str | bytes, *, file: str = "limits") -> LimitSet:
    """The limit set that a text holds.

    Raises
    ------
    SetupError
        The text holds none; ``findings`` says what is wrong and where.

    """
    findings = Findings(file)
    root = parse_yaml(text, findings)
    found = None if root is None else _read(root, findings)
    if found is None or findings.has_errors:
        raise SetupError(file, findings.sorted())
    return found


def _read(root: Map, findings: Findings) -> LimitSet | None:
    raw: dict[str, Any] = dict(root)
    parameters = root.get("parameters")
    if isinstance(parameters, Map):
        raw["parameters"] = {
            name: validate(Parameter, entry, ("parameters", name), findings) or Parameter()
            for name, entry in parameters.items()
            if isinstance(entry, Map)
        }
    file = validate(LimitFile, raw, (), findings)
    if file is None or findings.has_errors:
        return None
    for name, alarm in file.alarms.items():
        for key in alarm:
            if key not in Alarm.model_fields:
                valid = ", ".join(Alarm.model_fields)
                message = f"{key[:40]!r} is not a key of an alarm"
                findings.error("unknown-key", ("alarms", name, key), message, valid=valid)
    for k, name in enumerate(file.order):
        if not {"above", "below"} & set(file.alarms.get(name, {})):
            message = f"{name!r} is not an alarm here with a trip point above or below"
            findings.error("unknown-alarm", ("order", str(k)), message)
    _check_settings(file, findings)
    if findings.has_errors:
        return None
    found = LimitSet(
        file.name,
        file.summary,
        file.source,
        file.unit,
        file.parameters,
        file.alarms,
        tuple(file.order),
        file.settings,
        tuple(file.settings_order),
        file.shares,
    )
    if not findings.has_errors:
        _try_out(found, findings)
    return found


def _check_settings(file: LimitFile, findings: Findings) -> None:
    for name, rule in file.settings.items():
        if (rule.value is None) == (rule.word is None):
            message = "a setting has a value, or a word"
            findings.error("bad-limits", ("settings", name), message, valid="{value: low * cells}")
    for k, name in enumerate(file.settings_order):
        if name not in file.settings or file.settings[name].value is None:
            message = f"{name!r} is not a setting here with a value"
            findings.error("bad-limits", ("settings_order", str(k)), message)


def _try_out(limits: LimitSet, findings: Findings) -> None:
    """A set is wrong when it cannot be used with any of its own parameters."""
    given: dict[str, Iterable[str]] = {}
    for name, parameter in limits.parameters.items():
        if parameter.choices:
            given[name] = tuple(parameter.choices)
        elif parameter.span is not None:
            ends = (parameter.span.low, parameter.span.high)
            given[name] = tuple(str(Quantity(end, parameter.span.unit)) for end in ends)
        else:
            message = "a parameter has a span or choices"
            findings.error("missing-key", ("parameters", name), message, valid="{span: 1..24}")
            return
    tries: list[dict[str, str]] = [{}]
    for name, texts in given.items():
        tries = [{**one, name: text} for one in tries for text in texts][:256]
    for one in tries:
        try:
            limits.expand(one)
            limits.settings_for(one)
            limits.shares_for(one, ["u1"])
        except QuantityError as error:
            with_these = ", ".join(f"{name}: {text}" for name, text in one.items())
            message = f"{error.message} (with {with_these})" if one else error.message
            findings.error("bad-limits", ("alarms",), message, valid=error.valid)
            return


@contextmanager
def _findings_at(place: KeyPath, findings: Findings) -> Iterator[None]:
    """What is wrong with the use of a set inside the ``with`` block is a finding at ``place``."""
    try:
        yield
    except QuantityError as error:
        findings.error("bad-limits", place, error.message, valid=error.valid, remedy=error.remedy)
    except FileProblem as error:
        findings.error("unknown-limits", (*place, "set"), error.message, remedy=error.remedy)
    except SetupError as error:
        findings.error("bad-limits", (*place, "set"), f"the limit set has mistakes: {error}")


def expand_limits(
    used: UsedLimits, find: FindLimits, path: KeyPath, findings: Findings
) -> dict[str, dict[str, Any]]:
    """The alarms that a channel gets from a limit set, as a file would hold them."""
    with _findings_at((*path, "limits"), findings):
        return find(used.set).expand(used.parameters)
    return {}


def settings_from(used: UsedLimits, find: FindLimits, findings: Findings) -> dict[str, str]:
    """The settings that a setup gets from a set, as a file would hold them."""
    path = ("settings_from",)
    with _findings_at(path, findings):
        found = find(used.set)
        if found.settings:
            return found.settings_for(used.parameters)
        message = f"{used.set} has alarms only, and no settings"
        findings.error("bad-limits", (*path, "set"), message, valid="a set with settings")
    return {}


def shares_from(
    used: UsedLimits, find: FindLimits, wiring: WiringEntry | None, findings: Findings
) -> dict[str, dict[str, Any]]:
    """The shares that a setup gets from a set, as a file would hold them.

    The nominal voltage and the voltages are those of the wiring, where the setup has one.
    """
    path = ("papers", "limits")
    given, voltages = dict(used.parameters), ["u1", "u2", "u3"]
    with _findings_at(path, findings):
        found = find(used.set)
        if wiring is not None:
            voltages = list(wiring.voltage_names)
            if "nominal" in found.parameters:
                given.setdefault("nominal", str(wiring.nominal))
        if found.shares:
            return found.shares_for(given, voltages)
        message = f"{used.set} has no shares of intervals"
        valid = "a set with shares, such as supply-voltage"
        findings.error("bad-limits", (*path, "set"), message, valid=valid)
    return {}


def limits_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of limit sets, for editors."""
    schema = LimitFile.model_json_schema()
    # The points of an alarm are formulas here: texts or numbers.
    keys = Alarm.model_json_schema()["properties"]
    alarm = {
        "type": "object",
        "properties": {key: _described(entry) for key, entry in keys.items()},
    }
    schema["properties"]["alarms"]["additionalProperties"] = {
        **alarm,
        "additionalProperties": False,
    }
    schema["$defs"]["Parameter"]["properties"]["choices"]["additionalProperties"] = {
        "type": "object",
        "additionalProperties": {"type": ["string", "number"]},
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **schema,
        "title": "Leitwerk limit set",
    }


def _described(entry: dict[str, Any]) -> dict[str, Any]:
    return {key: entry[key] for key in ("description", "examples") if key in entry}
