"""leitwerk example and leitwerk schema: texts that ship with the package."""

from __future__ import annotations

import click

_EXAMPLES = [
    "kiln", "kiln-guard", "kiln-air", "carriage", "station", "saw-hall", "saw-supply", "mill-race",
    "timber", "cabin", "panel", "head-water", "telemetry", "load", "board-gauges",
    "panel-board",
]  # fmt: skip
_SCHEMAS = [
    "setup", "template", "sensor", "limits", "contacts", "columns", "test-plan", "datasheet", "station",
    "proof",
]  # fmt: skip
_PLANS = ["panel-board-tests"]  # of tests


@click.command()
@click.argument("name", default="kiln", type=click.Choice([*_EXAMPLES, *_PLANS]))
def example(name: str) -> None:
    """Print a setup to start from: the kiln's, unless another is named; or a plan of tests for a lot."""
    _print(f"{'testplans' if name in _PLANS else 'examples'}/{name}.yaml")


@click.command()
@click.argument("of", default="setup", type=click.Choice(_SCHEMAS))
def schema(of: str) -> None:
    """Print the JSON Schema of a kind of file, for an editor: of setups, unless another is named."""
    _print(f"schemas/{of}.schema.json")


def _print(name: str) -> None:
    from importlib import resources

    text = resources.files("leitwerk").joinpath(name).read_text(encoding="utf-8")
    click.echo(text, nl=False)
