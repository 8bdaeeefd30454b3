"""Where the answers of a proof come from: a person at the terminal, or a channel that is read."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import click

from leitwerk.cli.interrupts import read_line
from leitwerk.commissioning.loop_check import Measure, Received
from leitwerk.commissioning.proof_plan import TARE, Applied, PlannedStep
from leitwerk.commissioning.proof_script import NOT_SEEN, SEEN, SKIP, loop_unit, parse_applied
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import parse_quantity
from leitwerk.parsing.units import Unit

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.commissioning.proof_reference import ReferenceChannel
    from leitwerk.links.options import LinkOptions

_ASKED = {
    "point": "Enter when it is so; or type the reference, such as '21.52 °C ± 0.02 °C'",
    "state": "Enter when it is so",
    "alarm": "Enter, and begin",
    "adjust": "Enter adjusts it",
    "loop": "Enter drives it",
    "pulse": "Enter switches it",
}


def _prompt(text: str) -> str:
    """What is typed; Ctrl+C and the end of the input break the proof off, which says how to resume."""
    click.echo(f"{text}: ", nl=False, err=True)
    return read_line().strip()


def ask_measured(unit: Unit) -> Measure:
    """Asks for what was measured at the other end of a loop, in ``unit``; Enter for nothing."""

    def ask(asked: float) -> Received:
        while True:
            typed = _prompt(f"  {asked:g} {unit} is given; measured")
            try:
                return Received(parse_quantity(typed).value_in(unit) if typed else None)
            except QuantityError as error:
                click.echo(f"  {error}", err=True)

    return ask


def _ask_seen() -> bool | None:
    """Ask whether a relay was seen or heard to switch; Enter for unknown."""
    while True:
        typed = _prompt(f"  did it work? {SEEN}, {NOT_SEEN}, or Enter if you do not know")
        if typed in {SEEN, NOT_SEEN, ""}:
            return typed == SEEN if typed else None


class Person:
    """Asks at the terminal what was applied. ``references`` are the names of what is read instead."""

    def __init__(self, setup: CheckedSetup, references: frozenset[str]) -> None:
        self._setup, self._references = setup, references

    def apply(self, step: PlannedStep) -> Applied | None:
        """Ask until the answer can be used; q breaks the proof off."""
        click.echo(f"\n{step.key}: {step.request}", err=True)
        asked = _ASKED[step.kind]
        if step.channel in self._references and step.kind == "point":
            asked = "Enter when it is so: the reference is read"
        if step.correct == TARE:
            asked += "; or type what it should show at rest"
        while True:
            answer = _prompt(f"  {asked}; {SKIP}; q ends, to be resumed")
            if answer == "q":
                raise KeyboardInterrupt
            try:
                applied = parse_applied(answer, step, self._setup)
            except QuantityError as error:
                click.echo(f"  {error}", err=True)
                continue
            return self._with_questions(applied, step)

    def _with_questions(self, applied: Applied | None, step: PlannedStep) -> Applied | None:
        """What can be answered only while an output is driven, is asked then."""
        if applied is None or applied.measure or applied.seen or step.channel in self._references:
            return applied
        if step.kind == "pulse":
            return Applied(seen=_ask_seen)
        if step.kind == "loop":
            return Applied(measure=ask_measured(loop_unit(self._setup, step.channel)))
        return applied


@contextmanager
def reference_channel(path: str, channel: str, link: LinkOptions) -> Iterator[ReferenceChannel]:
    """A channel of the device of another setup, read as the reference."""
    from leitwerk.commissioning.proof_reference import ReferenceChannel
    from leitwerk.devices.device import connect
    from leitwerk.project.setups import read_setup

    setup = read_setup(path)
    with connect(setup, link=link) as device:
        yield ReferenceChannel(setup, device, channel)
