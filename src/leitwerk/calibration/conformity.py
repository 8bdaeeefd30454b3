"""Does it meet its limits: decisions with a guard band, and what they risk."""

from __future__ import annotations

import math
from dataclasses import dataclass

from leitwerk.errors import DomainError


@dataclass(frozen=True, slots=True)
class Decision:
    """A conformity decision.

    ``verdict`` is ``pass`` (inside the acceptance interval), ``fail`` (outside the limits by more
    than the guard band) or ``marginal``. ``conforms`` is the probability that the true value lies
    within the limits, given what was measured.
    """

    verdict: str
    conforms: float
    acceptance: tuple[float, float]

    @property
    def false_accept(self) -> float:
        """The probability that the true value lies outside although this was accepted (specific
        consumer's risk); 0 when it was not accepted.
        """
        return 1.0 - self.conforms if self.verdict == "pass" else 0.0

    @property
    def false_reject(self) -> float:
        """The probability that the true value lies within although this was rejected."""
        return self.conforms if self.verdict == "fail" else 0.0


def decide(
    measured: float, standard: float, low: float, high: float, *, guard: float | None = None
) -> Decision:
    """Hold a measured value against limits, in the light of its uncertainty.

    Parameters
    ----------
    measured : float
    standard : float
        Its standard uncertainty, not the expanded one.
    low, high : float
        The limits; infinite for a one-sided one.
    guard : float, optional
        Width of the guard band on either side; the expanded uncertainty (2 u) if not given. 0 is
        simple acceptance.

    Raises
    ------
    DomainError
        Limits upside down, or an uncertainty or guard band below 0.

    References
    ----------
    JCGM 106:2012, clause 7.3 (conformance probability), 8.3 (guard bands), with nothing known of the
    value beforehand.

    Examples
    --------
    >>> decide(100.3, 0.1, 99.5, 100.5).verdict, decide(100.35, 0.1, 99.5, 100.5).verdict
    ('pass', 'marginal')

    """
    if not low < high or not standard >= 0.0 or (guard is not None and not guard >= 0.0):
        raise DomainError(
            f"limits {low:g} and {high:g} with an uncertainty of {standard:g} cannot be used",
            remedy="give the lower limit first, and an uncertainty of 0 or more",
        )
    band = 2.0 * standard if guard is None else guard
    acceptance = low + band, high - band
    if standard > 0.0:
        conforms = _normal((high - measured) / standard) - _normal((low - measured) / standard)
    else:
        conforms = float(low <= measured <= high)
    if acceptance[0] <= measured <= acceptance[1]:
        verdict = "pass"
    elif measured < low - band or measured > high + band:
        verdict = "fail"
    else:
        verdict = "marginal"
    return Decision(verdict, min(max(conforms, 0.0), 1.0), acceptance)


def global_risks(
    process: tuple[float, float], standard: float, limits: tuple[float, float], guard: float
) -> tuple[float, float]:
    """Risks of a way of testing, over all items that will be tested.

    Parameters
    ----------
    process : (mean, standard deviation)
        What is known of the items before they are measured.
    standard : float
        Standard uncertainty of the measurement.
    limits : (low, high)
    guard : float
        Width of the guard band on either side; negative moves acceptance outwards.

    Returns
    -------
    (false accept, false reject)
        Joint probabilities: the item is out and accepted; the item is in and rejected.

    References
    ----------
    JCGM 106:2012, clause 9.5 (equations for the global risks), both densities normal.

    Examples
    --------
    >>> accept, reject = global_risks((0.0, 1.0), 0.25, (-2.0, 2.0), guard=0.0)
    >>> round(accept, 4), round(reject, 4)
    (0.008, 0.0149)

    """
    from scipy.integrate import quad  # noqa: PLC0415 - heavy, and rarely needed

    mean, spread = process
    low, high = limits
    if not (spread > 0.0 and standard > 0.0 and low < high):
        raise DomainError(
            "the risks need a spread and an uncertainty above 0, and a lower limit first"
        )

    def accepted(true: float) -> float:
        return _normal((high - guard - true) / standard) - _normal((low + guard - true) / standard)

    def density(true: float) -> float:
        return math.exp(-0.5 * ((true - mean) / spread) ** 2) / (spread * math.sqrt(2 * math.pi))

    far = 10.0 * spread
    below = quad(lambda t: density(t) * accepted(t), min(mean - far, low - 1), low)[0]
    above = quad(lambda t: density(t) * accepted(t), high, max(mean + far, high + 1))[0]
    inside = quad(lambda t: density(t) * (1.0 - accepted(t)), low, high)[0]
    return below + above, inside


def _normal(z: float) -> float:
    return 0.5 * math.erfc(-z / math.sqrt(2.0))
