"""A reference that is read: a channel of another device, or of the same one, that shows what is applied."""

from __future__ import annotations

import math

from leitwerk.check.channels import CheckedChannel, MeasuredChannel, SignalChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.commissioning.proof_plan import Applied
from leitwerk.devices.device import Device
from leitwerk.errors import QuantityError
from leitwerk.evaluation.signal_chain import uncertainty_at
from leitwerk.monitoring.spot_readings import read_once
from leitwerk.monitoring.watching import DeviceWatch
from leitwerk.parsing.units import Unit, convert, convert_difference
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import Scale

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

    def signal(self, unit: Unit) -> float | None:
        """What is at its terminal now, in the unit of an output; None if its value is bad.

        That is the signal, turned back through the scale; or the value, where the channel shows a current as
        the voltage over a resistor.

        Raises
        ------
        QuantityError
            It shows no signal of that kind.
        WrongDevice, LinkError, DeviceRefused
            As for a single reading.

        """
        found = self.channel
        scale: Scale
        if (
            isinstance(found, SignalChannel)
            and found.measurement.input.unit.dimension == unit.dimension
        ):
            scale = found.measurement.shown.inverse()
            given = found.measurement.input.unit
        elif isinstance(found, MeasuredChannel) and found.unit.dimension == unit.dimension:
            scale, given = found.host, found.unit
        else:
            raise QuantityError(
                f"{found.name} shows no signal in {unit}", valid="a channel with such a signal"
            )
        shown, _ = read_once(self._setup, self._device, found)
        return None if shown is None else convert(float(scale.value([shown])[0]), given, unit)
