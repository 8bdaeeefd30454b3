"""Digital calibration certificates as XML: the parts of DCC 3 with D-SI units that a calibration needs.

Source: the published description of the schema DCC 3.x, and of D-SI 2.x. Both forms of an expanded
uncertainty are read, that of D-SI 1 and that of D-SI 2; the second is written. What is not understood is kept
with its place, named, and written back. A signature is seen, and not judged.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import date
from typing import TYPE_CHECKING
from xml.etree import ElementTree as ET

from leitwerk.calibration.certificate import (
    FOUND,
    LEFT,
    Certificate,
    Condition,
    Expanded,
    Identification,
    Item,
    KeptPart,
    Measurement,
    Party,
    Result,
    Values,
)
from leitwerk.errors import QuantityError, UnitError
from leitwerk.parsing.si_units import parse_si_unit, si_text

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

DCC, SI, DS = "https://ptb.de/dcc", "https://ptb.de/si", "http://www.w3.org/2000/09/xmldsig#"
VERSION = "3.3.0"
_SOFTWARE = "Leitwerk"  # as it names itself
MAX_BYTES = 20_000_000
_MOST_POINTS = 10_000
_PREFIXES = {DCC: "dcc", SI: "si", DS: "ds"}
for _space, _prefix in _PREFIXES.items():
    ET.register_namespace(_prefix, _space)
_STAGES = {"basic_beforeAdjustment": FOUND, "basic_afterAdjustment": LEFT}
_REFERENCE, _MEASURED, _ERROR = (
    "basic_referenceValue",
    "basic_measuredValue",
    "basic_measurementError",
)


def read_certificate_xml(content: bytes, *, file: str = "certificate") -> Certificate:
    """The certificate that an XML document holds.

    Raises
    ------
    QuantityError
        It is not XML, has a document type or entities, or lacks what a certificate must have.

    """
    from defusedxml import DefusedXmlException  # noqa: PLC0415 - only for this
    from defusedxml.ElementTree import fromstring  # noqa: PLC0415

    if len(content) > MAX_BYTES:
        raise QuantityError(f"{file} has {len(content):,} bytes", valid=f"at most {MAX_BYTES:,}")
    try:
        root = fromstring(content, forbid_dtd=True)
    except (ET.ParseError, DefusedXmlException, ValueError, LookupError) as error:
        raise QuantityError(f"{file} is not XML that is read: {error or type(error).__name__}",
                            valid="XML without a document type") from None  # fmt: skip
    if root.tag != f"{{{DCC}}}digitalCalibrationCertificate":
        raise QuantityError(
            f"{file} is not a digital calibration certificate: it begins with {_short(root.tag)}",
            valid="dcc:digitalCalibrationCertificate",
        )
    version = root.get("schemaVersion", "")
    if not version.startswith("3."):
        raise QuantityError(f"{file}: version {version!r} is not known", valid="3.x")
    return _Reading(root, file).certificate()


def _short(tag: str) -> str:
    """A name with the usual prefix."""
    space, _, name = tag[1:].partition("}") if tag.startswith("{") else ("", "", tag)
    return f"{_PREFIXES[space]}:{name}" if space in _PREFIXES else name


class _Reading:
    """Reads one document, and notes which elements were understood."""

    def __init__(self, root: Element, file: str) -> None:
        self._root, self._file = root, file
        self._seen: set[int] = {id(root)}

    def certificate(self) -> Certificate:
        """All that is understood; the rest is kept."""
        data = self._one(self._root, "administrativeData")
        core = self._one(data, "coreData")
        issued = (
            self._date(core, "issueDate") if core.find(f"{{{DCC}}}issueDate") is not None else None
        )
        held = self._all(self._find(self._root, "measurementResults"), "measurementResult")
        self._skip_own_software(self._find(data, "dccSoftware"))
        found = Certificate(
            number=self._text(core, "uniqueIdentifier"),
            country=self._text(core, "countryCodeISO3166_1"),
            languages=self._contents(core, "usedLangCodeISO639_1"),
            mandatory=self._contents(core, "mandatoryLangCodeISO639_1"),
            begun=self._date(core, "beginPerformanceDate"),
            ended=self._date(core, "endPerformanceDate"),
            place=self._text(core, "performanceLocation"),
            laboratory=self._party(self._find(self._one(data, "calibrationLaboratory"), "contact")),
            customer=self._party(self._find(data, "customer")),
            items=tuple(self._item(one) for one in self._all(self._one(data, "items"), "item")),
            persons=self._persons(data),
            measurements=tuple(map(self._measurement, held)),
            issued=issued,
            is_signed=any(one.tag == f"{{{DS}}}Signature" for one in self._root.iter()),
        )
        return replace(found, kept=tuple(self._kept(self._root, ())))

    def _skip_own_software(self, software: Element | None) -> None:
        """The software that writes a certificate names itself anew; others are kept."""
        for one in software if software is not None else ():
            content = one.find(f"{{{DCC}}}name/{{{DCC}}}content")
            if content is not None and self._content(content) == _SOFTWARE:
                self._seen |= {id(part) for part in one.iter()}

    # ------------------------------------------------------------------ elements

    def _find(self, parent: Element | None, name: str, space: str = DCC) -> Element | None:
        found = None if parent is None else parent.find(f"{{{space}}}{name}")
        if found is not None:
            self._seen.add(id(found))
        return found

    def _one(self, parent: Element | None, name: str, space: str = DCC) -> Element:
        found = self._find(parent, name, space)
        if found is None:
            above = "the certificate" if parent is None else _short(parent.tag)
            raise QuantityError(f"{self._file}: {above} has no {_PREFIXES[space]}:{name}")
        return found

    def _all(self, parent: Element | None, name: str, space: str = DCC) -> list[Element]:
        found = [] if parent is None else parent.findall(f"{{{space}}}{name}")
        self._seen |= {id(one) for one in found}
        return found

    def _contents(self, parent: Element, name: str) -> tuple[str, ...]:
        return tuple(self._content(one) for one in self._all(parent, name))

    def _forget(self, element: Element) -> None:
        """An element is not understood after all."""
        self._seen -= {id(part) for part in element.iter()}

    def _content(self, element: Element) -> str:
        return (element.text or "").strip()

    def _text(self, parent: Element | None, name: str, space: str = DCC) -> str:
        text = self._content(self._one(parent, name, space))
        if not text:
            raise QuantityError(f"{self._file}: {_PREFIXES[space]}:{name} is empty")
        return text

    def _date(self, parent: Element, name: str) -> date:
        text = self._text(parent, name)
        try:
            return date.fromisoformat(text[:10])
        except ValueError:
            raise QuantityError(
                f"{self._file}: {text[:40]!r} of dcc:{name} is not a date", valid="2026-03-02"
            ) from None

    def _name(self, parent: Element | None) -> str:
        """The first text of an element's name; one in another language is kept."""
        content = self._find(self._find(parent, "name"), "content")
        return "" if content is None else self._content(content)

    # ------------------------------------------------------------------ who and what

    def _party(self, contact: Element | None) -> Party:
        location = self._find(contact, "location")
        lines = []
        for child in location if location is not None else ():
            if child.tag.startswith(f"{{{DCC}}}") and not len(child) and self._content(child):
                self._seen.add(id(child))
                lines.append((child.tag.partition("}")[2], self._content(child)))
        return Party(self._name(contact), tuple(lines))

    def _item(self, element: Element) -> Item:
        model = self._find(element, "model")
        return Item(
            name=self._name(element),
            manufacturer=self._name(self._find(element, "manufacturer")),
            model="" if model is None else self._content(model),
            identifications=tuple(
                Identification(self._text(one, "issuer"), self._text(one, "value"), self._name(one))
                for one in self._all(self._find(element, "identifications"), "identification")
            ),
        )

    def _persons(self, data: Element) -> tuple[tuple[str, str], ...]:
        found = []
        for one in self._all(self._find(data, "respPersons"), "respPerson"):
            role = self._find(one, "role")
            found.append(
                (self._name(self._find(one, "person")), "" if role is None else self._content(role))
            )
        return tuple(found)

    # ------------------------------------------------------------------ results

    def _measurement(self, held: Element) -> Measurement:
        return Measurement(
            name=self._name(held),
            results=tuple(
                self._result(r) for r in self._all(self._find(held, "results"), "result")
            ),
            methods=self._names(held, "usedMethods", "usedMethod"),
            instruments=self._names(held, "measuringEquipments", "measuringEquipment"),
            conditions=tuple(self._conditions(held)),
        )

    def _names(self, held: Element, group: str, name: str) -> tuple[str, ...]:
        return tuple(self._name(one) for one in self._all(self._find(held, group), name))

    def _conditions(self, held: Element) -> Iterator[Condition]:
        for one in self._all(self._find(held, "influenceConditions"), "influenceCondition"):
            quantities = self._all(self._find(one, "data"), "quantity")
            values = self._values(quantities[0]) if quantities else None
            for further in quantities[1:]:
                self._forget(further)
            if values is None:
                self._forget(one)
            else:
                yield Condition(self._name(one), values)

    def _result(self, element: Element) -> Result:
        stages = [_STAGES[t] for t in element.get("refType", "").split() if t in _STAGES]
        data = self._find(element, "data")
        table = self._find(data, "list")
        by_role: dict[str, Values] = {}
        for quantity in self._all(data, "quantity") + self._all(table, "quantity"):
            roles = quantity.get("refType", "").split()
            role = next((r for r in (_REFERENCE, _MEASURED, _ERROR) if r in roles), None)
            values = self._values(quantity) if role is not None and role not in by_role else None
            if values is None or role is None:
                self._forget(quantity)
            else:
                by_role[role] = values
        counts = {len(values.numbers) for values in by_role.values()}
        name = self._name(element)
        if len(counts) > 1:
            raise QuantityError(
                f"{self._file}: the lists of the result {name!r} have "
                f"{' and '.join(map(str, sorted(counts)))} values",
                valid="as many of each",
            )
        return Result(name, stages[0] if stages else "", by_role.get(_REFERENCE),
                      by_role.get(_MEASURED), by_role.get(_ERROR))  # fmt: skip

    def _values(self, quantity: Element) -> Values | None:
        """The values of a quantity; None where it has none in a form, or a unit, that is understood."""
        real, listed = self._find(quantity, "real", SI), self._find(quantity, "realListXMLList", SI)
        element, end = (real, "") if real is not None else (listed, "XMLList")
        if element is None:
            return None
        texts = set(self._text(element, f"unit{end}", SI).split())
        try:
            unit = parse_si_unit(texts.pop()) if len(texts) == 1 else None
        except UnitError:
            unit = None
        if unit is None:
            return None
        numbers = self._numbers(element, f"value{end}")
        wide = self._expanded(element, end, len(numbers))
        return Values(self._name(quantity), numbers, unit, wide, is_list=real is None)

    def _numbers(self, parent: Element, name: str) -> tuple[float, ...]:
        texts = self._text(parent, name, SI).split()
        if len(texts) > _MOST_POINTS:
            raise QuantityError(
                f"{self._file}: {len(texts):,} values", valid=f"at most {_MOST_POINTS:,}"
            )
        try:
            numbers = tuple(float(text) for text in texts)
        except ValueError:
            numbers = (math.nan,)
        if not all(map(math.isfinite, numbers)):
            raise QuantityError(
                f"{self._file}: si:{name} holds {' '.join(texts)[:60]!r}", valid="numbers"
            )
        return numbers

    def _expanded(self, element: Element, end: str, count: int) -> Expanded | None:
        """The expanded uncertainty, in the form of D-SI 2 or of D-SI 1."""
        outer = self._find(element, f"measurementUncertaintyUnivariate{end}", SI)
        held, value = self._find(outer, f"expandedMU{end}", SI), f"valueExpandedMU{end}"
        if held is None:
            held, value = self._find(element, f"expandedUnc{end}", SI), f"uncertainty{end}"
        if held is None:
            return None
        values = self._numbers(held, value)
        factors = self._numbers(held, f"coverageFactor{end}")
        probabilities = self._numbers(held, f"coverageProbability{end}")
        values = values * count if len(values) == 1 else values
        fits = len(values) == count and len(factors) in {1, count}
        if not fits or any(v < 0.0 for v in values) or min(factors) <= 0.0:
            raise QuantityError(f"{self._file}: the uncertainties do not fit the {count} values")
        if len(set(factors)) > 1:  # each in terms of the first coverage factor
            every = factors * count if len(factors) == 1 else factors
            values = tuple(v / k * factors[0] for v, k in zip(values, every, strict=True))
        return Expanded(values, factors[0], probabilities[0])

    # ------------------------------------------------------------------ what is not understood

    def _kept(self, element: Element, way: tuple[str, ...]) -> Iterator[KeptPart]:
        for name, value in element.attrib.items():
            if not _is_known(element, name, value):
                yield KeptPart(way, "", value, attribute=_short(name))
        counts: dict[str, int] = {}
        before = ""
        for child in element:
            if id(child) in self._seen:
                number = counts[child.tag] = counts.get(child.tag, -1) + 1
                before = f"{_short(child.tag)}[{number}]"
                yield from self._kept(child, (*way, before))
            else:
                yield KeptPart(way, before, _as_text(child))


