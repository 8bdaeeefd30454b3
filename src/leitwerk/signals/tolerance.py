"""Tolerance classes: how far a sensor may be off and still be what it is called."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import numpy as np

from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

# IEC 60751:2022, clause 6, table 3: constant in K, part of |t|, span in °C, for wire-wound and for
# film resistors.
_PLATINUM = {
    "AA": (0.1, 0.0017, {"wire": (-50, 250), "film": (0, 150)}),
    "A": (0.15, 0.002, {"wire": (-100, 450), "film": (-30, 300)}),
    "B": (0.3, 0.005, {"wire": (-196, 600), "film": (-50, 500)}),
    "C": (0.6, 0.01, {"wire": (-196, 600), "film": (-50, 600)}),
}
# IEC 60584-1:2013, clause 5, table 12: the larger of a constant in K and a part of |t|; span in °C.
_THERMOCOUPLE: dict[tuple[str, int], tuple[float, float, tuple[float, float]]] = {
    ("T", 1): (0.5, 0.004, (-40, 350)),
    ("T", 2): (1.0, 0.0075, (-40, 350)),
    ("T", 3): (1.0, 0.015, (-200, 40)),
    ("E", 1): (1.5, 0.004, (-40, 800)),
    ("E", 2): (2.5, 0.0075, (-40, 900)),
    ("E", 3): (2.5, 0.015, (-200, 40)),
    ("J", 1): (1.5, 0.004, (-40, 750)),
    ("J", 2): (2.5, 0.0075, (-40, 750)),
    ("K", 1): (1.5, 0.004, (-40, 1000)),
    ("K", 2): (2.5, 0.0075, (-40, 1200)),
    ("K", 3): (2.5, 0.015, (-200, 40)),
    ("N", 1): (1.5, 0.004, (-40, 1000)),
    ("N", 2): (2.5, 0.0075, (-40, 1200)),
    ("N", 3): (2.5, 0.015, (-200, 40)),
    ("R", 2): (1.5, 0.0025, (0, 1600)),
    ("S", 2): (1.5, 0.0025, (0, 1600)),
    ("B", 2): (1.5, 0.0025, (600, 1700)),
    ("B", 3): (4.0, 0.005, (600, 1700)),
}
_NOBLE_CLASS_1 = {"R", "S"}  # 1 K up to 1100 °C, then 1 + 0.003 · (t - 1100) K


def platinum_tolerance(
    temperature: ArrayLike, tolerance_class: str, resistor: Literal["wire", "film"] = "film"
) -> NDArray[np.float64]:
    """How far a platinum thermometer of a class may be off.

    Parameters
    ----------
    temperature : array_like, in °C
        NaN, and what lies outside the span of the class, gives NaN.
    tolerance_class : {"AA", "A", "B", "C"}
    resistor : {"wire", "film"}
        Wire-wound and film resistors have different spans.

    Returns
    -------
    ndarray of the same shape, float64, in K, to either side

    References
    ----------
    IEC 60751:2022, clause 6, table 3.

    Examples
    --------
    >>> platinum_tolerance([0.0, 100.0, 400.0], "A")
    array([0.15, 0.35,  nan])

    """
    found = _PLATINUM.get(tolerance_class)
    if found is None:
        message = f"{tolerance_class!r} is not a tolerance class of platinum thermometers"
        raise QuantityError(message, valid=", ".join(_PLATINUM))
    constant, part, spans = found
    t = np.asarray(temperature, dtype=np.float64)
    return _inside(t, constant + part * np.abs(t), spans[resistor])


def thermocouple_tolerance(
    temperature: ArrayLike, kind: str, tolerance_class: int
) -> NDArray[np.float64]:
    """How far a thermocouple of a class may be off.

    Parameters
    ----------
    temperature : array_like, in °C
        NaN, and what lies outside the span of the class, gives NaN.
    kind : str
        The letter of the type.
    tolerance_class : {1, 2, 3}
        Not every type has every class.

    Returns
    -------
    ndarray of the same shape, float64, in K, to either side

    References
    ----------
    IEC 60584-1:2013, clause 5, table 12.

    Examples
    --------
    >>> thermocouple_tolerance([20.0, 1000.0, 1100.0], "K", 1)
    array([1.5, 4. , nan])

    """
    t = np.asarray(temperature, dtype=np.float64)
    if kind in _NOBLE_CLASS_1 and tolerance_class == 1:
        return _inside(t, np.maximum(1.0, 1.0 + 0.003 * (t - 1100.0)), (0, 1600))
    found = _THERMOCOUPLE.get((kind, tolerance_class))
    if found is None:
        classes = [str(c) for k, c in _THERMOCOUPLE if k == kind]
        raise QuantityError(
            f"type {kind} has no tolerance class {tolerance_class}",
            valid=f"classes {', '.join(classes)}" if classes else "",
        )
    constant, part, span = found
    return _inside(t, np.maximum(constant, part * np.abs(t)), span)


def _inside(
    t: NDArray[np.float64], tolerance: NDArray[np.float64], span: tuple[float, float]
) -> NDArray[np.float64]:
    return np.where((t >= span[0]) & (t <= span[1]), tolerance, np.nan)
