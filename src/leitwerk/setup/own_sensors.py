"""Sensors of one's own in files: what a channel has by its sensor, and each sensor by its serial number."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, Protocol

from pydantic import Field

from leitwerk.errors import FileProblem, SetupError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.models import Model, validate
from leitwerk.parsing.quantities import Quantity
from leitwerk.parsing.yaml_text import List, Map, parse_yaml
from leitwerk.setup.calibration import Calibration
from leitwerk.setup.fields import (
    DurationField,
    FormatVersion,
    Line,
    QuantityField,
    RangeField,
    ScaleField,
    SensorField,
    SignalField,
    UnitField,
)
from leitwerk.signals.sensors import SENSORS, is_sensor


class SensorEntries(Model):
    """What a channel has by its sensor, unless it says otherwise itself."""

    sensor: SensorField | None = None
    signal: SignalField | None = None
    range: RangeField | None = None
    shunt: QuantityField | None = None
    leads: QuantityField | None = None
    scale: ScaleField | None = None
    unit: UnitField | None = None
    time_constant: DurationField | None = None


class SensorFile(Model):
    """The file of one type of sensor."""

    sensor: FormatVersion
    name: Line = Field(description="By which setups name it")
    summary: Line
    maker: Line | None = None
    type: Line | None = Field(None, description="The maker's name of it")
    entries: SensorEntries
    uncertainty: QuantityField | None = Field(
        None, description="Expanded uncertainty (k = 2) of every sensor of this type"
    )
    cable: dict[str, Line] = Field(
        default_factory=dict, description="What each wire or pin is, by its colour or number"
    )
    pieces: dict[str, list[Calibration]] = Field(
        default_factory=dict,
        description="Sensors of this type by their serial numbers: calibrations, the newest last",
    )


@dataclass(frozen=True)
class OwnSensor:
    """A type of sensor, and those of it that are known by their serial numbers.

    ``entries`` are those of a channel as a file has them, ``raw_pieces`` the calibrations likewise.
    """

    file: str
    name: str
    summary: str
    maker: str
    type: str
    entries: Mapping[str, Any]
    uncertainty: Quantity | None
    cable: Mapping[str, str]
    pieces: Mapping[str, tuple[Calibration, ...]]
    raw_pieces: Mapping[str, Any]


def parse_own_sensor(text: str | bytes, *, file: str = "sensor") -> OwnSensor:
    """The type of sensor that a text describes.

    Raises
    ------
    SetupError
        It has mistakes; ``findings`` says them all.

    """
    findings = Findings(file)
    root = parse_yaml(text, findings)
    if root is None:
        raise SetupError(file, findings.sorted())
    raw: dict[str, Any] = dict(root)
    if isinstance(written := root.get("pieces"), Map):
        raw["pieces"] = {
            serial: _calibrations(content, ("pieces", serial), findings)
            for serial, content in written.items()
        }
    if isinstance(entries := root.get("entries"), Map):
        raw["entries"] = validate(SensorEntries, entries, ("entries",), findings)
    found = validate(SensorFile, raw, (), findings)
    if found is not None and is_sensor(found.name):
        message = f"{found.name!r} is a sensor that Leitwerk knows by itself"
        findings.error("bad-name", ("name",), message, valid="another name")
    if found is None or findings.has_errors or not isinstance(entries, Map):
        raise SetupError(file, findings.sorted())
    return OwnSensor(
        file, found.name, found.summary, found.maker or "", found.type or "", entries,
        found.uncertainty, found.cable,
        {serial: tuple(one) for serial, one in found.pieces.items()},
        written if isinstance(written, Map) else {},
    )  # fmt: skip


def _calibrations(content: object, path: KeyPath, findings: Findings) -> list[Calibration]:
    if not isinstance(content, List):
        valid = "- {date: 2026-03-02, due: 2027-03-02, …}"
        findings.error(
            "bad-value", path, "calibrations of a sensor are a list, the newest last", valid=valid
        )
        return []
    found = []
    for number, entry in enumerate(content):
        place = (*path, str(number))
        if not isinstance(entry, Map):
            findings.error("bad-value", place, "a calibration is a group of keys")
        elif (one := validate(Calibration, entry, place, findings)) is not None:
            found.append(one)
    for number, (before, after) in enumerate(pairwise(found), start=1):
        if after.date < before.date:
            message = f"the calibration of {after.date} stands behind that of {before.date}"
            findings.error(
                "dates-reversed", (*path, str(number), "date"), message, valid="the newest last"
            )
    return found


class SensorLibrary(Protocol):
    """Where sensors of one's own are found."""

    def find_own_sensor(self, name: str) -> OwnSensor:
        """The sensor of a name; a FileProblem or SetupError when it cannot be used."""


def with_own_sensor(
    content: Map, library: SensorLibrary, path: KeyPath, findings: Findings
) -> tuple[Map, OwnSensor | None]:
    """The entries of a channel with those of the sensor of one's own that it names, and that sensor."""
    name, serial = content.get("sensor"), content.get("sensor_serial")
    if not isinstance(name, str) or is_sensor(name):
        if serial is not None:
            findings.error(
                "unknown-sensor", (*path, "sensor_serial"),
                "a serial number is that of a sensor of your own",
                valid="with 'sensor: ' and the name of a file in a folder 'sensors'",
            )  # fmt: skip
        return content, None
    try:
        own = library.find_own_sensor(name)
    except FileProblem as error:
        findings.error(
            "bad-value", (*path, "sensor"), f"sensor: {error.message}", valid=", ".join(SENSORS),
            remedy=error.remedy,
        )  # fmt: skip
        return content.without("sensor", "sensor_serial"), None
    except SetupError as error:
        message = f"the file of the sensor has mistakes: {error}"
        findings.error("unknown-sensor", (*path, "sensor"), message)
        return content.without("sensor", "sensor_serial"), None
    given = dict(own.entries)
    if isinstance(serial, str):
        if serial not in own.raw_pieces:
            findings.error(
                "unknown-sensor", (*path, "sensor_serial"),
                f"{own.file} has no sensor {serial[:40]!r}", valid=", ".join(own.raw_pieces),
            )  # fmt: skip
        elif calibrations := own.raw_pieces[serial]:
            given["calibration"] = calibrations[-1]
    found = content.without("sensor").over(given)
    found.places = content.places
    return found, own
