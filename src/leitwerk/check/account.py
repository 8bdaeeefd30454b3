"""The account of a setup: where each entry of it ends.

Every entry of a setup file ends in exactly one of four ways. It is stored in the device, and read back
after an upload; or Leitwerk works it, and the account says when; or it is for people only; or it is
refused, which is an error. There is not any other way.
"""

from __future__ import annotations

import enum
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from leitwerk.check.channels import (
    CheckedChannel,
    DerivedChannel,
    ReadingChannel,
    SignalChannel,
    measured,
)
from leitwerk.check.host_work import host_alarms
from leitwerk.check.outputs import AnalogOutput, CheckedOutput, RelayOutput
from leitwerk.check.settings import Wanted, can_clear
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.settings import show_spans
from leitwerk.datasheet.vocabulary import (
    ALARM_SEVERITY,
    BAND_END,
    CAMPAIGN_STORES,
    CHANNEL_LABEL,
    CHANNEL_RANGE,
    CHANNEL_SENSOR,
    CHANNEL_UNIT,
    CONTACT_NUMBER,
    INPUT_ALARM_HIGH,
    INPUT_ALARM_LOW,
    PULSE_GATE,
    RELAY_ALARMS,
    RELAY_LEAST_OFF,
    RELAY_LEAST_ON,
    RELAY_LIMIT,
    RELAY_NORMAL,
    RELAY_SAFE,
    REPORT_INTERVAL,
    SAMPLE_INTEGRATION,
    SAMPLE_INTERVAL,
    SIGNAL_LOW,
    STORAGE_INTERVAL,
    STORAGE_STATISTICS,
    TITLE,
    VALUE_LOW,
    VOCABULARY,
    WHEN_FULL,
    KnownPoint,
)
from leitwerk.findings import Finding, KeyPath
from leitwerk.parsing.yaml_text import collector_paused
from leitwerk.setup.model import Setup


class Fate(enum.StrEnum):
    """How an entry ends."""

    STORED = "stored in the device"
    LEITWERK = "worked by Leitwerk"
    PEOPLE = "for people only"
    REFUSED = "refused"


