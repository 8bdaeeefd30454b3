"""What was applied in a proof, as it is typed: by a person, or in a script file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from leitwerk.check.checked import CheckedSetup
from leitwerk.check.outputs import AnalogOutput
from leitwerk.commissioning.loop_check import parse_measured
from leitwerk.commissioning.proof_plan import TARE, Applied, PlannedStep
from leitwerk.errors import FileProblem, QuantityError
from leitwerk.findings import Findings
from leitwerk.parsing.quantities import parse_expected, parse_quantity
from leitwerk.parsing.units import Unit, parse_unit
from leitwerk.parsing.yaml_text import Map, parse_yaml

APPLIED, SKIP = "applied", "skip"
SEEN, NOT_SEEN = "seen", "not seen"


def parse_applied(text: str, step: PlannedStep, setup: CheckedSetup) -> Applied | None:
    """What was applied, as it is typed.

    Of every step: nothing or ``applied``, or ``skip``. Of a point: the reference, ``21.52 °C ± 0.02 °C``. Of
    a loop: what was measured at its signals, ``4.01, 8, 12.02, 16, 20``. Of a relay: ``seen``, ``not seen``.
    Of a tare: what the channel should show at rest.

    Raises
    ------
    QuantityError
        It is none of these, or of another unit.

    """
    text = text.strip()
    if text in {"", APPLIED}:
        return Applied()
    if text == SKIP:
        return None
    if step.kind == "pulse" and text in {SEEN, NOT_SEEN}:
        return Applied(seen=lambda: text == SEEN)
    if step.kind == "loop":
        return Applied(measure=parse_measured(text, loop_unit(setup, step.channel)))
    if step.kind not in {"point", "adjust"} or step.correct not in {"", TARE}:
        valid = {"pulse": f"{SEEN}, {NOT_SEEN}, {SKIP}"}.get(step.kind, f"{APPLIED}, {SKIP}")
        raise QuantityError(f"{text[:40]!r} says nothing here", valid=valid)
    unit = setup.channel(step.channel).unit
    if "±" in text or "+/-" in text:
        return Applied(*parse_expected(text).value_in(unit))
    return Applied(parse_quantity(text).value_in(unit))


def loop_unit(setup: CheckedSetup, name: str) -> Unit:
    """The unit that an analog output drives its loop in."""
    output = next(output for output in setup.outputs if output.name == name)
    assert isinstance(output, AnalogOutput)
    return parse_unit(output.loop.unit)


@dataclass(frozen=True)
class ProofScript:
    """What is applied at each step: a proof without a person, which can be repeated.

    Attributes
    ----------
    steps : mapping from the key of a step
        What was applied; None to skip it.
    skips : bool
        Whether steps that are not named are skipped; else they count as applied.

    """

    steps: Mapping[str, Applied | None]
    skips: bool

    def apply(self, step: PlannedStep) -> Applied | None:
        """What the script says of a step."""
        if step.key in self.steps:
            return self.steps[step.key]
        return None if self.skips else Applied()


def read_script(
    raw: bytes, file: str, setup: CheckedSetup, plan: Sequence[PlannedStep]
) -> ProofScript:
    """The script in a file: ``default`` and ``steps``, a mapping from steps to what was applied.

    Raises
    ------
    FileProblem
        It is no script, names a step that there is not, or says something that cannot be applied.

    """
    findings = Findings(file)
    root = parse_yaml(raw, findings)
    if root is None or findings.has_errors:
        first = findings.sorted()[0].message if findings.sorted() else "it is empty"
        raise FileProblem(f"{file} is no script: {first}", remedy="steps: {door is ajar: skip}")
    steps = root["steps"] if "steps" in root else Map()
    default = root.get("default", APPLIED)
    wrong = set(root) - {"steps", "default"}
    if wrong or not isinstance(steps, Map) or default not in {APPLIED, SKIP}:
        raise FileProblem(
            f"{file} is no script of a proof",
            remedy=f"steps: {{…}}, and default: {APPLIED} or {SKIP}",
        )
    planned = {step.key: step for step in plan}
    found = {}
    for key, text in steps.items():
        if key not in planned:
            raise FileProblem(f"{file}: there is no step {key[:60]!r}", remedy="; ".join(planned))
        if not isinstance(text, str):
            raise FileProblem(
                f"{file}: {key} has to be one text", remedy=f"{APPLIED}, {SKIP}, 21.5 °C"
            )
        try:
            found[key] = parse_applied(str(text), planned[key], setup)
        except QuantityError as error:
            raise FileProblem(f"{file}: {key}: {error.message}", remedy=error.valid) from None
    return ProofScript(found, default == SKIP)
