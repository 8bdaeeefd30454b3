"""What a setup file holds, and how it is read: all findings at once, never just the first."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass
from typing import Any, Literal, Protocol

from pydantic import Field, PrivateAttr

from leitwerk.errors import FileProblem
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.address import LinkAddress
from leitwerk.parsing.local_time import find_zone
from leitwerk.parsing.models import Model, read_named, validate
from leitwerk.parsing.quantities import Quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.parsing.yaml_text import List, Map, comparable, parse_yaml
from leitwerk.setup.alarms import Alarm, Band, Origin
from leitwerk.setup.calibration import Calibration, TareEntry
from leitwerk.setup.contacts import Contact, Services, shared_contacts
from leitwerk.setup.exchanges import ExchangeEntry, read_exchange
from leitwerk.setup.fields import (
    VERSION,
    AddressField,
    CellField,
    DurationField,
    ExpectedField,
    FormulaField,
    InputsField,
    IntervalField,
    Line,
    QuantityField,
    RangeField,
    ScaleField,
    SensorField,
    SerialField,
    SettingField,
    SignalField,
    TerminalField,
    UnitField,
    VersionField,
)
from leitwerk.setup.limits import (
    LimitSet,
    LimitsGroup,
    UsedLimits,
    UsedLimitsField,
    expand_limits,
    settings_from,
    shares_from,
)
from leitwerk.setup.own_sensors import OwnSensor, with_own_sensor
from leitwerk.setup.papers import JudgedShare, Papers
from leitwerk.setup.places import PlaceEntry, RadioEntry
from leitwerk.setup.records import RecordsEntry
from leitwerk.setup.rules import Output, RuleEntry
from leitwerk.setup.sound import Sound
from leitwerk.setup.template import MadeFrom
from leitwerk.setup.timing import Group, Run, StatisticsField, ZoneField
from leitwerk.setup.triggers import Triggers
from leitwerk.setup.wiring import WiringEntry

_NAME_RULE = "letters, digits and _, beginning with a letter, at most 40 characters"
_MAX_NAME = 40


class DeviceSection(Model):
    """Which device the setup is for, and how it is reached."""

    model: Line = Field(description="The device's model, as its datasheet names it")
    at: AddressField
    serial: SerialField


class ChannelPlace(Model):
    """What distinguishes a channel from others that are alike: its label and its terminal."""

    label: Line | None = Field(None, description="What people call it; stored in the device")
    terminal: TerminalField | None = None


class Pulses(Model):
    """How an input counts pulses."""

    gate: DurationField = Field(
        default_factory=lambda: Quantity(1.0, parse_unit("s")),
        description="For how long pulses are counted for one value",
    )
    filter: DurationField = Field(
        default_factory=lambda: Quantity(0.0, parse_unit("s")),
        description="Pulses shorter than this are ignored",
    )
    missing: Literal["at rest", "lost"] = Field("at rest", description="What no pulses mean")
    after: DurationField = Field(
        default_factory=lambda: Quantity(2.0, parse_unit("s")),
        description="After which time without a pulse",
    )


class Channel(ChannelPlace):
    """A named stream of values: terminal + sensor or signal + range + scale + unit."""

    reading: Line | None = Field(
        None, description="Instead of a terminal: a value that the device measures by itself"
    )
    computed: FormulaField | None = Field(
        None, description="Instead of a terminal: how it is computed from other channels"
    )
    inputs: InputsField | None = Field(
        None, description="For a computed channel, which values of its inputs are taken"
    )
    like: Line | None = Field(
        None, description="Another channel, whose entries it has where it has none of its own"
    )
    sensor: SensorField | None = None
    sensor_serial: Line | None = Field(
        None, description="The serial number of a sensor of your own, which has its calibration"
    )
    signal: SignalField | None = None
    range: RangeField | None = None
    shunt: QuantityField | None = Field(
        None, description="For a current loop on a voltage input: the resistor across it"
    )
    leads: QuantityField | None = Field(
        None, description="For a resistance thermometer with two wires: the resistance of each"
    )
    scale: ScaleField | None = None
    unit: UnitField | None = None
    circular: Literal["yes", "no"] | None = Field(
        None,
        description="For an angle: whether it is the same again after a full turn; yes if not given",
    )
    pulses: Pulses | None = Field(None, description="For pulses: how they are counted")
    states: dict[Literal["open", "closed"], Line] | None = Field(
        None, description="For a contact: what its two states are called"
    )
    calibration: Calibration | None = None
    tare: list[TareEntry] = Field(default_factory=list, description="Tares, the one in force last")
    expect: ExpectedField | None = None
    group: Line | None = Field(None, description="The group whose intervals it has")
    time_constant: DurationField | None = Field(
        None, description="How fast the sensor follows: the time to 63 % of a step"
    )
    alarms: dict[str, Alarm] = Field(default_factory=dict, description="Alarms by name")
    limits: UsedLimitsField | None = None
    bands: dict[str, Band] = Field(
        default_factory=dict, description="Named parts of the span, from the lowest up"
    )
    band_hysteresis: QuantityField | None = Field(
        None, description="How far below a border the value must fall to leave the upper band"
    )

    _body: Hashable = PrivateAttr(None)
    _own_sensor: OwnSensor | None = PrivateAttr(None)

    @property
    def own_sensor(self) -> OwnSensor | None:
        """The sensor of one's own that it has entries of."""
        return self._own_sensor

    @property
    def body(self) -> Hashable:
        """Its entries but for label and terminal, to find channels that are alike; None if not known."""
        return self._body


