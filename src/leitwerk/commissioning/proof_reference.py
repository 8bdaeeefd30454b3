"""A reference that is read: a channel of another device, or of the same one, that shows what is applied."""

from __future__ import annotations

import math

from leitwerk.check.channel_uncertainty import uncertainty_at
from leitwerk.check.channels import CheckedChannel, MeasuredChannel, SignalChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.outputs import Loop
from leitwerk.commissioning.loop_check import Received
from leitwerk.commissioning.proof_plan import Applied
from leitwerk.devices.device import Device
from leitwerk.errors import DeviceRefused, QuantityError
from leitwerk.evaluation.verdict import Context, why_no_value
from leitwerk.monitoring.spot_readings import read_once
from leitwerk.monitoring.watching import DeviceWatch
from leitwerk.parsing.units import Unit, convert, convert_difference, parse_unit
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.signals.linear import Linear
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import Chain, Scale

_KEPT = 100  # samples


class ReferenceChannel:
    """A channel of a device that is taken for the truth.

    Raises
    ------
    QuantityError
        There is no such channel, or it has no numbers.
    SetupError, WrongDevice, LinkError, DeviceRefused
        As for a live check.

    """

    def __init__(
        self, setup: CheckedSetup, device: Device, channel: str, *, clock: Clock = REAL_TIME
    ) -> None:
        self.channel: CheckedChannel = setup.channel(channel)
        if self.channel.states is not None:
            raise QuantityError(f"{channel} has states", valid="a channel with numbers")
        self._setup, self._device, self._clock = setup, device, clock
        self._watch = DeviceWatch(setup, device, clock=clock, capacity=_KEPT)
        self._column = [c.name for c in self._watch.board.channels].index(channel)

    def __str__(self) -> str:
        return f"{self.channel.name} of {self._watch.identity}"

    def take(self) -> None:
        """Read it once, beside the channel that is proven."""
        self._watch.take()

    def applied(self, count: int, unit: Unit) -> Applied | None:
        """The mean of the newest samples in another unit, and its uncertainty; None if one has no value.

        Raises
        ------
        QuantityError
            The units do not fit.

        """
        history = self._watch.board.history
        values = history.values[len(history) - count :, self._column]
        qualities = history.qualities[len(history) - count :, self._column]
        if not values.size or not (qualities == Quality.GOOD).all():
            return None
        mean = float(values.mean())
        spread = float(values.std(ddof=1)) if values.size > 1 else 0.0
        standard = math.hypot(
            spread / math.sqrt(values.size), uncertainty_at(self.channel, mean) / 2.0
        )
        own = self.channel.unit
        return Applied(convert(mean, own, unit), 2.0 * convert_difference(standard, own, unit))

    def received(self, loop: Loop) -> Received:
        """What this channel receives from an output now: the signal, and what it makes of it.

        The signal is what the device shows, turned back through the scale and a shunt; or the value, where
        the channel shows a current as the voltage over a resistor. Such a bare signal has no
        meaning to compare.

        Raises
        ------
        QuantityError
            It shows no signal of that kind.
        WrongDevice, LinkError, DeviceRefused
            As for a single reading; also where the device holds other settings for the channel than its
            setup says, as then what it shows is not what the setup makes of it.

        """
        found, unit = self.channel, parse_unit(loop.unit)
        measurement = found.measurement if isinstance(found, SignalChannel) else None
        axis = None if measurement is None else measurement.axis
        scale: Scale
        if not isinstance(found, MeasuredChannel):
            raise QuantityError(f"{found.name} is computed", valid="a channel that is measured")
        if measurement is not None and axis is not None and axis.typed.dimension == unit.dimension:
            scale = Chain.of(measurement.shown.inverse(), Linear(1.0 / axis.per_typed))
            given, is_bare = axis.typed, measurement.typed is None
        elif found.unit.dimension == unit.dimension:
            scale, given, is_bare = found.host, found.unit, True
        else:
            raise QuantityError(
                f"{found.name} shows no signal in {unit}", valid="a channel with such a signal"
            )
        self._require_settings()
        shown = read_once(self._setup, self._device, found)
        if not shown.is_good:
            why = why_no_value(found, shown.quality, Context(cold_junction=shown.junction))
            return Received(why=why)
        signal = convert(float(scale.value([shown.value])[0]), given, unit)
        if is_bare:
            return Received(signal)
        name = f"{found.name} of {self._watch.identity.model} {self._watch.identity.serial}"
        if found.unit.dimension != loop.value_unit.dimension:
            why = f"it is in {found.unit or 'no unit'}, the output's in {loop.value_unit or 'no unit'}"
            return Received(signal, meaning=name, why=why)
        values, qualities = found.host.convert([shown.value])
        if not math.isfinite(values[0]):
            return Received(signal, meaning=name, why=Quality(int(qualities[0])).reason)
        return Received(signal, convert(float(values[0]), found.unit, loop.value_unit), name)

    def _require_settings(self) -> None:
        """That the device holds what the setup says of the channel."""
        for change in self._watch.changes:
            if self.channel.owns(change.setting):
                file = self._setup.setup.source.file
                raise DeviceRefused(
                    f"{self}: the device does not hold what {file} says of this channel ({change})",
                    remedy=f"leitwerk upload {file}, then check the loop again",
                )
