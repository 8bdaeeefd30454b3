"""A calibration certificate: what was calibrated, by whom, how, and what was found."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date

from leitwerk.errors import QuantityError
from leitwerk.parsing.units import Unit, convert, convert_difference

FOUND, LEFT = "as found", "as left"


@dataclass(frozen=True, slots=True)
class Expanded:
    """The expanded uncertainty of each value of a list, with its coverage (JCGM 100, 6.2)."""

    values: tuple[float, ...]
    factor: float = 2.0
    probability: float = 0.95

    def to_factor(self, factor: float) -> tuple[float, ...]:
        """The same with another coverage factor, of a normal distribution."""
        return tuple(value / self.factor * factor for value in self.values)


@dataclass(frozen=True, slots=True)
class Values:
    """A list of values in one unit; ``is_list`` says whether a certificate has them as a list."""

    name: str
    numbers: tuple[float, ...]
    unit: Unit
    uncertainty: Expanded | None = None
    is_list: bool = True

    def numbers_in(self, unit: Unit) -> tuple[float, ...]:
        """The values in another unit."""
        return tuple(convert(number, self.unit, unit) for number in self.numbers)


@dataclass(frozen=True, slots=True)
class Party:
    """A laboratory or a customer: a name, and the lines of its address by what they are."""

    name: str
    address: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Identification:
    """A number of an item, and who gave it: manufacturer, calibrationLaboratory, customer, owner, other."""

    issuer: str
    value: str
    name: str = ""


@dataclass(frozen=True, slots=True)
class Item:
    """What was calibrated."""

    name: str
    manufacturer: str = ""
    model: str = ""
    identifications: tuple[Identification, ...] = ()

    @property
    def serial(self) -> str:
        """Its serial number: the one that the manufacturer gave, else the first."""
        every = sorted(self.identifications, key=lambda one: one.issuer != "manufacturer")
        return every[0].value if every else ""


@dataclass(frozen=True, slots=True)
class Condition:
    """What prevailed during the calibration, such as the temperature: a list of one or two values."""

    name: str
    values: Values


@dataclass(frozen=True, slots=True)
class Result:
    """One series of points: ``stage`` is ``as found``, ``as left``, or empty where nothing was adjusted."""

    name: str
    stage: str
    reference: Values | None = None
    measured: Values | None = None
    error: Values | None = None

    def points(self, unit: Unit) -> Iterator[tuple[float, float, float | None]]:
        """Reading, reference, and expanded uncertainty (k = 2) of each point, in a unit.

        Raises
        ------
        QuantityError
            The series lacks what a point needs, or is in units of another kind.

        """
        if self.reference is None or (self.measured is None and self.error is None):
            raise QuantityError(
                f"the result {self.name!r} has no reference values with what was measured there",
                valid="reference values, and measured values or errors",
            )
        references = self.reference.numbers_in(unit)
        if self.measured is not None:
            readings = self.measured.numbers_in(unit)
        else:
            assert self.error is not None
            errors = (convert_difference(e, self.error.unit, unit) for e in self.error.numbers)
            readings = tuple(r + e for r, e in zip(references, errors, strict=True))
        given = next(
            (v for v in (self.error, self.measured, self.reference) if v and v.uncertainty), None
        )
        wide: tuple[float | None, ...] = (None,) * len(references)
        if given is not None and given.uncertainty is not None:
            wide = tuple(
                convert_difference(u, given.unit, unit) for u in given.uncertainty.to_factor(2.0)
            )
        yield from zip(readings, references, wide, strict=True)


@dataclass(frozen=True, slots=True)
class Measurement:
    """Results that were found in one way, under the same conditions."""

    name: str
    results: tuple[Result, ...]
    methods: tuple[str, ...] = ()
    instruments: tuple[str, ...] = ()
    conditions: tuple[Condition, ...] = ()


@dataclass(frozen=True, slots=True)
class KeptPart:
    """A part of a certificate that is not understood: where it stands, and its text.

    ``parent`` is the way to the element that holds it, ``after`` the element before it. ``attribute`` is the
    name of an attribute, whose value is ``text``; without it, ``text`` is an element.
    """

    parent: tuple[str, ...]
    after: str
    text: str
    attribute: str = ""

    @property
    def name(self) -> str:
        """The end of the way to it, for people."""
        own = (
            f"@{self.attribute}"
            if self.attribute
            else re.split(r"[\s/>]", self.text[1:], maxsplit=1)[0]
        )
        return "/".join([*(step.removesuffix("[0]") for step in self.parent[-2:]), own])


@dataclass(frozen=True, kw_only=True)
class Certificate:
    """A calibration certificate.

    Attributes
    ----------
    number : str
        By which it is known all over the world.
    country, languages, mandatory : str, tuple of str, tuple of str
        ISO 3166-1, ISO 639-1; the mandatory languages are those that count.
    begun, ended, issued : date
        When the calibration was performed, and when it was issued.
    place : str
        Where: laboratory, customer, or another.
    persons : tuple of (name, role)
    is_signed : bool
        Whether it holds an electronic signature. It is not judged.
    kept : tuple of KeptPart
        What is not understood. It is written back.

    """

    number: str
    country: str
    languages: tuple[str, ...]
    mandatory: tuple[str, ...]
    begun: date
    ended: date
    place: str
    laboratory: Party
    customer: Party
    items: tuple[Item, ...]
    persons: tuple[tuple[str, str], ...]
    measurements: tuple[Measurement, ...]
    issued: date | None = None
    is_signed: bool = False
    kept: tuple[KeptPart, ...] = ()

    def __repr__(self) -> str:
        items = ", ".join(f"{item.name} {item.serial}".strip() for item in self.items)
        return f"<Certificate {self.number}: {items}, {self.ended}>"

    @property
    def results(self) -> tuple[Result, ...]:
        """The series of points of all measurements."""
        return tuple(result for held in self.measurements for result in held.results)

    def result(self, stage: str) -> Result | None:
        """The series of points of a stage; None where it has none."""
        return next((r for r in self.results if r.stage == stage and r.reference is not None), None)

    def in_force(self, dimension: str, name: str = "") -> Result:
        """The points that hold now: those behind an adjustment, else those that were found.

        Parameters
        ----------
        dimension : str
            That of the unit in which they are wanted.
        name : str
            Of the series, where the certificate has several.

        Raises
        ------
        QuantityError
            It has no such points, or several series of them, or several items that they may belong to.

        """
        if len(self.items) != 1:
            raise QuantityError(
                f"the certificate {self.number} is of {len(self.items)} items, and does not say whose its "
                "points are",
                valid="a certificate of one item",
            )
        for stage in (LEFT, FOUND, ""):
            found = self.series(stage, dimension, name)
            if len(found) > 1:
                raise QuantityError(
                    f"the certificate {self.number} has {len(found)} series of points",
                    valid=", ".join(repr(result.name) for result in found),
                    remedy="say which one is meant: --series NAME",
                )
            if found:
                return found[0]
        raise QuantityError(
            f"the certificate {self.number} has no points of {dimension}"
            + (f" in a series {name!r}" if name else ""),
            valid=", ".join(repr(r.name) for r in self.results if r.reference)
            or "reference values",
        )

    def series(self, stage: str, dimension: str, name: str = "") -> list[Result]:
        """The series of points of a stage, in units of one dimension; of one name if that is not empty."""
        return [
            result
            for result in self.results
            if result.stage == stage
            and result.reference is not None
            and result.reference.unit.dimension == dimension
            and name in {"", result.name}
        ]
