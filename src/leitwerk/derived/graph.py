"""What is computed from what: nodes, built once, for all formulas of a setup together.

The same expression in two formulas is one node. ``runner.py`` works a graph.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from leitwerk.derived.operations import Momentary, Operation


class NoValue(ArithmeticError):
    """An operation on constants has no finite result."""


@dataclass(frozen=True, slots=True)
class Node:
    """One value: an input (``name``), a constant (``value``), or an operation on other nodes."""

    operation: Operation | None = None
    arguments: tuple[int, ...] = ()
    name: str = ""
    value: float = math.nan

    @property
    def is_constant(self) -> bool:
        """Whether it is the same at every moment."""
        return self.operation is None and not self.name


class Graph:
    """Nodes, each of which uses only nodes before it. Equal ones are kept once."""

    def __init__(self) -> None:
        self.nodes: list[Node] = []
        self._known: dict[Node, int] = {}

    def input(self, name: str) -> int:
        """The node of an input."""
        return self._add(Node(name=name))

    def constant(self, value: float) -> int:
        """The node of a number."""
        return self._add(Node(value=value))

    def apply(self, operation: Operation, *arguments: int) -> int:
        """The node of an operation; on constants alone, it is worked now.

        Raises
        ------
        NoValue
            It has no finite result.

        """
        given = [self.nodes[k] for k in arguments]
        if isinstance(operation, Momentary) and all(node.is_constant for node in given):
            out = np.empty(1)
            with np.errstate(all="ignore"):
                operation.work(*(np.array([node.value]) for node in given), out=out)
            if not math.isfinite(out[0]):
                raise NoValue(operation.name)
            return self.constant(float(out[0]))
        return self._add(Node(operation, arguments))

    def _add(self, node: Node) -> int:
        if (known := self._known.get(node)) is None:
            known = self._known[node] = len(self.nodes)
            self.nodes.append(node)
        return known

    def inputs_of(self, node: int) -> list[str]:
        """The inputs that a node is computed from, by name, in the order in which they are met."""
        return [self.nodes[k].name for k in self.beneath(node) if self.nodes[k].name]

    def beneath(self, *nodes: int) -> list[int]:
        """All that nodes are computed from, and themselves, arguments first."""
        found: dict[int, None] = {}
        stack: list[tuple[int, Iterator[int]]] = []
        for node in nodes:
            stack.append((node, iter(self.nodes[node].arguments)))
            while stack:
                at, rest = stack[-1]
                if (argument := next(rest, None)) is None:
                    found.setdefault(at)
                    stack.pop()
                elif argument not in found:
                    stack.append((argument, iter(self.nodes[argument].arguments)))
        return list(found)


@dataclass(frozen=True, slots=True)
class Batch:
    """Nodes of one depth with equal operations: worked together, a row each.

    ``arguments`` has for each place the nodes that stand there.
    """

    operation: Operation
    nodes: tuple[int, ...]
    arguments: tuple[tuple[int, ...], ...]


def batches(graph: Graph, wanted: Sequence[int]) -> list[Batch]:
    """The operations behind some nodes, in an order in which they can be worked.

    Constants and other nodes at the same place are kept apart, so that a number is never spread
    over the samples.
    """
    depth: dict[int, int] = {}
    groups: dict[tuple[object, ...], list[int]] = {}
    for k in graph.beneath(*wanted):
        node = graph.nodes[k]
        depth[k] = 1 + max((depth[a] for a in node.arguments), default=-1)
        if node.operation is not None:
            constant = tuple(graph.nodes[a].is_constant for a in node.arguments)
            groups.setdefault((depth[k], node.operation, constant), []).append(k)
    order = sorted(groups.values(), key=lambda group: depth[group[0]])
    found = []
    for group in order:
        operation = graph.nodes[group[0]].operation
        assert operation is not None
        places = zip(*(graph.nodes[k].arguments for k in group), strict=True)
        found.append(Batch(operation, tuple(group), tuple(places)))
    return found
