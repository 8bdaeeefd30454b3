"""Binding a transmitter to a place of its receiver: refused with the reason, or stored and read back."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from leitwerk.check.checked import CheckedSetup
from leitwerk.check.places import bound_names
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.vocabulary import PLACE_ID
from leitwerk.devices.device import Device
from leitwerk.devices.listening import telegrams_of_model
from leitwerk.errors import QuantityError
from leitwerk.project.editing import set_place
from leitwerk.project.files import write_atomic
from leitwerk.project.other_receivers import bound_elsewhere
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
        The number has a wrong check digit; it is bound already, here or by the setup of another receiver of
        the project; the place is taken, or the receiver does not have it.

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
    elsewhere = bound_elsewhere(setup.setup, ids).get(number)
    if elsewhere is not None:
        path, place = elsewhere
        raise QuantityError(
            f"{wish.label} is bound to place {place} of another receiver, by {path}",
            remedy=f"free it there first: leitwerk unbind {path} {place}",
        )


def _held(held: DeviceSettings, place: str) -> int:
    value = held.values.get(PLACE_ID.at(int(place)), 0.0)
    return int(value) if isinstance(value, int | float) else 0


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


def names_of(setup: CheckedSetup) -> dict[int, str]:
    """The bound transmitters of a setup by number, with what people call them."""
    return dict(bound_names(setup.setup, setup.datasheet))
