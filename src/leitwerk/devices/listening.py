"""Listening to what the transmitters of a receiver send; nothing is bound by it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from leitwerk.datasheet.model import Datasheet, ReceivedTelegrams
from leitwerk.devices.device import Device
from leitwerk.errors import QuantityError
from leitwerk.links.lines import LineLink
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.wireless.air import Air
from leitwerk.wireless.telegrams import Telegram, TelegramReader

_PIECE_S = 0.05


@dataclass(frozen=True, slots=True)
class HeardTelegram:
    """A telegram and when it was heard, in s on a clock that never goes back."""

    at_s: float
    telegram: Telegram


class Listener:
    """What is heard while a receiver passes telegrams on."""

    def __init__(self, device: Device, read: object, clock: Clock) -> None:
        self._read, self._clock = read, clock
        self.telegrams = telegrams_of_model(device.datasheet)
        self.reader = TelegramReader(self.telegrams.form)
        self.air = Air(self.telegrams.form.counts)

    def hear(self, duration_s: float) -> Iterator[HeardTelegram]:
        """What is heard within a time, as it comes."""
        end = self._clock.monotonic() + duration_s
        while (left := end - self._clock.monotonic()) > 0.0:
            data = self._read(min(left, _PIECE_S))  # type: ignore[operator]
            now = self._clock.monotonic()
            for telegram in self.reader.feed(data):
                self.air.take(now, telegram)
                yield HeardTelegram(now, telegram)

    @property
    def now_s(self) -> float:
        """The time on the clock of what is heard."""
        return self._clock.monotonic()


def telegrams_of_model(datasheet: Datasheet) -> ReceivedTelegrams:
    """How the transmitters of a model are received.

    Raises
    ------
    QuantityError
        It is no receiver.

    """
    if datasheet.telegrams is None:
        raise QuantityError(
            f"{datasheet.model} is no receiver of wireless transmitters",
            valid="a model with a section 'telegrams' in its datasheet",
        )
    return datasheet.telegrams


@contextmanager
def listening(device: Device, clock: Clock = REAL_TIME) -> Iterator[Listener]:
    """Have a receiver pass on what it hears, as long as this lasts.

    Raises
    ------
    QuantityError
        The device is no receiver.
    LinkError
        It was not reached, or did not confirm.

    """
    telegrams_of_model(device.datasheet)
    if not isinstance(device.link, LineLink):
        raise QuantityError(
            f"{device.datasheet.model} passes no telegrams on over {device.link.address}",
            valid="a link of lines of text: text+serial:// or text+tcp://",
        )
    with device.link.streaming() as read:
        yield Listener(device, read, clock)
