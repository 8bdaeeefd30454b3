"""leitwerk fetch and leitwerk record."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import DURATION, JSON, MODEL, folder_option, kept_folder, link_options

if TYPE_CHECKING:
    from collections.abc import Collection
    from pathlib import Path

    from leitwerk.check.checked import CheckedSetup
    from leitwerk.cli.progress import StepView
    from leitwerk.devices.device import Device
    from leitwerk.links.options import LinkOptions
    from leitwerk.recordings.fetch import RecordedWith
    from leitwerk.recordings.fetch_files import FetchedFile

_STORE = "recordings"  # the usual folder


@click.command()
@click.argument("where")
@click.option(
    "--store",
    metavar="FOLDER",
    is_flag=False,
    flag_value=_STORE,
    help=f"Fetch what is new into a store (Parquet); '{_STORE}' if no folder is named.",
)
@click.option("--list", "lists", is_flag=True, help="Only list what the device holds.")
@click.option(
    "--only", "numbers", type=click.IntRange(1), multiple=True, help="Fetch this recording."
)
@click.option(
    "--for", "for_s", type=DURATION, metavar="TIME",
    help="Of a station that sleeps: take what it sends within this time: '2 h'.",
)  # fmt: skip
@click.option(
    "--erase", is_flag=True, help="With --store: erase them in the device, when all are verified."
)
@JSON
@MODEL
@folder_option("the files")
@link_options(2.0)
def fetch(
    where: str,
    *,
    store: str | None,
    lists: bool,
    numbers: tuple[int, ...],
    for_s: float | None,
    erase: bool,
    as_json: bool,
    model: str | None,
    folder: str | None,
    link: LinkOptions,
) -> int:
    """Fetch the recordings of the device at WHERE; nothing is erased unless that is asked for.

    WHERE is its setup file, an address, or a name of the inventory. With the setup, columns are its channels,
    with scale, correction and tare; else they are as the device stored them. Times are in UTC.

    A station that sleeps sends its rows when it wakes; they go into the store, and the station is told then.

    Files that the device holds beside its rows (waveforms, sound, events) are fetched as they are, and
    verified by their check sums.

    Without --store, each recording becomes a CSV file. With --store, only what is new is fetched; a fetch
    that was broken off goes on where it stopped; the rows are verified by their count, and by the device's
    check sum.

    Exit code 0: all fetched. 1: it has none. 2: usage. 3: device not reached. 4: refused.
    """
    from leitwerk.cli.devices import open_where, remember
    from leitwerk.cli.progress import StepView
    from leitwerk.project.files import names_file
    from leitwerk.project.kept import device_folder
    from leitwerk.project.setups import read_setup
    from leitwerk.recordings.fetch import RecordedWith, fetch_reports

    if erase and store is None:
        raise click.UsageError("--erase is for --store: only what is verified there is erased")
    setup = read_setup(where) if names_file(where) else None
    kept = kept_folder(where if setup else "here", folder)
    with open_where(where, model, link) as device, StepView() as steps:
        if setup is not None:
            identity = device.require(setup.setup.device.model, setup.setup.device.serial)
        else:
            identity = device.identify()
        recorded_with = RecordedWith(device.read_settings(), setup)
        wanted = _Wanted(store, lists, numbers, for_s, erase, as_json)
        found = _fetched(device, recorded_with, kept, wanted, steps)
        if not lists:
            folder_of_reports = device_folder(kept, identity.serial)
            for path in fetch_reports(device, folder_of_reports):
                click.echo(f"{path}: written by the device")
    remember(identity, device.address)
    if not found:
        nothing = (
            "the station has sent no new rows" if device.sleeps else "the device has no recordings"
        )
        click.echo(nothing, err=True)
        return FOUND
    if not lists:
        _say_what_values_are(where, device, recorded_with)
    return FINE


@dataclass(frozen=True, slots=True)
class _Wanted:
    """What is asked of a fetch."""

    store: str | None
    lists: bool
    numbers: tuple[int, ...]
    for_s: float | None
    erase: bool
    as_json: bool


def _fetched(
    device: Device, recorded_with: RecordedWith, kept: Path, wanted: _Wanted, steps: StepView
) -> bool:
    """List or fetch; whether there was something."""
    store, as_json = wanted.store, wanted.as_json
    if device.sleeps and (wanted.numbers or wanted.erase):
        raise click.UsageError("--only and --erase are not for a station: it gives up what is kept")
    if not device.sleeps and wanted.for_s is not None:
        raise click.UsageError("--for is for a station that sleeps")
    if device.sleeps and wanted.lists:
        return _list_sent(device, as_json=as_json)
    if device.sleeps:
        return _from_station(device, recorded_with, store, wanted.for_s, as_json=as_json)
    if wanted.lists:
        return _list(device, store or _STORE, as_json=as_json)
    if store is None:
        return _into_files(device, recorded_with, kept, wanted.numbers, steps)
    found = _into_store(device, recorded_with, store, wanted.numbers, steps, as_json=as_json)
    if wanted.erase:
        _erase(device, store)
    return found


def _list(device: Device, store: str, *, as_json: bool) -> bool:
    from leitwerk.cli.printing import echo_json
    from leitwerk.datasheet.vocabulary import MEMORY_USED
    from leitwerk.devices.device_files import list_files
    from leitwerk.recordings.into_store import held_runs
    from leitwerk.recordings.store import Store

    runs, files = held_runs(device, Store(store)), list_files(device)
    used = device.status_points().get(MEMORY_USED.name)
    if as_json:
        echo_json(
            {
                "recordings": [run.to_dict() for run in runs],
                "files": [{"name": file.name, "bytes": file.size} for file in files],
                "memory_used_percent": used,
            }
        )
        return True
    for line in (*runs, *files):
        click.echo(str(line))
    if isinstance(used, float):
        click.echo(f"memory: {used:g} % used, {100.0 - used:g} % free")
    return bool(runs or files)


def _into_files(
    device: Device,
    recorded_with: RecordedWith,
    kept: Path,
    numbers: Collection[int],
    steps: StepView,
) -> bool:
    from datetime import UTC, datetime

    from leitwerk.recordings.fetch import fetch_recordings
    from leitwerk.transfer.receipt import KeptFiles

    files = KeptFiles.at(kept, device.identify().serial, datetime.now(UTC))
    paths = fetch_recordings(device, recorded_with, files.stem, steps.show, only=numbers)
    for path in paths:
        click.echo(str(path))
    return bool(_files_of(device, files.stem.parent, steps)) or bool(paths)


def _files_of(
    device: Device, folder: Path, steps: StepView, *, quiet: bool = False
) -> list[FetchedFile]:
    """Fetch the files that a device holds beside its rows, and print each."""
    from leitwerk.recordings.fetch_files import fetch_files

    found = []
    for file in fetch_files(device, folder, steps.show):
        found.append(file)
        if not quiet:
            click.echo(str(file))
    return found


def _say_clock(device: Device) -> None:
    """What is wrong with the clock that will stamp the rows."""
    from leitwerk.errors import LinkError
    from leitwerk.recordings.about import clock_words

    try:
        reading = device.clock()
    except LinkError as error:
        click.echo(f"warning: {error.message}", err=True)
        return
    if reading is not None and clock_words(reading.deviation_s):
        click.echo(
            f"warning: its clock shows {reading}; set it: leitwerk device --set-clock", err=True
        )


def _into_store(
    device: Device,
    recorded_with: RecordedWith,
    folder: str,
    numbers: Collection[int],
    steps: StepView,
    *,
    as_json: bool,
) -> bool:
    from leitwerk.cli.printing import echo_json
    from leitwerk.recordings.into_store import fetch_new
    from leitwerk.recordings.store import Store

    found, store = [], Store(folder)
    for run in fetch_new(device, recorded_with, store, only=numbers, progress=steps.show):
        found.append(run)
        if not as_json:
            click.echo(str(run))
    folder_of_files = store.files_folder(device.identify().serial)
    files = _files_of(device, folder_of_files, steps, quiet=as_json)
    if as_json:
        echo_json(
            {
                "recordings": [run.to_dict() for run in found],
                "files": [file.to_dict() for file in files],
            }
        )
    return bool(found or files)


def _list_sent(device: Device, *, as_json: bool) -> bool:
    """What a station has sent last, kept or not."""
    from leitwerk.analysis.series import utc_text
    from leitwerk.cli.printing import echo_json

    rows = device.link.rows()
    if rows is None or not rows.times_s:
        return False
    last = rows.first + len(rows.times_s) - 1
    begin, end = utc_text(rows.times_s[0]), utc_text(rows.times_s[-1])
    if as_json:
        echo_json([{"first": rows.first, "last": last, "from": begin, "to": end}])
    else:
        click.echo(
            f"sent: rows {rows.first:,} to {last:,}, {begin} to {end}, of {', '.join(rows.names)}"
        )
    return True


def _from_station(
    device: Device,
    recorded_with: RecordedWith,
    folder: str | None,
    for_s: float | None,
    *,
    as_json: bool,
) -> bool:
    from leitwerk.cli.printing import echo_json
    from leitwerk.recordings.station_rows import keep_rows
    from leitwerk.recordings.store import Store

    if folder is None:
        raise click.UsageError("the rows of a station that sleeps go into a store: add --store")
    found = []
    for kept in keep_rows(device, recorded_with, Store(folder), for_s=for_s or 0.0):
        found.append(kept)
        if not as_json:
            click.echo(str(kept))
    if as_json:
        echo_json([kept.to_dict() for kept in found])
    return bool(found)


def _erase(device: Device, folder: str) -> None:
    from leitwerk.cli.password import passwords_of
    from leitwerk.recordings.into_store import erase_fetched
    from leitwerk.recordings.store import Store

    identity = device.identify()
    passwords = passwords_of(identity.model, identity.serial)
    with device.logged_in(device.datasheet.role, passwords):
        erase_fetched(device, Store(folder))
    click.echo("erased in the device; the store has them")


def _say_what_values_are(where: str, device: Device, recorded_with: RecordedWith) -> None:
    click.echo(
        f"times are in UTC; the clock of the device is taken as {device.clock_zone}", err=True
    )
    if recorded_with.setup is None:
        click.echo(
            "values: as the device stored them; scale, correction and tare of a setup are not in them",
            err=True,
        )
    for channel in recorded_with.differing(device.datasheet):
        click.echo(
            f"{channel.name}: the device is set otherwise than {where} says; values are as stored",
            err=True,
        )


def _is_wired_wrongly(checked: CheckedSetup, device: Device) -> bool:
    """Whether a second of readings shows a mistake of wiring, which is printed then."""
    from leitwerk.commissioning.wiring_check import check_wiring
    from leitwerk.errors import QuantityError

    try:
        verdict = check_wiring(checked, device, duration_s=1.0).verdict
    except QuantityError as error:  # a model that shows no angles
        click.echo(f"the wiring is not shown: {error.message}", err=True)
        return False
    for text in (*verdict.mistakes, *(f"not shown: {text}" for text in verdict.not_shown)):
        click.echo(str(text), err=True)
    if verdict.mistakes:
        click.echo("not started: see 'leitwerk wiring'; or --wired-wrongly", err=True)
    return bool(verdict.mistakes)


@click.command()
@click.argument("setup")
@click.argument(
    "what", metavar="ACT", type=click.Choice(["start", "stop", "pause", "continue", "erase-back"])
)
@click.option(
    "--wired-wrongly",
    is_flag=True,
    help="Start although the wiring has a mistake, without looking.",
)
@link_options(2.0)
def record(setup: str, what: str, *, wired_wrongly: bool, link: LinkOptions) -> int:
    """Start, stop or pause the recording of the device of SETUP, and verify that it does.

    ACT is start, stop, pause, continue or erase-back.

    'erase-back' takes away the last piece, where the device can: its rows stay as a gap.

    Of an analyzer with a section 'wiring', the wiring is looked at first: a survey that is wired wrongly does
    not start. What a second of readings cannot show is printed, and does not hinder it.

    Exit code 0: done, or it did so already. 1: the setup has errors, or the wiring has a mistake. 2: usage.
    3: device not reached. 4: refused, or another device.
    """
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of
    from leitwerk.datasheet.vocabulary import RECORDING
    from leitwerk.devices.device import connect
    from leitwerk.devices.recordings import control_recording
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    named = checked.setup.device
    with connect(checked, link=link) as device:
        device.require(named.model, named.serial)
        looks = what == "start" and checked.setup.wiring is not None and not wired_wrongly
        if looks and _is_wired_wrongly(checked, device):
            return FOUND
        if what == "start" and device.has_clock:
            _say_clock(device)
        passwords = passwords_of(named.model, named.serial)
        command = what.replace("-", " ")
        before = control_recording(device, command, passwords=passwords)
        now = str(device.status_points()[RECORDING.name])
        note_visit(device, kept_folder(setup, None), f"record {what}")
    changed = before != now or command == "erase back"
    click.echo(f"{command}: done; {now}" if changed else f"nothing to do; {now}")
    return FINE
