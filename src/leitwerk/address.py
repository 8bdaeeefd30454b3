"""Link addresses: one text that says how a device is reached.

=====================  ==============================================  ==================
written                means                                           defaults
=====================  ==============================================  ==================
modbus+tcp://H:P?unit  Modbus TCP at host H, port P, unit identifier   port 502, unit 1
=====================  ==============================================  ==================
"""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import parse_qsl, urlsplit

from leitwerk.errors import QuantityError

_VALID = "modbus+tcp://host:port?unit=1"
_MAX_UNIT = 247  # MODBUS over Serial Line V1.02, 2.2; 255 for "no unit behind this address"


@dataclass(frozen=True, slots=True)
class LinkAddress:
    """Where a device is reached: protocol, host, port and unit identifier."""

    scheme: str
    host: str
    port: int
    unit: int

    def __str__(self) -> str:
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{self.scheme}://{host}:{self.port}?unit={self.unit}"


def parse_address(text: str) -> LinkAddress:
    """The address that a text gives.

    Raises
    ------
    QuantityError
        The text is no address, or one of a kind that is not known.

    Examples
    --------
    >>> str(parse_address("modbus+tcp://127.0.0.1"))
    'modbus+tcp://127.0.0.1:502?unit=1'

    """
    try:
        parts = urlsplit(text.strip())
        port = parts.port
        options = dict(parse_qsl(parts.query, keep_blank_values=True))
    except ValueError as error:
        raise QuantityError(f"{text!r} is no address: {error}", valid=_VALID) from None
    if parts.scheme != "modbus+tcp" or not parts.hostname:
        raise QuantityError(f"{text!r} is no address that Leitwerk knows", valid=_VALID)
    if parts.username or parts.password:
        remedy = "take it out; Leitwerk asks for passwords or takes them from the environment"
        raise QuantityError("an address holds no password", valid=_VALID, remedy=remedy)
    if parts.path not in {"", "/"} or parts.fragment or set(options) - {"unit"}:
        raise QuantityError(f"{text!r} says more than an address does", valid=_VALID)
    unit = options.get("unit", "1")
    if not unit.isdecimal() or not (1 <= int(unit) <= _MAX_UNIT or int(unit) == 255):
        raise QuantityError(f"unit={unit} is no unit identifier", valid="1..247, or 255")
    return LinkAddress("modbus+tcp", parts.hostname, 502 if port is None else port, int(unit))
