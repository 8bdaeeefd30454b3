"""Long arrays, worked in pieces that stay in the processor's cache.

A line such as ``a * x + b`` on a long array reads and writes main memory once for each operation.
In pieces of some ten thousand samples the intermediate results never leave the cache; that is two
to three times as fast, and needs no memory beside the result.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np

from leitwerk.parsing.frames import like

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

# Measured with 8k to 256k samples: flat from 8k to 32k, half as fast from 256k on.
CHUNK = 16_384

Kernel: TypeAlias = Callable[..., None]


def in_chunks(kernel: Kernel, *inputs: ArrayLike) -> NDArray[np.float64]:
    """As ``array_in_chunks``; where an input is a Series of pandas, the result has its index."""
    result = array_in_chunks(kernel, *inputs)
    for given in inputs:
        result = like(given, result)
    return result


def array_in_chunks(kernel: Kernel, *inputs: ArrayLike) -> NDArray[np.float64]:
    """The results of a kernel over arrays, broadcast against each other.

    Parameters
    ----------
    kernel : callable
        Called with a piece of each input, and the piece of the result that it has to fill; all of
        shape (n,), float64. It must not write to its inputs.
    *inputs : array_like
        Numbers of any real type, any layout, also read-only. They are converted piece by piece.

    Returns
    -------
    ndarray of the broadcast shape, float64 for inputs of any type

    Examples
    --------
    >>> array_in_chunks(lambda x, out: np.multiply(x, 2.0, out=out), np.arange(3))
    array([0., 2., 4.])

    """
    arrays: list[Any] = [_real(x) for x in inputs]
    if len(arrays) == 1 and arrays[0].size <= CHUNK:
        # The usual case of few samples: one piece, without the machinery for many.
        x = np.ascontiguousarray(arrays[0], dtype=np.float64)
        result = np.empty(x.shape)
        if x.size:
            with np.errstate(all="ignore"):
                kernel(x.reshape(-1), result.reshape(-1))
        return result.reshape(arrays[0].shape)
    result = np.empty(np.broadcast_shapes(*(a.shape for a in arrays)))
    if result.size == 0:
        return result
    flags: Any = [*(["readonly"] for _ in arrays), ["writeonly"]]
    # Floating point is asked for silence: NaN and infinity show in the quality, not in warnings.
    with (
        np.errstate(all="ignore"),
        np.nditer(
            [*arrays, result],
            flags=["external_loop", "buffered"],
            op_flags=flags,
            op_dtypes=[np.dtype(np.float64)] * (len(arrays) + 1),
            casting="same_kind",
            buffersize=CHUNK,
        ) as pieces,
    ):
        for piece in pieces:
            kernel(*piece)
    return result


def _real(x: ArrayLike) -> NDArray[np.generic]:
    array = np.asarray(x)
    # What is not a plain number (objects, texts) is converted now, or refused by NumPy.
    return array if array.dtype.kind in "fiub" else array.astype(np.float64, casting="unsafe")


def all_inside(x: NDArray[np.float64], low: float, high: float) -> bool:
    """Whether every number lies from ``low`` to ``high``; NaN lies nowhere."""
    return bool(x.min() >= low and x.max() <= high)
