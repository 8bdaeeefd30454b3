"""What a device stores of the settings that a setup asks for, and what it cannot."""

from __future__ import annotations

from collections.abc import Iterable

from leitwerk.check.channels import CheckedChannel, SignalChannel
from leitwerk.check.settings import Wanted
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import INDEX, Point, PointFamily, Stored
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.vocabulary import ALARM_TRIP, CHANNEL_RANGE, KnownPoint, Without
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings
from leitwerk.parsing.quantities import format_span, format_value
from leitwerk.parsing.units import parse_unit


def store_settings(
    wanted: Iterable[Wanted], datasheet: Datasheet, findings: Findings
) -> DeviceSettings:
    """The settings as the device will hold them, rounded as it rounds; what it cannot is a finding.

    A wish for which the model has no setting is an error where neither the device nor Leitwerk can do
    it, and no finding where Leitwerk does: check/host_work.py warns of that, once for each subject.
    """
    values: dict[str, Stored] = {}
    # Many channels ask for the same few values: what is stored as it was asked is looked at once.
    as_asked: set[tuple[KnownPoint, Stored]] = set()
    noted: set[str] = set()
    families: dict[KnownPoint, PointFamily[Point] | None] = {}
    for w in wanted:
        known, index, value, path, _ = w
        if known not in families:
            families[known] = datasheet.family(known)
        family = families[known]
        if family is None:
            if known.without is Without.REFUSED and path and findings.mentions(path):
                _report_missing(w, datasheet, findings)
            continue
        if (known, value) in as_asked:
            values[known.at(index)] = value
            continue
        stored = _storable(w, family, datasheet, findings)
        if stored is None:
            continue
        if stored == value and not family.template.role and not family.template.needs:
            as_asked.add((known, value))
        _note_needs(w, family.template, datasheet, noted, findings)
        values[known.at(index)] = stored
    return DeviceSettings(datasheet.model, values)


def check_decided_spans(
    wanted: Iterable[Wanted], settings: DeviceSettings, datasheet: Datasheet, findings: Findings
) -> None:
    """Values in the spans that other settings decide; the setup has to name those settings, too."""
    families = datasheet.groups["settings"]
    deciding = {name: f.template for name, f in families.items() if f.template.span_by}
    for w in wanted if deciding else ():
        name = w.known.at(w.number)
        point = deciding.get(w.known.name)
        value = settings.values.get(name)
        if point is None or not w.path or value is None:
            continue
        decides = INDEX.sub(str(w.number), point.span_by)
        chosen = settings.values.get(decides)
        if chosen is None:
            findings.error(
                "span-not-decided",
                w.path,
                f"the values of {name} depend on {decides}, which this setup does not set",
                valid=f"settings: {{{decides}: …}}",
            )
            continue
        span = dict(point.spans).get(str(chosen))
        if span is not None and not isinstance(value, str) and not span[0] <= value <= span[1]:
            unit = parse_unit(point.fixed_unit)
            findings.error(
                "not-storable",
                w.path,
                f"{format_value(float(value), unit)} does not fit {name} while {decides} is {chosen}",
                valid=format_span(*span, unit),
            )


def _report_missing(w: Wanted, datasheet: Datasheet, findings: Findings) -> None:
    like = [
        n for n in datasheet.groups["settings"] if n.split(".")[-1] == w.known.name.split(".")[-1]
    ]
    near = f"; its datasheet has {', '.join(like[:3])}" if like else ""
    findings.error(
        "cannot-store",
        w.path,
        f"{datasheet.model} has no setting {w.known}: it cannot take this",
        valid="what the device has settings for" + near,
        remedy="remove it; or does the datasheet lack a line, or have a slip in a name? "
        "'leitwerk datasheet' looks for that",
    )


def _storable(
    w: Wanted, family: PointFamily[Point], datasheet: Datasheet, findings: Findings
) -> Stored | None:
    """The value as the device stores it; None when it cannot, which is a finding."""
    try:
        stored = family.storable(w.value)
    except QuantityError as error:
        what = "this" if w.path[-1:] == (w.known.at(w.number),) else w.known.at(w.number)
        message = f"{datasheet.model} cannot store {what}: {error.message}"
        findings.error("not-storable", w.path, message, valid=error.valid, remedy=error.remedy)
        return None
    if stored != w.value and not isinstance(stored, str) and w.path:
        unit = parse_unit(w.unit)
        step = format_value(family.template.resolution, unit)
        name, asked = w.known.at(w.number), format_value(float(w.value), unit)
        if stored == 0 and unit.dimension == "time":
            # Zero is no short time: it is no limit, no delay, or whatever else the model makes of it.
            findings.error(
                "not-storable",
                w.path,
                f"{datasheet.model} cannot store {asked} as {name}: it would become 0",
                valid=f"whole steps of {step}",
            )
            return None
        shown = format_value(stored, unit)
        if shown != asked:  # that a number is held with 24 bits is no rounding that counts
            findings.note(
                "rounded",
                w.path,
                f"{datasheet.model} stores {name} as {shown} (asked: {asked}; its step is {step})",
            )
    return stored


def _note_needs(
    w: Wanted, point: Point, datasheet: Datasheet, noted: set[str], findings: Findings
) -> None:
    """What writing a setting takes, now and not by a refusal in the middle of an upload."""
    if not w.path:
        return
    if point.role not in {"", datasheet.role} and point.role not in noted:
        noted.add(point.role)
        message = f"writing this takes the password of the {point.role}"
        findings.note("needs-role", w.path, message)
    if point.needs == "restart":
        message = f"{datasheet.model} takes this into force only after a restart"
        findings.note("needs-restart", w.path, message)


def check_rounding(
    channels: Iterable[CheckedChannel], datasheet: Datasheet, findings: Findings
) -> None:
    """Alarms whose trip and clear point become one number in the device."""
    family = datasheet.family(ALARM_TRIP)
    if family is None:
        return
    as_one: dict[tuple[float, float], bool] = {}
    for c in channels:
        for alarm in c.device_alarms:
            points = alarm.point
            if points not in as_one:
                as_one[points] = _are_one(points, family)
            if as_one[points] and isinstance(c, SignalChannel):
                step = format_value(family.template.resolution, c.measurement.shown_unit)
                findings.warning(
                    "lost-to-rounding",
                    ("channels", c.name, "alarms", alarm.name),
                    f"{datasheet.model} stores trip and clear point of {alarm.name} as one number",
                    at_key=True,
                    valid=f"at least {step} apart",
                )


def _are_one(points: tuple[float, float], family: PointFamily[Point]) -> bool:
    """Whether two points that differ are the same once they are stored."""
    trip, clear = points
    try:
        return trip != clear and family.storable(trip) == family.storable(clear)
    except QuantityError:
        return False  # has its finding


def check_unset_ranges(
    channels: Iterable[CheckedChannel], datasheet: Datasheet, findings: Findings
) -> None:
    """Channels whose range nothing sets: in which of several the device measures is not known."""
    if datasheet.has(CHANNEL_RANGE):
        return
    for c in channels:
        if isinstance(c, SignalChannel) and len(c.measurement.input.ranges) > 1:
            findings.warning(
                "range-not-set",
                ("channels", c.name),
                f"{datasheet.model} has no setting for the range; which of {c.measurement.input.range_names} "
                "it measures in is not known",
                at_key=True,
                remedy="does the datasheet lack a line? 'leitwerk datasheet' looks for that",
            )
