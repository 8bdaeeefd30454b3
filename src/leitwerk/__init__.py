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
    from leitwerk.transfer import Allowed, Receipt, Terms, plan_upload, recover, restore, upload

_HOME = {
    "Allowed": "transfer",
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
    "NotAtRest": "errors",
    "Patience": "links",
    "PointTable": "signals",
    "Polynomial": "signals",
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
    "TwoPoint": "signals",
    "UnitError": "errors",
    "UploadError": "errors",
    "WrongDevice": "errors",
    "check_file": "project",
    "check_setup": "check",
    "compare_images": "image",
    "connect": "links",
    "encode_setup": "image",
    "find_datasheet": "project",
    "parse_datasheet": "datasheet",
    "parse_setup": "setup",
    "plan_upload": "transfer",
    "read_setup": "project",
    "recover": "transfer",
    "restore": "transfer",
    "rtd": "signals",
    "start_standin": "standins",
    "thermocouple": "signals",
    "upload": "transfer",
    "verify": "live",
}

__all__ = [
    "Allowed",
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
    "NotAtRest",
    "Patience",
    "PointTable",
    "Polynomial",
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
    "TwoPoint",
    "UnitError",
    "UploadError",
    "WrongDevice",
    "__version__",
    "check_file",
    "check_setup",
    "compare_images",
    "connect",
    "encode_setup",
    "find_datasheet",
    "parse_datasheet",
    "parse_setup",
    "plan_upload",
    "read_setup",
    "recover",
    "restore",
    "rtd",
    "start_standin",
    "thermocouple",
    "upload",
    "verify",
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
