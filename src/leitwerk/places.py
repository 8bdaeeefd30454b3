"""What a YAML file holds, as plain mappings, lists and texts that know where they stand."""

from __future__ import annotations

from typing import TypeAlias

Value: TypeAlias = "Map | List | str"


class Map(dict[str, Value]):
    """A mapping; ``places[key]`` is (key line, key column, value line, value column), from 0."""

    __slots__ = ("places",)

    def __init__(self) -> None:
        super().__init__()
        self.places: dict[str, tuple[int, int, int, int]] = {}

    def locate(self, path: tuple[str, ...], *, at_key: bool = False) -> tuple[int, int]:
        """Line and column (from 1) of the value at ``path``, or of the nearest key above it."""
        line, column = 0, 0
        here: Value = self
        for depth, step in enumerate(path):
            if isinstance(here, Map) and step in here.places:
                place = here.places[step]
                key_wanted = at_key and depth == len(path) - 1
                line, column = place[:2] if key_wanted else place[2:]
                here = here[step]
            elif isinstance(here, List) and step.isdecimal() and int(step) < len(here):
                line, column = here.places[int(step)]
                here = here[int(step)]
            else:
                break
        return line + 1, column + 1


class List(list[Value]):
    """A sequence; ``places[index]`` is (line, column), from 0."""

    __slots__ = ("places",)

    def __init__(self) -> None:
        super().__init__()
        self.places: list[tuple[int, int]] = []
