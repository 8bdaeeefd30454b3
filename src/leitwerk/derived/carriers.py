"""Radio carriers that a converter mixes down: the intermediate frequency, and why a receiver misses it."""

from __future__ import annotations

from collections.abc import Mapping

from leitwerk.parsing.quantities import format_number


def intermediate(carrier: float, oscillator: float) -> float:
    """The difference of carrier and oscillator, whichever is higher; all in one unit."""
    return abs(carrier - oscillator)


def carrier_of(frequency: float, oscillator: float, *, oscillator_is_above: bool) -> float:
    """The carrier that gives an intermediate frequency, with the oscillator below or above it."""
    return oscillator - frequency if oscillator_is_above else oscillator + frequency


def why_missed(
    carrier: float, oscillators: Mapping[str, float], chosen: str, span: tuple[float, float]
) -> str:
    """Why a receiver does not take a carrier, in words; empty where it does. All in MHz.

    Parameters
    ----------
    carrier : float
    oscillators : mapping from name to frequency
    chosen : str
        The one that is switched on.
    span : (low, high)
        What the receiver takes.

    Examples
    --------
    >>> why_missed(10738.0, {"low": 9750.0, "high": 10600.0}, "high", (950.0, 2150.0))
    'with the high oscillator this gives 138 MHz, outside 950..2150 MHz; with the low one 988 MHz, \
inside: the tone is probably wrong'

    """
    low, high = span
    found = intermediate(carrier, oscillators[chosen])
    if low <= found <= high:
        return ""
    text = (
        f"with the {chosen} oscillator this gives {format_number(found)} MHz, outside "
        f"{format_number(low)}..{format_number(high)} MHz"
    )
    for name, oscillator in oscillators.items():
        other = intermediate(carrier, oscillator)
        if name != chosen and low <= other <= high:
            shown = f"with the {name} one {format_number(other)} MHz, inside"
            return f"{text}; {shown}: the tone is probably wrong"
    factor = next((f for f in (1e3, 1e-3) if _fits(carrier * f, oscillators, span)), None)
    if factor is not None:
        return (
            f"{text}; {format_number(carrier * factor)} MHz would fit: the unit is probably wrong"
        )
    return f"{text}, and so does every other oscillator"


def _fits(carrier: float, oscillators: Mapping[str, float], span: tuple[float, float]) -> bool:
    return any(span[0] <= intermediate(carrier, o) <= span[1] for o in oscillators.values())
