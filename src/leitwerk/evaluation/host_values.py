"""The values of measured channels from what a device shows: the part of a scale worked by Leitwerk."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.check.channels import MeasuredChannel

if TYPE_CHECKING:
    from numpy.typing import NDArray


class HostValues:
    """Turns what devices show into the channels' values by the links that Leitwerk works itself.

    Channels that have the same links are worked together, so that one sample of many channels costs
    little; and so do many samples.
    """

    def __init__(self, channels: Sequence[MeasuredChannel]) -> None:
        groups: dict[Hashable, list[int]] = {}
        for column, channel in enumerate(channels):
            if channel.host.stages:
                groups.setdefault(_key(channel), []).append(column)
        self._groups = [
            (channels[columns[0]].host, np.array(columns, np.intp)) for columns in groups.values()
        ]

    def work(
        self, shown: NDArray[np.float64], qualities: NDArray[np.uint8]
    ) -> tuple[NDArray[np.float64], NDArray[np.uint8]]:
        """The values of some samples.

        Parameters
        ----------
        shown : array of shape (n_samples, n_channels), as the device shows it
        qualities : array of the same shape

        Returns
        -------
        values, qualities : arrays of the same shape
            The values in the channels' units.

        """
        values, found = shown.copy(), qualities.copy()
        for host, columns in self._groups:
            values[:, columns], found[:, columns] = host.convert(
                shown[:, columns], qualities[:, columns]
            )
        return values, found


def _key(channel: MeasuredChannel) -> Hashable:
    """Equal for channels with equal links."""
    try:
        hash(channel.host)
    except TypeError:  # a table of many points is compared by its identity
        return id(channel.host)
    return channel.host
