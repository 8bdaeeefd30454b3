"""What a setup asks of a device in time, memory and energy, and whether that is there."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime

from leitwerk.check.budget import Load, Stream, TimeBudget, work_out_budget
from leitwerk.check.channels import CheckedChannel, SignalChannel, measured
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.register_points import RegisterPoint
from leitwerk.datasheet.text_points import TextPoint
from leitwerk.datasheet.vocabulary import STORAGE_STATISTICS
from leitwerk.findings import Findings
from leitwerk.protocols.modbus import plan_reads
from leitwerk.setup.model import Setup

# Start, 8 data, parity or second stop, stop (Modbus over serial line V1.02, 2.5.1).
_BITS_PER_CHARACTER = 11
_SILENCE = 3.5  # characters between two frames (2.5.1.1)
_FRAME = 4  # bytes around the data of a frame: unit, function, check sum


def load_of(
    setup: Setup,
    datasheet: Datasheet,
    channels: Sequence[CheckedChannel],
    *,
    poll_s: float | None = None,
    baud: int | None = None,
) -> Load:
    """What a setup asks of a device.

    Parameters
    ----------
    poll_s : float, in s, optional
        How often it is polled over its link.
    baud : int, in bit/s, optional
        The speed of a serial line; none for a network.

    """
    own, value = datasheet.report_bytes or (0, 0)
    return Load(
        streams=tuple(_streams(setup, datasheet, channels)),
        scan_s=_scan(setup, datasheet, channels),
        bus_s=_poll_time(datasheet, channels, baud) if poll_s else 0.0,
        poll_s=poll_s,
        report_bytes=float(own),
        report_value=float(value),
        store=datasheet.memory,
        ring=setup.when_full == "overwrite",
        supply=datasheet.battery,
        unattended_s=setup.autonomy.seconds if setup.autonomy else None,
    )


def _streams(
    setup: Setup, datasheet: Datasheet, channels: Sequence[CheckedChannel]
) -> Iterator[Stream]:
    # A device that keeps no statistics keeps one value of each channel.
    works_them = datasheet.has(STORAGE_STATISTICS) or not datasheet.memory
    names = {c.name for c in measured(channels)}
    for group in (None, *setup.groups):
        own = setup.groups.get(group or "")
        count = sum(setup.channels[name].group == group for name in names)
        sample = (own.sample if own else None) or setup.sample
        if not count or sample is None or sample.seconds <= 0:
            continue
        inherited = setup.store if own is None or own.sample is None else None
        store = (own.store if own else None) or inherited or sample
        keep = (own.statistics if own else None) or setup.statistics
        kept = len(keep) if works_them else 1
        report = (own.report if own else None) or setup.report
        reports_s = report.seconds if report else None
        yield Stream(group or "all", count, sample.seconds, store.seconds, kept, reports_s)


def _scan(setup: Setup, datasheet: Datasheet, channels: Sequence[CheckedChannel]) -> float:
    """The time of one scan: all analog channels that are due at the fastest interval."""
    timing = datasheet.timing
    if not timing.integration_s:
        return 0.0
    integration = setup.integration.seconds if setup.integration else timing.integration_s[0]
    analog = [c for c in channels if isinstance(c, SignalChannel)]
    each = timing.settling_s + integration + timing.switching_s
    return len(analog) * each


def _poll_time(datasheet: Datasheet, channels: Iterable[CheckedChannel], baud: int | None) -> float:
    """How long it takes to ask for the values of all channels and to hear them."""
    own = measured(channels)
    every = [p for c in own for p in (c.value_point(datasheet), c.quality_point(datasheet))]
    requests = plan_reads([p for p in every if isinstance(p, RegisterPoint)], datasheet.max_gap)
    # What is not in registers is queried, once for all that one answer holds.
    questions = {p.query for p in every if isinstance(p, TextPoint)}
    seconds = (len(requests) + len(questions)) * datasheet.timing.response_s
    if baud:
        # A request of 8 bytes and an answer of 5 and two for each register, each after a silence.
        characters = sum(_FRAME + 4 + _FRAME + 1 + 2 * r.count + 2 * _SILENCE for r in requests)
        seconds += characters * _BITS_PER_CHARACTER / baud
    return seconds


def check_budget(
    setup: Setup, datasheet: Datasheet, channels: Sequence[CheckedChannel], findings: Findings
) -> None:
    """What does not fit is a finding, with the nearest that would."""
    if not channels:
        return
    start = datetime(2026, 1, 1, tzinfo=UTC)
    budget = work_out_budget(setup.title, load_of(setup, datasheet, channels), start, setup.zone)
    places = {"scan": ("sample",), "memory": ("autonomy",), "battery": ("autonomy",)}
    for item in budget.items:
        if item.fits:
            continue
        what = {
            "scan": item.says,
            "memory": f"the memory does not last for {setup.autonomy}: {item.says.split(';')[0]}",
            "battery": f"the battery does not last for {setup.autonomy}: it {item.says}",
        }[item.name]
        findings.error(
            f"{item.name}-budget",
            places[item.name],
            what,
            valid=item.nearest,
            remedy="leitwerk budget shows what takes how much",
        )


def setup_budget(
    setup: Setup,
    datasheet: Datasheet,
    channels: Sequence[CheckedChannel],
    start: datetime,
    *,
    poll_s: float | None = None,
    baud: int | None = None,
) -> TimeBudget:
    """The budget of a setup that is started at a moment; see ``load_of`` for the rest."""
    load = load_of(setup, datasheet, channels, poll_s=poll_s, baud=baud)
    return work_out_budget(setup.title, load, start, setup.zone)


def full_after_s(
    setup: Setup, datasheet: Datasheet, channels: Sequence[CheckedChannel]
) -> float | None:
    """How long the memory takes to fill, None when it overwrites, or there is no memory."""
    start = datetime(2026, 1, 1, tzinfo=UTC)
    full = setup_budget(setup, datasheet, channels, start).full
    return None if full is None else (full - start).total_seconds()
