"""Giving back what an act changed only for a while: only what it changed, where it still stands so."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from leitwerk.datasheet.settings import DeviceSettings, same_stored, show_setting
from leitwerk.devices.device import Device
from leitwerk.devices.recordings import control_recording
from leitwerk.project.claims import ForAWhile, LeftClaim
from leitwerk.project.files import content_hash
from leitwerk.transfer.give_back import give_back
from leitwerk.transfer.receipt import Receipt
from leitwerk.transfer.task import TaskSource, UploadOptions, UploadTask


@dataclass(frozen=True)
class GivenBack:
    """What was given back; ``left`` names what somebody else has changed meanwhile, and what it is now."""

    receipt: Receipt | None
    left: tuple[str, ...]


def give_back_settings(
    device: Device,
    act: str,
    settings: Mapping[str, ForAWhile],
    options: UploadOptions,
    *,
    records: bool,
    keeps_recordings: bool,
) -> GivenBack:
    """Give a device the settings back that an act changed for a while, and end its recording.

    Parameters
    ----------
    device : Device
    act : str
        What changed them: ``test run``.
    settings : mapping from setting to ForAWhile
    options : UploadOptions
    records : bool
        Whether the act started a recording.
    keeps_recordings : bool
        Whether all recordings in the device stay.

    Raises
    ------
    WrongDevice, DeviceInUse, LinkError, UploadError
        As for an upload.

    """
    identity = device.identify()
    present = device.read_settings().values
    points = device.datasheet.settings
    mine, left = {}, []
    for name, one in settings.items():
        found = present.get(name)
        if same_stored(found, one.meanwhile):
            mine[name] = one.before
        elif not same_stored(found, one.before):
            shown = show_setting(found, points[name].fixed_unit)
            left.append(f"{name} was changed by somebody else, and stays {shown}")
    # Where nothing is as this act left it, what is recorded now is somebody else's, too.
    if records and (mine or not settings) and device.status().recording:
        control_recording(device, "stop", passwords=options.passwords)
    if not mine:
        return GivenBack(None, tuple(left))
    digest = content_hash(repr(sorted(mine.items())).encode())
    task = UploadTask(
        DeviceSettings(device.datasheet.model, mine),
        TaskSource("give back", act, act, digest),
        identity.serial,
        replaces=True,
        keeps_recordings=keeps_recordings,
    )
    return GivenBack(give_back(device, task, options), tuple(left))


def give_claims_back(
    device: Device, claims: Sequence[LeftClaim], options: UploadOptions
) -> Iterator[str]:
    """Give back what programs that have ended changed for a while; what was done, in words.

    Recordings stay in the device: fetch them, or erase them, afterwards.

    Raises
    ------
    WrongDevice, DeviceInUse, LinkError, UploadError
        As for an upload.

    """
    for claim in claims:
        found = give_back_settings(
            device, claim.act, claim.settings, options, records=claim.records, keeps_recordings=True
        )
        claim.settle()
        yield f"given back: {len(found.receipt.changes) if found.receipt else 0} settings, verified"
        yield from found.left