def _is_known(element: Element, name: str, value: str) -> bool:
    """Whether an attribute is written from what was understood."""
    if name == "schemaVersion":
        return True
    written = (_REFERENCE, _MEASURED, _ERROR, *_STAGES)
    return (
        name == "refType"
        and value in written
        and _short(element.tag) in {"dcc:quantity", "dcc:result"}
    )


def _as_text(element: Element) -> str:
    behind, element.tail = element.tail, None
    text = ET.tostring(element, encoding="unicode")
    element.tail = behind
    return re.sub(r">\s+<", "><", text)


# ---------------------------------------------------------------------- writing


def write_certificate_xml(certificate: Certificate, *, software: str = "") -> bytes:
    """A certificate as an XML document, without a signature of its own.

    Raises
    ------
    QuantityError
        A unit of it has no name in D-SI.

    """
    root = ET.Element(f"{{{DCC}}}digitalCalibrationCertificate", {"schemaVersion": VERSION})
    data = _add(root, "administrativeData")
    made = _add(_add(data, "dccSoftware"), "software")
    _add_name(made, _SOFTWARE)
    _add(made, "release", software or "1")
    _add_core(_add(data, "coreData"), certificate)
    _add_items(_add(data, "items"), certificate)
    _add_contact(_add(_add(data, "calibrationLaboratory"), "contact"), certificate.laboratory)
    persons = _add(data, "respPersons")
    for name, role in certificate.persons:
        person = _add(persons, "respPerson")
        _add_name(_add(person, "person"), name)
        if role:
            _add(person, "role", role)
    _add_contact(_add(data, "customer"), certificate.customer)
    measurements = _add(root, "measurementResults")
    for measurement in certificate.measurements:
        _add_measurement(_add(measurements, "measurementResult"), measurement)
    for part in reversed(
        certificate.kept
    ):  # what is put back does not move what still is to be found
        _put_back(root, part)
    ET.indent(root)
    text = ET.tostring(root, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{text}\n'.encode()


def _add(parent: Element, name: str, text: str | None = None, space: str = DCC) -> Element:
    element = ET.SubElement(parent, f"{{{space}}}{name}")
    element.text = text
    return element


def _add_name(parent: Element, text: str) -> None:
    _add(_add(parent, "name"), "content", text)


def _add_core(core: Element, certificate: Certificate) -> None:
    _add(core, "countryCodeISO3166_1", certificate.country)
    for language in certificate.languages:
        _add(core, "usedLangCodeISO639_1", language)
    for language in certificate.mandatory:
        _add(core, "mandatoryLangCodeISO639_1", language)
    _add(core, "uniqueIdentifier", certificate.number)
    _add(core, "beginPerformanceDate", certificate.begun.isoformat())
    _add(core, "endPerformanceDate", certificate.ended.isoformat())
    _add(core, "performanceLocation", certificate.place)
    if certificate.issued is not None:
        _add(core, "issueDate", certificate.issued.isoformat())


def _add_items(items: Element, certificate: Certificate) -> None:
    for item in certificate.items:
        one = _add(items, "item")
        _add_name(one, item.name)
        if item.manufacturer:
            _add_name(_add(one, "manufacturer"), item.manufacturer)
        if item.model:
            _add(one, "model", item.model)
        held = _add(one, "identifications")
        for identification in item.identifications:
            number = _add(held, "identification")
            _add(number, "issuer", identification.issuer)
            _add(number, "value", identification.value)
            if identification.name:
                _add_name(number, identification.name)


def _add_contact(contact: Element, party: Party) -> None:
    _add_name(contact, party.name)
    location = _add(contact, "location")
    for kind, text in party.address:
        _add(location, kind, text)


def _add_named_all(held: Element, group: str, name: str, texts: Sequence[str]) -> None:
    if texts:
        every = _add(held, group)
        for text in texts:
            _add_name(_add(every, name), text)


def _add_measurement(held: Element, measurement: Measurement) -> None:
    _add_name(held, measurement.name)
    _add_named_all(held, "usedMethods", "usedMethod", measurement.methods)
    _add_named_all(held, "measuringEquipments", "measuringEquipment", measurement.instruments)
    if measurement.conditions:
        conditions = _add(held, "influenceConditions")
        for condition in measurement.conditions:
            one = _add(conditions, "influenceCondition")
            _add_name(one, condition.name)
            _add_values(_add(one, "data"), condition.values, "")
    results = _add(held, "results")
    for result in measurement.results:
        _add_result(results, result)


def _add_result(results: Element, result: Result) -> None:
    one = _add(results, "result")
    stage = next((role for role, known in _STAGES.items() if known == result.stage), None)
    if stage is not None:
        one.set("refType", stage)
    _add_name(one, result.name)
    table = _add(_add(one, "data"), "list")
    for role, values in (
        (_REFERENCE, result.reference), (_MEASURED, result.measured), (_ERROR, result.error),
    ):  # fmt: skip
        if values is not None:
            _add_values(table, values, role)


def _add_values(parent: Element, values: Values, role: str) -> None:
    quantity = _add(parent, "quantity")
    if role:
        quantity.set("refType", role)
    if values.name:
        _add_name(quantity, values.name)
    end = "XMLList" if values.is_list else ""
    listed = _add(quantity, f"real{'List' if end else ''}{end}", space=SI)
    _add(listed, f"value{end}", " ".join(map(repr, values.numbers)), SI)
    _add(listed, f"unit{end}", si_text(values.unit), SI)
    if (wide := values.uncertainty) is not None:
        outer = _add(listed, f"measurementUncertaintyUnivariate{end}", space=SI)
        held = _add(outer, f"expandedMU{end}", space=SI)
        _add(held, f"valueExpandedMU{end}", " ".join(map(repr, wide.values)), SI)
        _add(held, f"coverageFactor{end}", repr(wide.factor), SI)
        _add(held, f"coverageProbability{end}", repr(wide.probability), SI)


_STEP = re.compile(r"(.+)\[(\d+)\]")


def _long(short: str) -> str:
    prefix, colon, name = short.partition(":")
    space = next((s for s, p in _PREFIXES.items() if p == prefix), "")
    return f"{{{space}}}{name}" if colon and space else short


def _at(parent: Element, step: str) -> Element | None:
    match = _STEP.fullmatch(step)
    if match is None:
        return None
    every = parent.findall(_long(match[1]))
    number = int(match[2])
    return every[number] if number < len(every) else None


def _put_back(root: Element, part: KeptPart) -> None:
    """Put a part that is not understood where it stood; at the end of the nearest place that is there."""
    here = root
    for step in part.parent:
        found = _at(here, step)
        if found is None:
            break
        here = found
    if part.attribute:
        here.set(_long(part.attribute), part.text)
        return
    before = _at(here, part.after) if part.after else None
    place = 0 if not part.after else len(here) if before is None else list(here).index(before) + 1
    here.insert(place, ET.fromstring(part.text))  # noqa: S314 - it was read safely before
