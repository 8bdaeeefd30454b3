"""Starting a stand-in as a process of its own, and ending it for certain."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Sequence
from itertools import takewhile
from types import TracebackType
from typing import Self

from leitwerk.errors import LeitwerkError
from leitwerk.parsing.address import LinkAddress, parse_address

_END_S = 5.0


class StandIn:
    """A running stand-in. It ends with ``stop``, with its ``with`` block, or with this process."""

    def __init__(self, process: subprocess.Popen[str], addresses: Sequence[LinkAddress]) -> None:
        self.process = process
        self.addresses = tuple(addresses)

    @property
    def address(self) -> LinkAddress:
        """Where it is reached; the first one, when it was started with copies."""
        return self.addresses[0]

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.stop()

    def __repr__(self) -> str:
        return f"StandIn({self.address}, process {self.process.pid})"

    def stop(self) -> None:
        """End the process and wait until it is gone."""
        _end(self.process)


def start_standin(model: str, *words: str) -> StandIn:
    """Start a stand-in on a free port of the loopback address and wait until it answers.

    Parameters
    ----------
    model : str
        A model of which there is a stand-in; or the file of a datasheet, ``mine.yaml``, for a device
        that does what the datasheet says.
    *words : str
        Further models, and options of ``leitwerk standin``, such as ``"--short", "3"``.

    Raises
    ------
    LeitwerkError
        It did not start.

    """
    named = ["--datasheet", model] if model.endswith(".yaml") else [model]
    command = [sys.executable, "-m", "leitwerk.standins", *named, "--with-parent", *words]
    process = subprocess.Popen(  # noqa: S603 - our own module, no shell
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, encoding="utf-8"
    )
    assert process.stdout is not None
    copies = int(words[words.index("--copies") + 1]) if "--copies" in words else 1
    models = 1 + len(list(takewhile(lambda word: not word.startswith("-"), words)))
    addresses = []
    for _ in range(models * copies):
        line = process.stdout.readline()
        address = next((word for word in line.split() if "://" in word), None)
        if address is None:
            _end(process)
            raise LeitwerkError(f"the stand-in {model} did not start: {line.strip()}")
        addresses.append(parse_address(address))
    return StandIn(process, addresses)


def _end(process: subprocess.Popen[str]) -> None:
    # Closing its standard input is the signal to end, the same that the death of this process
    # would give it; so no stand-in is ever left behind.
    for stream in (process.stdin, process.stdout):
        if stream is not None:
            stream.close()
    try:
        process.wait(_END_S)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