class Setup(Model):
    """One device's setup. Remembers where in its file each key stands."""

    leitwerk: VersionField
    title: Line = Field(description="What this setup is for")
    device: DeviceSection
    sample: IntervalField | None = Field(
        None, description="The time between two samples; not for devices that have no choice"
    )
    store: IntervalField | None = Field(
        None, description="The time between two stored values; that between samples if not given"
    )
    statistics: StatisticsField = Field(
        ("last",), description="What is kept of each storage interval"
    )
    report: IntervalField | None = Field(None, description="The time between two reports")
    zone: ZoneField = Field(default_factory=lambda: find_zone("UTC"), description="The time zone")
    integration: DurationField | None = Field(
        None, description="How long an input is measured; the device's usual time if not given"
    )
    mains: QuantityField = Field(
        default_factory=lambda: Quantity(50.0, parse_unit("Hz")),
        description="The frequency of the mains",
    )
    when_full: Literal["stop", "overwrite"] = Field(
        "stop", description="What becomes of a full memory"
    )
    autonomy: DurationField | None = Field(
        None, description="How long memory and battery have to last"
    )
    groups: dict[str, Group] = Field(
        default_factory=dict, description="Channels with intervals of their own, by group"
    )
    schedule: dict[str, Run] = Field(default_factory=dict, description="Planned runs by name")
    constants: dict[str, QuantityField] = Field(
        default_factory=dict, description="Quantities that formulas name"
    )
    tables: dict[str, dict[Line, CellField]] = Field(
        default_factory=dict,
        description="Tables that formulas name: points of a curve, ratios of a gear",
    )
    records: dict[str, RecordsEntry] = Field(
        default_factory=dict, description="Tables that the device stores, by their names there"
    )
    channels: dict[str, Channel] = Field(
        default_factory=dict, description="Channels by name; those of a wiring need not be typed"
    )
    outputs: dict[str, Output] = Field(default_factory=dict, description="Outputs by name")
    contacts: dict[str, Contact] = Field(default_factory=dict, description="Contacts by name")
    contact_list: Line | None = Field(
        None, description="A file with contacts that several setups share, beside this one"
    )
    services: Services | None = None
    exchanges: dict[str, ExchangeEntry] = Field(
        default_factory=dict, description="Lines of text to and from another end, by name"
    )
    rules: dict[str, RuleEntry] = Field(default_factory=dict, description="Rules by name")
    wiring: WiringEntry | None = Field(None, description="How the net is wired to an analyzer")
    triggers: Triggers | None = Field(None, description="What begins an event of an analyzer")
    sound: Sound | None = Field(None, description="How sound is evaluated")
    places: dict[str, PlaceEntry] = Field(
        default_factory=dict,
        description="Wireless transmitters by the number of their place at the receiver",
    )
    radio: RadioEntry | None = Field(None, description="The radio of a receiver")
    made_from: MadeFrom | None = Field(None, description="The template that it was made from")
    papers: Papers | None = Field(None, description="What reports of its recordings hold")
    secrets: list[Line] = Field(
        default_factory=list,
        description="Secrets by their names in the datasheet; their values are given at the upload",
    )
    settings: dict[str, SettingField] = Field(
        default_factory=dict, description="Further settings, by their names in the datasheet"
    )
    settings_from: UsedLimitsField | None = Field(
        None, description="A set that gives settings, and its parameters"
    )

    _source: SetupSource = PrivateAttr(default_factory=lambda: SetupSource("setup"))

    @property
    def source(self) -> SetupSource:
        """The file this setup was read from."""
        return self._source

    def __eq__(self, other: object) -> bool:
        # Where a setup was read from does not make it another one.
        return isinstance(other, Setup) and self.__dict__ == other.__dict__

    __hash__ = None  # type: ignore[assignment]

    def __repr__(self) -> str:
        return f"<Setup {self}>"

    def __str__(self) -> str:
        count = len(self.channels)
        return (
            f"{self.title}: {count} channel{'s' if count != 1 else ''} on {self.device.model} "
            f"{self.device.serial} at {self.device.at}"
        ) + (f", every {self.sample}" if self.sample else "")


