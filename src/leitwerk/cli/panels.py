"""The panels of a figure, as they are typed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import click

PANEL = click.option(
    "--panel",
    "panels",
    metavar="NAMES",
    multiple=True,
    help="Channels that stand together: 'air_top,air_bottom', with the span of the axis: '… 15..90'; once or "
    "twice.",
)


@dataclass(frozen=True)
class Panels:
    """Which channels stand in each panel, and what its axis shows (None: what fits)."""

    names: tuple[tuple[str, ...], ...] = ()
    spans: tuple[tuple[float, float] | None, ...] = ()


def parse_panels(given: Sequence[str]) -> Panels:
    """The panels that options ask for.

    Raises
    ------
    QuantityError
        The span of an axis cannot be used.

    """
    from leitwerk.errors import QuantityError
    from leitwerk.parsing.quantities import parse_span

    names, spans = [], list[tuple[float, float] | None]()
    for text in given:
        before, _, axis = text.replace(", ", ",").strip().partition(" ")
        names.append(tuple(name for name in before.split(",") if name))
        if not axis.strip():
            spans.append(None)
            continue
        span = parse_span(axis.strip())
        if span.unit is not None or not span.low < span.high:
            raise QuantityError(
                f"an axis cannot show {axis.strip()[:40]!r}",
                valid="15..90, in the unit of the axis",
            )
        spans.append((span.low, span.high))
    return Panels(tuple(names), tuple(spans))
