"""The sections of an analyzer in an adopted setup: wiring, triggers, schedule, sound."""

from __future__ import annotations

from datetime import time

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.vocabulary import (
    AUDIO_LENGTH,
    BANDS_EVALUATION,
    BANDS_FILTER,
    CAMPAIGN_EVERY,
    CAMPAIGN_LASTS,
    CAMPAIGN_MOST,
    CAMPAIGN_NAME,
    CAMPAIGN_START,
    CAMPAIGN_STORES,
    CAMPAIGN_TIME,
    CAMPAIGN_WAIT,
    CURRENT_PRIMARY,
    CURRENT_SECONDARY,
    CURRENT_SENSITIVITY,
    CURRENT_SENSOR,
    ERASE_BACK_LENGTH,
    EVALUATION_NAME,
    EVALUATION_PEAK,
    EVALUATION_STORES,
    EVALUATION_TIME,
    EVALUATION_WEIGHTING,
    INTEGRATION_TIME,
    NOMINAL_FREQUENCY,
    NOMINAL_VOLTAGE,
    PLACE_ID,
    RADIO_SETTINGS,
    RANGE_LOWER,
    RANGE_UPPER,
    START_LEVEL,
    START_MODE,
    START_TIME,
    TRIGGERS,
    VOLTAGE_PRIMARY,
    VOLTAGE_SECONDARY,
    WIRING_SYSTEM,
    KnownPoint,
)
from leitwerk.power.system import SYSTEMS, System
from leitwerk.transfer.adopt_text import exact_text, yaml_text

_TRANSFORMER, _SENSITIVE = CURRENT_SENSOR.choices
_RATIO_OF_ONE = 100.0  # what both sides are set to without a transformer
_AT_ONCE, _AFTER, _AT_TIME, _DAILY = CAMPAIGN_START.choices
_WEEKDAY_S = 86_400


# ---------------------------------------------------------------------- wiring


def wired_system(settings: DeviceSettings, sheet: Datasheet) -> System | None:
    """How an analyzer is wired, as far as its settings say it in terms of a setup."""
    name = settings.get(WIRING_SYSTEM)
    return SYSTEMS[str(name)] if name in sheet.wirings else None


def wiring_lines(settings: DeviceSettings, sheet: Datasheet) -> list[str]:
    """The section ``wiring``; its channels follow from it."""
    system = wired_system(settings, sheet)
    if system is None:
        return []
    volts, frequency = settings.get(NOMINAL_VOLTAGE), settings.get(NOMINAL_FREQUENCY)
    lines = [] if frequency in {None, "50 Hz"} else [f"mains: {frequency}", ""]
    lines += [
        "wiring:",
        f"  system: {system.name}",
        f"  nominal: {exact_text(float(volts or 0.0))} V",
    ]
    first, second = settings.get(VOLTAGE_PRIMARY), settings.get(VOLTAGE_SECONDARY)
    if first is not None and second is not None and not first == second == _RATIO_OF_ONE:
        lines.append(f"  voltages: {exact_text(float(first))}/{exact_text(float(second))} V")
    return [*lines, f"  currents: {_currents(settings)}", ""]


def _currents(settings: DeviceSettings) -> str:
    sensor = settings.get(CURRENT_SENSOR)
    if sensor == _SENSITIVE:
        return f"{exact_text(float(settings.get(CURRENT_SENSITIVITY) or 0.0))} mV/A"
    if sensor not in {None, _TRANSFORMER}:
        return yaml_text(sensor)
    sides = (settings.get(CURRENT_PRIMARY), settings.get(CURRENT_SECONDARY))
    first, second = (exact_text(float(side or 0.0)) for side in sides)
    return f"{first}/{second} A"


# ---------------------------------------------------------------------- events and campaigns


def trigger_lines(settings: DeviceSettings, sheet: Datasheet) -> list[str]:
    """The section ``triggers``."""
    lines = []
    for key, known in TRIGGERS.items():
        value = settings.get(known)
        if isinstance(value, float):
            lines.append(f"  {key}: {exact_text(value)} {sheet.point(known).unit}")
    return ["triggers:", *lines, ""] if lines else []


def schedule_lines(settings: DeviceSettings, sheet: Datasheet) -> list[str]:
    """The section ``schedule``: what the device stores by itself."""
    family, lines, names = sheet.family(CAMPAIGN_STORES), list[str](), set[str]()
    for k in family.indices if family is not None else ():
        stores = settings.get(CAMPAIGN_STORES, k)
        if stores not in sheet.campaigns:
            continue
        name = str(settings.get(CAMPAIGN_NAME, k) or "")
        name = name if name.isidentifier() and name not in names else f"campaign_{k}"
        names.add(name)
        parts = [f"stores: {stores}", f"start: {_start(settings, k)}"]
        lasts = settings.get(CAMPAIGN_LASTS, k)
        if isinstance(lasts, float) and lasts:
            parts.append(f"stop: after {exact_text(lasts)} s")
        known, unit = (CAMPAIGN_EVERY, " s") if stores == "trends" else (CAMPAIGN_MOST, "")
        number = settings.get(known, k)
        if isinstance(number, float) and number:
            key = "every" if known is CAMPAIGN_EVERY else "at_most"
            parts.append(f"{key}: {exact_text(number)}{unit}")
        lines.append(f"  {name}: {{{', '.join(parts)}}}")
    return ["schedule:", *lines, ""] if lines else []


