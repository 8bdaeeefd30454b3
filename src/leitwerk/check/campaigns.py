"""Campaigns that an analyzer carries out by itself, and the triggers of its events."""

from __future__ import annotations

from collections.abc import Iterator

from leitwerk.check.campaign_memory import TRENDS, rows_at_most, usual_most
from leitwerk.check.settings import Wanted, cleared_parts
from leitwerk.check.timing import clock_text
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import (
    CAMPAIGN_EVERY,
    CAMPAIGN_LASTS,
    CAMPAIGN_MOST,
    CAMPAIGN_NAME,
    CAMPAIGN_START,
    CAMPAIGN_STORES,
    CAMPAIGN_TIME,
    CAMPAIGN_WAIT,
    TRIGGERS,
)
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.local_time import to_instant
from leitwerk.parsing.units import parse_unit
from leitwerk.setup.model import Setup
from leitwerk.setup.timing import Run
from leitwerk.setup.triggers import Triggers

_WEEK = 7
_UNITS = {"inrush": "A", "power": "kW", "before": "ms", "after": "ms"}
_AT_ONCE, _AFTER, _AT_TIME, _DAILY = CAMPAIGN_START.choices


def campaign_settings(setup: Setup, datasheet: Datasheet, findings: Findings) -> Iterator[Wanted]:
    """The settings for campaigns and triggers; what is wrong about them is a finding."""
    campaigns = {name: run for name, run in setup.schedule.items() if run.stores}
    family = datasheet.family(CAMPAIGN_STORES)
    places = () if family is None else tuple(family.indices)
    if campaigns and not places:
        findings.error(
            "cannot-do", ("schedule", next(iter(campaigns)), "stores"),
            f"{datasheet.model} stores nothing by itself", at_key=True,
            valid="without 'stores', Leitwerk starts and stops the recording",
        )  # fmt: skip
        return
    if len(campaigns) > len(places):
        findings.error(
            "too-many-campaigns", ("schedule", [*campaigns][len(places)]),
            f"{datasheet.model} has {len(places)} campaigns, this setup has {len(campaigns)}",
            at_key=True, valid=f"at most {len(places)}",
        )  # fmt: skip
        return
    for k, (name, run) in zip(places, campaigns.items(), strict=False):
        yield from _campaign(k, name, run, setup, datasheet, findings)
    if campaigns:
        yield from cleared_parts(CAMPAIGN_STORES, places[len(campaigns) :], datasheet)
        _check_memory(setup, datasheet, findings)
    yield from _triggers(setup.triggers or Triggers(), setup, datasheet, findings)


def _campaign(
    k: int, name: str, run: Run, setup: Setup, datasheet: Datasheet, findings: Findings
) -> Iterator[Wanted]:
    path: KeyPath = ("schedule", name)
    stores = str(run.stores)
    if stores not in datasheet.campaigns:
        findings.error("cannot-do", (*path, "stores"), f"{datasheet.model} stores no {stores}",
                       valid=", ".join(datasheet.campaigns))  # fmt: skip
        return
    if run.every is not None and stores != TRENDS:
        findings.error("bad-value", (*path, "every"), f"{stores} come when they come",
                       remedy="leave out 'every'; 'at_most' says how many are stored")  # fmt: skip
    if run.at_most is not None and stores == TRENDS:
        findings.error("bad-value", (*path, "at_most"), "trends are stored as long as they last",
                       remedy="leave out 'at_most'; 'stop' says when they end")  # fmt: skip
    yield Wanted(CAMPAIGN_NAME, k, name, path)
    yield Wanted(CAMPAIGN_STORES, k, stores, (*path, "stores"))
    yield from _start(k, run, setup, datasheet, path, findings)
    lasts = _lasts_s(run, setup, path, findings)
    if lasts is not None:
        yield Wanted(CAMPAIGN_LASTS, k, lasts, (*path, "stop"), "s")
    if stores == TRENDS:
        every = run.every or setup.store
        if every is None:
            findings.error("missing-key", path, "the interval of the trends is missing", at_key=True,
                           valid="every: 10 min")  # fmt: skip
            return
        yield Wanted(CAMPAIGN_EVERY, k, every.seconds, (*path, "every"), "s")
    else:
        most = run.at_most or usual_most(datasheet, stores)
        yield Wanted(CAMPAIGN_MOST, k, float(most), (*path, "at_most") if run.at_most else ())