@dataclass(frozen=True, slots=True)
class SetupSource:
    """Where a setup comes from: name of the file, its text's bytes, and the places of its keys."""

    file: str
    content: bytes = b""
    root: Map | None = None

    def __repr__(self) -> str:
        return f"<SetupSource {self.file}: {len(self.content)} bytes>"


_NO_CHANNELS = {"?": Channel(terminal="?")}  # stands for channels that could not be read


class Library(Protocol):
    """Where a setup finds what it names and does not hold itself."""

    def find_limits(self, name: str) -> LimitSet:
        """The limit set of a name; a FileProblem or SetupError when it cannot be used."""

    def find_own_sensor(self, name: str) -> OwnSensor:
        """The sensor of a name; a FileProblem or SetupError when it cannot be used."""

    def find_rows(self, name: str) -> list[dict[str, str]]:
        """The rows of a table beside the setup; a FileProblem when it cannot be used."""

    def find_contacts(self, name: str) -> Mapping[str, Contact]:
        """The contacts of a shared list; a FileProblem or SetupError when it cannot be used."""


def draft_setup(text: str | bytes, *, file: str, library: Library) -> tuple[Setup | None, Findings]:
    """What could be read of a setup, for further checking only, and the findings so far.

    Where the findings hold errors, the draft lacks what was wrong, or has a placeholder for it.

    Parameters
    ----------
    text : str or bytes
        YAML in UTF-8.
    file : str
        The name to use in findings.
    library : Library
        Where limit sets and contact lists are found.

    """
    findings = Findings(file)
    root = parse_yaml(text, findings)
    if root is None:
        return None, findings
    raw: dict[str, Any] = dict(root)
    for key, model in _GROUPS.items():
        if isinstance(entries := root.get(key), Map):
            raw[key] = _named(entries, model, (key,), findings)
    for key, read in _SECTIONS.items():
        if isinstance(entries := root.get(key), Map):
            raw[key] = read(entries, findings)
    if not {"channels", "wiring", "sound", "places", "radio"} & {*root}:
        findings.error("missing-key", (), "the key 'channels' is missing",
                       remedy="add a line 'channels: …'")  # fmt: skip
    if isinstance(channels := root.get("channels"), Map):
        raw["channels"] = _channels(channels, findings, library) or (
            _NO_CHANNELS if channels else {}
        )
    stand_ins = {
        "leitwerk": VERSION,
        "title": "?",
        "channels": _NO_CHANNELS,
    }
    setup = validate(Setup, raw, (), findings, stand_ins)
    if setup is not None:
        if setup.channels == _NO_CHANNELS:
            setup = setup.model_copy(update={"channels": {}})
        setup = _with_shared(setup, findings, library)
        content = text.encode() if isinstance(text, str) else text
        setup._source = SetupSource(file, content, root)  # noqa: SLF001 - set once, here
    return setup, findings


def _with_shared(setup: Setup, findings: Findings, library: Library) -> Setup:
    """The setup with what it takes from other files; what it says itself counts."""
    more: dict[str, Any] = {}
    if setup.settings_from is not None:
        given = settings_from(setup.settings_from, library.find_limits, findings)
        more["settings"] = {**given, **setup.settings}
    if setup.papers is not None and setup.papers.limits is not None:
        raw = shares_from(setup.papers.limits, library.find_limits, setup.wiring, findings)
        shares = {
            name: JudgedShare.model_validate(entry)
            for name, entry in raw.items()
            if name not in setup.papers.shares
        }
        more["papers"] = setup.papers.model_copy(
            update={"shares": {**shares, **setup.papers.shares}}
        )
    if any(entry.file for entry in setup.records.values()):
        more["records"] = {
            name: _with_file(name, entry, findings, library)
            for name, entry in setup.records.items()
        }
    if setup.contact_list is not None:
        shared = shared_contacts(setup.contact_list, library.find_contacts, findings)
        more["contacts"] = {**shared, **setup.contacts}
    return setup.model_copy(update=more) if more else setup


