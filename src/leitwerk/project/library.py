"""The library: datasheets and limit sets, one's own before those shipped."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from difflib import get_close_matches
from functools import lru_cache
from importlib import resources
from importlib.resources.abc import Traversable
from itertools import islice
from pathlib import Path

from platformdirs import user_data_dir

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.read import parse_datasheet
from leitwerk.errors import FileProblem
from leitwerk.links.plugins import further_protocols
from leitwerk.project.files import read_bytes
from leitwerk.project.rows_file import read_rows
from leitwerk.setup.contacts import Contact, parse_contacts
from leitwerk.setup.limits import LimitSet, parse_limits
from leitwerk.setup.own_sensors import OwnSensor, parse_own_sensor
from leitwerk.signals.sensors import SENSORS as SENSORS_KNOWN

DATASHEETS, LIMIT_SETS, SENSORS = "datasheets", "limitsets", "sensors"  # folders
_NAMED_BY = {
    DATASHEETS: "model",
    LIMIT_SETS: "name",
    SENSORS: "name",
}  # the key by which a file says its name
_YAML = ".yaml"
_FIRST_LINES = 100  # of a file, among which its name stands


def own_folders(kind: str, near: Path) -> list[Path]:
    """Where users keep files of their own of a kind (datasheets, limit sets), the first ones first.

    The folder of that name in the folder ``near`` (that of a setup) or one above it; the same from
    the current folder; the same in the user's data folder.
    """
    found = []
    for start in (near.absolute(), Path.cwd()):
        found += [f / kind for f in (start, *start.parents) if (f / kind).is_dir()][:1]
    return [*found, Path(user_data_dir("leitwerk", appauthor=False)) / kind]


def known_models(near: Path = Path()) -> dict[str, Path | Traversable]:
    """The datasheet file of each model that there is one for.

    One of the user's own, as ``own_folders`` finds it, stands before a shipped one of the same name.
    """
    return _found_files(DATASHEETS, near)


def shipped_files(kind: str) -> list[Path | Traversable]:
    """The YAML files of a kind that ship with Leitwerk, by the names of the files."""
    folder = resources.files("leitwerk") / kind
    return sorted((f for f in folder.iterdir() if f.name.endswith(_YAML)), key=lambda f: f.name)


def own_files(kind: str, near: Path) -> Iterator[Path]:
    """The user's own YAML files of a kind; a later one stands before an earlier one."""
    for folder in reversed(own_folders(kind, near)):
        if folder.is_dir():
            yield from sorted(f for f in folder.iterdir() if f.is_file() and f.name.endswith(_YAML))


def is_shipped(file: Path | Traversable) -> bool:
    """Whether a file is one that ships with Leitwerk, and not the user's."""
    shipped = Path(str(resources.files("leitwerk")))
    return not isinstance(file, Path) or file.is_relative_to(shipped)


def _found_files(kind: str, near: Path) -> dict[str, Path | Traversable]:
    """The YAML files of a kind, by name: shipped ones, and before them the user's own."""
    found: dict[str, Path | Traversable] = {
        file.name.removesuffix(_YAML): file for file in shipped_files(kind)
    }
    found |= {name_in(file, _NAMED_BY[kind]): file for file in own_files(kind, near)}
    return dict(sorted(found.items()))


def name_in(file: Path | Traversable, key: str) -> str:
    """The name that a file gives itself: its own name on the disk is for people.

    The name of the file where it does not say, or cannot be read; its reader reports why.
    """
    try:
        with file.open(encoding="utf-8", errors="replace") as lines:
            for line in islice(lines, _FIRST_LINES):
                if match := re.match(rf"{key}:\s+(\S.*?)\s*(?:\s#.*)?$", line[:500]):
                    return match[1].strip("'\"")
    except OSError:
        pass
    return file.name.removesuffix(_YAML)


def content_of(file: Path | Traversable) -> tuple[bytes, str]:
    """The content of a file, one's own or a shipped one, and its name for messages."""
    if isinstance(file, Path):
        return read_bytes(file), str(file)
    return file.read_bytes(), file.name


