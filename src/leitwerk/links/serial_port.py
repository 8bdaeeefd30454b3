"""Serial ports: opening one, and saying why it does not open."""

from __future__ import annotations

import errno
import os
import struct
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from leitwerk.errors import NotReached
from leitwerk.exchange.terms import Flow
from leitwerk.parsing.address import LinkAddress

if TYPE_CHECKING:
    import serial


# linux/serial.h, serial_icounter_struct: cts, dsr, rng, dcd, rx, tx, frame, and others after them.
_TIOCGICOUNT, _COUNTERS, _FRAMING = 0x545D, 20, 6


def open_port(address: LinkAddress, what: str, flow: Flow = Flow.NONE) -> serial.Serial:
    """The serial port of an address, set to its line and held exclusively.

    Raises
    ------
    NotReached
        It does not open; ``what`` was to be asked there.

    """
    import serial  # noqa: PLC0415 - only where a port is used

    line = address.line
    try:
        return serial.Serial(
            address.serial_port, line.baud, line.data_bits, line.parity, line.stop_bits,
            timeout=0.0, exclusive=True,
            rtscts=flow is Flow.HARDWARE, xonxoff=flow is Flow.SOFTWARE,
        )  # fmt: skip
    except Exception as error:
        # A pseudo-terminal that knows no parity answers with termios.error, which is no OSError.
        why, remedy = why_port_fails(address.serial_port)
        raise NotReached(f"{address}: {why} ({what})", remedy=remedy) from error


def why_port_fails(path: str) -> tuple[str, str]:
    """What is wrong with a serial port, and what to do: missing, forbidden, busy."""
    import serial  # noqa: PLC0415 - only when something is wrong

    try:
        serial.Serial(path, exclusive=True).close()
    except (serial.SerialException, OSError, ValueError) as error:
        code = getattr(error, "errno", None) or getattr(error.__cause__, "errno", None)
    else:
        return "it cannot be set to this line", "look at the line settings in the address"
    if code in {errno.ENOENT, errno.ENXIO, errno.ENODEV} or not Path(path).exists():
        return "there is no such port", "is the converter plugged in, is this its name?"
    if code in {errno.EACCES, errno.EPERM}:
        return "this user may not open it", "join the group that owns the port, often dialout"
    if code in {errno.EBUSY, errno.EAGAIN}:
        return "another program holds it", "end the other program, then try again"
    return "it is not a serial port, or broken", "is this the right name?"


def framing_errors(path: str) -> int:
    """Framing errors that the driver has counted on a port; 0 if it does not count them.

    Linux counts them in the drivers of real ports. They come from another baud rate than ours.
    """
    if not path.startswith("/dev/") or not sys.platform.startswith("linux"):
        return 0
    import fcntl  # noqa: PLC0415 - not on every system

    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_NOCTTY | os.O_NONBLOCK)
    except OSError:
        return 0
    try:
        counts = fcntl.ioctl(descriptor, _TIOCGICOUNT, bytes(4 * _COUNTERS))
    except OSError:
        return 0  # a pseudo-terminal, or a driver that does not count
    finally:
        os.close(descriptor)
    counted: int = struct.unpack(f"{_COUNTERS}i", counts)[_FRAMING]
    return counted
