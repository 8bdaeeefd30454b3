"""SDI-12 version 1.4: commands, answers and their check, without a port.

A command is ``address body !``; an answer begins with the address of the sensor that answers and ends with
carriage return and line feed.
"""

from __future__ import annotations

import re
from typing import NamedTuple

from leitwerk.errors import LinkError

# "Device addresses": those that a sensor may have, in the order in which they are scanned.
UNITS = "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
BREAK_S = 0.0125  # "Break": the line is held for at least 12 ms to wake the sensors
_MEASURE = re.compile(r"(?:([MC])(C?)[1-9]?|(R)(C?)[0-9])")
_WAIT = re.compile(r"([0-9]{3})([0-9]{1,3})", re.ASCII)
# "Send data": a sign, up to seven digits, and where the point stands among them.
_VALUE = re.compile(r"[+-](?=[0-9.]{1,8}(?![0-9.]))[0-9]{0,7}(?:\.[0-9]{0,7})?", re.ASCII)
_CRC = 3  # characters
_READDRESS = 2


class Measure(NamedTuple):
    """A command that measures: at once (R), bus kept (M), or bus free meanwhile (C)."""

    kind: str
    has_crc: bool


class Wait(NamedTuple):
    """What a sensor says to a measurement: the number of values, and the seconds until they are ready."""

    seconds: int
    values: int


def parse_measure(body: str) -> Measure | None:
    """What kind of measurement a command is, None for other commands.

    Examples
    --------
    >>> parse_measure("MC1"), parse_measure("I")
    (Measure(kind='M', has_crc=True), None)

    """
    match = _MEASURE.fullmatch(body)
    if match is None:
        return None
    return Measure(match[1] or match[3], bool(match[2] or match[4]))


def parse_readdress(body: str) -> str:
    """The new address that a command gives to a sensor, empty when it is another command."""
    return body[1] if len(body) == _READDRESS and body[0] == "A" and body[1] in UNITS else ""


def crc_text(answer: str) -> str:
    """The three characters that check an answer ("Cyclic redundancy check").

    Examples
    --------
    >>> crc_text("0+3.14")
    'OqZ'

    """
    crc = 0
    for byte in answer.encode("latin-1", "replace"):
        crc ^= byte
        for _ in range(8):
            crc = (crc >> 1) ^ 0xA001 if crc & 1 else crc >> 1
    return "".join(chr(0x40 | crc >> shift & 0x3F) for shift in (12, 6, 0))


def parse_answer(line: str, unit: str, *, has_crc: bool = False) -> str:
    """An answer without its address and check characters.

    Raises
    ------
    LinkError
        Another sensor answers, or the check characters are wrong.

    """
    if line[:1] != unit:
        who = (
            f"sensor {line[:1]!r} answered" if line[:1] in UNITS and line else "no sensor's answer"
        )
        raise LinkError(f"{who}: {_shown(line)}", remedy="do two sensors share this address?")
    if not has_crc:
        return line[1:]
    text, check = line[:-_CRC], line[-_CRC:]
    if len(line) <= _CRC or crc_text(text) != check:
        message = f"the check characters of an answer are wrong: {_shown(line)}"
        raise LinkError(message, remedy="look at cable and supply; is something else on the line?")
    return text[1:]


def parse_wait(body: str) -> Wait:
    """How long a measurement takes and how many values it gives.

    Raises
    ------
    LinkError
        It is not such an answer.

    """
    match = _WAIT.fullmatch(body)
    if match is None:
        raise LinkError(f"{_shown(body)} does not say when a measurement is ready")
    return Wait(int(match[1]), int(match[2]))


def split_values(body: str) -> list[str]:
    """The values of a data answer, each with its sign.

    Raises
    ------
    LinkError
        Something in it is not a value.

    Examples
    --------
    >>> split_values("+3.14-7+0.001")
    ['+3.14', '-7', '+0.001']

    """
    values, at = [], 0
    while at < len(body):
        match = _VALUE.match(body, at)
        if match is None or not any(c.isdigit() for c in match[0]):
            raise LinkError(f"{_shown(body)} holds something that is not a value")
        values.append(match[0])
        at = match.end()
    return values


def strip_echo(line: str, command: str) -> str:
    """An answer without the command before it: many converters hear what they say."""
    return line.removeprefix(command)


def _shown(line: str) -> str:
    return repr(line[:60])
