"""The check of a whole setup on one datasheet: everything that is wrong, and everything that follows."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from itertools import chain
from typing import TYPE_CHECKING

from leitwerk.check.assignment import assign_channels
from leitwerk.check.bands import check_band_count
from leitwerk.check.budget_check import check_budget
from leitwerk.check.calibration import check_dates
from leitwerk.check.channel_uncertainty import check_expectation
from leitwerk.check.channels import CheckedChannel, measured
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.host_work import warn_host_work, warn_watchdog
from leitwerk.check.outputs import CheckedOutput, assign_outputs
from leitwerk.check.papers import check_papers
from leitwerk.check.rules import check_rules
from leitwerk.check.settings import Wanted, check_secrets, further_settings, wanted_settings
from leitwerk.check.storing import (
    check_decided_spans,
    check_rounding,
    check_unset_ranges,
    store_settings,
)
from leitwerk.check.timing import check_intervals, check_rates, check_schedule
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import TALK, TALK_MANNER
from leitwerk.findings import Findings
from leitwerk.parsing.address import LinkAddress
from leitwerk.setup.model import Setup

if TYPE_CHECKING:
    from leitwerk.check.exchanges import CheckedExchange


def check_setup(
    setup: Setup,
    datasheet: Datasheet,
    *,
    today: date | None = None,
    findings: Findings | None = None,
    any_model: bool = False,
) -> CheckedSetup:
    """A setup held against a device model.

    Never raises for what a file can hold.

    Parameters
    ----------
    setup : Setup
    datasheet : Datasheet
    today : date, optional
        The day for which calibrations are held to be due; without it that is not looked at.
    findings : Findings, optional
        What reading the file has found already.
    any_model : bool
        Whether the datasheet may be of another model than the setup names: to see whether it fits.

    """
    found = findings or Findings(setup.source.file, setup.source.root)
    if not any_model:
        _check_link(setup, datasheet, found)
        _check_doubts(datasheet, found)
    setup, sections = _sections(setup, datasheet, found)
    with_exchanges = bool(setup.exchanges) or datasheet.link == TALK or datasheet.has(TALK_MANNER)
    if with_exchanges:
        from leitwerk.check.talker import with_exchange  # noqa: PLC0415 - most setups have none

        datasheet = with_exchange(setup, datasheet, found)
    check_intervals(setup, datasheet, found)
    runs = check_schedule(setup, datasheet, found)
    channels, computed = _channels(setup, datasheet, found)
    _check_counts(setup, datasheet, channels, found)
    check_band_count([(c.name, c.bands) for c in measured(channels) if c.bands], datasheet, found)
    check_papers(setup, channels, found)
    outputs = tuple(assign_outputs(setup, datasheet, channels, found))
    exchanges: tuple[CheckedExchange, ...] = ()
    talk: tuple[Wanted, ...] = ()
    if with_exchanges:
        exchanges, talk = _exchanges(setup, datasheet, channels, outputs, found)
    rows = _rows(setup, datasheet, found)
    wanted = tuple(
        w
        for w in chain(
            wanted_settings(setup, datasheet, channels, outputs), talk, computed, rows, sections
        )
        if not (w.clears and w.known.at(w.number) in setup.settings)  # it is used by its own name
    )
    check_secrets(setup, datasheet, found)
    wanted += tuple(further_settings(setup, datasheet, wanted, found))
    settings = store_settings(wanted, datasheet, found)
    check_decided_spans(wanted, settings, datasheet, found)
    check_unset_ranges(channels, datasheet, found)
    check_rates(setup, channels, found)
    rules = check_rules(setup, datasheet, channels, outputs, found)
    warn_host_work(setup, datasheet, channels, found)
    warn_watchdog(setup, datasheet, rules, found)
    check_budget(setup, datasheet, channels, found)
    check_rounding(channels, datasheet, found)
    for channel in channels:
        check_expectation(channel, found)
    if today is not None:
        check_dates(setup, today, found)
    return CheckedSetup(
        setup=setup,
        datasheet=datasheet,
        channels=channels,
        outputs=outputs,
        exchanges=exchanges,
        rules=tuple(rules),
        runs=tuple(runs),
        settings=settings,
        findings=tuple(found.sorted()),
        wanted=wanted,
    )


def _sections(
    setup: Setup, datasheet: Datasheet, found: Findings
) -> tuple[Setup, tuple[Wanted, ...]]:
    """The setup with the channels that follow from its sections, and the settings of these sections."""
    wanted: tuple[Wanted, ...] = ()
    if setup.wiring is not None:
        from leitwerk.check.wiring import wiring_settings, with_wiring  # noqa: PLC0415 - most setups have none

        setup = with_wiring(setup, datasheet, found)
        wanted = tuple(wiring_settings(setup, datasheet, found))
    if setup.sound is not None:
        from leitwerk.check.sound import (  # noqa: PLC0415 - most setups have none
            check_sound,
            sound_settings,
            with_sound,
        )

        check_sound(setup, found)
        setup = with_sound(setup, datasheet, found)
        wanted += tuple(sound_settings(setup, datasheet, found))
    if setup.triggers is not None or any(run.stores for run in setup.schedule.values()):
        from leitwerk.check.campaigns import campaign_settings  # noqa: PLC0415 - most setups have none

        wanted += tuple(campaign_settings(setup, datasheet, found))
    if setup.places or setup.radio is not None:
        from leitwerk.check.places import place_settings, with_places  # noqa: PLC0415 - most setups have none

        setup = with_places(setup, datasheet, found)
        wanted += tuple(place_settings(setup, datasheet, found))
    return setup, wanted


def _channels(
    setup: Setup, datasheet: Datasheet, findings: Findings
) -> tuple[tuple[CheckedChannel, ...], tuple[Wanted, ...]]:
    """The channels in the order of the file, measured and derived; and settings of what is derived."""
    own = {c.name: c for c in assign_channels(setup, datasheet, findings)}
    if not any(c.computed for c in setup.channels.values()):
        return tuple(own.values()), ()
    from leitwerk.check.derived import derive_channels  # noqa: PLC0415 - many setups have none

    derived, wanted = derive_channels(setup, datasheet, own, findings)
    every = own | derived
    return tuple(every[name] for name in setup.channels if name in every), wanted


def _rows(setup: Setup, datasheet: Datasheet, findings: Findings) -> tuple[Wanted, ...]:
    """The tables that the device is to store."""
    if not setup.records:
        return ()
    from leitwerk.check.records import record_settings  # noqa: PLC0415 - most setups have none

    return tuple(record_settings(setup, datasheet, findings))


def _exchanges(
    setup: Setup,
    datasheet: Datasheet,
    channels: Sequence[CheckedChannel],
    outputs: Sequence[CheckedOutput],
    findings: Findings,
) -> tuple[tuple[CheckedExchange, ...], tuple[Wanted, ...]]:
    """The exchanges of a setup, and what a device that runs one of them is to hold."""
    from leitwerk.check.exchange_settings import exchange_settings  # noqa: PLC0415 - as above
    from leitwerk.check.exchanges import check_exchanges  # noqa: PLC0415

    found = tuple(check_exchanges(setup, datasheet, channels, outputs, findings))
    own = next((c for c in found if c.at is None), None)
    return found, tuple(exchange_settings(own, datasheet, findings))


def _check_link(setup: Setup, datasheet: Datasheet, findings: Findings) -> None:
    """Whether the setup's address is one for the protocol of the model."""
    at = setup.device.at
    if isinstance(at, LinkAddress) and at.protocol != datasheet.link:
        findings.error(
            "wrong-link",
            ("device", "at"),
            f"{datasheet.model} speaks {datasheet.link}, this is an address of {at.protocol}",
            valid=f"an address that begins with {datasheet.link}",
        )


