"""Whether anybody is at an address, and who. Reads only."""

from __future__ import annotations

import enum
from collections.abc import Sequence
from contextlib import closing
from dataclasses import replace

from leitwerk.datasheet.model import Datasheet
from leitwerk.devices.device import open_device
from leitwerk.errors import DeviceRefused, LeitwerkError, LinkError, NoDeviceBehind, NotReached
from leitwerk.identity import Identity
from leitwerk.links.kinds import find_kind
from leitwerk.links.options import LinkOptions
from leitwerk.links.trace import TraceEntry
from leitwerk.parsing.address import LinkAddress


class Presence(enum.Enum):
    """What comes back from an address."""

    PRESENT = "a device answers, or refuses"
    ABSENT = "silence, or a gateway that reports no device"
    GARBAGE = "bytes that are not an answer"


class _AnyAnswer:
    """Notes whether any byte came back."""

    def __init__(self) -> None:
        self.anything = False

    def __call__(self, entry: TraceEntry) -> None:
        self.anything |= not entry.sent and bool(entry.frame)


def probe(
    address: LinkAddress, options: LinkOptions, datasheets: Sequence[Datasheet] = ()
) -> Presence:
    """Whether a device is at an address.

    Protocols without a question that every device answers are asked by the datasheets.

    Raises
    ------
    NotReached
        The port does not open, or no host is there.

    """
    kind = find_kind(address.protocol)
    if kind.detect is None:
        found = identify_by_datasheets(address, datasheets, options)
        return Presence.ABSENT if found is None else Presence.PRESENT
    heard = _AnyAnswer()
    try:
        with closing(kind.link(address, None, replace(options, tracer=heard))) as link:
            kind.detect(link)
    except NoDeviceBehind:
        return Presence.ABSENT
    except DeviceRefused:
        return Presence.PRESENT
    except NotReached:
        raise
    except LinkError:
        return Presence.GARBAGE if heard.anything else Presence.ABSENT
    return Presence.PRESENT


def identify_by_datasheets(
    address: LinkAddress, datasheets: Sequence[Datasheet], options: LinkOptions
) -> Identity | None:
    """Who it is, by the datasheet whose model it says that it is; None when none of them fits."""
    for datasheet in datasheets:
        if datasheet.link != address.protocol:
            continue
        try:
            with open_device(datasheet, address, link=options) as device:
                identity = device.identify()
        except LeitwerkError:
            continue
        if identity.model == datasheet.model:
            return identity
    return None


def identify_natively(address: LinkAddress, options: LinkOptions) -> Identity | None:
    """The identity of a device in the way of the protocol, without a datasheet."""
    kind = find_kind(address.protocol)
    if kind.identify is None:
        return None
    try:
        with closing(kind.link(address, None, options)) as link:
            return kind.identify(link)
    except LeitwerkError:
        return None
