"""Binding a transmitter to a place of its receiver: refused with the reason, or stored, and then heard."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from leitwerk.check.checked import CheckedSetup
from leitwerk.check.places import bound_names
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.vocabulary import PLACE_ID
from leitwerk.devices.device import Device
from leitwerk.devices.listening import HeardTelegram, Listener, telegrams_of_model
from leitwerk.errors import LeitwerkError, QuantityError
from leitwerk.findings import Findings
from leitwerk.parsing.yaml_text import Map, parse_yaml
from leitwerk.project.editing import set_place
from leitwerk.project.files import read_bytes, write_atomic
from leitwerk.project.setups import parse_setup
from leitwerk.transfer.receipt import Receipt
from leitwerk.transfer.task import UploadOptions, UploadTask
from leitwerk.transfer.transaction import carry
from leitwerk.transfer.upload import source_of


@dataclass(frozen=True, slots=True)
class Wish:
    """What is to be bound: the number as on its label, and where. What is None is found, or stays."""

    label: str
    place: str | None = None
    kind: str | None = None
    name: str | None = None
    channel: str | None = None
    replaces: bool = False


@dataclass(frozen=True)
class Bound:
    """What was bound: the number, the place, and the setup as it is now."""

    number: int
    place: str
    setup: CheckedSetup
    receipt: Receipt


def plan_binding(setup: CheckedSetup, held: DeviceSettings, wish: Wish) -> tuple[int, str, str]:
    """The number, the place, and the text of the setup with it; nothing is written.

    Parameters
    ----------
    setup : CheckedSetup
    held : DeviceSettings
        What the receiver holds.
    wish : Wish

    Raises
    ------
    QuantityError
        The number has a wrong check digit; it is bound already, here or by another setup beside this one; or
        the place is taken, or there is none.

    """
    telegrams, places = telegrams_of_model(setup.datasheet), setup.setup.places
    number = telegrams.ids.read(wish.label)
    family = setup.datasheet.family(PLACE_ID)
    known = [] if family is None else [str(k) for k in family.indices]
    _require_unbound(setup, held, number, wish)
    bound = {place: entry for place, entry in places.items() if entry.id is not None}
    taken = {*bound, *(k for k in known if _held(held, k))}
    place = wish.place or next((k for k in known if k not in taken and k not in places), None)
    if place is None:
        raise QuantityError("no place is free", valid="leitwerk unbind SETUP PLACE")
    if place not in known:
        raise QuantityError(f"there is no place {place}", valid=f"{known[0]}..{known[-1]}")
    if place in taken and not wish.replaces:
        who = bound[place].label or bound[place].id if place in bound else _held(held, place)
        free = next((k for k in known if k not in taken and k not in places), "none")
        raise QuantityError(
            f"place {place} is taken, by {who}", valid=f"the first free place is {free}",
            remedy="with --replace the one that is there makes room, and what hangs on it stays",
        )  # fmt: skip
    if wish.replaces and place not in bound:
        raise QuantityError(f"place {place} of the setup is free: there is nothing to replace")
    said = {"kind": wish.kind, "label": wish.name, "channel": wish.channel}
    entry = {"id": wish.label.strip(), **{k: v for k, v in said.items() if v is not None}}
    if "kind" not in entry and (place not in places or places[place].kind is None):
        raise QuantityError("what it is was not heard and not said", valid="--kind calliper")
    text = setup.setup.source.content.decode("utf-8-sig")
    return number, place, set_place(text, place, entry)


def _require_unbound(setup: CheckedSetup, held: DeviceSettings, number: int, wish: Wish) -> None:
    ids = telegrams_of_model(setup.datasheet).ids
    for name, entry in setup.setup.places.items():
        if entry.id is not None and ids.read(entry.id) == number:
            raise QuantityError(f"{wish.label} is bound to place {name} already")
    family = setup.datasheet.family(PLACE_ID)
    for k in () if family is None else family.indices:
        if _held(held, str(k)) == number:
            raise QuantityError(
                f"the receiver has {ids.write(number)} at place {k}, which the setup does not say",
                remedy="'leitwerk adopt' writes a setup of what it holds",
            )
    for path, place in _elsewhere(setup, number):
        raise QuantityError(
            f"{wish.label} is bound to place {place} of another receiver, by {path}",
            remedy="free it there first: leitwerk unbind",
        )


def _held(held: DeviceSettings, place: str) -> int:
    value = held.values.get(PLACE_ID.at(int(place)), 0.0)
    return int(value) if isinstance(value, int | float) else 0


def _elsewhere(setup: CheckedSetup, number: int) -> list[tuple[Path, str]]:
    """Other setups beside this one that bind the same transmitter: file and place."""
    own, found = Path(setup.setup.source.file), []
    ids = telegrams_of_model(setup.datasheet).ids
    for path in sorted(own.parent.glob("*.yaml")):
        if path.name == own.name:
            continue
        try:
            root = parse_yaml(read_bytes(path).decode("utf-8-sig"), Findings(str(path)))
        except (LeitwerkError, UnicodeDecodeError):
            continue  # it is no setup that could bind something
        places = root.get("places") if isinstance(root, Map) else None
        for name, entry in places.items() if isinstance(places, Map) else ():
            text = entry.get("id") if isinstance(entry, Map) else None
            try:
                if isinstance(text, str) and ids.read(text) == number:
                    found.append((path, name))
            except QuantityError:
                continue
    return found


def bind(setup: CheckedSetup, device: Device, wish: Wish, options: UploadOptions) -> Bound:
    """Bind a transmitter: the receiver first, then the setup file; what fails leaves both as they were.

    Raises
    ------
    QuantityError
        See ``plan_binding``.
    SetupError
        The setup would have errors with it.
    UploadError
        The receiver did not take it.

    """
    number, place, text = plan_binding(setup, device.read_settings(), wish)
    return Bound(number, place, *_carried(setup, device, place, float(number), text, options))


def unbind(
    setup: CheckedSetup, device: Device, place: str, options: UploadOptions
) -> tuple[CheckedSetup, Receipt]:
    """Free a place, in the receiver and in the setup file.

    Raises
    ------
    QuantityError
        The place is free.
    UploadError
        The receiver did not take it.

    """
    text = set_place(setup.setup.source.content.decode("utf-8-sig"), place, None)
    return _carried(setup, device, place, 0.0, text, options)


def _carried(
    setup: CheckedSetup,
    device: Device,
    place: str,
    number: float,
    text: str,
    options: UploadOptions,
) -> tuple[CheckedSetup, Receipt]:
    from leitwerk.check.compile import check_setup  # noqa: PLC0415 - one file after the other

    file = setup.setup.source.file
    parsed = parse_setup(text)
    parsed._source = replace(parsed.source, file=file, content=text.encode())  # noqa: SLF001
    after = check_setup(parsed, setup.datasheet).require()
    wanted = DeviceSettings(setup.datasheet.model, {PLACE_ID.at(int(place)): number})
    source = replace(source_of(parsed), kind="rule")
    task = UploadTask(wanted, source, setup.setup.device.serial)
    receipt = carry(device, task, options)
    write_atomic(Path(file), text)
    return after, receipt


def wait_for_first(listener: Listener, number: int, wait_s: float) -> HeardTelegram | None:
    """The first telegram of a transmitter; None where none comes in time."""
    for heard in listener.hear(wait_s):
        if heard.telegram.number == number:
            return heard
    return None


NOTHING_CAME = (
    "press its send key: it counts as connected only when it has sent",
    "is its battery good, and does its display show a value?",
    "is it in range, and not behind metal?",
    "is it of the same group and band as the receiver?",
)


def names_of(setup: CheckedSetup) -> dict[int, str]:
    """The bound transmitters of a setup by number, with what people call them."""
    return dict(bound_names(setup.setup, setup.datasheet))
