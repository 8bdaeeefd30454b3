"""Watching devices: each is read again and again into its board, and to whoever takes its samples."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.check.checked import CheckedSetup
from leitwerk.datasheet.settings import SettingChange, diff_settings
from leitwerk.devices.device import Device
from leitwerk.errors import LeitwerkError, LinkError
from leitwerk.identity import Identity
from leitwerk.monitoring.live_board import LiveBoard
from leitwerk.monitoring.poller import Poller
from leitwerk.monitoring.silences import Silences
from leitwerk.project.clock import REAL_TIME, Clock, SteadyTime
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class TakenSample:
    """One look at a device. ``values`` and ``qualities`` have shape (n_channels,), in the channels' units.

    ``time_s`` is in s since 1970-01-01 UTC. Where the device did not answer, ``error`` says why, and the
    qualities say so, too.
    """

    time_s: float
    values: NDArray[np.float64]
    qualities: NDArray[np.uint8]
    error: str = ""


class DeviceWatch:
    """Reads one device, and goes on when it falls silent.

    Parameters
    ----------
    setup : CheckedSetup
    device : Device
    clock : Clock
        Where the time comes from.
    capacity : int, optional
        So many samples are kept.

    Raises
    ------
    WrongDevice
        Another device answered.
    LinkError, DeviceRefused
        The device was not reached, or refused.

    """

    def __init__(
        self,
        setup: CheckedSetup,
        device: Device,
        *,
        clock: Clock = REAL_TIME,
        capacity: int | None = None,
    ) -> None:
        self.setup, self.device, self.clock = setup.require(), device, clock
        self.identity: Identity = device.require(
            setup.setup.device.model, setup.setup.device.serial
        )
        self.changes: Sequence[SettingChange] = diff_settings(
            device.read_settings(), setup.settings, device.datasheet
        )
        self.board = LiveBoard(setup, self.changes, capacity=capacity)
        self.silences = Silences()
        self.started: datetime = clock.now()
        self.lock: AbstractContextManager[object] = nullcontext()
        self._steady = SteadyTime(clock)
        self.begins_s = self._steady.now()
        self._poller = Poller(device, self.board.worked.measured)

    def take(self) -> TakenSample:
        """Read the device once. What is read is put on the board under ``lock``.

        Raises
        ------
        WrongDevice, DeviceRefused
            Another device answers now, or it refuses.

        """
        try:
            shown, codes, junction = self._poller.poll()
        except LinkError as error:
            with self.lock:
                return self._silent(error.message)
        time_s = self._steady.now()
        local = self.clock.now().astimezone(self.setup.setup.zone)
        since_midnight = local.hour * 3600 + local.minute * 60 + local.second
        with self.lock:
            self.silences.over(time_s - self.begins_s)
            values, qualities = self.board.take(
                time_s, shown, codes, junction, time_of_day_s=since_midnight
            )
        return TakenSample(time_s, values, qualities)

    def _silent(self, why: str) -> TakenSample:
        time_s = self._steady.now()
        self.silences.at(time_s - self.begins_s, why)
        self.board.take_silence(why)
        size = len(self.board.channels)
        lost = np.full(size, np.uint8(Quality.NO_ANSWER))
        return TakenSample(time_s, np.full(size, np.nan), lost, why)


Taken = Callable[[DeviceWatch, TakenSample], None]


class Watching:
    """Several devices, each read by a thread of its own until the end.

    What reads the boards, or changes something, holds ``lock``. ``on_sample`` is called under it. A device
    that is another one than before, or that refuses, is not read any more: ``ended`` says why.
    """

    def __init__(
        self,
        watches: Sequence[DeviceWatch],
        period_s: float,
        on_sample: Taken = lambda watch, sample: None,
    ) -> None:
        self.watches, self.on_sample = tuple(watches), on_sample
        self.lock = threading.RLock()
        self.ended: dict[int, LeitwerkError] = {}
        self.failure: Exception | None = None
        self._period_s = period_s
        self._stopped = False
        self._change = threading.Condition()
        self._threads: list[threading.Thread] = []

    def start(self) -> None:
        """Begin to read."""
        for number, watch in enumerate(self.watches):
            watch.lock = self.lock
            thread = threading.Thread(target=self._run, args=(number, watch), daemon=True)
            self._threads.append(thread)
            thread.start()

    def stop(self, timeout_s: float = 10.0) -> None:
        """End it, and wait until no thread reads any more."""
        with self._change:
            self._stopped = True
            self._change.notify_all()
        for thread in self._threads:
            thread.join(timeout_s)

    @property
    def period_s(self) -> float:
        """The time from one sample to the next."""
        return self._period_s

    @period_s.setter
    def period_s(self, period_s: float) -> None:
        with self._change:
            self._period_s = period_s
            self._change.notify_all()

    @property
    def is_over(self) -> bool:
        """Whether nothing is read any more."""
        return self._stopped or not any(thread.is_alive() for thread in self._threads)

    def wait(self, seconds: float | None = None) -> None:
        """Wait until it is over, or for so long; raises what a thread failed with.

        Raises
        ------
        Exception
            Whatever ``on_sample`` raised.

        """
        with self._change:
            self._change.wait_for(lambda: self.is_over, seconds)
        if self.failure is not None:
            raise self.failure

    def _run(self, number: int, watch: DeviceWatch) -> None:
        try:
            due_s = watch.clock.monotonic()
            while self._waits_until(due_s, watch.clock):
                sample = watch.take()
                with self.lock:
                    self.on_sample(watch, sample)
                due_s = max(due_s + self._period_s, watch.clock.monotonic() - self._period_s)
        except LeitwerkError as error:
            with self.lock:
                self.ended[number] = error
                watch.board.take_silence(error.message)
        except Exception as error:  # noqa: BLE001 - it is raised where the watch is waited for
            self.failure = error
            self._stopped = True
        with self._change:
            self._change.notify_all()

    def _waits_until(self, due_s: float, clock: Clock) -> bool:
        """Wait until a sample is due, or sooner if the period was made shorter; False at the end."""
        with self._change:
            while not self._stopped:
                pause = min(due_s - clock.monotonic(), self._period_s)
                if pause <= 0.0:
                    return True
                self._change.wait(pause)
                if self._period_s < due_s - clock.monotonic():
                    due_s = clock.monotonic()
        return False
