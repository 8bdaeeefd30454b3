"""A short run at full rate that the device records itself: fetched, and the device as it was before."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

from leitwerk.analysis.series import Series
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.compile import check_setup
from leitwerk.datasheet.settings import diff_settings
from leitwerk.datasheet.vocabulary import STORAGE_INTERVAL
from leitwerk.devices.device import Device
from leitwerk.devices.recordings import control_recording, fetch_recording, list_recordings
from leitwerk.errors import DeviceRefused, LinkError, QuantityError
from leitwerk.parsing.quantities import Quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.project.claims import Claim, ForAWhile, claiming
from leitwerk.project.held_signals import signals_held
from leitwerk.recordings.fetch import RecordedWith
from leitwerk.transfer.for_a_while import give_back_settings
from leitwerk.transfer.task import UploadOptions
from leitwerk.transfer.upload import upload

ACT = "test run"
Changed = Mapping[str, ForAWhile]
_KEYS = ("sample", "store", "report", "statistics")


@dataclass(frozen=True)
class ShortRun:
    """What the device recorded, with an interval of ``interval_s``.

    ``expected`` is how many rows such a run has at least; ``left`` names settings that somebody else changed
    meanwhile, and that were not given back.
    """

    series: Series
    interval_s: float
    expected: int = 0
    left: tuple[str, ...] = ()

    @property
    def is_complete(self) -> bool:
        """Whether there are as many rows as there should be, but for one at each end."""
        return self.series.times_s.size >= self.expected - 1


def fastest(setup: CheckedSetup) -> CheckedSetup:
    """The same setup, for a device that samples and stores as often as it can.

    Raises
    ------
    QuantityError
        The model has no interval to set.
    SetupError
        With this interval the setup has errors.

    """
    span = setup.datasheet.limits.interval_s
    if span is None:
        raise QuantityError(
            f"{setup.datasheet.model} has no sampling interval to set",
            valid="a device that records",
        )
    plain = {key: None for key in _KEYS if key != "statistics"} | {"statistics": ("last",)}
    groups = {name: group.model_copy(update=plain) for name, group in setup.setup.groups.items()}
    second = parse_unit("s")
    family = setup.datasheet.family(STORAGE_INTERVAL)
    step_s = 0.0 if family is None else family.template.resolution
    # What it stores is a whole number of samples, and of the steps of its setting.
    times = next((n for n in range(1, 1001) if _is_whole(n * span[0], step_s)), 1)
    store = None if times == 1 else Quantity(times * span[0], second)
    asked = {"sample": Quantity(span[0], second), "store": store, "groups": groups}
    draft = setup.setup.model_copy(update={**plain, **asked})
    return check_setup(draft, setup.datasheet).require()


def _is_whole(interval_s: float, step_s: float) -> bool:
    """Whether an interval is a whole number of steps, and not none."""
    return not step_s or abs(interval_s / step_s - max(1, round(interval_s / step_s))) < 1e-9


def _set_back(
    device: Device, claim: Claim, changed: Changed, options: UploadOptions
) -> tuple[str, ...]:
    """Give the device its interval back; if that fails, the error says what it still has."""
    try:
        held = list_recordings(device)
        found = give_back_settings(
            device,
            ACT,
            changed,
            # What was in the device before stays; where nothing was, the run is kept beside the backup.
            replace(options, fetch_recordings=True, discard_recordings=False, stop_recording=True),
            records=True,
            keeps_recordings=len(held) > 1,
        )
    except LinkError as error:
        raise LinkError(
            f"{error.message}; the device still has the interval of the test run",
            remedy="'leitwerk recover SETUP --undo', as soon as the device answers",
        ) from error
    claim.given_back()
    return found.left


def _meanwhile(setup: CheckedSetup, fast: CheckedSetup, device: Device) -> Changed:
    """The settings that the run changes: what they are, and what they will be.

    Raises
    ------
    DeviceRefused
        The device is set otherwise than the setup says.

    """
    present = device.read_settings()
    differing = diff_settings(present, setup.settings, device.datasheet)
    if differing:
        raise DeviceRefused(
            f"{len(differing)} settings in the device differ from this setup: {differing[0]}",
            remedy="upload the setup first",
        )
    changes = diff_settings(present, fast.settings, device.datasheet)
    return {c.setting: ForAWhile(c.old, c.new) for c in changes if c.old is not None}


def record_short_run(
    setup: CheckedSetup,
    device: Device,
    options: UploadOptions,
    *,
    duration_s: float = 10.0,
    on_wait: Callable[[float], None] = lambda seconds: None,
) -> ShortRun:
    """Let the device record for a while as fast as it can, fetch that, and give it its interval back.

    The device has to hold the setup already, and must not be recording: what it does is not disturbed.

    Parameters
    ----------
    setup : CheckedSetup
    device : Device
    options : UploadOptions
    duration_s : float, in s
    on_wait : callable
        Called with the duration before the wait for it.

    Raises
    ------
    DeviceRefused
        It records, or is set otherwise than the setup says.
    QuantityError
        It cannot record, or the duration is shorter than three samples.
    SetupError, WrongDevice, LinkError, UploadError
        As for an upload.

    """
    fast = fastest(setup)
    stored = fast.setup.store or fast.setup.sample
    interval_s = stored.seconds if stored else 0.0
    if not duration_s >= 3.0 * interval_s:
        raise QuantityError(
            f"{duration_s:g} s are too short for a sample every {interval_s:g} s",
            valid=f"{3.0 * interval_s:g} s or longer",
        )
    identity = device.require(setup.setup.device.model, setup.setup.device.serial)
    if device.status().recording:
        raise DeviceRefused(
            "the device is recording, and a test run would end that",
            remedy="'leitwerk record SETUP stop', when its recording is complete",
        )
    left: tuple[str, ...] = ()
    with claiming(identity, ACT, address=device.address, alone=True) as claim:
        changed = _meanwhile(setup, fast, device)
        claim.changes(changed, records=True)
        try:
            upload(fast, device, options)
            control_recording(device, "start", passwords=options.passwords)
            on_wait(duration_s)
            options.clock.wait(duration_s)
            control_recording(device, "stop", passwords=options.passwords)
            newest = list_recordings(device)[-1]
            recording = fetch_recording(device, newest.number)
            series = RecordedWith(device.read_settings(), fast).series(recording, device.datasheet)
        finally:
            with signals_held():
                left = _set_back(device, claim, changed, options)
    return ShortRun(series, interval_s, int(duration_s / interval_s), left)
