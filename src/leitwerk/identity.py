"""Identity: what a device says it is, and when two identifying numbers are the same."""

from __future__ import annotations

import re
from dataclasses import asdict, dataclass


@dataclass(frozen=True, slots=True)
class Identity:
    """What a device says it is."""

    maker: str
    model: str
    serial: str
    firmware: str

    def __str__(self) -> str:
        serial = f", serial number {self.serial}" if self.serial else ""
        firmware = f", firmware {self.firmware}" if self.firmware else ""
        return f"{self.maker} {self.model}{serial}{firmware}"

    def to_dict(self) -> dict[str, str]:
        """The identity as plain data for JSON."""
        return asdict(self)


def same_number(one: str, other: str) -> bool:
    """Whether two identifying numbers are the same, without regard to separators and leading zeros.

    Examples
    --------
    >>> same_number("K2-00417", "k2 417"), same_number("K2-417", "K24-17")
    (True, False)
    >>> same_number("--", "**")
    False

    """
    return folded_number(one) == folded_number(other)


def folded_number(number: str) -> str:
    """An identifying number in the one form that is compared."""
    # Groups of letters and of digits; a separator between two groups of digits still parts them.
    groups = re.findall(r"[^\W\d_]+|\d+", number.casefold())
    folded = "-".join(group.lstrip("0") or "0" if group.isdecimal() else group for group in groups)
    return folded or number.strip()  # without letters and digits, each character counts
