"""The places of a receiver: their settings, the channels that they feed, and what cannot be bound."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Mapping

from leitwerk.check.settings import Wanted, cleared_parts
from leitwerk.check.standard_channels import with_channels
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import (
    PLACE_ID,
    PLACE_STATE,
    PLACE_VALUE,
    RADIO_BAND,
    RADIO_GROUP,
    RADIO_ROLE,
)
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings
from leitwerk.setup.model import Setup
from leitwerk.setup.places import PlaceEntry

# What all transmitters of a receiver share, by the keys of a setup.
RADIO = {"group": RADIO_GROUP, "band": RADIO_BAND, "role": RADIO_ROLE}


def with_places(setup: Setup, datasheet: Datasheet, findings: Findings) -> Setup:
    """The setup with the channels that its places feed; what its file says of them counts."""
    family = datasheet.family(PLACE_ID)
    if setup.places and (family is None or datasheet.telegrams is None):
        findings.error(
            "no-places", ("places",), f"{datasheet.model} is no receiver of wireless transmitters",
            at_key=True, remedy="leave out 'places', or look at the model",
        )  # fmt: skip
        return setup
    channels: dict[str, tuple[str, str]] = {}
    for name, entry in setup.places.items():
        number = _place(name, datasheet, findings)
        if number is None or entry.channel is None:
            continue
        if entry.channel in channels:
            findings.error("taken", ("places", name, "channel"),
                           f"channel {entry.channel} is fed by two places",
                           valid="a channel of its own for each place")  # fmt: skip
            continue
        known = PLACE_STATE if is_switch(entry.kind, datasheet) else PLACE_VALUE
        channels[entry.channel] = known.at(number), entry.label or entry.channel
    return with_channels(setup, channels) if channels else setup


def is_switch(kind: str | None, datasheet: Datasheet) -> bool:
    """Whether transmitters of a kind send states, and no numbers."""
    telegrams = datasheet.telegrams
    field = telegrams.form.values.get(kind or "") if telegrams is not None else None
    return field is not None and bool(field.choices)


def place_settings(setup: Setup, datasheet: Datasheet, findings: Findings) -> Iterator[Wanted]:
    """The settings that places and radio ask for."""
    family = datasheet.family(PLACE_ID)
    if setup.radio is not None:
        for key, known in RADIO.items():
            wish = getattr(setup.radio, key)
            if wish is not None:
                yield Wanted(known, None, _radio_value(wish, known.name, datasheet),
                             ("radio", key))  # fmt: skip
    if family is None or datasheet.telegrams is None or not setup.places:
        return
    taken: dict[int, str] = {}
    used = []
    for name, entry in setup.places.items():
        number = _place(name, datasheet, None)
        bound = _number(name, entry, datasheet, taken, findings)
        if number is not None and bound is not None:
            used.append(number)
            yield Wanted(PLACE_ID, number, float(bound), ("places", name, "id"))
    yield from cleared_parts(PLACE_ID, [k for k in family.indices if k not in used], datasheet)


def _radio_value(text: str, name: str, datasheet: Datasheet) -> float | str:
    point = datasheet.settings.get(name)
    if point is None or point.choice_names or not text.isdecimal():
        return text
    return float(text)


def _place(name: str, datasheet: Datasheet, findings: Findings | None) -> int | None:
    family = datasheet.family(PLACE_ID)
    known = family.indices if family is not None else ()
    if name.isdecimal() and int(name) in known:
        return int(name)
    if findings is not None:
        findings.error("unknown-place", ("places", name),
                       f"{datasheet.model} has no place {name[:20]!r}", at_key=True,
                       valid=f"{known[0]}..{known[-1]}" if known else "no place")  # fmt: skip
    return None


def _number(
    name: str, entry: PlaceEntry, datasheet: Datasheet, taken: dict[int, str], findings: Findings
) -> int | None:
    """The number of the transmitter at a place; None, with a finding, where it cannot be bound."""
    telegrams, path = datasheet.telegrams, ("places", name)
    assert telegrams is not None
    kinds = tuple(telegrams.form.kind.choices.values())
    if entry.kind is not None and entry.kind not in kinds:
        near = difflib.get_close_matches(entry.kind, kinds, n=1)
        findings.error("unknown-kind", (*path, "kind"),
                       f"{datasheet.model} knows no transmitter {entry.kind[:30]!r}",
                       valid=", ".join(kinds),
                       remedy=f"did you mean {near[0]!r}?" if near else "")  # fmt: skip
    if entry.id is None:
        return None  # the place waits for its transmitter
    try:
        number = telegrams.ids.read(entry.id)
    except QuantityError as error:
        findings.error("bad-value", (*path, "id"), error.message, valid=error.valid,
                       remedy=error.remedy)  # fmt: skip
        return None
    if number in taken:
        findings.error("taken", (*path, "id"),
                       f"transmitter {entry.id} is bound to place {taken[number]} already",
                       valid="each transmitter at one place")  # fmt: skip
        return None
    taken[number] = name
    return number


def bound_names(setup: Setup, datasheet: Datasheet) -> Mapping[int, str]:
    """The transmitters of a setup, by number: what people call each, or its channel, or its place."""
    telegrams = datasheet.telegrams
    if telegrams is None:
        return {}
    return {
        telegrams.ids.read(entry.id): entry.label or entry.channel or f"place {name}"
        for name, entry in setup.places.items()
        if entry.id is not None
    }
