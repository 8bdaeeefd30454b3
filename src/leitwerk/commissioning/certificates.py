"""Calibration certificates taken into setups and sensors, and written from what these hold."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

import numpy as np

from leitwerk.calibration.certificate import (
    FOUND,
    LEFT,
    Certificate,
    Condition,
    Expanded,
    Identification,
    Item,
    Measurement,
    Party,
    Result,
    Values,
)
from leitwerk.calibration.certificate_xml import read_certificate_xml
from leitwerk.check.checked import CheckedSetup
from leitwerk.errors import FileProblem, QuantityError
from leitwerk.identity import folded_number
from leitwerk.parsing.quantities import Quantity, format_number
from leitwerk.parsing.units import Unit, convert_difference, parse_unit
from leitwerk.parsing.yaml_edit import YamlText
from leitwerk.project.files import read_bytes
from leitwerk.project.setups import read_setup
from leitwerk.setup.calibration import AsFoundPoints, Calibration
from leitwerk.setup.own_sensors import OwnSensor, parse_own_sensor

FOLDER = "certificates"  # beside the setups, for those that were taken over


def read_certificate(path: str | Path) -> Certificate:
    """The certificate in a file.

    Raises
    ------
    FileProblem
        The file cannot be read.
    QuantityError
        It holds no certificate that can be used.

    """
    return read_certificate_xml(read_bytes(path), file=str(path))


def kept_name(certificate: Certificate) -> str:
    """The name of the file in which a certificate is kept."""
    return re.sub(r"[^\w.-]+", "_", certificate.number).strip("._")[:100] + ".xml"


@dataclass(frozen=True)
class TakenCertificate:
    """A setup or a sensor's file as it would be with the calibration of a certificate.

    ``lines`` hold it against what is stored, point by point.
    """

    text: str
    lines: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class TakeOptions:
    """What a certificate does not say: until when it holds, and which correction is made of it.

    Without ``due``, the calibration holds as long as the one before did. ``item`` is the number of the item,
    where a person says that it is meant; ``series`` the name of the points, where there are several series.
    """

    due: date | None = None
    correct: str = "table"
    item: str = ""
    series: str = ""


def take_into_channel(
    certificate: Certificate, setup: str | Path, channel: str, options: TakeOptions
) -> TakenCertificate:
    """A setup with the calibration of a certificate at a channel.

    Raises
    ------
    FileProblem, SetupError
        The setup cannot be read.
    QuantityError
        There is no such channel, the certificate is of another item, in another unit, or it has no due date.

    """
    checked = read_setup(setup)
    found = checked.measured(channel)
    entry = checked.setup.channels[channel]
    if entry.own_sensor is not None and entry.sensor_serial:
        raise QuantityError(
            f"channel {channel} has the calibration of its sensor {entry.sensor_serial}",
            remedy=f"take it into the sensor: --sensor {entry.own_sensor.name}",
        )
    serials = [checked.setup.device.serial, *([options.item] if options.item else [])]
    _require_item(certificate, serials)
    content = _entries(certificate, found.unit, entry.calibration, options)
    edit = YamlText(checked.setup.source.content.decode("utf-8-sig"))
    path = ("channels", channel, "calibration")
    if edit.has(path):
        edit.set(path, content)
    else:
        edit.insert(path, content)
    stored = [] if entry.calibration is None else [entry.calibration]
    return TakenCertificate(edit.edited(), tuple(_compared(certificate, found.unit, stored)))


def take_into_sensor(
    certificate: Certificate, file: str | Path, options: TakeOptions
) -> TakenCertificate:
    """The file of a sensor with the calibration of a certificate, of that piece which the certificate names.

    Raises
    ------
    FileProblem, SetupError
        The file cannot be read.
    QuantityError
        The certificate is of another item, in another unit, older than what is stored, or has no due date.

    """
    content = read_bytes(file)
    own = parse_own_sensor(content, file=str(file))
    serial = _require_item(certificate, [*own.pieces, *([options.item] if options.item else [])])
    unit = _unit_of(own, certificate)
    before = own.pieces.get(serial, ())
    if before and before[-1].date >= certificate.ended:
        raise QuantityError(
            f"sensor {serial} has a calibration of {before[-1].date}, the certificate is of "
            f"{certificate.ended}",
            valid="a certificate that is newer than what is stored",
        )
    fresh = _entries(certificate, unit, before[-1] if before else None, options)
    edit = YamlText(content.decode("utf-8-sig"))
    if edit.has(("pieces", serial)):
        edit.append(("pieces", serial), fresh)
    else:
        edit.insert(("pieces", serial), [fresh])
    return TakenCertificate(edit.edited(), tuple(_compared(certificate, unit, before[-1:])))


def _unit_of(own: OwnSensor, certificate: Certificate) -> Unit:
    """The unit in which a sensor is calibrated: its own, or that of its sensor."""
    written = own.entries.get("unit")
    if isinstance(written, str):
        return parse_unit(written)
    units = [result.reference.unit for result in certificate.results if result.reference]
    if not units:
        raise QuantityError(f"the certificate {certificate.number} has no points")
    return units[0]


def _require_item(certificate: Certificate, serials: Sequence[str]) -> str:
    """Which of some serial numbers the certificate names.

    Raises
    ------
    QuantityError
        None of them: it is the certificate of something else.

    """
    named = [one.value for item in certificate.items for one in item.identifications]
    folded = {folded_number(number) for number in named}
    for serial in serials:
        if folded_number(serial) in folded:
            return serial
    raise QuantityError(
        f"the certificate {certificate.number} is of {', '.join(named) or 'an item without a number'}, "
        f"not of {' or '.join(serials) or 'a sensor that is known here'}",
        remedy="take the certificate of this item; or name the item of a certificate by --item",
    )


def _entries(
    certificate: Certificate, unit: Unit, before: Calibration | None, options: TakeOptions
) -> dict[str, Any]:
    """A calibration as a file holds it. The points in force are those behind an adjustment."""
    due = options.due
    if due is None:
        if before is None:
            raise QuantityError(
                "a certificate does not say until when it holds",
                remedy="give it by --due 2027-03-02",
            )
        due = certificate.ended + (before.due - before.date)
    force = certificate.in_force(unit.dimension, options.series)
    entries: dict[str, Any] = {
        "date": certificate.ended.isoformat(),
        "due": due.isoformat(),
        "reference": "; ".join(m for held in certificate.measurements for m in held.instruments)
        or certificate.laboratory.name,
        "certificate": certificate.number,
        "found": _pairs(force, unit),
        "correct": options.correct,
    }
    before_it = certificate.series(FOUND, unit.dimension, options.series)
    if force.stage == LEFT and before_it:
        entries["before"] = _pairs(before_it[0], unit)
    conditions = {
        condition.name: f"{condition.values.numbers[0]:.15g} {condition.values.unit}".strip()
        for held in certificate.measurements
        for condition in held.conditions
        if len(condition.values.numbers) == 1
    }
    return {**entries, **({"conditions": conditions} if conditions else {})}


def _pairs(result: Result, unit: Unit) -> dict[str, str]:
    """The points of a series as a file holds them, with the uncertainty of each (k = 2)."""
    points = list(result.points(unit))
    pairs = {
        _exact(reading, unit): _exact(reference, unit) if wide is None
        else f"{reference:.15g} ± {wide:.15g} {unit.symbol}".strip()
        for reading, reference, wide in points
    }  # fmt: skip
    if len(pairs) < len(points):
        raise QuantityError(
            "two points of the certificate have the same reading",
            valid="a series with different readings",
        )
    return pairs


def _exact(value: float, unit: Unit) -> str:
    """A value with all of its digits."""
    return f"{value:.15g} {unit.symbol}".strip()


def _compared(certificate: Certificate, unit: Unit, stored: Sequence[Calibration]) -> Iterator[str]:
    """The points of a certificate, held against what is stored."""
    known = _errors(stored[0], unit) if stored else None
    for result in certificate.results:
        if result.reference is None or result.reference.unit.dimension != unit.dimension:
            continue
        name = result.stage or result.name or "points"
        for reading, reference, wide in result.points(unit):
            error = reading - reference
            digits = (
                4 if not wide else max(2, 2 + math.ceil(math.log10(max(abs(error), wide) / wide)))
            )
            line = f"{name} at {format_number(reference)} {unit}: error {error:+.{digits}g}"
            line += "" if wide is None else f" ± {wide:.2g}"
            line += f" {unit.difference}".rstrip()
            if known is not None and result.stage != LEFT:
                old, covered = known(reference)
                where = "" if covered else " (beyond its points)"
                line += f"; stored {old:+.3g}{where}, drift {error - old:+.2g} {unit.difference}".rstrip()
            yield line
    if stored:
        yield f"stored: of {stored[0].date}, due {stored[0].due}, {stored[0].reference}"
    else:
        yield "stored: no calibration"


def _errors(stored: Calibration, unit: Unit) -> Any:
    """The error that a stored calibration has found at a reference value, and whether it covers that."""
    pairs = sorted(
        (reference.value_in(unit), reading.value_in(unit))
        for reading, reference in stored.found.points
    )
    references, readings = (np.array(column) for column in zip(*pairs, strict=True))

    def at(reference: float) -> tuple[float, bool]:
        error = float(np.interp(reference, references, readings - references))
        return error, bool(references[0] <= reference <= references[-1])

    return at


# ---------------------------------------------------------------------- writing


@dataclass(frozen=True, slots=True)
class Laboratory:
    """Who issues a certificate, and for whom."""

    name: str
    person: str
    customer: str
    number: str
    country: str = "AT"
    place: str = "laboratory"


def certificate_of_channel(
    checked: CheckedSetup, channel: str, issuer: Laboratory, conditions: Mapping[str, Quantity]
) -> Certificate:
    """The certificate of the calibration that a setup holds of a channel: as found, and as left.

    Raises
    ------
    QuantityError
        There is no such channel, or it has no calibration.

    """
    found = checked.measured(channel)
    entry = checked.setup.channels[channel]
    if entry.calibration is None:
        calibrated = [
            name for name, c in checked.setup.channels.items() if c.calibration is not None
        ]
        raise QuantityError(
            f"channel {channel} has no calibration",
            valid=", ".join(calibrated) or "a setup with calibrations",
        )
    if (number := entry.calibration.certificate) is not None:
        raise QuantityError(
            f"the calibration of channel {channel} is that of the certificate {number}",
            remedy=f"it is kept in the folder '{FOLDER}', if it was taken from there",
        )
    device = checked.setup.device
    numbers = [Identification("manufacturer", device.serial)]
    if entry.sensor_serial:
        numbers.insert(0, Identification("manufacturer", entry.sensor_serial, "sensor"))
    item = Item(
        f"channel {channel} of {device.model}",
        checked.datasheet.maker,
        device.model,
        tuple(numbers),
    )
    return certificate_of(entry.calibration, found.unit, item, issuer, conditions)


def certificate_of(
    calibration: Calibration,
    unit: Unit,
    item: Item,
    issuer: Laboratory,
    conditions: Mapping[str, Quantity],
) -> Certificate:
    """The certificate of a calibration."""
    stages = {FOUND: calibration.found}
    if calibration.before is not None:
        stages = {FOUND: calibration.before, LEFT: calibration.found}
    elif calibration.left is not None:
        stages[LEFT] = calibration.left
    single = len(stages) == 1
    results = [
        _result("" if single else stage, points, unit, calibration.uncertainty)
        for stage, points in stages.items()
    ]
    prevailing = tuple(
        Condition(name, Values("", (q.value,), q.unit or parse_unit(""), is_list=False))
        for name, q in {**calibration.conditions, **conditions}.items()
    )
    return Certificate(
        number=issuer.number,
        country=issuer.country,
        languages=("en",),
        mandatory=("en",),
        begun=calibration.date,
        ended=calibration.date,
        place=issuer.place,
        laboratory=Party(issuer.name),
        customer=Party(issuer.customer),
        items=(item,),
        persons=((issuer.person, ""),),
        measurements=(
            Measurement("Calibration", tuple(results), (), (calibration.reference,), prevailing),
        ),
        issued=calibration.date,
    )


def _result(stage: str, held: AsFoundPoints, unit: Unit, otherwise: Quantity | None) -> Result:
    """A series of points; those without an uncertainty of their own have that of the calibration."""
    readings = tuple(reading.value_in(unit) for reading, _ in held.points)
    references = tuple(reference.value_in(unit) for _, reference in held.points)
    wide = [one or otherwise for one in held.expanded]
    expanded = None
    if all(one is not None for one in wide):
        expanded = Expanded(
            tuple(
                one.value if one.unit is None else convert_difference(one.value, one.unit, unit)
                for one in wide
                if one is not None
            )
        )
    name = f"Points {stage}" if stage else "Points"
    return Result(
        name,
        stage,
        Values("Reference", references, unit),
        Values("Reading", readings, unit, expanded),
    )


def find_sensor_file(name: str, near: Path) -> Path:
    """The file of a sensor of one's own that can be written.

    Raises
    ------
    FileProblem
        The name is not known, or the sensor ships with Leitwerk.

    """
    from leitwerk.project.library import find_own_sensor, is_shipped, known_sensors  # noqa: PLC0415 - only here

    find_own_sensor(name, near)
    file = known_sensors(near)[name]
    if not isinstance(file, Path) or is_shipped(file):
        raise FileProblem(
            f"the sensor {name} ships with Leitwerk",
            remedy="copy its file into a folder 'sensors' of yours",
        )
    return file
