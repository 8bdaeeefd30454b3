"""The places of a receiver: what is bound there, what was heard of it and over which paths, what is odd."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from leitwerk.check.checked import CheckedSetup
from leitwerk.check.places import RADIO, is_switch
from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.vocabulary import PLACE_AGE, PLACE_ID, PLACE_STATE, PLACE_VALUE
from leitwerk.devices.device import Device
from leitwerk.devices.listening import Listener, listening, telegrams_of_model
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.signals.quality import QUALITY_BY_REASON, Quality
from leitwerk.wireless.air import HeardTransmitter, Path
from leitwerk.wireless.oddities import AirLimits, Oddity, oddities


@dataclass(frozen=True)
class ListedPlace:
    """A place: what the setup says and the receiver holds, and what was heard of its transmitter.

    ``label`` is the number as the setup has it, ``number`` what the receiver holds, 0 for nothing. ``value``
    is in words, with its unit. ``age_s`` is in s, None where the receiver does not say it; ``is_old`` is
    whether it says that the value is too old.
    """

    place: int
    label: str
    number: int
    name: str
    kind: str
    value: str
    age_s: float | None
    is_old: bool
    heard: HeardTransmitter | None

    def to_dict(self) -> dict[str, Any]:
        """The place as plain data for JSON."""
        heard = self.heard
        return {
            "place": self.place, "id": self.label, "held": self.number, "name": self.name,
            "kind": self.kind, "value": self.value, "age_s": self.age_s,
            "strength": None if heard is None else heard.last.strength,
            "battery_low": None if heard is None else heard.last.battery_low,
            "paths": [] if heard is None else [
                {"way": path.way, "relay": path.relay or None, "telegrams": count.times}
                for path, count in sorted(heard.paths.items())
            ],
        }  # fmt: skip


@dataclass
class PathUse:
    """Who comes over a path: names of bound transmitters, how many others, and the telegrams of these."""

    names: list[str] = field(default_factory=list)
    strangers: int = 0
    of_strangers: int = 0


@dataclass(frozen=True)
class PlaceList:
    """All places that are in use, the transmitters that are heard and not bound, and what is odd.

    ``radio`` is what the receiver holds for all of its transmitters: group, band, role.
    """

    receiver: str
    radio: Mapping[str, str]
    capacity: int
    places: tuple[ListedPlace, ...]
    strangers: tuple[HeardTransmitter, ...]
    odd: tuple[Oddity, ...]

    @property
    def bound(self) -> int:
        """How many places have a transmitter."""
        return sum(bool(entry.number or entry.label) for entry in self.places)

    def paths(self) -> dict[Path, PathUse]:
        """Who comes over each path; first what is direct."""
        uses: dict[Path, PathUse] = {}
        for entry in self.places:
            for path in () if entry.heard is None else entry.heard.paths:
                uses.setdefault(path, PathUse()).names.append(entry.name)
        for one in self.strangers:
            for path, count in one.paths.items():
                use = uses.setdefault(path, PathUse())
                use.strangers += 1
                use.of_strangers += count.times
        return dict(sorted(uses.items(), key=lambda item: (item[0].relay, item[0].way)))

    def to_dict(self) -> dict[str, Any]:
        """The list as plain data for JSON."""
        return {
            "receiver": self.receiver,
            "radio": dict(self.radio),
            "capacity": self.capacity,
            "places": [entry.to_dict() for entry in self.places],
            "strangers": len(self.strangers),
            "paths": [
                {"way": path.way, "relay": path.relay or None, "bound": use.names,
                 "strangers": use.strangers}
                for path, use in self.paths().items()
            ],
            "odd": [one._asdict() for one in self.odd],
        }  # fmt: skip


def list_places(
    setup: CheckedSetup, device: Device, duration_s: float, clock: Clock = REAL_TIME
) -> PlaceList:
    """Read what the receiver holds and shows, listen for a while, and say what is odd.

    Raises
    ------
    QuantityError
        The device is no receiver.
    LinkError, DeviceRefused
        It was not reached, or refused.

    """
    telegrams = telegrams_of_model(setup.datasheet)
    with listening(device, clock) as listener:
        for _ in listener.hear(duration_s):
            pass
        now_s = listener.now_s
    held, shown = device.read_settings().values, device.readings()
    family = setup.datasheet.family(PLACE_ID)
    known = family.indices if family is not None else ()
    entries = tuple(
        _entry(k, setup, held, shown, listener)
        for k in known
        if str(k) in setup.setup.places or held.get(PLACE_ID.at(k))
    )
    bound = {number: one.name for one in entries for number in _numbers(one, listener)}
    others = [one for number, one in listener.air.heard.items() if number not in bound]
    weak, unit = telegrams.weak, telegrams.unit
    limits = AirLimits(unit=unit) if weak is None else AirLimits(weak, unit)
    odd = [
        *_of_places(entries, listener),
        *oddities(listener.air, bound, now_s, limits, telegrams.ids.write),
    ]
    return PlaceList(
        receiver=f"{setup.datasheet.model} {setup.setup.device.serial}",
        radio={
            key: f"{value:g}" if isinstance(value, float) else str(value)
            for key, point in RADIO.items()
            if (value := held.get(point.name)) is not None
        },
        capacity=len(known),
        places=entries,
        strangers=tuple(others),
        odd=tuple(odd),
    )


def _entry(
    k: int,
    setup: CheckedSetup,
    held: Mapping[str, Stored],
    shown: Mapping[str, Stored],
    listener: Listener,
) -> ListedPlace:
    said = setup.setup.places.get(str(k))
    label = said.id or "" if said is not None else ""
    number = _whole(held.get(PLACE_ID.at(k)))
    heard = listener.air.heard.get(listener.telegrams.ids.read(label) if label else number)
    kind = said.kind if said is not None and said.kind else heard.last.kind if heard else ""
    point = (PLACE_STATE if is_switch(kind, setup.datasheet) else PLACE_VALUE).at(k)
    age = shown.get(PLACE_AGE.at(k))
    name = said.label or said.channel if said is not None else None
    return ListedPlace(
        place=k,
        label=label,
        number=number,
        name=name or f"place {k}",
        kind=kind,
        value=(_in_words(point, shown, setup) or _last_heard(heard, listener)) if number else "",
        age_s=age if isinstance(age, float) else None,
        is_old=QUALITY_BY_REASON.get(str(shown.get(PLACE_VALUE.at(k)))) is Quality.TOO_OLD,
        heard=heard,
    )


def _numbers(entry: ListedPlace, listener: Listener) -> Iterator[int]:
    if entry.label:
        yield listener.telegrams.ids.read(entry.label)
    if entry.number:
        yield entry.number


def _in_words(name: str, shown: Mapping[str, Stored], setup: CheckedSetup) -> str:
    """What the receiver shows; empty where it does not."""
    value = shown.get(name)
    if value is None:
        return ""
    if isinstance(value, str):
        return value
    return f"{value:g} {setup.datasheet.own_readings[name].unit}".rstrip()


def _last_heard(heard: HeardTransmitter | None, listener: Listener) -> str:
    return "" if heard is None else listener.telegrams.form.shown(heard.last)


def _of_places(entries: tuple[ListedPlace, ...], listener: Listener) -> Iterator[Oddity]:
    """What is odd without what is in the air: the receiver is not as the setup says, or has not heard."""
    ids, seen = listener.telegrams.ids, dict[int, int]()
    for one in entries:
        wanted = ids.read(one.label) if one.label else 0
        if wanted != one.number:
            has = ids.write(one.number) if one.number else "nothing"
            yield Oddity(
                "held-otherwise",
                f"place {one.place}: the receiver holds {has}, the setup says {one.label or 'nothing'}: "
                f"upload the setup, or adopt what the receiver holds",
            )
        if one.number and one.number in seen:
            yield Oddity(
                "bound-twice",
                f"the receiver has {ids.write(one.number)} at places {seen[one.number]} and {one.place}",
            )
        seen.setdefault(one.number, one.place)
        if one.heard is not None or not one.number:
            continue
        who = f"{one.name} ({one.label or ids.write(one.number)})"
        if one.is_old:
            yield Oddity("silent", f"{who} is silent: the receiver says that its value is too old")
        elif one.age_s is None:
            yield Oddity("not-heard", f"{who} was not heard")


def _whole(value: Stored | None) -> int:
    return int(value) if isinstance(value, int | float) else 0
