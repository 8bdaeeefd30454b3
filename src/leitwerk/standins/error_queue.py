"""The error queue of simulated SCPI instruments."""

from __future__ import annotations

# SCPI-1999, volume 1, 21.8.
_ERRORS = {
    "locked": '-203,"Command protected"',
    "busy": '-221,"Settings conflict"',
    "value": '-222,"Data out of range"',
    "unknown": '-113,"Undefined header"',
}
_NONE = '0,"No error"'
_MOST = 20


class ErrorQueue:
    """What an instrument refused; it says so only when it is asked for its errors."""

    def __init__(self) -> None:
        self._errors: list[str] = []

    def refuse(self, why: str) -> None:
        """Keep an error; a full queue drops the newest."""
        if len(self._errors) < _MOST:
            self._errors.append(_ERRORS[why])

    def next(self) -> str:
        """The oldest error, which is then gone."""
        return self._errors.pop(0) if self._errors else _NONE
