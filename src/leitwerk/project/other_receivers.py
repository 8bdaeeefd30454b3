"""Other receivers of a project: a transmitter is bound to one place of one of them."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from leitwerk.datasheet.model import Datasheet
from leitwerk.errors import LeitwerkError, QuantityError
from leitwerk.findings import Findings
from leitwerk.identity import folded_number
from leitwerk.parsing.yaml_text import Map, parse_yaml
from leitwerk.project.files import read_bytes
from leitwerk.project.inventory import FILE as INVENTORY
from leitwerk.setup.model import Setup
from leitwerk.wireless.ids import IdForm

_MOST_FILES = 1000  # of a project that are looked at
_NOT_SETUPS = {"kept", "build", "node_modules"}


def bound_elsewhere(setup: Setup, ids: IdForm) -> dict[int, tuple[Path, str]]:
    """Transmitters that setups of other receivers bind, by number: the file and the place.

    Looked at are the setups beside this one; where an inventory in this folder or above it makes a project,
    all those of the project. Two setups for one serial number are for the same receiver.
    """
    own, found = Path(setup.source.file), dict[int, tuple[Path, str]]()
    for path in _setups_around(own):
        for place, label in _places_in(path, setup.device.serial):
            try:
                found.setdefault(ids.read(label), (path, place))
            except QuantityError:
                continue  # of another form: of transmitters that this receiver does not hear
    return found


def warn_of_bound_elsewhere(setup: Setup, datasheet: Datasheet, findings: Findings) -> None:
    """Warn of places whose transmitter another receiver of the project has, too."""
    if not setup.places or datasheet.telegrams is None:
        return
    ids = datasheet.telegrams.ids
    elsewhere = bound_elsewhere(setup, ids)
    for name, entry in setup.places.items() if elsewhere else ():
        try:
            number = None if entry.id is None else ids.read(entry.id)
        except QuantityError:
            continue  # a finding of its own
        if number in elsewhere:
            path, place = elsewhere[number]
            findings.warning(
                "bound-elsewhere", ("places", name, "id"),
                f"transmitter {entry.id} is bound to place {place} of another receiver, by {path}",
                valid="each transmitter at one receiver", remedy="free it at one of them",
            )  # fmt: skip


def _setups_around(own: Path) -> Iterator[Path]:
    here = own.absolute().parent
    project = next((f for f in (here, *here.parents) if (f / INVENTORY).is_file()), None)
    paths = here.glob("*.yaml") if project is None else project.rglob("*.yaml")
    for path in islice(paths, _MOST_FILES):
        folders = path.relative_to(project or here).parts[:-1]
        if path != own.absolute() and not any(f in _NOT_SETUPS or f[0] == "." for f in folders):
            yield _short(path)


def _short(path: Path) -> Path:
    """A path from the present folder, where it lies in it."""
    here = Path.cwd()
    return path.relative_to(here) if path.is_relative_to(here) else path


def _places_in(path: Path, serial: str) -> Iterator[tuple[str, str]]:
    """Place and label of each transmitter that another setup binds; none where it is no such setup."""
    try:
        content = read_bytes(path)
        root = parse_yaml(content, Findings(str(path))) if b"places" in content else None
    except LeitwerkError:
        return
    device = root.get("device") if isinstance(root, Map) else None
    places = root.get("places") if isinstance(root, Map) else None
    if not isinstance(device, Map) or not isinstance(places, Map):
        return
    if folded_number(str(device.get("serial"))) == folded_number(serial):
        return
    for place, entry in places.items():
        label = entry.get("id") if isinstance(entry, Map) else None
        if isinstance(label, str):
            yield place, label