def _start(
    k: int, run: Run, setup: Setup, datasheet: Datasheet, path: KeyPath, findings: Findings
) -> Iterator[Wanted]:
    start, place = run.start, (*path, "start")
    if start.when is not None:
        findings.error("cannot-do", place, f"a campaign of {datasheet.model} begins at a time",
                       valid="at once; after 10 min; 2026-03-02 06:00; daily at 22:00")  # fmt: skip
        return
    if start.at is not None:
        shown = clock_text(start.at, setup, datasheet, place, findings)
        yield Wanted(CAMPAIGN_START, k, _AT_TIME, place)
        if shown is not None:
            yield Wanted(CAMPAIGN_TIME, k, shown, place)
    elif start.wait_s is not None:
        yield Wanted(CAMPAIGN_START, k, _AFTER, place)
        yield Wanted(CAMPAIGN_WAIT, k, start.wait_s, place, "s")
    elif start.daily_s is not None:
        yield Wanted(CAMPAIGN_START, k, _DAILY, place)
        yield Wanted(CAMPAIGN_WAIT, k, float(start.daily_s), place, "s")
    else:
        yield Wanted(CAMPAIGN_START, k, _AT_ONCE, place if "start" in run.model_fields_set else ())


def _lasts_s(run: Run, setup: Setup, path: KeyPath, findings: Findings) -> float | None:
    """How long a campaign lasts in s, 0 until the end of the recording; None, with a finding, otherwise."""
    if run.stop.after_s is not None:
        return run.stop.after_s
    if run.stop.at is None:
        return 0.0
    if run.start.at is None:
        findings.error(
            "bad-value", (*path, "stop"), "it ends at a time, and begins at none that is known before",
            valid="a start such as 2026-03-02 06:00, or 'stop: after 7 d'",
        )  # fmt: skip
        return None
    try:
        ends, begins = (to_instant(t, setup.zone) for t in (run.stop.at, run.start.at))
    except QuantityError:
        return None  # the check of the schedule has said so
    return max(0.0, (ends - begins).total_seconds())


def _triggers(
    triggers: Triggers, setup: Setup, datasheet: Datasheet, findings: Findings
) -> Iterator[Wanted]:
    """Thresholds in %, A, kW and ms; what is not typed is set as well, so that nothing is left of before."""
    typed = triggers.model_fields_set if setup.triggers is not None else set()
    for key, known in TRIGGERS.items():
        quantity, path = getattr(triggers, key), ("triggers", key)
        if quantity is None or not (key in typed or datasheet.has(known)):
            continue
        unit = _UNITS.get(key, "%")
        try:
            value = quantity.value_in(parse_unit(unit))
        except QuantityError as error:
            findings.error("wrong-unit", path, error.message, valid=f"a number of {unit}")
            continue
        yield Wanted(known, None, value, path if key in typed else (), unit)
    parts = [getattr(triggers, key) for key in ("interruption", "dip", "swell")]
    if all(str(part.unit) == "%" for part in parts):
        low, dip, swell = (part.value for part in parts)
        if not 0.0 < low < dip < 100.0 < swell:
            findings.error(
                "bad-value", ("triggers",), "these thresholds find no events", at_key=True,
                valid="interruption below dip below 100 % below swell",
            )  # fmt: skip


# ---------------------------------------------------------------------- memory


def _check_memory(setup: Setup, datasheet: Datasheet, findings: Findings) -> None:
    """Whether what campaigns take at most fits into the memory; a week of those that come daily."""
    if datasheet.memory is None:
        return
    takes: dict[str, float] = {}
    for name, run in setup.schedule.items():
        if run.stores in datasheet.campaigns:
            lasts_s = _lasts_s(run, setup, ("schedule", name), Findings(findings.file))
            days = _WEEK if run.start.daily_s is not None and run.stores == TRENDS else 1
            takes[name] = days * (rows_at_most(run, lasts_s, setup, datasheet) or 0.0)
    capacity = datasheet.memory.capacity
    if sum(takes.values()) > capacity:
        most = max(takes, key=takes.__getitem__)
        text = ", ".join(f"{name} {rows:,.0f}" for name, rows in takes.items())
        findings.error(
            "memory-budget", ("schedule", most),
            f"the campaigns take {sum(takes.values()):,.0f} rows of memory at most ({text})",
            at_key=True, valid=f"at most {capacity:,.0f} rows together",
            remedy="a longer interval of the trends, or 'at_most' for events",
        )  # fmt: skip
