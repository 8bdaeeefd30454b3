"""leitwerk models."""

from __future__ import annotations

import click

from leitwerk.cli.outcome import FINE, FOUND, reports_errors


@click.command()
@click.argument("setup", required=False)
@click.option("--json", "as_json", is_flag=True, help="Print the models as JSON.")
@reports_errors
def models(setup: str | None, *, as_json: bool) -> int:
    """Say which models SETUP fits, and why not the others; without it, list the models.

    What a setup asks for is held against every datasheet: terminals, ranges, interval, alarms, texts.

    Exit code 0: at least one fits. 1: none. 2: usage.
    """
    from leitwerk.cli.show import echo_json
    from leitwerk.project import choose_model, find_datasheet, known_models, read_setup

    if setup is None:
        for name in known_models():
            click.echo(f"{name:12} {find_datasheet(name).summary}")
        return FINE
    fits = choose_model(read_setup(setup))
    if as_json:
        echo_json([fit.to_dict() for fit in fits])
    else:
        for fit in fits:
            click.echo(str(fit))
    return FINE if any(fit.ok for fit in fits) else FOUND
