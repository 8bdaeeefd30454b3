"""Durations as options: with their unit, as in a setup."""

from __future__ import annotations

import click


class Seconds(click.ParamType[float]):
    """A duration with its unit; a bare number is in s."""

    name = "duration"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """The duration in s."""
        from leitwerk.errors import QuantityError
        from leitwerk.quantities import parse_quantity

        try:
            seconds = parse_quantity(str(value)).seconds
        except QuantityError as error:
            self.fail(str(error), param, ctx)
        if seconds <= 0:
            self.fail(f"{value!r} is no length of time\n  valid: more than 0 s", param, ctx)
        return seconds


DURATION = Seconds()
