"""The campaigns of the simulated power analyzer: trends as runs, events with waveforms as files."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from leitwerk.standins.clock import CLOCK_FORM
from leitwerk.standins.held_files import HeldFiles
from leitwerk.standins.mains import Net
from leitwerk.standins.memory import MEMORY_ROWS, StoredRows
from leitwerk.standins.operation import HAPPENINGS, RATE_HZ, Found, find_events, waveform
from leitwerk.standins.sampled_files import wave_file

_DAY_S = 86_400.0
_KINDS = {
    "events": ("dip", "swell", "interruption"), "transients": ("transient",), "inrush": ("inrush",),
    "alarms": ("alarm",),
}  # fmt: skip
_FULL_SCALE = (800.0, 1000.0)  # V, A
FLAGGING = ("dip", "swell", "interruption")


@dataclass(frozen=True, slots=True)
class Campaign:
    """A campaign as its settings say it; times in s. A ``lasts_s`` of 0 is until the recording is stopped."""

    stores: str
    start: str
    wait_s: float
    time: str
    lasts_s: float
    every_s: float
    at_most: int

    def windows(self, began: datetime, until_s: float) -> list[tuple[float, float]]:
        """From when to when it stores, in s since the recording began."""
        begin = 0.0
        if self.start == "after":
            begin = self.wait_s
        elif self.start == "at time":
            begin = (datetime.strptime(self.time, CLOCK_FORM) - began).total_seconds()  # noqa: DTZ007
        elif self.start == "daily":
            midnight = began.replace(hour=0, minute=0, second=0)
            first = (midnight - began).total_seconds() + self.wait_s
            days = int((until_s - first) // _DAY_S) + 1
            begins = [first + k * _DAY_S for k in range(max(0, days))]
            return [(at, at + self.lasts_s) for at in begins if at >= 0.0]
        end = begin + self.lasts_s if self.lasts_s else float("inf")
        return [(begin, end)] if begin <= until_s and end > 0.0 else []


class Survey:
    """What one recording stores; ``go_on`` is called with the time since it began."""

    def __init__(
        self,
        campaigns: list[Campaign],
        began: datetime,
        nominal_v: float,
        triggers: Mapping[str, float],
        *,
        net_at: Callable[[float], Net],
        row_at: Callable[[float], list[float]],
        columns: tuple[str, ...],
        runs: list[StoredRows],
        files: HeldFiles,
    ) -> None:
        self._campaigns, self._began, self._nominal_v = campaigns, began, nominal_v
        self._triggers, self._net_at, self._row_at = triggers, net_at, row_at
        self._columns, self._runs, self._files = columns, runs, files
        self._own: dict[tuple[int, float], StoredRows] = {}
        self._waiting = list(HAPPENINGS)
        self._counts = [0] * len(campaigns)
        self._minutes = 0
        self.happened: list[Found] = []
        self._kept: list[Found] = []

    def go_on(self, since_s: float) -> None:
        """Store what has fallen due."""
        while self._waiting and self._waiting[0].at_s + self._waiting[0].lasts_s + 1.0 <= since_s:
            self._happen()
        self._watch_power(since_s)
        for k, campaign in enumerate(self._campaigns):
            if campaign.stores == "trends":
                for begin, end in campaign.windows(self._began, since_s):
                    self._store_rows(k, begin, min(end, since_s))

    def flags(self, begin_s: float, end_s: float) -> bool:
        """Whether an event of the voltage falls into a time."""
        return any(
            e.kind in FLAGGING and e.begin_s < end_s and e.begin_s + e.lasts_s > begin_s
            for e in self.happened
        )

    def _store_rows(self, k: int, begin: float, end: float) -> None:
        begin = max(0.0, begin)
        run, every_s = self._own.get((k, begin)), self._campaigns[k].every_s
        if run is None:
            run = self._own[k, begin] = StoredRows(
                (self._began + timedelta(seconds=begin)).strftime(CLOCK_FORM),
                every_s,
                self._columns,
            )
            self._runs.append(run)
        free = MEMORY_ROWS - sum(len(one.rows) for one in self._runs)
        while begin + (run.taken + 1) * every_s <= end and free > 0:
            free -= 1
            at = begin + run.taken * every_s
            run.add([*self._row_at(at), float(self.flags(at, at + every_s))])

    def _happen(self) -> None:
        one = self._waiting.pop(0)
        begin_s, samples = waveform(
            one, self._net_at(one.at_s), self._triggers["before"], self._triggers["after"]
        )
        found = find_events(begin_s, samples, self._nominal_v, self._triggers)
        kept = [event for event in found if self._is_kept(event)]
        self.happened += found
        self._kept += kept
        if kept:
            began = self._began + timedelta(seconds=begin_s)
            kind = max(kept, key=lambda event: _ORDER.index(event.kind)).kind
            name = f"{began:%Y-%m-%d-%H%M%S}-{began.microsecond // 1000:03d}-{kind}.wav"
            scale = np.repeat(_FULL_SCALE, 3)
            text = f"{_FULL_SCALE[0]:g} V, {_FULL_SCALE[1]:g} A"
            self._files.content[name] = wave_file(samples / scale, RATE_HZ, began, text)
            self._list_events()

    def _watch_power(self, since_s: float) -> None:
        """An alarm when the mean power of a minute is too high; it lasts until it is not."""
        if not any(c.stores == "alarms" for c in self._campaigns):
            return
        while (self._minutes + 1) * 60.0 <= since_s:
            at_s, self._minutes = self._minutes * 60.0, self._minutes + 1
            net = self._net_at(at_s)
            pairs = zip(net.voltages, net.currents, strict=True)
            watts = sum((u * i.conjugate()).real for u, i in pairs)
            event = Found("alarm", at_s, 60.0, (1, 2, 3), watts / 1e3)
            if watts / 1e3 > self._triggers["power"] and self._is_kept(event):
                self._kept.append(event)
                self._list_events()

    def _is_kept(self, event: Found) -> bool:
        for k, campaign in enumerate(self._campaigns):
            windows = campaign.windows(self._began, event.begin_s)
            if (
                event.kind in _KINDS.get(campaign.stores, ())
                and any(begin <= event.begin_s < end for begin, end in windows)
                and self._counts[k] < campaign.at_most
            ):
                self._counts[k] += 1
                return True
        return False

    def _list_events(self) -> None:
        lines = ["begin,duration_s,kind,phases,extreme"]
        for event in self._kept:
            at = self._began + timedelta(seconds=event.begin_s)
            phases = " ".join(map(str, event.phases))
            lines.append(
                f"{at:%Y-%m-%d %H:%M:%S}.{at.microsecond // 1000:03d},{event.lasts_s:.4f},"
                f"{event.kind},{phases},{event.extreme:.2f}"
            )
        name = f"{self._began:%Y-%m-%d-%H%M%S}-events.csv"
        self._files.content[name] = ("\n".join(lines) + "\n").encode()


_ORDER = ("alarm", "transient", "inrush", "swell", "dip", "interruption")
