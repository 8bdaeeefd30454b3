"""The kinds of link: for each protocol, how it is opened and how points are read over it.

A package adds one by an entry point of the group ``leitwerk.links``: its name is the protocol as it
stands in addresses and datasheets, what it leads to is a ``LinkKind``.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from leitwerk.address import LinkAddress
from leitwerk.datasheet import Datasheet
from leitwerk.errors import FileProblem
from leitwerk.links.asking import ScpiSession, SensorSession, StationSession, TextSession
from leitwerk.links.modbus import ModbusLink
from leitwerk.links.patience import Patience
from leitwerk.links.sdi12 import Sdi12Link
from leitwerk.links.sessions import RegisterSession, Session
from leitwerk.links.stream import LineLink
from leitwerk.links.trace import Tracer
from leitwerk.project import further_protocols


@dataclass(frozen=True, slots=True)
class LinkKind:
    """What it takes to speak a protocol.

    ``link`` opens nothing yet: the first request does. It has ``address`` and ``close``, and whatever
    ``session`` needs of it. What ``sleeps`` takes no settings at once: they are asked for.
    """

    link: Callable[[LinkAddress, Datasheet, Patience, Tracer | None], Any]
    session: Callable[[Any, Datasheet], Session]
    sleeps: bool = False


def _modbus(at: LinkAddress, sheet: Datasheet, patience: Patience, tracer: Tracer | None) -> Any:
    del sheet
    return ModbusLink(at, patience=patience, tracer=tracer)


def _lines(at: LinkAddress, sheet: Datasheet, patience: Patience, tracer: Tracer | None) -> Any:
    return LineLink(at, patience=patience, tracer=tracer, end=sheet.replies.end)


def _sdi12(at: LinkAddress, sheet: Datasheet, patience: Patience, tracer: Tracer | None) -> Any:
    del sheet
    return Sdi12Link(at, patience=patience, tracer=tracer)


def _station(at: LinkAddress, sheet: Datasheet, patience: Patience, tracer: Tracer | None) -> Any:
    from leitwerk.links.mqtt import StationLink  # noqa: PLC0415 - only where a station is asked

    return StationLink(at, sheet.model, patience=patience, tracer=tracer)


_KINDS = {
    "modbus": LinkKind(_modbus, RegisterSession),
    "scpi": LinkKind(_lines, ScpiSession),
    "sdi12": LinkKind(_sdi12, SensorSession),
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
