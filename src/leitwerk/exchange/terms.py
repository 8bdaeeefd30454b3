"""The words of an exchange that a setup chooses from."""

from __future__ import annotations

import enum


class Manner(enum.StrEnum):
    """For whom an exchange is."""

    MACHINES = "machines"  # silent, no echo
    PEOPLE = "people"  # what is typed is shown, and can be corrected
    GUARDED = "guarded"  # two ends with the same description: numbered, checked, repeated


class Kind(enum.StrEnum):
    """What a part of a line holds."""

    NUMBER = "number"
    INTEGER = "integer"
    HEXADECIMAL = "hexadecimal"
    TEXT = "text"
    STATE = "state"
    TIME = "time"
    COUNTER = "counter"
    CONSTANT = "constant"


class Layout(enum.StrEnum):
    """How a moment is written."""

    ISO = "iso"  # 2026-03-02T06:00:00Z
    DATE_TIME = "date and time"  # 2026-03-02 06:00:00, UTC
    TIME_OF_DAY = "time of day"  # 06:00:00
    SECONDS = "seconds"  # since 1970, UTC


class Spaces(enum.StrEnum):
    """What becomes of spaces around a value in a line that is heard."""

    KEEP = "keep"  # they belong to the value
    DROP = "drop"


class AnswerKind(enum.StrEnum):
    """What is said to a line that is understood, or is not."""

    NOTHING = "nothing"
    CONFIRMATION = "confirmation"
    MESSAGE = "message"


class Flow(enum.StrEnum):
    """How one end of a serial line stops the other."""

    NONE = "none"
    HARDWARE = "hardware"  # RTS and CTS
    SOFTWARE = "software"  # XON and XOFF


class Wires(enum.StrEnum):
    """The electrical kind of a serial line."""

    RS232 = "RS-232"
    RS485 = "RS-485"  # two wires: one end speaks at a time
