"""Check, upload and verify the setup of measuring devices, from one text file.

The whole thread in a few lines::

    import leitwerk

    setup = leitwerk.read_setup("kiln.yaml")           # SetupError lists every finding
    with leitwerk.connect(setup) as device:
        receipt = leitwerk.upload(setup, device, keep="kept", passwords={"operator": "..."})
        report = leitwerk.verify(setup, device, duration_s=5, rate_hz=2)
    print(receipt, report, sep=chr(10))

Names are loaded when they are first used, so that importing the package costs next to nothing.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from leitwerk.alarms import AlarmPoint, Board, Timeline, Watching, follow
    from leitwerk.check import check_setup
    from leitwerk.datasheet import Datasheet, parse_datasheet
    from leitwerk.errors import (
        DeviceInUse,
        DeviceRefused,
        DomainError,
        FileProblem,
        LeitwerkError,
        LinkError,
        LinkTimeout,
        NotAtRest,
        QuantityError,
        ReaddressError,
        SetupError,
        UnitError,
        UploadError,
        WrongDevice,
    )
    from leitwerk.findings import Finding, Severity
    from leitwerk.identity import Identity
    from leitwerk.image import Change, Image, compare_images, encode_setup
    from leitwerk.inventory import Inventory, KnownDevice
    from leitwerk.links import Device, LinkKind, Patience, connect
    from leitwerk.live import LiveReport, verify
    from leitwerk.project import CheckedFile, check_file, find_datasheet, read_setup
    from leitwerk.rehearsal import rehearse
    from leitwerk.runner import Attendant, Means, Proof, prove
    from leitwerk.setup import Setup, parse_setup
    from leitwerk.signals import (
        Chain,
        Linear,
        PointTable,
        Polynomial,
        Quality,
        Scale,
        TwoPoint,
        rtd,
        thermocouple,
    )
    from leitwerk.standins import StandIn, start_standin
    from leitwerk.timing import interval_statistics, plan_runs, wall_clock_intervals
    from leitwerk.transfer import Allowed, Receipt, Terms, plan_upload, recover, restore, upload

_HOME = {
    "AlarmPoint": "alarms",
    "Allowed": "transfer",
    "Attendant": "runner",
    "Board": "alarms",
    "Chain": "signals",
    "Change": "image",
    "CheckedFile": "project",
    "Datasheet": "datasheet",
    "Device": "links",
    "DeviceInUse": "errors",
    "DeviceRefused": "errors",
    "DomainError": "errors",
    "FileProblem": "errors",
    "Finding": "findings",
    "Identity": "identity",
    "Image": "image",
    "Inventory": "inventory",
    "KnownDevice": "inventory",
    "LeitwerkError": "errors",
    "Linear": "signals",
    "LinkError": "errors",
    "LinkKind": "links",
    "LinkTimeout": "errors",
    "LiveReport": "live",
    "Means": "runner",
    "NotAtRest": "errors",
    "Patience": "links",
    "PointTable": "signals",
    "Polynomial": "signals",
    "Proof": "runner",
    "Quality": "signals",
    "QuantityError": "errors",
    "ReaddressError": "errors",
    "Receipt": "transfer",
    "Scale": "signals",
    "Setup": "setup",
    "SetupError": "errors",
    "Severity": "findings",
    "StandIn": "standins",
    "Terms": "transfer",
    "Timeline": "alarms",
    "TwoPoint": "signals",
    "UnitError": "errors",
    "UploadError": "errors",
    "Watching": "alarms",
    "WrongDevice": "errors",
    "check_file": "project",
    "check_setup": "check",
    "compare_images": "image",
    "connect": "links",
    "encode_setup": "image",
    "find_datasheet": "project",
    "follow": "alarms",
    "interval_statistics": "timing",
    "parse_datasheet": "datasheet",
    "parse_setup": "setup",
    "plan_runs": "timing",
    "plan_upload": "transfer",
    "prove": "runner",
    "read_setup": "project",
    "recover": "transfer",
    "rehearse": "rehearsal",
    "restore": "transfer",
    "rtd": "signals",
    "start_standin": "standins",
    "thermocouple": "signals",
    "upload": "transfer",
    "verify": "live",
    "wall_clock_intervals": "timing",
}

__all__ = [
    "AlarmPoint",
    "Allowed",
    "Attendant",
    "Board",
    "Chain",
    "Change",
    "CheckedFile",
    "Datasheet",
    "Device",
    "DeviceInUse",
    "DeviceRefused",
    "DomainError",
    "FileProblem",
    "Finding",
    "Identity",
    "Image",
    "Inventory",
    "KnownDevice",
    "LeitwerkError",
    "Linear",
    "LinkError",
    "LinkKind",
    "LinkTimeout",
    "LiveReport",
    "Means",
    "NotAtRest",
    "Patience",
    "PointTable",
    "Polynomial",
    "Proof",
    "Quality",
    "QuantityError",
    "ReaddressError",
    "Receipt",
    "Scale",
    "Setup",
    "SetupError",
    "Severity",
    "StandIn",
    "Terms",
    "Timeline",
    "TwoPoint",
    "UnitError",
    "UploadError",
    "Watching",
    "WrongDevice",
    "__version__",
    "check_file",
    "check_setup",
    "compare_images",
    "connect",
    "encode_setup",
    "find_datasheet",
    "follow",
    "interval_statistics",
    "parse_datasheet",
    "parse_setup",
    "plan_runs",
    "plan_upload",
    "prove",
    "read_setup",
    "recover",
    "rehearse",
    "restore",
    "rtd",
    "start_standin",
    "thermocouple",
    "upload",
    "verify",
    "wall_clock_intervals",
]


def __getattr__(name: str) -> Any:
    home = _HOME.get(name)
    if home is None:
        raise AttributeError(f"module 'leitwerk' has no name {name!r}")
    value = getattr(import_module(f"leitwerk.{home}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted(__all__)