def _with_file(
    name: str, entry: RecordsEntry, findings: Findings, library: Library
) -> RecordsEntry:
    """A table with the rows of its file."""
    if entry.file is None:
        return entry
    path = ("records", name, "file")
    if entry.rows:
        findings.error("set-twice", path, "a table has rows, or a file with them", at_key=True)
        return entry
    try:
        return entry.model_copy(update={"rows": library.find_rows(entry.file)})
    except FileProblem as error:
        findings.error("bad-rows", path, error.message, remedy=error.remedy)
        return entry


# Groups of the file that hold named groups of keys.
_GROUPS: dict[str, type[Model]] = {
    "groups": Group,
    "schedule": Run,
    "outputs": Output,
    "contacts": Contact,
    "rules": RuleEntry,
    "records": RecordsEntry,
}


def _services(raw: Map, findings: Findings) -> Services | None:
    return validate(Services, raw, ("services",), findings)


def _device(raw: Map, findings: Findings) -> DeviceSection | None:
    placeholder = {"model": "?", "at": LinkAddress("modbus+tcp", "?", 0, 1), "serial": "?"}
    return validate(DeviceSection, raw, ("device",), findings, placeholder)


def _named(raw: Map, model: type[Model], path: KeyPath, findings: Findings) -> dict[str, Any]:
    for name in raw:
        _check_name(name, path[-1].removesuffix("s"), (*path, name), findings)
    return read_named(raw, model, path, findings)


def _exchanges(raw: Map, findings: Findings) -> dict[str, ExchangeEntry]:
    found = {}
    for name, content in raw.items():
        path = ("exchanges", name)
        _check_name(name, "exchange", path, findings)
        if not isinstance(content, Map):
            findings.error(
                "bad-value", path, "an exchange is a group of keys", valid="says, understands"
            )
            continue
        for key, group in (("says", "messages"), ("understands", "keywords")):
            way = content.get(key)
            lines = way.get(group) if isinstance(way, Map) else None
            for line in lines if isinstance(lines, Map) else ():
                _check_name(line, group.removesuffix("s"), (*path, key, group, line), findings)
        if (entry := read_exchange(content, path, findings)) is not None:
            found[name] = entry
    return found


# Sections of the file that are read in ways of their own.
def _sound(raw: Map, findings: Findings) -> Sound | None:
    entries = raw.get("evaluations")
    for name in entries if isinstance(entries, Map) else ():
        _check_name(name, "evaluation", ("sound", "evaluations", name), findings)
    return validate(Sound, raw, ("sound",), findings)


_SECTIONS: dict[str, Callable[[Map, Findings], Any]] = {
    "exchanges": _exchanges,
    "services": _services,
    "device": _device,
    "sound": _sound,
}


def _channels(raw: Map, findings: Findings, library: Library) -> dict[str, Channel]:
    channels: dict[str, Channel] = {}
    # Of channels that are alike, as many are in a large setup, the body is read once.
    by_body: dict[Hashable, Channel] = {}
    for name, content in raw.items():
        path = ("channels", name)
        _check_name(name, "channel", path, findings)
        if not isinstance(content, Map):
            findings.error(
                "bad-value",
                path,
                "a channel is a group of keys",
                valid="terminal, sensor or signal, unit, …",
            )
            continue
        entries = _alike(content, raw, path, findings) if "like" in content else content
        entries, own_sensor = (
            with_own_sensor(entries, library, path, findings)
            if "sensor" in entries or "sensor_serial" in entries
            else (entries, None)
        )
        body = tuple([(k, comparable(v)) for k, v in entries.items() if k not in _PLACE])
        if (alike := by_body.get(body)) is not None:
            own = {key: entries[key] for key in _PLACE if key in entries}
            place = validate(ChannelPlace, own, path, findings)
            channels[name] = alike.model_copy(
                update=vars(place) if place else dict.fromkeys(_PLACE)
            )
            continue
        before = len(findings)
        channel = _channel(entries, path, findings, library)
        if channel is not None:
            channel._own_sensor = own_sensor  # noqa: SLF001 - set once, here
            channels[name] = channel
            if len(findings) == before:  # a finding belongs to its place
                channel._body = body  # noqa: SLF001 - set once, here
                by_body[body] = channel
    return channels


_PLACE = tuple(ChannelPlace.model_fields)
# What a channel does not take from one that it is like: its place, and what is known of it alone.
_OWN = {*_PLACE, "reading", "computed", "expect", "calibration", "tare", "like", "sensor_serial"}


