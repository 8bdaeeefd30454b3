"""A flow that the device computes itself: which of its laws a formula is, and how far it departs from it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from leitwerk.check.channels import CheckedChannel, ReadingChannel
from leitwerk.check.settings import Wanted
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import (
    FLOW,
    FLUME_ANGLE,
    FLUME_COEFFICIENT,
    FLUME_EXPONENT,
    FLUME_LAW,
    FLUME_SIZE,
    FLUME_TABLE_FLOW,
    FLUME_TABLE_LEVEL,
    LEVEL,
    KnownPoint,
)
from leitwerk.derived.graph import Graph
from leitwerk.derived.open_channel import PARSHALL, OpenChannel, PowerLaw, VNotch
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import format_number

_PER_M3 = 1000.0  # l
_NEAR = 0.005  # a departure that is worth no warning


@dataclass(frozen=True, slots=True)
class DeviceFlow:
    """What makes a device compute a flow: its settings, and what is said about it."""

    wanted: tuple[Wanted, ...]
    message: str
    departure: float


def law_of(graph: Graph, node: int, channels: Mapping[str, CheckedChannel]) -> OpenChannel | None:
    """The law of a node that is flow from the device's own level, None for any other."""
    operation, arguments = graph.nodes[node].operation, graph.nodes[node].arguments
    law = operation.parameters[0] if operation is not None and operation.parameters else None
    if not isinstance(law, OpenChannel) or len(arguments) != 1:
        return None
    level = channels.get(graph.nodes[arguments[0]].name)
    is_own = isinstance(level, ReadingChannel) and level.point.name == LEVEL.name
    return law if is_own and level is not None and not level.host.stages else None


def flow_by_device(law: OpenChannel, datasheet: Datasheet, path: KeyPath) -> DeviceFlow | None:
    """How a device computes a law, None where it computes no flow."""
    laws = datasheet.choices(FLUME_LAW)
    if not (datasheet.has(FLOW) and laws):
        return None
    named = _named(law, datasheet)
    if named is not None and named[0][1] in laws:
        wanted = tuple(Wanted(known, None, value, path, unit) for known, value, unit in named)
        return DeviceFlow(wanted, f"{datasheet.model} computes this itself: {law}", 0.0)
    if "table" not in laws:
        return None
    points = table_of(law, _count(datasheet))
    wanted = (Wanted(FLUME_LAW, None, "table", path), *_table(points, path, datasheet))
    departure, level = departure_of(law, points)
    message = (
        f"{datasheet.model} has no law for {law}: it gets a table of {len(points)} points, which departs "
        f"from the formula by up to {100.0 * departure:.2g} %, at {format_number(100.0 * level, 3)} cm"
    )
    return DeviceFlow(wanted, message, departure)


def report_flow(flow: DeviceFlow, path: KeyPath, findings: Findings) -> None:
    """What is said about it: a warning where a table departs from its formula."""
    if flow.departure > _NEAR:
        remedy = "let Leitwerk compute it, from another channel for the level, if that matters"
        findings.warning("table-departs", path, flow.message, remedy=remedy)
    else:
        findings.note("computed-by-device", path, flow.message)


def _named(
    law: OpenChannel, datasheet: Datasheet
) -> list[tuple[KnownPoint, float | str, str]] | None:
    for name, flume in PARSHALL.items():
        if law == flume and name in datasheet.choices(FLUME_SIZE):
            return [(FLUME_LAW, "parshall", ""), (FLUME_SIZE, name, "")]
    if isinstance(law, VNotch):
        return [(FLUME_LAW, "v-notch", ""), (FLUME_ANGLE, law.angle_deg, "°")]
    if isinstance(law, PowerLaw) and law.submerged_from is None:
        return [
            (FLUME_LAW, "power law", ""),
            (FLUME_COEFFICIENT, law.coefficient, "m³/s"),
            (FLUME_EXPONENT, law.exponent, ""),
        ]
    return None


def _count(datasheet: Datasheet) -> int:
    family = datasheet.family(FLUME_TABLE_LEVEL)
    return 0 if family is None else len(family.indices)


def table_of(law: OpenChannel, count: int) -> list[tuple[float, float]]:
    """Points of a table of straight lines: level in m, to whole mm, and flow in l/s.

    0, and from the least to the greatest head of the law in equal ratios: so the straight lines depart from
    it by equal parts of the flow.
    """
    levels = np.round([0.0, *np.geomspace(_least(law), law.valid[1], count - 1)], 3)
    return list(zip(levels.tolist(), (_PER_M3 * law.value(levels)).tolist(), strict=True))


def _least(law: OpenChannel) -> float:
    """The head in m from which on a table is to be right."""
    low, high = law.valid
    return max(low, 0.02 * high)


def departure_of(law: OpenChannel, points: list[tuple[float, float]]) -> tuple[float, float]:
    """The largest departure of a table from its law, as a part of the flow, and the level in m."""
    levels = np.linspace(_least(law), law.valid[1], 2000)
    exact = _PER_M3 * law.value(levels)
    table = np.interp(levels, [p[0] for p in points], [p[1] for p in points])
    off = np.abs(table - exact) / exact
    worst = int(np.argmax(off))
    return float(off[worst]), float(levels[worst])


def _table(
    points: list[tuple[float, float]], path: KeyPath, datasheet: Datasheet
) -> Iterator[Wanted]:
    family = datasheet.family(FLUME_TABLE_LEVEL)
    assert family is not None
    for index, (level, flow) in zip(family.indices, points, strict=True):
        yield Wanted(FLUME_TABLE_LEVEL, index, level, path, "m")
        yield Wanted(FLUME_TABLE_FLOW, index, flow, path, "l/s")
