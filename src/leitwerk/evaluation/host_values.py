"""The values of measured channels from what a device shows: the part of a scale worked by Leitwerk."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from leitwerk.check.channels import MeasuredChannel

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


def to_values(
    channels: Sequence[MeasuredChannel], shown: NDArray[np.float64], qualities: NDArray[np.uint8]
) -> tuple[NDArray[np.float64], NDArray[np.uint8]]:
    """What devices show, turned into the channels' values by the links that Leitwerk works itself.

    A whole column at a time: for many samples that costs next to nothing, for one after the other
    it would be the larger part of a poll.

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
    for column, channel in enumerate(channels):
        host = channel.host
        if host.stages:
            values[:, column], found[:, column] = host.convert(
                shown[:, column], qualities[:, column]
            )
    return values, found