def _start(settings: DeviceSettings, k: int) -> str:
    start, wait = settings.get(CAMPAIGN_START, k), settings.get(CAMPAIGN_WAIT, k)
    seconds = wait if isinstance(wait, float) else 0.0
    if start == _AFTER:
        return f"after {exact_text(seconds)} s"
    if start == _AT_TIME:
        return _minutes(str(settings.get(CAMPAIGN_TIME, k)))
    if start == _DAILY:
        minutes = int(seconds % _WEEKDAY_S) // 60
        return f"daily at {time(minutes // 60, minutes % 60):%H:%M}"
    return _AT_ONCE


def _minutes(shown: str) -> str:
    """A time of a device's clock, without seconds that are 0."""
    return shown.removesuffix(":00") if shown.count(":") == 2 else shown


# ---------------------------------------------------------------------- wireless


def wireless_lines(settings: DeviceSettings, sheet: Datasheet) -> list[str]:
    """The sections ``radio`` and ``places`` of a receiver."""
    family = sheet.family(PLACE_ID)
    if family is None or sheet.telegrams is None:
        return []
    radio = [
        f"{known.name.partition('.')[2]}: {yaml_text(_plain(value))}"
        for known in RADIO_SETTINGS
        if (value := settings.get(known)) is not None
    ]
    write = sheet.telegrams.ids.write
    places = [
        f"  {k}: {{id: {write(int(value))}}}"
        for k in family.indices
        if isinstance(value := settings.get(PLACE_ID, k), int | float) and value
    ]
    lines = [f"radio: {{{', '.join(radio)}}}", ""] if radio else []
    return [*lines, "places:", *places, ""] if places else lines


def _plain(value: object) -> str:
    return exact_text(value) if isinstance(value, float) else str(value)


# ---------------------------------------------------------------------- sound


def sound_lines(settings: DeviceSettings, sheet: Datasheet) -> list[str]:
    """The section ``sound``; its channels follow from it."""
    evaluations = _evaluations(settings, sheet)
    if not evaluations:
        return []
    lines = ["sound:"]
    for key, known in (
        ("integration", INTEGRATION_TIME), ("audio", AUDIO_LENGTH), ("erase_back", ERASE_BACK_LENGTH),
    ):  # fmt: skip
        value = settings.get(known)
        if isinstance(value, float) and value:
            lines.append(f"  {key}: {exact_text(value)} s")
    low, high = _level(settings, RANGE_LOWER), _level(settings, RANGE_UPPER)
    if low and high:
        lines.append(f"  range: {low}..{high} dB")
    mode = settings.get(START_MODE)
    if mode == START_MODE.choices[1]:
        lines.append(f"  start: {_minutes(str(settings.get(START_TIME)))}")
    elif mode == START_MODE.choices[2]:
        lines.append(f"  start: above {_level(settings, START_LEVEL)} dB")
    return [*lines, "  evaluations:", *evaluations, ""]


def _evaluations(settings: DeviceSettings, sheet: Datasheet) -> list[str]:
    family, evaluations, names = sheet.family(EVALUATION_WEIGHTING), list[str](), set[str]()
    for k in family.indices if family is not None else ():
        weighting = settings.get(EVALUATION_WEIGHTING, k)
        if weighting in {None, EVALUATION_WEIGHTING.cleared}:
            break  # those of a setup are the first ones
        name = str(settings.get(EVALUATION_NAME, k) or "")
        name = name if name.isidentifier() and name not in names else f"evaluation_{k}"
        names.add(name)
        parts = [f"weighting: {weighting}", f"time: {settings.get(EVALUATION_TIME, k)}"]
        if settings.get(EVALUATION_PEAK, k) == "yes":
            parts.append("peak: yes")
        if settings.get(EVALUATION_STORES, k) == EVALUATION_STORES.choices[0]:
            parts.append(f"stores: {EVALUATION_STORES.choices[0]}")
        bands = settings.get(BANDS_FILTER)
        if bands not in {None, BANDS_FILTER.cleared} and settings.get(BANDS_EVALUATION) == float(k):
            parts.append(f"bands: {bands}")
        evaluations.append(f"    {name}: {{{', '.join(parts)}}}")
    return evaluations


def _level(settings: DeviceSettings, known: KnownPoint) -> str:
    value = settings.get(known)
    return exact_text(value) if isinstance(value, float) else ""
