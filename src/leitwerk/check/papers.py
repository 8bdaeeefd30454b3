"""Checking what reports are to judge: each channel and alarm has to be there, in a unit that fits."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from leitwerk.check.channels import CheckedChannel
from leitwerk.errors import DomainError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.units import Unit
from leitwerk.setup.model import Setup
from leitwerk.setup.papers import Exposure, JudgedGroup, Papers, Totals
from leitwerk.setup.sound import Sound

_DAY_S = 86_400.0


def check_papers(setup: Setup, channels: Sequence[CheckedChannel], findings: Findings) -> None:
    """Findings for what the section ``papers`` names, and the setup does not have."""
    if setup.papers is None:
        return
    papers = setup.papers
    _check_groups(papers.judged, channels, findings)
    known = {channel.name: channel for channel in channels}
    for path, name in _channels_of(papers):
        channel = known.get(name)
        if channel is None or channel.states is not None:
            what = (
                "there is no channel" if channel is None else "the values are states of the channel"
            )
            valid = ", ".join(c.name for c in channels if c.states is None)
            findings.error(
                "unknown-channel", path, f"{what} {name[:60]!r}", valid=valid or "no channel"
            )
        elif path[1] == "shares":
            unit = papers.shares[path[2]].within.unit
            _check_unit((*path[:3], "within"), channel, unit, findings)
        elif path[1] == "exposure" and str(channel.unit) != "dB":
            message = f"the levels of {name} are in {channel.unit}"
            findings.error("wrong-unit", path, message, valid="a channel in dB")
    for name, share in papers.shares.items():
        whole = float(share.each.seconds)
        if not whole.is_integer() or not 1.0 <= whole <= _DAY_S or _DAY_S % whole:
            place = ("papers", "shares", name, "each")
            findings.error("intervals-do-not-fit", place, f"{share.each} does not divide a day",
                           valid="10 s, 1 min, 10 min, 2 h")  # fmt: skip
    if papers.totals is not None:
        _check_tariffs(papers.totals, setup, findings)
    if papers.exposure is not None:
        _check_levels(papers.exposure, findings)
        _check_weightings(setup.sound, papers.exposure, findings)


def _check_tariffs(totals: Totals, setup: Setup, findings: Findings) -> None:
    if not totals.tariffs:
        return
    from leitwerk.derived.tariffs import parse_tariff  # noqa: PLC0415 - most setups have none

    try:
        parse_tariff(
            [(text, 1.0) for text in totals.tariffs.values()], totals.holidays, setup.zone.key
        )
    except DomainError as error:
        findings.error("bad-value", ("papers", "totals", "tariffs"), error.message, at_key=True,
                       remedy=error.remedy)  # fmt: skip


def _check_weightings(sound: Sound | None, exposure: Exposure, findings: Findings) -> None:
    """An exposure is A-weighted, its peak C-weighted, where the setup says what is evaluated."""
    evaluations = sound.evaluations if sound is not None else {}
    for key, channel, right, kind in (
        ("level", exposure.level, "A", "equivalent"),
        ("peak", exposure.peak, "C", "peak"),
    ):
        name, _, own = (channel or "").rpartition("_")
        entry = evaluations.get(name)
        if entry is not None and (entry.weighting, own) != (right, kind):
            findings.error(
                "wrong-weighting", ("papers", "exposure", key),
                f"{channel} is the {own} level with weighting {entry.weighting}, an exposure takes {right}",
                valid=f"the {kind} level of an evaluation with weighting {right}",
            )  # fmt: skip


def _channels_of(papers: Papers) -> Iterator[tuple[KeyPath, str]]:
    """Each channel that is named, and where."""
    for name, share in papers.shares.items():
        for number, channel in enumerate(share.channels):
            yield ("papers", "shares", name, "channels", str(number)), channel
    if papers.exposure is not None:
        yield ("papers", "exposure", "level"), papers.exposure.level
        if papers.exposure.peak is not None:
            yield ("papers", "exposure", "peak"), papers.exposure.peak
    if papers.totals is not None:
        for number, channel in enumerate(papers.totals.channels):
            yield ("papers", "totals", "channels", str(number)), channel


def _check_unit(
    path: KeyPath, channel: CheckedChannel, unit: Unit | None, findings: Findings
) -> None:
    if unit is not None and unit.powers != channel.unit.powers:
        message = f"these limits are in {unit}, {channel.name} is in {channel.unit}"
        findings.error("wrong-unit", path, message, valid=f"limits in {channel.unit}")


def _check_levels(exposure: Exposure, findings: Findings) -> None:
    for key in ("at_most", "peak_at_most", "uncertainty"):
        quantity = getattr(exposure, key)
        if quantity is not None and str(quantity.unit) != "dB":
            path = ("papers", "exposure", key)
            findings.error(
                "wrong-unit", path, f"{key}: {quantity} is no level", valid="a number of dB"
            )
    if exposure.peak_at_most is not None and exposure.peak is None:
        path = ("papers", "exposure", "peak_at_most")
        findings.error("missing-key", path, "no channel with a peak level is named",
                       remedy="add a line 'peak: …'")  # fmt: skip
    if exposure.day is not None and not 60.0 <= exposure.day.seconds <= _DAY_S:
        path = ("papers", "exposure", "day")
        findings.error(
            "intervals-do-not-fit", path, f"{exposure.day} is no shift", valid="1 min to 24 h"
        )


def _check_groups(
    judged: Mapping[str, JudgedGroup], channels: Sequence[CheckedChannel], findings: Findings
) -> None:
    """Every alarm of a group has to be there, and in one group only."""
    known = [name for channel in channels for name, _ in channel.named_alarms()]
    taken: dict[str, str] = {}
    for group, one in judged.items():
        path = ("papers", "judged", group, "alarms")
        if not one.alarms:
            findings.error(
                "no-alarm", path, f"group {group} judges no alarm", valid=", ".join(known)
            )
        for number, name in enumerate(one.alarms):
            place = (*path, str(number))
            if name not in known:
                valid = ", ".join(known) or "no alarm; this setup has none"
                message = f"there is no alarm {name[:60]!r} to judge"
                findings.error("no-alarm", place, message, valid=valid)
            elif name in taken:
                message = f"{name} is judged twice: by {taken[name]} and by {group}"
                findings.error("judged-twice", place, message, valid="one group for each alarm")
            taken.setdefault(name, group)
