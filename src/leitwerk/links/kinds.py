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
from leitwerk.links.greetings import (
    greet_modbus,
    greet_scpi,
    greet_sdi12,
    introduce_scpi,
    introduce_sdi12,
)
from leitwerk.links.lines import LineLink
from leitwerk.links.modbus import ModbusLink
from leitwerk.links.options import LinkOptions
from leitwerk.links.plugins import further_protocols
from leitwerk.links.register_session import RegisterSession, Session
from leitwerk.links.sdi12 import Sdi12Link
from leitwerk.links.text_sessions import ScpiSession, SensorSession, StationSession, TextSession
from leitwerk.parsing.address import BusAddress, LinkAddress
from leitwerk.protocols.sdi12 import UNITS


@dataclass(frozen=True, slots=True)
class LinkKind:
    """What it takes to speak a protocol.

    ``link`` opens nothing yet: the first request does. It has ``address`` and ``close``, and whatever
    ``session`` needs of it.

    Attributes
    ----------
    sleeps : bool
        Whether devices take no settings at once: they are asked for.
    units : sequence
        The unit identifiers that devices on one line may have, in the order of a scan.
    greet : callable, optional
        Asks over a link what every device answers, to see whether one is there. Such a link is
        opened without a datasheet.
    introduce : callable, optional
        Asks over a link who it is, in the way of the protocol.

    """

    link: Callable[[LinkAddress, Datasheet | None, LinkOptions], Any]
    session: Callable[[Any, Datasheet], Session]
    sleeps: bool = False
    units: Sequence[BusAddress] = ()
    greet: Callable[[Any], None] | None = None
    introduce: Callable[[Any], Identity | None] | None = None


_Sheet: TypeAlias = Datasheet | None


def _modbus(at: LinkAddress, sheet: _Sheet, options: LinkOptions) -> Any:
    del sheet
    return ModbusLink(at, options=options)


def _lines(at: LinkAddress, sheet: _Sheet, options: LinkOptions) -> Any:
    replies = sheet.replies if sheet else Replies()
    return LineLink(at, options=options, end=replies.end)


def _sdi12(at: LinkAddress, sheet: _Sheet, options: LinkOptions) -> Any:
    del sheet
    return Sdi12Link(at, options=options)


def _station(at: LinkAddress, sheet: _Sheet, options: LinkOptions) -> Any:
    from leitwerk.links.mqtt import StationLink  # noqa: PLC0415 - only where a station is asked

    model = sheet.model if sheet else ""
    return StationLink(at, model, options=options)


_KINDS = {
    # MODBUS over Serial Line V1.02, 2.2: 0 is for everybody, 248 to 255 for nobody.
    "modbus": LinkKind(_modbus, RegisterSession, units=range(1, 248), greet=greet_modbus),
    "scpi": LinkKind(_lines, ScpiSession, greet=greet_scpi, introduce=introduce_scpi),
    "sdi12": LinkKind(
        _sdi12, SensorSession, units=UNITS, greet=greet_sdi12, introduce=introduce_sdi12
    ),
    "text": LinkKind(_lines, TextSession),
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
            f"nothing here speaks {protocol!r}",
            remedy=f"protocols: {', '.join([*_KINDS, *added])}; a package may add more",
        )
    kind = added[protocol].load()
    if not isinstance(kind, LinkKind):
        raise FileProblem(
            f"the package that brings {protocol!r} gives a {type(kind).__name__}",
            remedy="its entry point must lead to a leitwerk.LinkKind",
        )
    return kind
