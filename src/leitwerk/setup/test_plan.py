"""Plans of tests for lots of units: what each unit is measured by, and what it must lie within."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Annotated, Literal

from pydantic import Field

from leitwerk.errors import QuantityError, SetupError
from leitwerk.findings import Findings
from leitwerk.lots.limits import Around
from leitwerk.parsing.models import M, Model, YesNo, reader, text_of, validate
from leitwerk.parsing.quantities import Quantity, Span, parse_quantity, parse_span
from leitwerk.parsing.yaml_text import List, Map, parse_yaml
from leitwerk.setup.fields import DurationField, Line, QuantityField, text_schema, whole_number

VERSION = "1"
_SECTIONS = ("test plan", "tests", "stimuli")
_DEVIATION = re.compile(r"±\s*(?P<number>[0-9.]+)\s*(?P<unit>%|spreads?)?\s*(?P<rest>.*)")
_VALID = "4.9..5.1 V, ±10 %, ±6 spreads, or ±0.2 V around the reference"
MeasureName = Literal[
    "rest", "noise", "response", "signal to noise", "error", "drift", "agreement", "shorts", "firmware",
    "settings",
]  # fmt: skip


@dataclass(frozen=True, slots=True)
class Deviation:
    """A deviation from what reference units showed, in percent, in their spread, or in a unit."""

    size: Quantity
    around: Around


def _within(value: object) -> Span | Deviation:
    text = text_of(value, _VALID).strip()
    if not text.startswith(("±", "+-", "+/-")):
        return parse_span(text)
    match = _DEVIATION.fullmatch("±" + text.lstrip("±+-/"))
    if match is None:
        raise QuantityError(f"{text[:40]!r} is no deviation", valid=_VALID)
    unit, rest = match["unit"], match["rest"].strip()
    size = parse_quantity(match["number"] + (f" {rest}" if rest else ""))
    if unit and rest:
        raise QuantityError(f"{text[:40]!r} is no deviation", valid=_VALID)
    around = Around.PERCENT if unit == "%" else Around.SPREADS if unit else Around.UNIT
    return Deviation(size, around)


WithinField = Annotated[
    Span | Deviation,
    reader((Span, Deviation), _within),
    text_schema("Limits, or a deviation from the reference", "4.9..5.1 V", "±10 %", "±6 spreads"),
]
CountField = Annotated[int, whole_number(10_000, "a number of samples", least=3),
                       text_schema("A number of samples", "40", numbers=True)]  # fmt: skip
RepeatField = Annotated[int, whole_number(10, "a number of repeats"),
                        text_schema("How often", "1", numbers=True)]  # fmt: skip


class StimulusEntry(Model):
    """What a person, or a fixture, does to a unit while a response is measured."""

    ask: Line = Field(description="What is to be done; {label} is the channel's label")
    release: Line = Field("let go", description="What is to be done to end it")
    applied: QuantityField | None = Field(
        None, description="The value that is applied; a person may type what it is instead"
    )
    wait: DurationField = Field(
        parse_quantity("20 s"), description="How long to wait until a channel responds"
    )
    settle: DurationField = Field(
        parse_quantity("0.2 s"), description="How long a response takes to settle"
    )


class TestEntry(Model):
    """One test: what is measured, of which channels, and what it must lie within."""

    __test__ = False  # not a test of pytest

    measure: MeasureName
    of: list[Line] = Field(
        default_factory=list, description="Channels; pad_* are all that begin so"
    )
    to: Line | None = Field(None, description="Of a response: the stimulus")
    within: WithinField | None = None
    at_least: QuantityField | None = None
    at_most: QuantityField | None = None
    reads: Line | None = Field(None, description="Of the firmware: its version")
    guard: YesNo = Field(
        "no", description="Whether limits are made narrower by the expanded uncertainty (k = 2)"
    )
    uncertainty: QuantityField | None = Field(
        None, description="Standard uncertainty of what measures, beside that of the samples"
    )
    below: Line | None = Field(
        None, description="What a fault is called where the value is too low"
    )
    above: Line | None = Field(None, description="What it is called where the value is too high")


class PlanEntry(Model):
    """What holds for all tests of a plan."""

    title: Line
    setup: Line = Field(description="The setup that each unit must hold, beside the plan")
    reference: Line | None = Field(None, description="The file of reference units, beside the plan")
    samples: CountField = Field(40, description="How many samples of each channel are taken")
    stop: Literal["never", "at the first fault"] = "never"
    again: RepeatField = Field(0, description="How often a test that fails is done again")
    fixture: RepeatField = Field(
        3,
        description="After so many units in a row with the same fault, the line stops; 0 for never",
    )
    upload: YesNo = Field("no", description="Whether each unit gets the setup before it is tested")


@dataclass(frozen=True)
class TestPlan:
    """A plan of tests as its file has it."""

    __test__ = False  # not a test of pytest

    file: str
    entry: PlanEntry
    stimuli: dict[str, StimulusEntry]
    tests: dict[str, TestEntry]
    findings: Findings = field(repr=False)
    content: bytes = field(repr=False, default=b"")


def parse_test_plan(text: str | bytes, *, file: str = "plan") -> TestPlan:
    """The plan that a text holds.

    Raises
    ------
    SetupError
        It holds none; ``findings`` says what is wrong and where.

    """
    findings = Findings(file)
    root = parse_yaml(text, findings)
    if root is None:
        raise SetupError(file, findings.sorted())
    if root.get("test plan") != VERSION:
        findings.error("missing-key", (), "this is not a plan of tests", valid="test plan: 1")
    own = {key: value for key, value in root.items() if key not in _SECTIONS}
    entry = validate(PlanEntry, own, (), findings)
    tests = _entries(root.get("tests"), TestEntry, "tests", findings)
    stimuli = _entries(root.get("stimuli"), StimulusEntry, "stimuli", findings)
    if not tests:
        findings.error("missing-key", (), "the key 'tests' is missing, or has no test")
    if entry is None or findings.has_errors:
        raise SetupError(file, findings.sorted())
    content = text.encode() if isinstance(text, str) else text
    return TestPlan(file, entry, stimuli, tests, findings, content)


def _entries(raw: object, model: type[M], name: str, findings: Findings) -> dict[str, M]:
    found: dict[str, M] = {}
    if raw is not None and not isinstance(raw, Map):
        findings.error("bad-value", (name,), f"{name} is a group of keys")
    for key, content in raw.items() if isinstance(raw, Map) else ():
        if not isinstance(content, Map):
            findings.error("bad-value", (name, key), f"{key} is a group of keys")
            continue
        plain = {k: list(v) if isinstance(v, List) else v for k, v in content.items()}
        one = validate(model, plain, (name, key), findings)
        if one is not None:
            found[key] = one
    return found
