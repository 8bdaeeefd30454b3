"""Two pseudo-terminals joined like the two ends of a serial cable."""

from __future__ import annotations

import asyncio
import os
import pty
import tty
from collections.abc import Callable
from typing import Self


class SerialCable:
    """A cable without ports: one end for the simulated device, the other for whoever talks to it.

    ``spoil`` is what happens to the bytes that the device sends; a fault of the line.
    """

    def __init__(self, spoil: Callable[[bytes], bytes] = lambda data: data) -> None:
        self._spoil = spoil
        self._device, device_end = pty.openpty()
        self._client, client_end = pty.openpty()
        for end in (device_end, client_end):
            tty.setraw(end)
        # The far ends stay open here, or a port that is closed would be gone for the next one.
        self._ends = (device_end, client_end)
        self.device_path = os.ttyname(device_end)
        self.client_path = os.ttyname(client_end)

    def __enter__(self) -> Self:
        loop = asyncio.get_running_loop()
        for descriptor in (self._device, self._client):
            os.set_blocking(descriptor, False)
        loop.add_reader(self._device, self._pass, self._device, self._client, self._spoil)
        loop.add_reader(self._client, self._pass, self._client, self._device, lambda data: data)
        return self

    def __exit__(self, *error: object) -> None:
        loop = asyncio.get_running_loop()
        for descriptor in (self._device, self._client):
            loop.remove_reader(descriptor)
            os.close(descriptor)
        for end in self._ends:
            os.close(end)

    @staticmethod
    def _pass(source: int, target: int, change: Callable[[bytes], bytes]) -> None:
        try:
            os.write(target, change(os.read(source, 4096)))
        except (BlockingIOError, OSError):
            return  # a full or closed end loses bytes, as a cable does
