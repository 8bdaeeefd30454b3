"""The memory of simulated devices: runs of rows, and the window through which they are read."""

from __future__ import annotations

import math
import zlib
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta

import numpy as np

from leitwerk.datasheet.points import Stored
from leitwerk.standins.clock import CLOCK_FORM, DeviceClock

MEMORY_ROWS = 100_000


@dataclass
class StoredRows:
    """Rows of values by slot, since when, and how far apart."""

    started: str
    interval_s: float
    columns: Sequence[str] = ()
    rows: list[list[float]] = field(default_factory=list)
    taken: int = 0
    fetched: bool = False
    # Rows taken and held, and the sum of those that are held.
    _checked: tuple[int, int, int] = (0, 0, 0)

    @property
    def oldest(self) -> str:
        """When the oldest row was stored that is still there: a memory that goes round loses some."""
        lost_s = (self.taken - len(self.rows)) * self.interval_s
        with suppress(ValueError):
            began = datetime.fromisoformat(self.started)
            return (began + timedelta(seconds=lost_s)).strftime(CLOCK_FORM)
        return self.started

    def add(self, row: list[float]) -> None:
        """Store one more row."""
        self.rows.append(row)
        self.taken += 1

    def erase_last(self, count: int) -> None:
        """Take away what the last rows hold; they stay, without a value."""
        for row in self.rows[max(0, len(self.rows) - count) :]:
            row[:] = [math.nan] * len(row)
        self._checked = (0, -1, 0)

    @property
    def check_sum(self) -> int:
        """CRC-32 of the rows that are held, each value as it is shown."""
        taken, held, found = self._checked
        new = self.taken - taken
        if held + new != len(self.rows):  # some were given up: begin anew
            new, found = len(self.rows), 0
        words = np.array(self.rows[len(self.rows) - new :], ">f4").tobytes() if new else b""
        self._checked = self.taken, len(self.rows), zlib.crc32(words, found)
        return self._checked[2]


class RunMemory:
    """The runs of a device that stores a row of the same columns at each interval.

    Parameters
    ----------
    columns : sequence of str
        What the columns are called.
    measure : callable
        Gives a row, for the time in s since its run began.
    clock : callable
        The time in s.
    device_clock : DeviceClock
        What the device takes for the time.
    factor : float
        How much faster than the clock runs go by.

    """

    def __init__(
        self,
        columns: Sequence[str],
        measure: Callable[[float], list[float]],
        clock: Callable[[], float],
        device_clock: DeviceClock,
        factor: float = 1.0,
    ) -> None:
        self.columns = columns
        self.runs: list[StoredRows] = []
        self.selected, self.first = 0, 0
        self._measure, self._clock, self._device_clock = measure, clock, device_clock
        self._factor = factor
        self._since_s: float | None = None
        self.is_paused = False
        self._go_on: Callable[[float], None] | None = None

    @property
    def since_s(self) -> float | None:
        """How long the run has been going on, by its own time."""
        return None if self._since_s is None else (self._clock() - self._since_s) * self._factor

    @property
    def is_recording(self) -> bool:
        """Whether a run goes on."""
        return self._since_s is not None

    def start(self, interval_s: float, go_on: Callable[[float], None] | None = None) -> None:
        """Begin a run; ``go_on`` stores by itself what has fallen due, by the time in s since then."""
        self._since_s, self.is_paused, self._go_on = self._clock(), False, go_on
        if go_on is not None:
            return
        self.runs.append(StoredRows(self._device_clock.text(), interval_s, tuple(self.columns)))
        self.tick()

    def pause(self, *, on: bool) -> None:
        """Store rows without values from now on, or with them again."""
        self.tick()
        self.is_paused = on

    def erase_back(self, seconds: float) -> None:
        """Take away the last piece of the run."""
        self.tick()
        self.runs[-1].erase_last(math.ceil(seconds / self.runs[-1].interval_s))

    def stop(self) -> None:
        """End the run."""
        self.tick()
        self._since_s = None

    def erase(self) -> None:
        """Give up all runs."""
        self.runs.clear()
        self.selected = 0

    def tick(self) -> None:
        """Store the rows that have fallen due; a full memory stores no more."""
        since_s = self.since_s
        if since_s is None:
            return
        if self._go_on is not None:
            self._go_on(since_s)
            return
        run = self.runs[-1]
        free = MEMORY_ROWS - sum(len(r.rows) for r in self.runs[:-1])
        due = int(since_s / run.interval_s)
        while run.taken < min(due, free):
            nothing = [math.nan] * len(run.columns)
            run.add(nothing if self.is_paused else self._measure(run.taken * run.interval_s))

    def shown(self, window: int) -> dict[str, Stored]:
        """What the window shows of the run that is selected; ``window`` values at most."""
        runs = "paused" if self.is_paused else "recording"
        status: dict[str, Stored] = {
            "recording": runs if self.is_recording else "stopped",
            "recordings": float(len(self.runs)),
            "memory.used": 100.0 * sum(len(run.rows) for run in self.runs) / MEMORY_ROWS,
            "recordings.unfetched": float(sum(not run.fetched for run in self.runs)),
            "select": float(self.selected),
            "first": float(self.first),
        }
        if not 1 <= self.selected <= len(self.runs):
            return status
        run = self.runs[self.selected - 1]
        wide = len(run.columns)
        rows = run.rows[self.first : self.first + window // wide]
        if not self.is_recording and self.first + len(rows) >= len(run.rows):
            run.fetched = True
        return status | {
            "started": run.oldest,
            "check_sum": float(run.check_sum),
            "interval": run.interval_s,
            "rows": float(len(run.rows)),
            "columns": float(wide),
            "shown": float(self.first),
            **{f"column.{n}.name": name for n, name in enumerate(run.columns, start=1)},
            **{f"value.{w}": x for w, x in enumerate((x for row in rows for x in row), start=1)},
        }
