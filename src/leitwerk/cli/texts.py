"""leitwerk example and leitwerk schema: texts that ship with the package."""

from __future__ import annotations

import click


@click.command()
def example() -> None:
    """Print a setup to start from."""
    from importlib import resources

    file = resources.files("leitwerk") / "examples" / "kiln.yaml"
    click.echo(file.read_text(encoding="utf-8"), nl=False)


@click.command()
def schema() -> None:
    """Print the JSON Schema of setups, for your editor."""
    from leitwerk.cli.show import echo_json
    from leitwerk.setup.model import setup_schema

    echo_json(setup_schema())