class When(enum.StrEnum):
    """When Leitwerk works an entry."""

    CONNECTED = "before each act on the device"
    CHECKED = "when the setup is checked"
    REPORTED = "in reports of its recordings"
    READ = "whenever values are read"
    WIRED = "by 'leitwerk wiring'"
    HEARD = "by 'leitwerk levels'"
    SAMPLED = "by 'leitwerk waveforms'"
    CONDENSED = "by 'leitwerk condense', from a recording"
    ATTENDED = "only while 'leitwerk attend' runs"


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry of a setup: the way to it, how it ends, and where, when or why."""

    path: KeyPath
    fate: Fate
    how: str

    def to_dict(self) -> dict[str, str]:
        """The entry as plain data for JSON."""
        return {"path": ".".join(self.path), "fate": self.fate.value, "how": self.how}

    def __str__(self) -> str:
        return f"{'.'.join(self.path)}: {self.fate.value} ({self.how})"


@dataclass(frozen=True)
class Account:
    """Where each entry of a setup ends, in the order of the file.

    ``attended`` names what works only while 'leitwerk attend' runs. ``cleared`` are parts of the
    device that the setup does not use and that are given up, ``left`` those that stay as they were
    because the model has no way to give them up.
    """

    entries: tuple[Entry, ...]
    attended: tuple[str, ...]
    cleared: tuple[str, ...]
    left: tuple[str, ...]

    def __repr__(self) -> str:
        return f"<Account: {', '.join(f'{self.count(fate)} {fate.value}' for fate in Fate)}>"

    def count(self, fate: Fate) -> int:
        """How many entries end in one way."""
        return Counter(entry.fate for entry in self.entries)[fate]

    def lines(self) -> list[str]:
        """The account for people, in three lines, and what happens to parts that are not used."""
        stored, worked, people, refused = (self.count(fate) for fate in Fate)
        only = (
            f"; only while 'leitwerk attend' runs: {', '.join(self.attended)}"
            if self.attended
            else ""
        )
        blind = sum(entry.how == NOT_READ_BACK for entry in self.entries)
        secret = f"; {blind} more stored, not read back: secrets" if blind else ""
        return [
            f"{stored - blind} entries stored in the device and read back{secret}",
            f"{worked} worked by Leitwerk{only}",
            f"{people} for people only, {refused} refused",
        ]

    def unused_lines(self) -> list[str]:
        """What happens to parts of the device that the setup does not use."""
        lines = []
        if self.cleared:
            lines.append(f"not used, cleared: {', '.join(self.cleared)}")
        if self.left:
            lines.append(f"not used, left as they are: {', '.join(self.left)}")
        return lines

    def to_dict(self) -> dict[str, Any]:
        """The account as plain data for JSON."""
        return {
            "counts": {fate.value: self.count(fate) for fate in Fate},
            "only_attended": list(self.attended),
            "cleared": list(self.cleared),
            "left": list(self.left),
            "entries": [entry.to_dict() for entry in self.entries],
        }

    def __str__(self) -> str:
        return "\n".join([*self.lines(), *self.unused_lines()])


# ---------------------------------------------------------------------- entry by entry

NOT_READ_BACK = "a secret: written, and never read back"

_Ending = tuple[Fate, str]


def _worked(when: When) -> _Ending:
    return Fate.LEITWERK, when.value


def _stored(known: KnownPoint) -> _Ending:
    return Fate.STORED, known.name


def _people(what: str = "a name or a remark") -> _Ending:
    return Fate.PEOPLE, what


def leaves(content: object, path: KeyPath = ()) -> Iterator[KeyPath]:
    """The way to every entry of a file: each text, and each empty group or list."""
    if isinstance(content, dict) and content:
        for key, value in content.items():
            yield from leaves(value, (*path, key))
    elif isinstance(content, list) and content:
        for number, value in enumerate(content):
            yield from leaves(value, (*path, str(number)))
    elif path:
        yield path


def take_account(
    setup: Setup,
    datasheet: Datasheet,
    channels: Sequence[CheckedChannel],
    outputs: Sequence[CheckedOutput],
    wanted: Sequence[Wanted],
    findings: Iterable[Finding],
) -> Account:
    """Where each entry of a setup ends: the setup with all that its check has found."""
    asked = {w.path: w.known for w in wanted if w.path and not w.clears}
    book = _Book(setup, datasheet, channels, outputs, findings, asked)
    with collector_paused():
        entries = tuple(book.entry(path) for path in leaves(setup.source.root or {}))
    return Account(entries, tuple(book.attended()), *_unused(datasheet, wanted))


class _Book:
    """Finds how each entry ends."""

    def __init__(
        self,
        setup: Setup,
        datasheet: Datasheet,
        channels: Sequence[CheckedChannel],
        outputs: Sequence[CheckedOutput],
        findings: Iterable[Finding],
        asked: Mapping[KeyPath, KnownPoint],
    ) -> None:
        self.setup, self.sheet, self.asked = setup, datasheet, asked
        self.channels = {c.name: c for c in channels}
        self.outputs = {o.name: o for o in outputs}
        self.host_alarms = dict.fromkeys(host_alarms(channels))
        banded = [c.name for c in measured(channels) if c.bands is not None]
        self.shows_bands_of = banded[:1] if self.sheet.has(BAND_END) else []
        self.at_terminal = {
            "label": self.stored(CHANNEL_LABEL, _people()),
            "terminal": self.stored(CHANNEL_SENSOR, _worked(When.READ)),
            "sensor": _stored(CHANNEL_SENSOR),
            "signal": self.stored(CHANNEL_SENSOR, _worked(When.READ)),
            "range": _stored(CHANNEL_RANGE),
            "unit": self.stored(CHANNEL_UNIT, _worked(When.READ)),
            "pulses": _stored(PULSE_GATE),
            **_OF_CHANNEL,
        }
        self.errors = {f.path: f.message for f in findings if f.is_error and f.path}

    def entry(self, path: KeyPath) -> Entry:
        """One entry: refused where an error stands at it or above it."""
        for depth in range(len(path), 0, -1) if self.errors else ():
            message = self.errors.get(".".join(path[:depth]))
            if message is not None:
                return Entry(path, Fate.REFUSED, message)
        find = _SECTIONS.get(path[0])
        is_empty_group = len(path) == 1 and find is not None and find is not _Book.single
        found = _worked(When.CHECKED) if is_empty_group else find(self, path) if find else None
        if found is None:
            # Nothing of ours knows this key: it must not pass for something that was done.
            return Entry(path, Fate.REFUSED, "Leitwerk has no use for this entry")
        return Entry(path, *found)

    def stored(self, known: KnownPoint, otherwise: _Ending) -> _Ending:
        """Stored where the model has the setting."""
        return _stored(known) if self.sheet.has(known) else otherwise

    def stored_as_asked(self, path: KeyPath, otherwise: _Ending) -> _Ending:
        """Stored where a setting of the model follows from just this entry."""
        known = self.asked.get(path)
        return otherwise if known is None else self.stored(known, otherwise)

    # ------------------------------------------------------------------ sections of the file

    def single(self, path: KeyPath) -> _Ending | None:
        """An entry at the top of the file."""
        return {
            "leitwerk": _worked(When.CHECKED),
            "title": self.stored(TITLE, _people("the title, in receipts and messages")),
            "sample": _stored(SAMPLE_INTERVAL),
            "store": self.stored(STORAGE_INTERVAL, _worked(When.CONDENSED)),
            "statistics": self.stored(STORAGE_STATISTICS, _worked(When.CONDENSED)),
            "report": _stored(REPORT_INTERVAL),
            "zone": _worked(When.ATTENDED),
            "integration": _stored(SAMPLE_INTEGRATION),
            "mains": _worked(When.CHECKED),
            "when_full": _stored(WHEN_FULL),
            "autonomy": _worked(When.CHECKED),
            "contact_list": _worked(When.ATTENDED),
        }.get(path[0])

    def device(self, path: KeyPath) -> _Ending | None:
        """Which device it is."""
        del path
        return _worked(When.CONNECTED)

    def group(self, path: KeyPath) -> _Ending | None:
        """Intervals of a group: one that differs from the setup's is refused by the check."""
        if path[-1] in {"sample", "report"}:
            return _stored(SAMPLE_INTERVAL if path[-1] == "sample" else REPORT_INTERVAL)
        return _worked(When.CONDENSED)

    def attended_only(self, path: KeyPath) -> _Ending | None:
        """Services and rules: no device has them."""
        del path
        return _worked(When.ATTENDED)

    def schedule(self, path: KeyPath) -> _Ending | None:
        """A run: the device carries it out by itself, or Leitwerk does."""
        run = self.setup.schedule.get(path[1] if len(path) > 1 else "")
        if run is None or run.stores is None:
            return _worked(When.ATTENDED)
        return _stored(CAMPAIGN_STORES)

    def triggers(self, path: KeyPath) -> _Ending | None:
        """What begins an event: for the device, and for Leitwerk in a recording."""
        return self.stored_as_asked(path, _worked(When.SAMPLED))

    def place(self, path: KeyPath) -> _Ending | None:
        """A transmitter at a place: its number is stored, the rest is for Leitwerk and for people."""
        other = _people() if path[-1] == "label" else _worked(When.READ)
        return self.stored_as_asked(path, other)

    def exchange(self, path: KeyPath) -> _Ending | None:
        """An exchange: the device runs it, or Leitwerk does."""
        key = path[2] if len(path) > 2 else ""
        if key == "partner":
            return _people("who the other end is")
        entry = self.setup.exchanges.get(path[1])
        if entry is not None and entry.at is None:
            is_ours = self.sheet.exchange is not None
            return _worked(When.READ) if is_ours else (Fate.STORED, "its exchange")
        return _worked(When.ATTENDED)

    def paper(self, path: KeyPath) -> _Ending | None:
        """What reports hold, and what they judge."""
        is_header = path[1:2] in {("header",), ("logo",)}
        return _people("the header of reports") if is_header else _worked(When.REPORTED)

    def wiring(self, path: KeyPath) -> _Ending | None:
        """How the net is wired, and what is expected of it."""
        return self.stored_as_asked(path, _worked(When.WIRED))

    def sound(self, path: KeyPath) -> _Ending | None:
        """How sound is evaluated: by the device, and by Leitwerk from a recording."""
        return self.stored_as_asked(path, _worked(When.HEARD))

    def constant(self, path: KeyPath) -> _Ending | None:
        """A constant or a table of formulas."""
        del path
        return _worked(When.READ)

    def template(self, path: KeyPath) -> _Ending | None:
        """The template that the setup was made from."""
        del path
        return _worked(When.CHECKED)

    def contact(self, path: KeyPath) -> _Ending | None:
        """A way to reach a contact."""
        key = path[2] if len(path) > 2 else ""
        if key == "text_message":
            return self.stored(CONTACT_NUMBER, _worked(When.ATTENDED))
        return _worked(When.CHECKED if key == "outside" else When.ATTENDED)

    def further(self, path: KeyPath) -> _Ending | None:
        """A setting by its own name."""
        return Fate.STORED, path[-1]

    def row(self, path: KeyPath) -> _Ending | None:
        """A table that the device stores."""
        del path
        return Fate.STORED, "a table of the device"

    def from_set(self, path: KeyPath) -> _Ending | None:
        """The use of a set of settings."""
        del path
        return Fate.STORED, "settings of the set"

    def secret(self, path: KeyPath) -> _Ending | None:
        """A secret: written, and not read back."""
        del path
        return Fate.STORED, NOT_READ_BACK

    def output(self, path: KeyPath) -> _Ending | None:
        """An output: what the device keeps of it, and what Leitwerk drives."""
        output = self.outputs.get(path[1])
        key = path[2] if len(path) > 2 else ""
        if key == "label":
            return _people()
        if isinstance(output, AnalogOutput):
            if key in {"load", "supply"}:
                return _worked(When.CHECKED)
            return Fate.STORED, f"output {output.terminal.slot}"
        if isinstance(output, RelayOutput):
            known = _RELAY.get(key)
            if known is not None:
                return self.stored(known, _worked(When.ATTENDED))
            if key == "terminal" and not output.follows:
                return _worked(When.ATTENDED)
            return Fate.STORED, RELAY_ALARMS.at(output.terminal.slot)
        return Fate.REFUSED, "its output has an error"

    def channel(self, path: KeyPath) -> _Ending | None:
        """A channel: its wiring, its scale, what is expected of it, its alarms."""
        channel = self.channels.get(path[1])
        key = path[2] if len(path) > 2 else ""
        if channel is None:
            return Fate.REFUSED, "its channel has an error"
        if key in _READ_BY_LEITWERK:
            return _worked(When.READ)
        if key in {"alarms", "limits"}:
            return self._alarm(channel, path)
        if key in {"bands", "band_hysteresis"}:
            own = channel.name in self.shows_bands_of
            return (Fate.STORED, "a band of the device") if own else _worked(When.READ)
        if key in {"scale", "shunt"}:
            return self._scale(channel)
        if key == "unit" and isinstance(channel, SignalChannel):
            m = channel.measurement
            if m.shown_unit != m.unit:
                return _worked(When.READ)
        if key == "computed" and isinstance(channel, ReadingChannel):
            return Fate.STORED, "the law by which the device computes it"
        if isinstance(channel, ReadingChannel | DerivedChannel):
            return _OF_READING.get(key)
        return self.at_terminal.get(key)

    def _scale(self, channel: CheckedChannel) -> _Ending:
        """Stored where the device shows the value itself; else it shows the signal."""
        m = channel.measurement if isinstance(channel, SignalChannel) else None
        known = SIGNAL_LOW if m is not None and m.input.ends is None else VALUE_LOW
        if m is not None and m.shown_unit == m.unit and self.sheet.has(known):
            return Fate.STORED, "its scale"
        return _worked(When.READ)

    def _alarm(self, channel: CheckedChannel, path: KeyPath) -> _Ending:
        """An alarm is watched by the device as a whole, or by Leitwerk."""
        if path[2] == "limits":
            ours = any(name.startswith(f"{channel.name}.") for name in self.host_alarms)
            return _worked(When.ATTENDED) if ours else (Fate.STORED, "an alarm of the device")
        key = path[4] if len(path) > 4 else ""
        if f"{channel.name}.{path[3]}" in self.host_alarms or key == "acknowledge":
            return _worked(When.ATTENDED)
        if key == "severity":
            return self.stored(ALARM_SEVERITY, _people("how urgent it is"))
        return Fate.STORED, "an alarm of the device"

    # ------------------------------------------------------------------ what needs 'attend'

    def attended(self) -> Iterator[str]:
        """What works only while 'leitwerk attend' runs, by name or number."""
        if len(self.host_alarms) > 3:
            yield f"{len(self.host_alarms)} alarms"
        else:
            yield from (f"alarm {name}" for name in self.host_alarms)
        if count := len(self.setup.rules):
            yield f"{count} rule{'s' * (count != 1)}"
        if any(run.stores is None for run in self.setup.schedule.values()):
            yield "the schedule"
        for name, exchange in self.setup.exchanges.items():
            if exchange.at is not None:
                yield f"exchange {name}"


