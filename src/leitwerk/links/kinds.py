"""The kinds of link: for each protocol, how it is opened and how points are read over it.

A package adds one by an entry point of the group ``leitwerk.links``: its name is the protocol as it
stands in addresses and datasheets, what it leads to is a ``LinkKind``.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, TypeAlias

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.text_points import Replies
from leitwerk.errors import FileProblem
from leitwerk.identity import Identity
from leitwerk.links.discovery import (
    detect_modbus,
    detect_scpi,
    detect_sdi12,
    identify_scpi,
    identify_sdi12,
)
from leitwerk.links.drive import DriveLink, DriveSession
from leitwerk.links.lines import LineLink, Stream
from leitwerk.links.modbus import ModbusLink
from leitwerk.links.options import LinkOptions
from leitwerk.links.plugins import further_protocols
from leitwerk.links.register_session import RegisterSession, Session
from leitwerk.links.sdi12 import Sdi12Link
from leitwerk.links.talk import TalkLink, TalkSession
from leitwerk.links.text_sessions import ScpiSession, SensorSession, StationSession, TextSession
from leitwerk.parsing.address import BusAddress, LinkAddress
from leitwerk.protocols.sdi12 import UNITS


@dataclass(frozen=True, slots=True)
class LinkKind:
    """What it takes to speak a protocol.

    ``link`` opens nothing yet: the first request does. It has ``address`` and ``close``, and all that
    ``session`` needs of it.

    Attributes
    ----------
    sleeps : bool
        Whether devices take no settings at once: they are asked for.
    units : sequence
        The unit identifiers that devices on one line may have, in the order of a scan.
    detect : callable, optional
        Sends over a link what every device answers, to see whether one is there. Such a link is
        opened without a datasheet.
    identify : callable, optional
        Reads the identity over a link, in the way of the protocol.

    """

    link: Callable[[LinkAddress, Datasheet | None, LinkOptions], Any]
    session: Callable[[Any, Datasheet], Session]
    sleeps: bool = False
    units: Sequence[BusAddress] = ()
    detect: Callable[[Any], None] | None = None
    identify: Callable[[Any], Identity | None] | None = None


_Sheet: TypeAlias = Datasheet | None


def _modbus(at: LinkAddress, sheet: _Sheet, options: LinkOptions) -> Any:
    del sheet
    return ModbusLink(at, options=options)


def _lines(at: LinkAddress, sheet: _Sheet, options: LinkOptions) -> Any:
    replies = sheet.replies if sheet else Replies()
    received = sheet.telegrams if sheet else None
    stream = (
        None
        if received is None
        else Stream(received.listen_on, received.listen_off, replies.confirms)
    )
    return LineLink(at, options=options, end=replies.end, stream=stream)


def _sdi12(at: LinkAddress, sheet: _Sheet, options: LinkOptions) -> Any:
    del sheet
    return Sdi12Link(at, options=options)


def _station(at: LinkAddress, sheet: _Sheet, options: LinkOptions) -> Any:
    from leitwerk.links.mqtt import StationLink  # noqa: PLC0415 - only where a station is asked

    model = sheet.model if sheet else ""
    return StationLink(at, model, options=options)


def _drive(at: LinkAddress, sheet: _Sheet, options: LinkOptions) -> Any:
    del sheet
    return DriveLink(at, options=options)


def _talk(at: LinkAddress, sheet: _Sheet, options: LinkOptions) -> Any:
    if sheet is None or sheet.exchange is None:
        raise FileProblem(
            "what a device says is in the exchange of a setup",
            remedy="name the setup; 'leitwerk talk' talks to a device by hand",
        )
    return TalkLink(at, sheet.exchange, options=options)


_KINDS = {
    # MODBUS over Serial Line V1.02, 2.2: 0 is for all at once, 248 to 255 are reserved.
    "modbus": LinkKind(_modbus, RegisterSession, units=range(1, 248), detect=detect_modbus),
    "scpi": LinkKind(_lines, ScpiSession, detect=detect_scpi, identify=identify_scpi),
    "sdi12": LinkKind(
        _sdi12, SensorSession, units=UNITS, detect=detect_sdi12, identify=identify_sdi12
    ),
    "text": LinkKind(_lines, TextSession),
    "talk": LinkKind(_talk, TalkSession),
    "drive": LinkKind(_drive, DriveSession),
    "mqtt": LinkKind(_station, StationSession, sleeps=True),
}


def find_kind(protocol: str) -> LinkKind:
    """How a protocol is spoken.

    Raises
    ------
    FileProblem
        Neither Leitwerk nor an installed package knows it.

    """
    if protocol in _KINDS:
        return _KINDS[protocol]
    added = further_protocols()
    if protocol not in added:
        raise FileProblem(
            f"unknown protocol {protocol!r}",
            remedy=f"protocols: {', '.join([*_KINDS, *added])}; a package may add more",
        )
    try:
        kind = added[protocol].load()
    except Exception as error:
        # A package runs its own code when it is loaded: it may raise anything.
        raise FileProblem(
            f"the package that adds the protocol {protocol!r} cannot be loaded: "
            f"{type(error).__name__}: {str(error)[:200]}",
            remedy=f"repair or remove it: its entry point is {added[protocol].value[:80]!r}",
        ) from error
    if not isinstance(kind, LinkKind):
        raise FileProblem(
            f"the package that adds the protocol {protocol!r} gives a {type(kind).__name__}",
            remedy="its entry point must lead to a leitwerk.links.LinkKind",
        )
    return kind
