"""Errors: an act failed. What is wrong *in a file* is a finding instead (``findings.py``).

LeitwerkError
  SetupError       a setup or datasheet has findings of severity error; holds them
  QuantityError    a text is not the quantity that was expected (also ValueError)
    UnitError      an unknown unit, or one that does not fit (also ValueError)
    FormulaError   a formula cannot be read, or its parts do not fit each other (also ValueError)
  DomainError      a relation does not hold there, or cannot be turned back (also ValueError)
  NotAtRest        readings moved too much to take a tare or an orientation from them
  FileProblem      a file cannot be read or written
  WrongDevice      the device is not the one that the setup names
    DeviceSwapped  another one answers than before: what was done meanwhile may have met either
  LinkError        the device was not reached, or answered nonsense
    NotReached     no device is at the address, or the port does not open
    LinkTimeout    it did not answer in time (also TimeoutError)
  DeviceRefused    the device answered, and said no; holds its code
  OutputNotSafe    an output may still be driven
  DeviceInUse      another program is writing to the device
  UploadError      an upload stopped; says what state the device is in
  ReaddressError   changing an address stopped; says where the device is now
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence

    from leitwerk.findings import Finding


class LeitwerkError(Exception):
    """Base of all errors of this library.

    Every error has a ``message`` (what was found, where) and mostly a ``remedy`` (what to do).
    """

    def __init__(self, message: str, *, remedy: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.remedy = remedy

    def __str__(self) -> str:
        return f"{self.message}\n  remedy: {self.remedy}" if self.remedy else self.message

    def __reduce__(self) -> tuple[Any, ...]:
        # Keyword-only arguments do not survive the default pickling of exceptions.
        return (_rebuild, (type(self), self.args, self.__dict__))


def _rebuild(kind: type[LeitwerkError], args: Any, state: dict[str, Any]) -> LeitwerkError:
    error = kind.__new__(kind, *args)
    error.__dict__.update(state)
    return error


class SetupError(LeitwerkError):
    """A setup or a datasheet cannot be used; ``findings`` says why, all of it."""

    def __init__(self, file: str, findings: Sequence[Finding]) -> None:
        count = sum(finding.is_error for finding in findings)
        super().__init__(
            f"{file}: {count} error{'s' if count != 1 else ''}\n"
            + "\n".join(str(finding) for finding in findings),
        )
        self.file = file
        self.findings = tuple(findings)


class QuantityError(LeitwerkError, ValueError):
    """A text is not the quantity that was expected; ``valid`` shows how one is written."""

    def __init__(self, message: str, *, valid: str = "", remedy: str = "") -> None:
        super().__init__(message, remedy=remedy)
        self.valid = valid

    def __str__(self) -> str:
        parts = (("", self.message), ("  valid: ", self.valid), ("  remedy: ", self.remedy))
        return "\n".join(head + text for head, text in parts if text)


class UnitError(QuantityError):
    """A unit is unknown, or is one of another dimension."""


class FormulaError(QuantityError):
    """A formula cannot be read, or its parts do not fit; ``column`` (from 1) says where in its text."""

    def __init__(self, message: str, *, column: int = 1, valid: str = "", remedy: str = "") -> None:
        super().__init__(message, valid=valid, remedy=remedy)
        self.column = column


class DomainError(LeitwerkError, ValueError):
    """A relation is asked for what it cannot give: an inverse it has not, parameters that fit nothing."""


class NotAtRest(LeitwerkError):
    """Readings moved too much, or lie too far off, to take a tare or an orientation from them."""


class FileProblem(LeitwerkError):
    """A file cannot be read or written."""


class WrongDevice(LeitwerkError):
    """The device that answered is not the one that the setup names. Nothing was written."""


class DeviceSwapped(WrongDevice):
    """Another device answers than the one before: what was written or read meanwhile may be of either."""


class LinkError(LeitwerkError):
    """The device was not reached, or what came back does not answer the request."""


class NotReached(LinkError):
    """No device is at the address, or its port cannot be opened: no request was sent."""


class LinkTimeout(LinkError, TimeoutError):
    """No answer within the time allowed."""


class DeviceRefused(LeitwerkError):
    """The device answered and refused; ``code`` is the device's own."""

    def __init__(self, message: str, *, code: int | None = None, remedy: str = "") -> None:
        super().__init__(message, remedy=remedy)
        self.code = code


class NoDeviceBehind(DeviceRefused):
    """A gateway answered in place of the device: no device answers behind it."""


class PasswordRefused(DeviceRefused):
    """A password is missing or wrong. It is never sent again: some devices lock after a few attempts."""


class OutputNotSafe(LeitwerkError):
    """An output that was driven from here could not be given back: it may still be driven."""

    def __init__(self, names: Sequence[str], address: object, reason: str) -> None:
        outputs = f"output{'s' if len(names) > 1 else ''} {', '.join(names)} of {address}"
        super().__init__(
            f"NOT SAFE: {outputs} may still be driven: {reason}",
            remedy="switch it off at the device, or restore the link and run 'leitwerk release'",
        )
        self.names = tuple(names)


class DeviceInUse(LeitwerkError):
    """Another program is writing to the device. Nothing was written."""


class UploadError(LeitwerkError):
    """An upload stopped; ``state`` says what the device holds now.

    Where another error ended it, that is its ``__cause__``; without one, the upload itself refused.
    """

    def __init__(self, message: str, *, state: str, remedy: str) -> None:
        super().__init__(message, remedy=remedy)
        self.state = state

    def __str__(self) -> str:
        return f"{self.message}\n  device: {self.state}\n  remedy: {self.remedy}"


class ReaddressError(LeitwerkError):
    """Changing a device's address stopped; ``address`` is where it answers now, None if nowhere."""

    def __init__(self, message: str, *, address: object, remedy: str) -> None:
        super().__init__(message, remedy=remedy)
        self.address = address

    def __str__(self) -> str:
        where = f"it answers at {self.address}" if self.address else "it was not found"
        return f"{self.message}\n  device: {where}\n  remedy: {self.remedy}"