_READ_BY_LEITWERK = {"leads", "sensor_serial", "calibration", "tare", "expect"}
_OF_CHANNEL = {
    "like": _worked(When.CHECKED),
    "states": _people("the names of its states"),
    "group": _worked(When.CHECKED),
    "time_constant": _worked(When.CHECKED),
    "circular": _worked(When.READ),
}
_OF_READING = {
    "label": _people(),
    "reading": _worked(When.READ),
    "computed": _worked(When.READ),
    "inputs": _worked(When.READ),
    "unit": _worked(When.READ),
    **_OF_CHANNEL,
}
_RELAY = {
    "normal": RELAY_NORMAL,
    "safe": RELAY_SAFE,
    "least_on": RELAY_LEAST_ON,
    "least_off": RELAY_LEAST_OFF,
    "limit": RELAY_LIMIT,
}
_Section = Callable[[_Book, KeyPath], "_Ending | None"]
_SECTIONS: Mapping[str, _Section] = {
    **dict.fromkeys(
        (
            "leitwerk", "title", "sample", "store", "statistics", "report", "zone", "integration",
            "mains", "when_full", "autonomy", "contact_list",
        ),
        _Book.single,
    ),
    "device": _Book.device,
    "groups": _Book.group,
    "schedule": _Book.schedule,
    "triggers": _Book.triggers,
    "places": _Book.place,
    "radio": _Book.place,
    "services": _Book.attended_only,
    "rules": _Book.attended_only,
    "constants": _Book.constant,
    "tables": _Book.constant,
    "contacts": _Book.contact,
    "exchanges": _Book.exchange,
    "settings": _Book.further,
    "records": _Book.row,
    "settings_from": _Book.from_set,
    "secrets": _Book.secret,
    "outputs": _Book.output,
    "channels": _Book.channel,
    "papers": _Book.paper,
    "wiring": _Book.wiring,
    "sound": _Book.sound,
    "made_from": _Book.template,
}  # fmt: skip


