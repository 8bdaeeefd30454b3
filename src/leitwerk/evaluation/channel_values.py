"""The values of all channels, measured and derived, from what a device shows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.analysis.summary import GAP_INTERVALS
from leitwerk.check.channels import CheckedChannel, DerivedChannel, measured
from leitwerk.derived.formula import from_si, to_si
from leitwerk.derived.runner import Runner
from leitwerk.evaluation.host_values import HostValues
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Values = NDArray[np.float64]
    Qualities = NDArray[np.uint8]


class ChannelValues:
    """Works what a device shows into the values of channels, sample by sample or many at once.

    Parameters
    ----------
    channels : sequence of CheckedChannel
        Of one setup; what derived ones are computed from is among them.
    intervals_s : mapping from name to float, in s, optional
        Of a recording: how far apart its rows are that have a value of a channel. Functions of time take what
        is further apart than ``GAP_INTERVALS`` of them for a gap. Without it, the setup says it: for readings
        as they come.

    """

    def __init__(
        self,
        channels: Sequence[CheckedChannel],
        intervals_s: Mapping[str, float] | None = None,
    ) -> None:
        self.channels = tuple(channels)
        self.measured = measured(channels)
        self._host = HostValues(self.measured)
        self._columns = [k for k, c in enumerate(channels) if not isinstance(c, DerivedChannel)]
        self._derived = [(k, c) for k, c in enumerate(channels) if isinstance(c, DerivedChannel)]
        self._runner: Runner | None = None
        if self._derived:
            graph = self._derived[0][1].graph
            gaps_s = intervals_s and {name: GAP_INTERVALS * s for name, s in intervals_s.items()}
            self._runner = Runner(graph, [channel.node for _, channel in self._derived], gaps_s)
            place = {channel.name: k for k, channel in enumerate(self.measured)}
            self._inputs = [(name, place[name]) for name in self._runner.inputs]

    def take(
        self, times_s: Values, shown: Values, qualities: Qualities
    ) -> tuple[Values, Qualities]:
        """The values of the next samples.

        Parameters
        ----------
        times_s : array of shape (n_samples,), in s since 1970-01-01 UTC
        shown, qualities : arrays of shape (n_samples, n_measured)
            As the device shows it.

        Returns
        -------
        values, qualities : arrays of shape (n_samples, n_channels)
            In the units of the channels.

        """
        values, found = self._host.work(shown, qualities)
        if self._runner is None:
            return values, found
        return self.derive(times_s, values, found)

    def derive(
        self, times_s: Values, values: Values, qualities: Qualities
    ) -> tuple[Values, Qualities]:
        """As ``take``, for values of the measured channels that are in their units already."""
        size = times_s.size
        every = np.empty((size, len(self.channels)))
        found = np.zeros((size, len(self.channels)), dtype=np.uint8)
        every[:, self._columns], found[:, self._columns] = values, qualities
        if self._runner is None:
            return every, found
        rows, codes = np.empty((len(self._inputs), size)), {}
        for row, (name, column) in enumerate(self._inputs):
            codes[name] = qualities[:, column]
            known = to_si(values[:, column], self.measured[column].unit)
            rows[row] = np.where(Quality.has_value(codes[name]), known, np.nan)
        for piece, worked in self._runner.pieces(times_s, rows):
            own = {name: quality[piece] for name, quality in codes.items()}
            for number, (column, channel) in enumerate(self._derived):
                every[piece, column] = from_si(worked[number], channel.unit)
                found[piece, column] = self._runner.reasons(channel.node, own)
        return every, found

    def blamed(self, channel: DerivedChannel) -> list[str]:
        """The inputs for whose sake a derived channel had no value at the last sample."""
        return [] if self._runner is None else self._runner.blamed(channel.node)

    def state(self) -> dict[str, Any]:
        """What functions of time remember, as plain data for JSON."""
        return {} if self._runner is None else self._runner.state()

    def resume(self, state: Mapping[str, Any]) -> None:
        """Go on from a state of the same setup.

        Raises
        ------
        ValueError, KeyError, TypeError
            It is not such a state.

        """
        if self._runner is not None and state:
            self._runner.resume(state)
