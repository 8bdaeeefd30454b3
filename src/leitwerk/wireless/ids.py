"""Numbers of transmitters: as they stand on a label, and as they are compared."""

from __future__ import annotations

import re
from dataclasses import dataclass

from leitwerk.errors import QuantityError

_SEPARATORS = re.compile(r"[\s.:/_-]+")
_LONGEST = 24  # characters on a label
_VALID = {10: "digits, such as 00 3471 206", 16: "digits and letters A to F, such as 0A-3F-71"}


@dataclass(frozen=True, slots=True)
class IdForm:
    """How numbers are written on labels: ``base`` 10 or 16; ``check`` is *luhn*, or empty without one.

    ``most`` is the largest number that a telegram can carry.
    """

    base: int = 10
    check: str = ""
    most: int = 2**32 - 1

    def read(self, label: str) -> int:
        """The number on a label; leading zeros and separators do not count.

        Raises
        ------
        QuantityError
            These are no such digits, or the check digit is wrong.

        Examples
        --------
        >>> IdForm().read("00 3471-206"), IdForm(16).read("0a-3f")
        (3471206, 2623)

        """
        digits = _SEPARATORS.sub("", label.strip()).upper()
        known = "0123456789ABCDEF"[: self.base]
        if not digits or len(label) > _LONGEST or any(c not in known for c in digits):
            raise QuantityError(
                f"{label[:_LONGEST]!r} is no number of a transmitter", valid=_VALID[self.base]
            )
        number = int(digits, self.base)
        if number > self.most:
            raise QuantityError(
                f"{label!r} is larger than a transmitter's number can be",
                valid=f"at most {self.write(self.most)}",
            )
        if self.check and not self.holds(number):
            raise QuantityError(
                f"the check digit of {label!r} is wrong",
                valid=f"{label.strip()[:-1]}{_luhn_digit(str(number)[:-1])} has a right one",
                remedy="read the label again: a digit is wrong, or two are exchanged",
            )
        return number

    def holds(self, number: int) -> bool:
        """Whether the check digit of a number is right; yes for numbers without one."""
        text = str(number)
        return not self.check or (len(text) > 1 and _luhn_digit(text[:-1]) == text[-1])

    def write(self, number: int) -> str:
        """A number as it would stand on a label, without leading zeros."""
        return str(number) if self.base == 10 else f"{number:X}"


def _luhn_digit(digits: str) -> str:
    """The check digit of a number (ISO/IEC 7812-1, annex B)."""
    total = 0
    for place, digit in enumerate(reversed(digits)):
        doubled = int(digit) * (2 if place % 2 == 0 else 1)
        total += doubled - 9 if doubled > 9 else doubled
    return str(-total % 10)


def with_check_digit(number: int) -> int:
    """A number with its check digit behind it.

    Examples
    --------
    >>> with_check_digit(7992739871)
    79927398713

    """
    return int(f"{number}{_luhn_digit(str(number))}")
