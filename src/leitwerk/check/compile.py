"""The check of a whole setup on one datasheet."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date

from leitwerk.check.assignment import Assignment, assign_channels
from leitwerk.check.bands import check_band_count
from leitwerk.check.budget_check import check_budget
from leitwerk.check.calibration import check_dates
from leitwerk.check.outputs import assign_outputs
from leitwerk.check.rules import check_rules
from leitwerk.check.settings import Wanted, read_settings, wanted_settings
from leitwerk.check.timing import check_intervals, check_rates, check_schedule
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Stored
from leitwerk.errors import QuantityError
from leitwerk.findings import Finding, Findings
from leitwerk.parsing.address import LinkAddress
from leitwerk.parsing.quantities import format_number, format_value
from leitwerk.parsing.units import parse_unit
from leitwerk.setup.model import Setup


def check_setup(setup: Setup, datasheet: Datasheet, *, today: date | None = None) -> list[Finding]:
    """Everything that is wrong with a setup on a device model, in the order of the file.

    Never raises for what a file can hold. Without an error among the findings the setup can be
    uploaded. With ``today``, calibrations that are overdue or missing are told as well.
    """
    findings = Findings(setup.source.file, setup.source.root)
    check_link(setup, datasheet, findings)
    check_into(setup, datasheet, findings, today=today)
    return findings.sorted()


def check_link(setup: Setup, datasheet: Datasheet, findings: Findings) -> None:
    """Whether the setup's address is one for the protocol of the model."""
    at = setup.device.at
    if isinstance(at, LinkAddress) and at.protocol != datasheet.link:
        findings.error(
            "wrong-link",
            ("device", "at"),
            f"{datasheet.model} speaks {datasheet.link}, this is an address of {at.protocol}",
            valid=f"an address that begins with {datasheet.link}",
        )


def check_into(
    setup: Setup, datasheet: Datasheet, findings: Findings, *, today: date | None = None
) -> list[Assignment]:
    """As ``check_setup``, into findings that exist already; returns the assigned channels."""
    check_intervals(setup, datasheet, findings)
    check_schedule(setup, findings)
    assignments = assign_channels(setup, datasheet, findings)
    _check_counts(setup, datasheet, assignments, findings)
    banded = [(a.name, a.bands) for a in assignments if a.bands is not None]
    check_band_count(banded, datasheet, findings)
    further = read_settings(setup, datasheet, assignments, findings)
    _check_storable(
        [*wanted_settings(setup, datasheet, assignments), *further], datasheet, findings
    )
    check_rates(setup, assignments, findings)
    outputs = assign_outputs(setup, datasheet, assignments, findings)
    check_rules(setup, datasheet, assignments, outputs, findings)
    check_budget(setup, datasheet, assignments, findings)
    _check_rounding(assignments, datasheet, findings)
    if today is not None:
        check_dates(setup, today, findings)
    return assignments


def _check_rounding(
    assignments: Iterable[Assignment], datasheet: Datasheet, findings: Findings
) -> None:
    """Alarms whose trip and clear point become one number in the device."""
    family = datasheet.family("settings", "alarm.{k}.trip")
    if family is None:
        return
    for a in assignments:
        for alarm in a.device_alarms:
            trip, clear = alarm.point
            try:
                same = trip != clear and family.storable(trip) == family.storable(clear)
            except QuantityError:
                continue  # told already
            if same:
                step = format_value(family.template.step, a.measurement.shown_unit)
                findings.warning(
                    "lost-to-rounding",
                    ("channels", a.name, "alarms", alarm.name),
                    f"{datasheet.model} stores trip and clear point of {alarm.name} as one number",
                    at_key=True,
                    valid=f"at least {step} apart",
                )


def _check_counts(
    setup: Setup, datasheet: Datasheet, assignments: Iterable[Assignment], findings: Findings
) -> None:
    # What the device measures by itself takes none of its channels and has none of its alarms.
    names = [name for name, c in setup.channels.items() if c.reading is None]
    if len(names) > datasheet.channels_at_most:
        findings.error(
            "too-many-channels",
            ("channels", names[datasheet.channels_at_most]),
            f"{datasheet.model} keeps {datasheet.channels_at_most} channels, this setup has "
            f"{len(names)}",
            at_key=True,
            valid=f"at most {datasheet.channels_at_most} channels",
        )
    # Kinds that no device has are watched by the computer, and take no place in it.
    alarms = [
        ("channels", a.name, "alarms", alarm.name) for a in assignments for alarm in a.device_alarms
    ]
    if len(alarms) > datasheet.alarms_at_most:
        findings.error(
            "too-many-alarms",
            alarms[datasheet.alarms_at_most],
            f"{datasheet.model} has {datasheet.alarms_at_most} alarms, this setup needs "
            f"{len(alarms)}",
            at_key=True,
            valid=f"at most {datasheet.alarms_at_most} alarms",
        )


def _check_storable(every: Iterable[Wanted], datasheet: Datasheet, findings: Findings) -> None:
    """What the device cannot store, and what becomes of the rest."""
    known: dict[tuple[str, Stored], Stored] = {}  # many channels ask for the same few values
    for wanted in every:
        key = (wanted.family, wanted.value)
        if known.get(key) == wanted.value:
            continue
        family = datasheet.family("settings", wanted.family)
        if family is None and wanted.path == ("title",):
            continue  # many devices keep no title; that is nothing to tell
        if family is not None and family.template.role not in {"", datasheet.role} and wanted.path:
            # Told now, and not by a refusal in the middle of an upload.
            role = family.template.role
            message = f"writing this takes the password of the {role}"
            findings.note("needs-role", wanted.path, message)
        if family is not None and family.template.needs == "restart" and wanted.path:
            message = f"{datasheet.model} takes this into force only after a restart"
            findings.note("needs-restart", wanted.path, message)
        if family is None:
            message = f"{datasheet.model} has no setting for this; only Leitwerk will know it"
            findings.note("not-kept", wanted.path, message)
            continue
        try:
            stored = family.storable(wanted.value)
        except QuantityError as error:
            message = f"{datasheet.model} cannot store this: {error.message}"
            valid, remedy = error.valid, error.remedy
            findings.error("not-storable", wanted.path, message, valid=valid, remedy=remedy)
            continue
        known[key] = stored
        if stored != wanted.value and isinstance(stored, float) and wanted.path:
            unit = parse_unit(wanted.unit)
            findings.note(
                "rounded",
                wanted.path,
                f"{datasheet.model} stores {format_value(stored, unit)} "
                f"(asked: {format_value(float(wanted.value), unit)}; its step is "
                f"{format_number(family.template.step)})",
            )
