"""Checking when to measure: intervals, the schedule, and whether time, memory and battery last."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta

from leitwerk.check.channels import CheckedChannel, DerivedChannel
from leitwerk.datasheet.model import Datasheet
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.local_time import LocalTime, to_instant
from leitwerk.parsing.quantities import Quantity, format_number
from leitwerk.parsing.units import parse_unit
from leitwerk.rules.schedule import RunPlan, local_text, overlaps, plan_runs
from leitwerk.setup.model import Setup

_SLOW_SHARE = 2.0  # an interval above half the time constant misses what the sensor shows
_FAST_SHARE = 50.0  # below a fiftieth of it nothing new is seen
_PLAN = timedelta(days=400)  # so far ahead overlaps are looked for


def check_intervals(setup: Setup, datasheet: Datasheet, findings: Findings) -> None:
    """The intervals of the setup and of its groups, against the device and each other."""
    sample = _sampling(setup, datasheet, findings)
    _check_order(setup.store, sample, ("store",), "sample", findings)
    _check_order(setup.report, setup.store or sample, ("report",), "store", findings)
    _check_statistics(setup.statistics, setup.store, sample, ("statistics",), findings)
    for name, group in setup.groups.items():
        path = ("groups", name)
        own = group.sample or sample
        for key in ("sample", "report"):
            own_interval = getattr(group, key)
            if own_interval is not None and own_interval != getattr(setup, key):
                findings.error(
                    "cannot-store",
                    (*path, key),
                    f"{datasheet.model} has one {key} interval for all of its channels",
                    valid=f"every {getattr(setup, key)}" if getattr(setup, key) else "",
                    remedy="remove it, or make a setup of its own for another device",
                )
        store = group.store or (None if group.sample else setup.store)
        _check_order(group.store, own, (*path, "store"), "sample", findings)
        _check_order(group.report, group.store or own, (*path, "report"), "store", findings)
        _check_statistics(
            group.statistics or ("last",), store, own, (*path, "statistics"), findings
        )
        if not any(c.group == name for c in setup.channels.values()):
            message = f"no channel is in the group {name}"
            findings.warning("unused-group", path, message, at_key=True)
    for name, channel in setup.channels.items():
        if channel.group is not None and channel.group not in setup.groups:
            valid = ", ".join(setup.groups) or "none is defined"
            message = f"there is no group {channel.group!r}"
            findings.error("unknown-group", ("channels", name, "group"), message, valid=valid)
    _check_integration(setup, datasheet, findings)


def _sampling(setup: Setup, datasheet: Datasheet, findings: Findings) -> Quantity | None:
    if setup.sample is None:
        if datasheet.limits.interval_s is not None and not findings.mentions(("sample",)):
            remedy = "add a line 'sample: every 10 s'"
            findings.error("missing-key", (), "the key 'sample' is missing", remedy=remedy)
        return None
    if datasheet.limits.interval_s is None:
        message = f"{datasheet.model} has no sampling interval to set"
        findings.error("useless-key", ("sample",), message, at_key=True, remedy="remove it")
        return None
    _check_span(setup.sample, datasheet, ("sample",), findings)
    return setup.sample


def _check_span(asked: Quantity, datasheet: Datasheet, path: KeyPath, findings: Findings) -> None:
    assert datasheet.limits.interval_s is not None
    low, high = datasheet.limits.interval_s
    if not low <= asked.seconds <= high:
        nearest = low if asked.seconds < low else high
        findings.error(
            "interval-outside",
            path,
            f"{datasheet.model} cannot sample every {asked}",
            valid=f"{_interval(low)} to {_interval(high)}",
            remedy=f"the nearest it can do is every {_interval(nearest)}",
        )


def _interval(seconds: float) -> str:
    """An interval in the largest unit that gives a whole number."""
    for symbol, length in (("d", 86400.0), ("h", 3600.0), ("min", 60.0)):
        if seconds >= length and seconds % length == 0:
            return f"{format_number(seconds / length)} {symbol}"
    return str(Quantity(seconds, parse_unit("s")))


def _check_order(
    longer: Quantity | None, shorter: Quantity | None, path: KeyPath, other: str, findings: Findings
) -> None:
    """A longer interval is a whole number of shorter ones."""
    if longer is None or shorter is None or shorter.seconds <= 0:
        return
    times = longer.seconds / shorter.seconds
    if times < 1 or abs(times - round(times)) > 1e-9 * times:
        near = max(1, round(times)) * shorter.seconds
        findings.error(
            "intervals-do-not-fit",
            path,
            f"every {longer} is not a whole number of times every {shorter} ({other!r})",
            valid=f"{shorter}, or a multiple of it",
            remedy=f"the nearest is every {_interval(near)}",
        )


def _check_statistics(
    statistics: Sequence[str],
    store: Quantity | None,
    sample: Quantity | None,
    path: KeyPath,
    findings: Findings,
) -> None:
    if set(statistics) <= {"last"} or sample is None or not findings.mentions(path):
        return
    if store is None or store.seconds <= sample.seconds:
        message = "each stored value is a single sample; there is nothing to work statistics from"
        remedy = "let 'store' be longer than 'sample', or remove this"
        findings.warning("statistics-of-one-sample", path, message, remedy=remedy)


def _check_integration(setup: Setup, datasheet: Datasheet, findings: Findings) -> None:
    known = datasheet.timing.integration_s
    asked = setup.integration
    if asked is not None:
        valid = ", ".join(duration_text(s) for s in known)
        if not known:
            message = f"{datasheet.model} has no integration time to set"
            findings.error(
                "useless-key", ("integration",), message, at_key=True, remedy="remove it"
            )
            return
        if not any(math.isclose(asked.seconds, s, rel_tol=1e-9) for s in known):
            message = f"{datasheet.model} cannot measure for {asked}"
            findings.error("unknown-integration", ("integration",), message, valid=valid)
            return
    seconds = asked.seconds if asked else (known[0] if known else None)
    try:
        mains = setup.mains.value_in(parse_unit("Hz"))
    except QuantityError as error:
        findings.error("wrong-unit", ("mains",), error.message, valid="50 Hz, 60 Hz")
        return
    if seconds is None or mains <= 0:
        return
    periods = seconds * mains
    if abs(periods - round(periods)) > 0.01 or round(periods) == 0:
        whole = [s for s in known if abs(s * mains - round(s * mains)) <= 0.01 and s * mains > 0.5]
        findings.warning(
            "mains-not-averaged",
            ("integration",) if asked else ("sample",),
            f"an input is measured for {duration_text(seconds)}, no whole number of mains periods of "
            f"{duration_text(1 / mains)}: hum does not average out",
            valid=", ".join(duration_text(s) for s in whole) or "none of this device's times",
        )


# ---------------------------------------------------------------------- channels


def check_rates(setup: Setup, channels: Sequence[CheckedChannel], findings: Findings) -> None:
    """The interval of each channel against its sensor, and against channels it is compared with."""
    every = {c.name: sample_of(setup, c.name) for c in channels}
    for name, sample in every.items():
        channel = setup.channels[name]
        if channel.time_constant is not None and sample:
            _check_constant(name, channel.time_constant, sample, findings)
    for c in channels:
        if isinstance(c, DerivedChannel) and setup.channels[c.name].inputs is None:
            _check_inputs(c, every, findings)
        for alarm in c.alarms:
            if alarm.other and every.get(alarm.other) != every[c.name]:
                findings.warning(
                    "rates-differ",
                    ("channels", c.name, "alarms", alarm.name),
                    f"{c.name} and {alarm.other} are sampled at different intervals: their "
                    f"difference is one of two moments",
                    at_key=True,
                    remedy="put both into one group",
                )


def _check_inputs(
    channel: DerivedChannel, every: Mapping[str, float | None], findings: Findings
) -> None:
    """A formula whose inputs come at different intervals."""
    rates = {name: sample for name in channel.inputs if (sample := every.get(name))}
    if not rates or min(rates.values()) == max(rates.values()):
        return
    quick, slow = min(rates, key=rates.__getitem__), max(rates, key=rates.__getitem__)
    findings.warning(
        "rates-differ",
        ("channels", channel.name, "computed"),
        f"{quick} comes every {duration_text(rates[quick])}, and {slow} only every "
        f"{duration_text(rates[slow])}: most values are computed from one that is old",
        valid="'inputs: newest within …' says how old it may be, 'inputs: at the slowest' computes as seldom",
        remedy="put both into one group",
    )


def _check_constant(name: str, constant: Quantity, sample: float, findings: Findings) -> None:
    path = ("channels", name, "time_constant")
    tau = constant.seconds
    if sample * _SLOW_SHARE > tau > 0:
        findings.warning(
            "sampled-slowly",
            path,
            f"the sensor follows within {constant}, and is sampled every {duration_text(sample)}: "
            f"what happens between is not seen",
            valid=f"every {duration_text(tau / _SLOW_SHARE)} or faster",
        )
    elif sample * _FAST_SHARE < tau:
        findings.note(
            "sampled-fast",
            path,
            f"the sensor takes {constant} to follow; sampled every {duration_text(sample)} it shows "
            f"the same again and again",
            valid=f"every {duration_text(tau / _FAST_SHARE)} would do",
        )


def sample_of(setup: Setup, channel: str) -> float | None:
    """The interval in s at which a channel is sampled, None where the setup does not say."""
    group = setup.groups.get(setup.channels[channel].group or "")
    sample = (group.sample if group else None) or setup.sample
    return sample.seconds if sample else None


# ---------------------------------------------------------------------- the schedule


def check_schedule(setup: Setup, datasheet: Datasheet, findings: Findings) -> list[RunPlan]:
    """The planned runs: local times that exist, ends after starts, runs that do not overlap."""
    plans = [
        RunPlan(name, run.start, run.stop, run.stores or "") for name, run in setup.schedule.items()
    ]
    if plans and not {"start", "stop"} <= set(datasheet.commands):
        message = f"{datasheet.model} has no commands to start and stop a recording"
        findings.error(
            "cannot-do", ("schedule",), message, at_key=True, remedy="remove the schedule"
        )
    fine = [plan for plan in plans if _has_times(plan, setup, findings)]
    known = [p.start.at for p in fine if p.start.at is not None]
    # From when on is not known here; what is given by the calendar can be compared.
    origin = min(
        (to_instant(t, setup.zone) for t in known), default=datetime(2026, 1, 1, tzinfo=UTC)
    )
    dated = [p for p in fine if p.start.at is not None or p.start.daily_s is not None]
    planned = plan_runs(dated, setup.zone, origin, origin + _PLAN)
    for first, second in overlaps(planned):
        message = (
            f"{second.name} begins at {local_text(second.start, setup.zone)}, while {first.name} "
            f"still records"
        )
        until = first.stop and local_text(first.stop, setup.zone)
        valid = f"from {until}" if until else f"an end for {first.name}"
        findings.error("runs-overlap", ("schedule", second.name), message, at_key=True, valid=valid)
    own = [p for p in fine if not p.stores]
    open_ended = [p for p in own if not p.start.when and p.stop == type(p.stop)()]
    if len(own) > 1:
        for plan in open_ended:
            findings.warning(
                "run-without-end",
                ("schedule", plan.name),
                f"{plan.name} ends by hand only, and others are to follow",
                at_key=True,
                remedy="add a line 'stop: after …'",
            )
    return plans


def _has_times(plan: RunPlan, setup: Setup, findings: Findings) -> bool:
    """Whether a run begins and ends at times that there are, in this order."""
    path = ("schedule", plan.name)
    ends = [
        _instant(local, setup, (*path, key), findings)
        for key, local in (("start", plan.start.at), ("stop", plan.stop.at))
        if local is not None
    ]
    if None in ends:
        return False
    if len(ends) == 2 and ends[1] <= ends[0]:  # type: ignore[operator]
        message = f"it ends at {plan.stop.at}, before it has begun"
        findings.error("run-reversed", (*path, "stop"), message, valid=f"after {plan.start.at}")
        return False
    if plan.stop.after_s == 0:
        findings.error("run-reversed", (*path, "stop"), "it ends as soon as it begins")
        return False
    return True


def clock_text(
    local: LocalTime, setup: Setup, datasheet: Datasheet, path: KeyPath, findings: Findings
) -> str | None:
    """What the clock of the device shows at a local time; None, with a finding, if there is no such time."""
    instant = _instant(local, setup, path, findings)
    if instant is None:
        return None
    zone = UTC if datasheet.clock_is_utc else setup.zone
    return instant.astimezone(zone).strftime("%Y-%m-%d %H:%M:%S")


def _instant(local: LocalTime, setup: Setup, path: KeyPath, findings: Findings) -> datetime | None:
    try:
        return to_instant(local, setup.zone)
    except QuantityError as error:
        findings.error("bad-time", path, error.message, valid=error.valid, remedy=error.remedy)
        return None
