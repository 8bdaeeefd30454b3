"""leitwerk models."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON

if TYPE_CHECKING:
    from collections.abc import Sequence

    from leitwerk.datasheet.needs import Needs
    from leitwerk.project.selection import ModelFit, NeedsFit


@click.command()
@click.argument("setup", required=False)
@click.option("--words", metavar="NEEDS", help="All needs in words: '6 buttons, 2 relays, IP54'.")
@click.option("--need", "inputs", multiple=True, metavar="N KIND", help="Inputs: '4 Pt100'.")
@click.option("--output", "outputs", multiple=True, metavar="N KIND", help="Outputs: '2 relay'.")
@click.option("--every", metavar="TIME", help="How often to sample: '10 s'.")
@click.option("--keep-for", metavar="TIME", help="For how long the memory must last: '7 d'.")
@click.option("--alarms", default=0, type=click.IntRange(0, 10_000), help="Number of alarms.")
@click.option("--stands", metavar="SPAN", help="Temperatures around it: '-20..40 °C'.")
@click.option("--protection", metavar="IP", help="Degree of protection at least: IP54.")
@JSON
def models(setup: str | None, *, words: str | None, as_json: bool, **asked: Any) -> int:
    """Show which models fit, and why the others do not. Without a setup or a need, list all models.

    A model fits if it can do what a SETUP asks for (terminals, ranges, interval, alarms, texts), or
    all that the options ask for. A need is a number of inputs of a kind: a sensor (Pt100, type K),
    a signal (4..20 mA, voltage, contact), the unit of what a device measures by itself (dB, l/s), or a part
    that it has (button, place). In words, all of it stands in one text: '4 Pt100, 2 relays, every 10 s,
    memory for 7 d, 4 alarms, -20..40 °C, IP54'. The table says for each need why a model meets it or not.

    Exit code 0: at least one fits. 1: none. 2: usage.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.project.library import find_datasheet, known_models
    from leitwerk.project.selection import choose_by_needs, choose_model
    from leitwerk.project.setups import load_setup

    needs = _needs(**asked)
    if words is not None:
        if needs is not None:
            raise click.UsageError("give needs in words or by options, not both")
        from leitwerk.datasheet.needs import parse_needs

        needs = parse_needs(words)
    if setup is None and needs is None:
        for name in known_models():
            click.echo(f"{name:12} {find_datasheet(name).summary}")
        return FINE
    if setup is not None and needs is not None:
        raise click.UsageError("give a setup or needs, not both")
    fits: Sequence[ModelFit | NeedsFit] = (
        choose_by_needs(needs) if needs else choose_model(load_setup(str(setup)))
    )
    if as_json:
        echo_json([fit.to_dict() for fit in fits])
    elif words is not None:
        _print_table(fits)
    else:
        for fit in fits:
            click.echo(str(fit))
    return FINE if any(fit.ok for fit in fits) else FOUND


def _print_table(fits: Sequence[ModelFit | NeedsFit]) -> None:
    """A row for each model, a column for each need."""
    from leitwerk.cli.printing import print_columns
    from leitwerk.project.selection import NeedsFit

    rows = [fit for fit in fits if isinstance(fit, NeedsFit)]
    heads = ["Model", "Fits", *(name for name, _ in rows[0].each)] if rows else []
    print_columns(
        heads,
        [
            (
                fit.model,
                "yes" if fit.ok else "no",
                *(text.removeprefix("it ") for _, text in fit.each),
            )
            for fit in rows
        ],
    )


def _needs(
    *,
    inputs: tuple[str, ...],
    outputs: tuple[str, ...],
    every: str | None,
    keep_for: str | None,
    alarms: int,
    stands: str | None,
    protection: str | None,
) -> Needs | None:
    from leitwerk.datasheet.needs import Needs, parse_counted, parse_protection
    from leitwerk.parsing.quantities import parse_quantity, parse_span
    from leitwerk.parsing.units import parse_unit

    second = parse_unit("s")
    needs = Needs(
        inputs=tuple(parse_counted(text) for text in inputs),
        outputs=tuple(parse_counted(text) for text in outputs),
        interval_s=parse_quantity(every).value_in(second) if every else None,
        keep_s=parse_quantity(keep_for).value_in(second) if keep_for else None,
        alarms=alarms,
        surroundings_c=parse_span(stands).ends_in(parse_unit("°C")) if stands else None,
        protection=parse_protection(protection) if protection else "",
    )
    return None if needs == Needs() else needs
