"""Pseudo-terminals in place of serial ports and cables."""

from __future__ import annotations

import asyncio
import contextlib
import os
import pty
import tty
from collections.abc import Callable
from typing import Self

_PIECE = 4096


class SerialPort:
    """The device's end of a serial port; the other end is opened by the client."""

    def __init__(self, receive: Callable[[bytes], None]) -> None:
        self._receive = receive
        self._master, self._far_end = pty.openpty()
        tty.setraw(self._far_end)
        # The far end stays open here, or a port that is closed would be gone for the next one.
        self.path = os.ttyname(self._far_end)

    def __enter__(self) -> Self:
        os.set_blocking(self._master, False)
        asyncio.get_running_loop().add_reader(self._master, self._read)
        return self

    def __exit__(self, *error: object) -> None:
        asyncio.get_running_loop().remove_reader(self._master)
        os.close(self._master)
        os.close(self._far_end)

    def send(self, data: bytes) -> None:
        """Send; what does not fit into a full line is lost, as on a cable."""
        with contextlib.suppress(OSError):
            os.write(self._master, data)

    def _read(self) -> None:
        with contextlib.suppress(OSError):
            self._receive(os.read(self._master, _PIECE))


class SerialCable:
    """A cable between two serial ports, for a device whose server opens a port of its own.

    ``spoil`` is what happens to the bytes that the device sends; a fault of the line.
    """

    def __init__(self, spoil: Callable[[bytes], bytes] = lambda data: data) -> None:
        self._device = SerialPort(lambda data: self._client.send(spoil(data)))
        self._client = SerialPort(self._device.send)
        self.device_path = self._device.path
        self.client_path = self._client.path

    def __enter__(self) -> Self:
        self._device.__enter__()
        self._client.__enter__()
        return self

    def __exit__(self, *error: object) -> None:
        self._client.__exit__(*error)
        self._device.__exit__(*error)
