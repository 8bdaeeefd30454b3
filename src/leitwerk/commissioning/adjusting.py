"""Adjusting a channel: a tare or a calibration, written into the setup file and checked before it counts."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from leitwerk.calibration.record import CalibrationRecord
from leitwerk.calibration.tare import Tare, TareStage, capture_tare
from leitwerk.check.channels import MeasuredChannel, SignalChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.compile import check_setup
from leitwerk.devices.device import Device
from leitwerk.errors import FileProblem, SetupError
from leitwerk.evaluation.signal_chain import explain_channel
from leitwerk.monitoring.spot_readings import read_untared
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.project.editing import add_tare, set_calibration
from leitwerk.project.files import read_bytes, write_atomic
from leitwerk.project.setups import parse_setup, read_setup

_UNKNOWN_STEP = 1e-4  # of the span, where the converter is not known


def measure_tare(
    setup: CheckedSetup,
    device: Device,
    channel: MeasuredChannel,
    *,
    duration_s: float = 5.0,
    nominal: float = 0.0,
    spread: float | None = None,
    drift: float | None = None,
    most: float | None = None,
    clock: Clock = REAL_TIME,
) -> Tare:
    """Read a channel at rest: the tare that makes it show the nominal value. Values in the channel's unit.

    Parameters
    ----------
    setup : CheckedSetup
    device : Device
    channel : MeasuredChannel
    duration_s : float, in s
    nominal : float
        What it should show at rest.
    spread, drift, most : float, optional
        As for ``capture_tare``; five and ten noise-free steps, and a quarter of the span, if not given.
    clock : Clock

    Raises
    ------
    NotAtRest
        The readings are bad, spread or drift; or the tare would be too large.
    QuantityError
        The duration cannot be used.
    WrongDevice, LinkError, DeviceRefused
        The device was not reached, or refused.

    """
    low, high = channel.span
    ranges = explain_channel(channel).ranges if isinstance(channel, SignalChannel) else ()
    steps = (entry["noise_free"] for entry in ranges if entry["chosen"])
    step = next(steps, 0.0) or (high - low) * _UNKNOWN_STEP
    times, values, good = read_untared(
        setup,
        device,
        channel,
        duration_s=duration_s,
        period_s=min(duration_s, 5.0) / 10.0,
        clock=clock,
    )
    return capture_tare(
        times,
        values,
        clock.now(),
        spread=5.0 * step if spread is None else spread,
        drift=10.0 * step if drift is None else drift,
        most=(high - low) / 4.0 if most is None else most,
        nominal=nominal,
        good=good,
    )


def write_tare(setup: CheckedSetup, channel: MeasuredChannel, tare: Tare) -> CheckedSetup:
    """Put one more tare into the setup's file; the setup as it is now.

    Raises
    ------
    FileProblem
        The file has changed since it was read, or cannot be written.
    SetupError
        With the tare the setup would have errors; the file is as it was.

    """
    return _rewritten(setup, add_tare(_text(setup), channel.name, tare, channel.unit))


def write_calibration(
    setup: CheckedSetup, channel: MeasuredChannel, record: CalibrationRecord
) -> CheckedSetup:
    """Put a calibration into the setup's file, in the place of an earlier one; the setup as it is now.

    A tare that is in force stays: the references are those behind it, so that the channel shows them.

    Raises
    ------
    FileProblem, SetupError
        As for a tare.

    """
    tares = [stage for stage in channel.host.stages if isinstance(stage, TareStage)]
    before = tuple(
        replace(point, reference=point.reference + sum(stage.offset for stage in tares))
        for point in record.found
    )
    text = set_calibration(_text(setup), channel.name, replace(record, found=before), channel.unit)
    return _rewritten(setup, text)


def _text(setup: CheckedSetup) -> str:
    """What the file says, if that is still what was read."""
    source = setup.setup.source
    if read_bytes(source.file) != source.content:
        raise FileProblem(
            f"{source.file} has been changed since it was read", remedy="check it, and begin again"
        )
    return source.content.decode("utf-8-sig")


def _rewritten(setup: CheckedSetup, text: str) -> CheckedSetup:
    file = setup.setup.source.file
    draft = parse_setup(text, file=file, folder=Path(file).parent)
    checked = check_setup(draft, setup.datasheet)
    if not checked.ok:
        raise SetupError(file, checked.findings)
    write_atomic(Path(file), text)
    return read_setup(file, datasheet=setup.datasheet)
