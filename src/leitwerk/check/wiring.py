"""The wiring of an analyzer: its settings, the channels that follow from it, and what it is judged by."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING

from leitwerk.check.settings import Wanted
from leitwerk.check.standard_channels import with_channels
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import (
    CURRENT_PRIMARY,
    CURRENT_SECONDARY,
    CURRENT_SENSITIVITY,
    CURRENT_SENSOR,
    NOMINAL_FREQUENCY,
    NOMINAL_VOLTAGE,
    OF_NET,
    OF_PHASES,
    OF_VOLTAGES,
    VOLTAGE_PRIMARY,
    VOLTAGE_SECONDARY,
    WIRING_SYSTEM,
    NetReading,
)
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings
from leitwerk.parsing.quantities import Quantity, parse_expected
from leitwerk.parsing.units import parse_unit
from leitwerk.power.hypotheses import EITHER, EXPORT, IMPORT
from leitwerk.power.system import PHASES, System
from leitwerk.power.wiring import Wiring
from leitwerk.setup.model import Setup
from leitwerk.setup.wiring import Sensitivity, WiringEntry
from leitwerk.signals.transformer import Transformer

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup

_TRANSFORMER, _VOLTAGE = CURRENT_SENSOR.choices
_LEAST = 0.01  # of the primary current
_WATT = parse_unit("W")


def with_wiring(setup: Setup, datasheet: Datasheet, findings: Findings) -> Setup:
    """The setup with the channels that follow from its wiring; what its file says of them counts."""
    entry = setup.wiring
    if entry is None:
        return setup
    path = ("wiring", "system")
    if not datasheet.wirings:
        findings.error(
            "no-wiring", ("wiring",), f"{datasheet.model} is not an analyzer of power", at_key=True,
            remedy="leave out 'wiring', or look at the model",
        )  # fmt: skip
        return setup
    if entry.system.name not in datasheet.wirings:
        findings.error(
            "no-wiring", path, f"{datasheet.model} cannot be wired as {entry.system.name}",
            valid="; ".join(datasheet.wirings),
        )  # fmt: skip
        return setup
    _check_nominal(entry, findings)
    return with_channels(setup, standard_channels(entry.system, datasheet))


def _check_nominal(entry: WiringEntry, findings: Findings) -> None:
    volts = entry.nominal.value_in(parse_unit("V"))
    low_voltage = entry.voltages == "direct"
    if entry.system.has_neutral and entry.system.phases == len(PHASES) and low_voltage:
        if any(abs(volts - usual) < 0.03 * usual for usual in (400.0, 415.0, 480.0, 690.0)):
            findings.warning(
                "nominal-between-phases", ("wiring", "nominal"),
                f"{entry.nominal} is usual between phases, and {entry.system.name} measures to the neutral",
                valid=f"{volts / 3**0.5:.0f} V, where {volts:g} V stand between the phases",
            )  # fmt: skip
    elif not entry.system.has_neutral and any(
        abs(volts - usual) < 0.03 * usual for usual in (230.0, 240.0)
    ):
        findings.warning(
            "nominal-to-neutral", ("wiring", "nominal"),
            f"{entry.nominal} is usual to the neutral, and {entry.system.name} measures between phases",
            valid=f"{volts * 3**0.5:.0f} V, where {volts:g} V stand to the neutral",
        )  # fmt: skip


def standard_channels(system: System, datasheet: Datasheet) -> Mapping[str, tuple[str, str]]:
    """The channels of a wiring by their standard names: the reading of each, and its label."""
    found = {}
    for one, index, name, label in _standard(system):
        family = datasheet.family(one.known)
        if family is not None and (index is None or index in family.indices):
            found[name] = one.known.at(index), label
    return found


def _standard(system: System) -> Iterator[tuple[NetReading, int | None, str, str]]:
    """Readings that mean something in a system: with index, name and label."""
    three = system.phases == len(PHASES)
    for one in OF_VOLTAGES:
        if one.between_phases and three:
            for k in range(len(PHASES)):
                other = (k + 1) % len(PHASES)
                place = f"{PHASES[k]}-{PHASES[other]}"
                yield one, k + 1, one.name.format(f"{k + 1}{other + 1}"), f"{one.label} {place}"
        elif not one.between_phases and system.has_neutral:
            yield from _each_phase(one, system)
    for one in OF_PHASES:
        if system.has_neutral or not one.by_voltage:
            yield from _each_phase(one, system)
    for one in OF_NET:
        if system.neutral_current or not one.neutral:
            yield one, None, one.name, one.label


def _each_phase(one: NetReading, system: System) -> Iterator[tuple[NetReading, int, str, str]]:
    for k in range(system.phases):
        yield one, k + 1, one.name.format(k + 1), f"{one.label} {PHASES[k]}"


def wiring_settings(setup: Setup, datasheet: Datasheet, findings: Findings) -> Iterator[Wanted]:
    """The settings of the device that a wiring asks for."""
    entry = setup.wiring
    if entry is None or entry.system.name not in datasheet.wirings:
        return
    path = ("wiring",)
    yield Wanted(WIRING_SYSTEM, None, entry.system.name, (*path, "system"))
    volts = entry.nominal.value_in(parse_unit("V"))
    yield Wanted(NOMINAL_VOLTAGE, None, volts, (*path, "nominal"), "V")
    if datasheet.has(NOMINAL_FREQUENCY):
        hertz = setup.mains.value_in(parse_unit("Hz"))
        yield Wanted(NOMINAL_FREQUENCY, None, f"{hertz:g} Hz", ("mains",))
    if isinstance(entry.voltages, Transformer):
        place = (*path, "voltages")
        yield Wanted(VOLTAGE_PRIMARY, None, entry.voltages.primary, place, "V")
        yield Wanted(VOLTAGE_SECONDARY, None, entry.voltages.secondary, place, "V")
    elif datasheet.has(VOLTAGE_PRIMARY):
        # A ratio of 1, so that nothing is left of a transformer of before.
        yield Wanted(VOLTAGE_PRIMARY, None, 100.0, (), "V")
        yield Wanted(VOLTAGE_SECONDARY, None, 100.0, (), "V")
    yield from _current_settings(entry, datasheet, findings)


def _current_settings(
    entry: WiringEntry, datasheet: Datasheet, findings: Findings
) -> Iterator[Wanted]:
    place = ("wiring", "currents")
    currents = entry.currents
    if isinstance(currents, Transformer):
        if datasheet.has(CURRENT_SENSOR):
            yield Wanted(CURRENT_SENSOR, None, _TRANSFORMER, place)
        yield Wanted(CURRENT_PRIMARY, None, currents.primary, place, "A")
        yield Wanted(CURRENT_SECONDARY, None, currents.secondary, place, "A")
    elif isinstance(currents, Sensitivity):
        yield Wanted(CURRENT_SENSOR, None, _VOLTAGE, place)
        yield Wanted(CURRENT_SENSITIVITY, None, currents.mv_per_a, place, "mV/A")
    else:
        named = [c for c in datasheet.choices(CURRENT_SENSOR) if c not in {_TRANSFORMER, _VOLTAGE}]
        if currents in named:
            yield Wanted(CURRENT_SENSOR, None, currents, place)
            return
        findings.error(
            "unknown-sensor", place, f"{datasheet.model} knows no current sensor {currents[:40]!r}",
            valid=", ".join([*named, "a transformer such as 200/5 A", "a sensitivity such as 1 mV/A"]),
        )  # fmt: skip


def judged_by(checked: CheckedSetup, power: str | None = None) -> Wiring:
    """What the wiring of a checked setup is judged by.

    Parameters
    ----------
    checked : CheckedSetup
    power : str, optional
        What flows now: *import*, *export*, or what another meter shows, ``13 ± 1 kW``. Without it, what is
        expected of channel p counts.

    Raises
    ------
    QuantityError
        The setup has no wiring; or the text is no power.

    """
    entry = checked.setup.wiring
    if entry is None:
        raise QuantityError(
            f"{checked.setup.source.file} has no wiring", remedy="add the section 'wiring'"
        )
    flow: str = entry.power
    channel = next((c for c in checked.channels if c.name == "p"), None)
    expected, unit = (channel.expected, channel.unit) if channel else (None, _WATT)
    if power in {IMPORT, EXPORT}:
        flow = str(power)
    elif power is not None:
        expected, unit = parse_expected(power).value_in(_WATT), _WATT
    watts, within = (
        (Quantity(x, unit).value_in(_WATT) for x in expected) if expected else (None, 0.0)
    )
    if flow == EITHER and watts is not None and abs(watts) > within:
        flow = IMPORT if watts > 0.0 else EXPORT
    least = entry.least_current.value_in(parse_unit("A")) if entry.least_current else None
    if least is None:
        primary = entry.currents.primary if isinstance(entry.currents, Transformer) else 10.0
        least = _LEAST * primary
    return Wiring(
        system=entry.system,
        nominal_v=entry.nominal.value_in(parse_unit("V")),
        rotation=entry.rotation,
        flow=flow,
        least_a=least,
        expected_w=watts,
        within_w=within,
    )
