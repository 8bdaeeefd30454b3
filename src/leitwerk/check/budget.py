"""The budget of a setup: does the time between two samples, the memory, the battery, the link last.

Plain arithmetic on figures of the datasheet; nothing is asked of a device.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from leitwerk.datasheet.model import Store, Supply
from leitwerk.parsing.durations import DAY_S, duration_text
from leitwerk.parsing.quantities import bytes_text, format_number
from leitwerk.results import Outcome

MONTH_S = 30.0 * DAY_S


@dataclass(frozen=True, slots=True)
class Stream:
    """Channels that share their intervals: how many, and how they are sampled and stored.

    ``kept`` values are stored of each channel in each storage interval, and reported every
    ``report_s``, None where nothing reports.
    """

    name: str
    channels: int
    sample_s: float
    store_s: float
    kept: int = 1
    report_s: float | None = None


@dataclass(frozen=True, slots=True)
class Load:
    """Everything that a setup asks of a device.

    ``scan_s`` is the time for one sample of all channels of the fastest stream, ``bus_s`` that for
    one poll over the link, ``report_bytes`` what a report carries beside its values.
    """

    streams: tuple[Stream, ...]
    scan_s: float = 0.0
    bus_s: float = 0.0
    poll_s: float | None = None
    report_bytes: float = 0.0
    report_value: float = 0.0
    store: Store | None = None
    ring: bool = False
    supply: Supply | None = None
    unattended_s: float | None = None

    @property
    def reports_s(self) -> list[float]:
        """The intervals of all reports; what falls due together is one report."""
        return sorted({s.report_s for s in self.streams if s.report_s is not None})


@dataclass(frozen=True, slots=True)
class Item:
    """One line of a budget. ``used`` and ``available`` are in ``unit``; ``part`` is their ratio.

    What has no limit has ``part`` None. ``nearest`` says what would fit, where it does not.
    """

    name: str
    used: float
    available: float | None
    unit: str
    says: str
    nearest: str = ""

    @property
    def part(self) -> float | None:
        """Used by available."""
        return None if self.available is None else self.used / self.available

    @property
    def fits(self) -> bool:
        """Whether it is enough."""
        return self.part is None or self.part <= 1.0 + 1e-12

    def to_dict(self) -> dict[str, Any]:
        """The line as plain data for JSON."""
        return {
            "item": self.name,
            "used": self.used,
            "available": self.available,
            "unit": self.unit,
            "part": self.part,
            "fits": self.fits,
            "says": self.says,
            "nearest": self.nearest,
        }


@dataclass(frozen=True)
class TimeBudget:
    """All lines, and the moment at which the memory is full when it is started at ``start``."""

    title: str
    items: tuple[Item, ...]
    start: datetime
    zone: ZoneInfo
    full: datetime | None
    empty: datetime | None
    notes: tuple[str, ...] = field(default=())

    @property
    def limiting(self) -> Item | None:
        """The line of which most is used."""
        limited = [item for item in self.items if item.part is not None]
        return max(limited, key=lambda item: item.part or 0.0, default=None)

    @property
    def fits(self) -> bool:
        """Whether everything is enough."""
        return all(item.fits for item in self.items)

    @property
    def outcome(self) -> Outcome:
        """Passed when everything is enough, also when nothing has a limit."""
        return Outcome.PASSED if self.fits else Outcome.FAILED

    @property
    def reasons(self) -> tuple[str, ...]:
        """What is not enough."""
        return tuple(f"{item.name}: {item.says}" for item in self.items if not item.fits)

    def to_dict(self) -> dict[str, Any]:
        """The budget as plain data for JSON."""
        return {
            "title": self.title,
            "fits": self.fits,
            "limiting": self.limiting.name if self.limiting else None,
            "start": self.start.astimezone(self.zone).isoformat(),
            "memory_full": self._local(self.full),
            "battery_empty": self._local(self.empty),
            "items": [item.to_dict() for item in self.items],
        }

    def _local(self, instant: datetime | None) -> str | None:
        return (
            None if instant is None else instant.astimezone(self.zone).isoformat(timespec="minutes")
        )


def bytes_per_second(streams: Sequence[Stream], store: Store) -> float:
    """How fast memory fills."""
    return sum((store.row + s.channels * s.kept * store.value) / s.store_s for s in streams)


def energy_per_second(load: Load, supply: Supply) -> float:
    """The mean power in W: at rest, for samples, for reports.

    Streams whose samples fall together are counted once: what costs is to wake for one.
    """
    power = supply.idle_w
    fastest = min((s.sample_s for s in load.streams), default=None)
    if fastest is not None:
        power += supply.sample_j / fastest
    return power + sum(supply.report_j / report_s for report_s in load.reports_s)


def report_volume(load: Load) -> float:
    """Bytes of the reports of 30 days: each carries the values stored since the last."""
    reported = [s for s in load.streams if s.report_s is not None]
    values = sum(s.channels * s.kept / s.store_s for s in reported) * MONTH_S
    own = sum(load.report_bytes * MONTH_S / report_s for report_s in load.reports_s)
    return own + values * load.report_value


def work_out_budget(title: str, load: Load, start: datetime, zone: ZoneInfo) -> TimeBudget:
    """The budget of a load that is started at a moment.

    Examples
    --------
    >>> load = Load((Stream("all", 8, 10.0, 10.0),), scan_s=0.2, store=Store(4e6, 8.0, 4.0))
    >>> budget = work_out_budget("kiln", load, datetime(2026, 3, 2, tzinfo=UTC), ZoneInfo("UTC"))
    >>> budget.limiting.name, str(budget.full)
    ('scan', '2026-03-13 13:46:40+00:00')

    """
    items: list[Item] = []
    fastest = min((s.sample_s for s in load.streams), default=0.0)
    if load.scan_s and fastest:
        items.append(
            Item(
                "scan",
                load.scan_s,
                fastest,
                "s",
                f"one sample of all channels takes {duration_text(load.scan_s)} of "
                f"{duration_text(fastest)}",
                "" if load.scan_s <= fastest else f"sample every {_round_up(load.scan_s)}",
            )
        )
    if load.bus_s and load.poll_s:
        items.append(
            Item(
                "link",
                load.bus_s,
                load.poll_s,
                "s",
                f"one poll takes {duration_text(load.bus_s)} of {duration_text(load.poll_s)}",
                "" if load.bus_s <= load.poll_s else f"poll every {_round_up(load.bus_s)}",
            )
        )
    full = _memory(load, start, zone, items)
    empty = _battery(load, start, items)
    if load.reports_s:
        volume = report_volume(load)
        items.append(Item("reports", volume, None, "B", f"{bytes_text(volume)} in 30 days"))
    return TimeBudget(title, tuple(items), start, zone, full, empty)


def _memory(load: Load, start: datetime, zone: ZoneInfo, items: list[Item]) -> datetime | None:
    if load.store is None or not load.streams:
        return None
    rate = bytes_per_second(load.streams, load.store)
    lasts = load.store.capacity / rate
    full = _after(start, lasts)
    at = full.astimezone(zone).strftime("%Y-%m-%d at %H:%M") if full else "a day after 9999"
    says = f"{load.store.amount(rate * DAY_S)} a day; "
    says += f"goes round after {duration_text(lasts)}" if load.ring else f"full on {at}"
    wanted = load.unattended_s
    fits = load.ring or wanted is None or lasts >= wanted
    nearest = ""
    if not fits and wanted is not None:
        longer = wanted / lasts
        nearest = f"store {format_number(longer, 3)} times as seldom"
        if len(load.streams) == 1:
            nearest = f"store every {_round_up(load.streams[0].store_s * longer)}"
    items.append(
        Item("memory", rate * (wanted or DAY_S), None if load.ring or wanted is None
             else load.store.capacity, load.store.unit, says, nearest)
    )  # fmt: skip
    return None if load.ring else full


def _battery(load: Load, start: datetime, items: list[Item]) -> datetime | None:
    if load.supply is None:
        return None
    power = energy_per_second(load, load.supply)
    if power <= 0:
        return None
    lasts = load.supply.capacity_j / power
    wanted = load.unattended_s
    nearest = ""
    if wanted is not None and lasts < wanted:
        nearest = _longer_reports(load, load.supply, wanted)
    items.append(
        Item("battery", power * (wanted or DAY_S), None if wanted is None
             else load.supply.capacity_j, "J", f"lasts {duration_text(lasts)}", nearest)
    )  # fmt: skip
    return _after(start, lasts)


def _longer_reports(load: Load, supply: Supply, wanted_s: float) -> str:
    """Which report or sample interval would let the battery last."""
    may = supply.capacity_j / wanted_s - supply.idle_w
    fastest = min((s.sample_s for s in load.streams), default=0.0)
    sampling = supply.sample_j / fastest if fastest else 0.0
    reporting = sum(supply.report_j / report_s for report_s in load.reports_s)
    if len(load.reports_s) == 1 and supply.report_j and may > sampling:
        return f"report every {_round_up(supply.report_j / (may - sampling))}"
    if fastest and may > reporting:
        return f"sample every {_round_up(supply.sample_j / (may - reporting))}"
    return "no interval; it needs another supply"


_NICE_S = (
    0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 20, 30, 60, 120, 300, 600, 900, 1200, 1800, 3600, 7200, 10800,
    14400, 21600, 43200, 86400, 172800, 604800,
)  # fmt: skip


def _round_up(seconds: float) -> str:
    """The next interval that people would write."""
    nice = next((s for s in _NICE_S if s >= seconds * (1 - 1e-12)), None)
    return duration_text(float(nice)) if nice else duration_text(-(-seconds // DAY_S) * DAY_S)


def _after(start: datetime, seconds: float) -> datetime | None:
    try:
        return start.astimezone(UTC) + timedelta(seconds=seconds)
    except OverflowError:
        return None