def find_datasheet(model: str, near: Path = Path()) -> Datasheet:
    """The datasheet of a model, the user's own (from the folder ``near`` on) or a shipped one.

    Raises
    ------
    FileProblem
        There is none with that name.
    SetupError
        It has mistakes.

    """
    models = known_models(near)
    if model not in models:
        raise FileProblem(
            f"there is no datasheet for the model {model!r}",
            remedy=f"known models: {', '.join(models)}; or describe it yourself in a folder "
            f"'{DATASHEETS}'",
        )
    return _parse_once(*content_of(models[model]))


@lru_cache(maxsize=64)
def _parse_once(content: bytes, file: str) -> Datasheet:
    return parse_datasheet(content, file=file, further=further_protocols)


def known_limits(near: Path = Path()) -> dict[str, Path | Traversable]:
    """The file of each limit set, by its name; one's own stand before shipped ones."""
    return _found_files(LIMIT_SETS, near)


def find_limits(name: str, near: Path = Path()) -> LimitSet:
    """The limit set of a name, the user's own (from the folder ``near`` on) or a shipped one.

    Raises
    ------
    FileProblem
        There is none with that name.
    SetupError
        It has mistakes.

    """
    sets = known_limits(near)
    if name not in sets:
        raise FileProblem(
            f"there is no limit set {name[:40]!r}",
            remedy=f"known sets: {', '.join(sets)}; or write one in a folder '{LIMIT_SETS}'",
        )
    return _parse_limits_once(*content_of(sets[name]))


@lru_cache(maxsize=64)
def _parse_limits_once(content: bytes, file: str) -> LimitSet:
    return parse_limits(content, file=file)


def known_sensors(near: Path = Path()) -> dict[str, Path | Traversable]:
    """The file of each sensor of one's own, by its name; one's own stand before shipped ones."""
    return _found_files(SENSORS, near)


def find_own_sensor(name: str, near: Path = Path()) -> OwnSensor:
    """The sensor of a name, the user's own (from the folder ``near`` on) or a shipped one.

    Raises
    ------
    FileProblem
        The name is not known.
    SetupError
        It has mistakes.

    """
    sensors = known_sensors(near)
    if name not in sensors:
        close = get_close_matches(name[:40], [*SENSORS_KNOWN, *sensors], n=1, cutoff=0.5)
        meant = f"did you mean {close[0]!r}?" if close else ""
        raise FileProblem(
            f"{name[:40]!r} is not a sensor known here, nor one of your own: {', '.join(sensors)}",
            remedy=meant or f"describe it in a folder '{SENSORS}'",
        )
    return _parse_sensor_once(*content_of(sensors[name]))


@lru_cache(maxsize=256)
def _parse_sensor_once(content: bytes, file: str) -> OwnSensor:
    return parse_own_sensor(content, file=file)


@dataclass(frozen=True)
class Library:
    """What setups in a folder may name: limit sets of their project, contact lists beside them."""

    folder: Path = Path()

    def find_limits(self, name: str) -> LimitSet:
        """The limit set of a name, the user's own or a shipped one."""
        return find_limits(name, self.folder)

    def find_own_sensor(self, name: str) -> OwnSensor:
        """The sensor of a name, the user's own or a shipped one."""
        return find_own_sensor(name, self.folder)

    def find_rows(self, name: str) -> list[dict[str, str]]:
        """The rows of a table beside the setup."""
        return read_rows(self.folder / name)

    def find_contacts(self, name: str) -> dict[str, Contact]:
        """The contacts of a list beside the setup."""
        file = self.folder / name
        return parse_contacts(read_bytes(file), file=str(file))


def read_datasheet(path: str | Path) -> Datasheet:
    """The datasheet in a file.

    Raises
    ------
    FileProblem
        The file cannot be read.
    SetupError
        It holds no complete datasheet.

    """
    return parse_datasheet(read_bytes(path), file=str(path), further=further_protocols)