def _alike(content: Map, channels: Map, path: KeyPath, findings: Findings) -> Map:
    """The entries of a channel with those of the one that it is like."""
    name = content["like"]
    other = channels.get(name) if isinstance(name, str) else None
    if not isinstance(other, Map) or "like" in other:
        known = [
            n for n, entry in channels.items() if isinstance(entry, Map) and "like" not in entry
        ]
        near = difflib.get_close_matches(str(name)[:60], known, n=1)
        findings.error(
            "unknown-channel", (*path, "like"),
            f"there is no channel {str(name)[:40]!r} to be like", valid=", ".join(known[:12]),
            remedy=f"did you mean {near[0]!r}?" if near else "a channel that is not like another itself",
        )  # fmt: skip
        return content
    return content.over({key: value for key, value in other.items() if key not in _OWN})


def _channel(content: Map, path: KeyPath, findings: Findings, library: Library) -> Channel | None:
    entries: dict[str, Any] = dict(content)
    if "limits" in entries or isinstance(content.get("alarms"), Map):
        entries |= _alarms(content, path, findings, library)
    if isinstance(bands := content.get("bands"), Map):
        entries["bands"] = _bands(bands, path, findings)
    if isinstance(calibration := content.get("calibration"), Map):
        place = (*path, "calibration")
        entries["calibration"] = validate(Calibration, calibration, place, findings)
    if isinstance(pulses := content.get("pulses"), Map):
        entries["pulses"] = validate(Pulses, pulses, (*path, "pulses"), findings)
    if isinstance(tares := content.get("tare"), List):
        entries["tare"] = _tares(tares, (*path, "tare"), findings)
    return validate(Channel, entries, path, findings)


def _alarms(channel: Map, path: KeyPath, findings: Findings, library: Library) -> dict[str, Any]:
    """The alarms of a channel: those of its limit set, and its own, which may change single keys."""
    entries: dict[str, Any] = {}
    from_set: dict[str, dict[str, Any]] = {}
    used: UsedLimits | None = None
    if "limits" in channel:
        group = validate(LimitsGroup, {"limits": channel["limits"]}, path, findings)
        used = entries["limits"] = group.limits if group else None
        if used is not None:
            from_set = expand_limits(used, library.find_limits, path, findings)
    own: Map | dict[str, Any] = {}
    if isinstance(written := channel.get("alarms"), Map):
        own = written
    alarms = {}
    for name in [*from_set, *(n for n in own if n not in from_set)]:
        place = (*path, "alarms", name)
        content: Any = own.get(name, {})
        if name in own:
            _check_name(name, "alarm", place, findings)
        if not isinstance(content, dict):
            valid = "{above: 78, clear: 75}"
            findings.error("bad-value", place, "an alarm is a group of keys", valid=valid)
            continue
        alarm = validate(Alarm, {**from_set.get(name, {}), **content}, place, findings)
        if alarm is not None:
            if name in from_set and used is not None:
                alarm._origin = Origin(used.set, tuple(content))  # noqa: SLF001 - set once, here
            alarms[name] = alarm
    if "alarms" in channel and not isinstance(channel["alarms"], Map):
        return entries  # it is not a group of keys; the finding belongs to the channel
    return {**entries, "alarms": alarms}


def _bands(raw: Map, path: KeyPath, findings: Findings) -> dict[str, Band]:
    bands = {}
    for name, content in raw.items():
        place = (*path, "bands", name)
        _check_name(name, "band", place, findings)
        if not isinstance(content, Map):
            valid = "{to: 8 %, color: amber}"
            findings.error("bad-value", place, "a band is a group of keys", valid=valid)
        elif (band := validate(Band, content, place, findings)) is not None:
            bands[name] = band
    return bands


def _tares(raw: List, path: KeyPath, findings: Findings) -> list[TareEntry]:
    tares = []
    for number, content in enumerate(raw):
        place = (*path, str(number))
        if not isinstance(content, Map):
            valid = "{offset: 12.1 kg, taken: 2026-03-02T09:30Z}"
            findings.error("bad-value", place, "a tare is a group of keys", valid=valid)
        elif (tare := validate(TareEntry, content, place, findings)) is not None:
            tares.append(tare)
    return tares


def _check_name(name: str, what: str, path: KeyPath, findings: Findings) -> None:
    if not (name.isidentifier() and not name.startswith("_") and len(name) <= _MAX_NAME):
        article = "an" if what[0] in "aeio" else "a"
        message = f"{name[:_MAX_NAME]!r} is not a name for {article} {what}"
        findings.error("bad-name", path, message, at_key=True, valid=_NAME_RULE)


def setup_schema() -> Mapping[str, Any]:
    """The JSON Schema (2020-12) of the setup file, for editors."""
    schema = Setup.model_json_schema()
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **schema,
        "title": "Leitwerk setup",
    }