# ---------------------------------------------------------------------- what is not used


def _unused(sheet: Datasheet, wanted: Sequence[Wanted]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Parts of the device that setups assign and this one does not use: cleared, and left."""
    idle = {w.number for w in wanted if w.clears and w.known is CHANNEL_SENSOR}
    cleared = [
        (_part(w.known), w.number)
        for w in wanted
        if w.clears and not (w.known in _INPUT_ALARMS and w.number in idle)
    ]
    used = {(_part(w.known), w.number) for w in wanted if not w.clears}
    left: list[tuple[str, int | None]] = []
    for known in _assigned(sheet):
        family = sheet.family(known)
        if family is not None and not can_clear(known, sheet):
            left += [(_part(known), k) for k in family.indices if (_part(known), k) not in used]
    return _spans(cleared), _spans(left)


# Alarms that belong to an input are given up one by one, also where the input is in use.
_INPUT_ALARMS = {
    INPUT_ALARM_HIGH: "high alarm of input",
    INPUT_ALARM_LOW: "low alarm of input",
}


def _part(known: KnownPoint) -> str:
    """What a part of the device is called that a setting assigns: channel, alarm, relay."""
    return _INPUT_ALARMS.get(known) or (known.block or known.name).partition(".")[0]


def _assigned(sheet: Datasheet) -> Iterator[KnownPoint]:
    """The points by which the parts of a device are assigned, as far as the model has them."""
    return (k for k in VOCABULARY.values() if k.cleared is not None and sheet.has(k))


def _spans(parts: Iterable[tuple[str, int | None]]) -> tuple[str, ...]:
    """``alarm 3..12`` for the alarms from 3 to 12."""
    by_block: dict[str, set[int]] = {}
    for block, index in parts:
        if index is not None:
            by_block.setdefault(block, set()).add(index)
    return tuple(f"{block} {show_spans(indices)}" for block, indices in by_block.items())
