"""What Leitwerk does in the device's place: one warning for each subject, with when it does it."""

from __future__ import annotations

from collections.abc import Sequence

from leitwerk.check.channels import CheckedChannel, measured
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import (
    BAND_END,
    STORAGE_INTERVAL,
    STORAGE_STATISTICS,
    WATCHDOG_AFTER,
)
from leitwerk.findings import Findings, KeyPath
from leitwerk.rules.definition import MOVES, Rule
from leitwerk.setup.model import Setup

_RULE = "host-only"
_NAMED = 8  # of many, that are worth naming
_ATTEND = "only while 'leitwerk attend' runs"


def host_alarms(channels: Sequence[CheckedChannel]) -> list[str]:
    """The full names of the alarms that the device does not watch itself."""
    watched = {(c.name, alarm.name) for c in channels for alarm in c.device_alarms}
    return [
        f"{c.name}.{alarm.name}"
        for c in channels
        for alarm in c.alarms
        if (c.name, alarm.name) not in watched
    ]


def warn_host_work(
    setup: Setup, datasheet: Datasheet, channels: Sequence[CheckedChannel], findings: Findings
) -> None:
    """One warning for alarms, bands, storage, rules and the schedule that the device does not do."""
    model = datasheet.model
    if alarms := host_alarms(channels):
        _warn(
            _alarm_place(alarms[0], findings),
            f"{model} does not watch {_named(alarms)} itself: Leitwerk does, {_ATTEND}",
            findings,
        )
    banded = [c for c in channels if c.bands is not None]
    by_device = measured(banded)[:1] if datasheet.has(BAND_END) else ()
    shown_here = [c.name for c in banded if c not in by_device]
    if shown_here:
        what = (
            f"{model} does not show the bands of {_named(shown_here)}: Leitwerk does, in live views"
        )
        _warn(("channels", shown_here[0], "bands"), what, findings)
    condensed = [
        path
        for path, asked in _stored_otherwise(setup, datasheet)
        if asked and findings.mentions(path)
    ]
    if condensed:
        keys = _named([".".join(path) for path in condensed])
        what = f"{model} does not work {keys}: 'leitwerk condense' does, from a fetched recording"
        _warn(condensed[0], what, findings)
    if any(run.stores is None for run in setup.schedule.values()):
        what = f"{model} keeps no schedule: Leitwerk starts and stops its runs, {_ATTEND}"
        _warn(("schedule",), what, findings)
    if setup.rules:
        _warn(("rules",), f"{model} follows no rules: Leitwerk does, {_ATTEND}", findings)


def warn_watchdog(
    setup: Setup, datasheet: Datasheet, rules: Sequence[Rule], findings: Findings
) -> None:
    """Rules switch outputs, and the device is not told to release them when no requests come."""
    moving = [rule.name for rule in rules if any(isinstance(a, MOVES) for a in rule.actions)]
    if not moving or not datasheet.has(WATCHDOG_AFTER) or WATCHDOG_AFTER.name in setup.settings:
        return
    findings.warning(
        "no-watchdog",
        ("rules", moving[0]),
        f"{moving[0]} switches an output; if this computer fails, it stays as it is",
        at_key=True,
        valid=f"settings: {{{WATCHDOG_AFTER.name}: 60 s}}",
        remedy=f"{datasheet.model} can act by itself when it receives no requests: set that, and test it "
        "with 'leitwerk watchdog'",
    )


def _stored_otherwise(setup: Setup, datasheet: Datasheet) -> list[tuple[KeyPath, bool]]:
    """Wishes about storing, and whether they are ones that the device does not fulfil."""
    found: list[tuple[KeyPath, bool]] = [
        (("statistics",), not datasheet.has(STORAGE_STATISTICS)),
        (("store",), not datasheet.has(STORAGE_INTERVAL)),
    ]
    for name in setup.groups:
        found += [(("groups", name, key), True) for key in ("store", "statistics")]
    return found


def _alarm_place(name: str, findings: Findings) -> KeyPath:
    """Where an alarm stands in the file; one of a limit set stands at the use of the set."""
    channel, _, alarm = name.partition(".")
    own = ("channels", channel, "alarms", alarm)
    return own if findings.mentions(own) else ("channels", channel, "limits")


def _named(names: Sequence[str]) -> str:
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    return ", ".join(names[:_NAMED]) + more


def _warn(path: KeyPath, message: str, findings: Findings) -> None:
    findings.warning(_RULE, path, message, at_key=True)