def _check_doubts(datasheet: Datasheet, findings: Findings) -> None:
    """What the reader of the datasheet has doubts about, in one line."""
    if not datasheet.doubts:
        return
    count = len(datasheet.doubts)
    findings.warning(
        "doubtful-datasheet",
        ("device", "model"),
        f"the datasheet of {datasheet.model} has {count} warning{'s' * (count != 1)}: "
        f"{datasheet.doubts[0].message}",
        remedy=f"'leitwerk datasheet {datasheet.doubts[0].file}' shows them all",
    )


def _check_counts(
    setup: Setup, datasheet: Datasheet, channels: Sequence[CheckedChannel], findings: Findings
) -> None:
    # What the device measures by itself takes none of its channels and has none of its alarms.
    names = [n for n, c in setup.channels.items() if c.reading is None and c.computed is None]
    most = datasheet.limits.channels
    if len(names) > most:
        findings.error(
            "too-many-channels",
            ("channels", names[most]),
            f"{datasheet.model} keeps {most} channels, this setup has {len(names)}",
            at_key=True,
            valid=f"at most {most} channels",
        )
    # Alarms that the device does not watch itself take no place in it.
    alarms = [
        ("channels", c.name, "alarms", alarm.name) for c in channels for alarm in c.device_alarms
    ]
    most = datasheet.limits.alarms
    if len(alarms) > most and not datasheet.alarms_by_input:
        findings.error(
            "too-many-alarms",
            alarms[most],
            f"{datasheet.model} has {most} alarms, this setup needs {len(alarms)}",
            at_key=True,
            valid=f"at most {most} alarms",
        )
