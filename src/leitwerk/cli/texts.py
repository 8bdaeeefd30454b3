"""leitwerk example and leitwerk schema: texts that ship with the package."""

from __future__ import annotations

import click


@click.command()
def example() -> None:
    """Print a setup to start from."""
    _print("examples/kiln.yaml")


@click.command()
def schema() -> None:
    """Print the JSON Schema of setups, for your editor."""
    _print("schemas/setup.schema.json")


def _print(name: str) -> None:
    from importlib import resources

    text = resources.files("leitwerk").joinpath(name).read_text(encoding="utf-8")
    click.echo(text, nl=False)
