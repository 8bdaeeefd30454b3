"""Pulses: counts, rates, duty cycles, and contacts that bounce."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import numpy as np

from leitwerk.errors import DomainError

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray


def count_steps(
    counts: ArrayLike, bits: Literal[16, 32] = 32, most: float | None = None
) -> NDArray[np.float64]:
    """Pulses between successive readings of a counter that rolls over.

    Parameters
    ----------
    counts : array_like of shape (n,)
        Readings of the counter; NaN where there is none.
    bits : {16, 32}
        Width of the counter.
    most : float, optional
        The most pulses that one step can have. A larger step is not a roll-over but a counter that
        was set back to 0: then the new reading is the step. Half of the counter if not given.

    Returns
    -------
    ndarray of shape (n - 1,), float64
        NaN where either reading is missing.

    Raises
    ------
    DomainError
        A reading that no counter of that width has.

    Examples
    --------
    >>> count_steps([65530, 65534, 3, 10], bits=16)
    array([4., 5., 7.])

    """
    c = np.asarray(counts, dtype=np.float64)
    modulus = float(2**bits)
    if np.any((c < 0) | (c >= modulus)):
        raise DomainError(
            f"a reading is outside a {bits}-bit counter", remedy=f"0 to {int(modulus) - 1}"
        )
    step = np.mod(np.diff(c), modulus)
    set_back = step > (modulus / 2 if most is None else most)
    return np.where(set_back, c[1:], step)


def totals(
    counts: ArrayLike,
    per_pulse: float,
    bits: Literal[16, 32] = 32,
    most: float | None = None,
) -> NDArray[np.float64]:
    """Volume or energy since the first reading, through all roll-overs.

    Parameters
    ----------
    counts : array_like of shape (n,)
    per_pulse : float
        What one pulse stands for.
    bits, most
        As for ``count_steps``.

    Returns
    -------
    ndarray of shape (n,), float64, in the unit of ``per_pulse``
        A missing reading gives NaN and loses nothing: the next step spans it.

    Examples
    --------
    >>> totals([65530, 65534, 3], per_pulse=0.5, bits=16)
    array([0. , 2. , 4.5])

    """
    c = np.asarray(counts, dtype=np.float64)
    result = np.full(c.shape, np.nan)
    there = np.flatnonzero(np.isfinite(c))
    if there.size:
        steps = count_steps(c[there], bits, most)
        result[there] = per_pulse * np.concatenate([[0.0], np.cumsum(steps)])
    return result


def rate_by_gate(
    counts: ArrayLike,
    times: ArrayLike,
    bits: Literal[16, 32] = 32,
    most: float | None = None,
) -> NDArray[np.float64]:
    """Pulses per second, by counting between two readings: good for many pulses.

    Parameters
    ----------
    counts, times : array_like of shape (n,); times in s, rising

    Returns
    -------
    ndarray of shape (n - 1,), float64, in Hz
        NaN where time stood still or went back.

    Examples
    --------
    >>> rate_by_gate([0, 50, 150], [0.0, 1.0, 3.0])
    array([50., 50.])

    """
    gate = np.diff(np.asarray(times, dtype=np.float64))
    gate = np.where(gate > 0.0, gate, np.nan)
    return np.asarray(count_steps(counts, bits, most) / gate)


def rate_by_period(
    edges: ArrayLike, now: float | None = None, timeout: float = np.inf
) -> NDArray[np.float64]:
    """Pulses per second, by the time from pulse to pulse: good for few pulses.

    Parameters
    ----------
    edges : array_like of shape (n,), in s
        Times of the pulses, rising.
    now : float, in s, optional
        Adds the rate at this moment: at most what the silence since the last pulse allows, and 0
        when that has lasted longer than ``timeout``. Without it a meter that stops shows its last
        rate for ever.
    timeout : float, in s

    Returns
    -------
    ndarray of shape (n - 1,), or (n,) with ``now``, float64, in Hz

    Examples
    --------
    >>> rate_by_period([0.0, 0.5, 1.0], now=3.0)
    array([2. , 2. , 0.5])

    """
    t = np.asarray(edges, dtype=np.float64)
    period = np.diff(t)
    with np.errstate(divide="ignore", invalid="ignore"):
        rates = np.where(period > 0.0, 1.0 / period, np.nan)
    if now is None:
        return rates
    if not t.size:
        return np.zeros(1 if now is not None else 0)
    silence = now - t[-1]
    last = rates[-1] if rates.size else np.inf
    at_most = np.inf if silence <= 0 else 1.0 / silence
    current = 0.0 if silence > timeout else min(last, at_most)
    return np.append(rates, current if np.isfinite(current) else np.nan)


def duty_cycle(rises: ArrayLike, falls: ArrayLike) -> NDArray[np.float64]:
    """The part of each period that a signal is high.

    Parameters
    ----------
    rises : array_like of shape (n + 1,), in s
        Times of the rising edges.
    falls : array_like of shape (n,), in s
        The falling edge after each rising one but the last.

    Returns
    -------
    ndarray of shape (n,), float64, from 0 to 1
        NaN where an edge is missing or out of order.

    Examples
    --------
    >>> duty_cycle([0.0, 1.0, 2.0], [0.25, 1.5])
    array([0.25, 0.5 ])

    """
    up, down = np.asarray(rises, dtype=np.float64), np.asarray(falls, dtype=np.float64)
    if down.size != up.size - 1:
        raise DomainError(
            f"{up.size} rising and {down.size} falling edges do not belong together",
            remedy="give one falling edge for each rising one but the last",
        )
    with np.errstate(divide="ignore", invalid="ignore"):
        part = (down - up[:-1]) / np.diff(up)
        return np.where((part >= 0.0) & (part <= 1.0), part, np.nan)


def debounce(times: ArrayLike, states: ArrayLike, settle: float) -> NDArray[np.bool_]:
    """States of a contact without its bouncing.

    A change counts when the new state has held for ``settle``; it is then shown from the sample on
    at which that is known, not back-dated.

    Parameters
    ----------
    times : array_like of shape (n,), in s, rising
    states : array_like of shape (n,), bool
    settle : float, in s

    Returns
    -------
    ndarray of shape (n,), bool

    Examples
    --------
    >>> debounce([0, 1, 2, 3, 4, 5, 6], [0, 1, 0, 1, 1, 1, 1], settle=2).astype(int)
    array([0, 0, 0, 0, 0, 1, 1])

    """
    t = np.asarray(times, dtype=np.float64)
    raw = np.asarray(states, dtype=bool)
    if not raw.size:
        return raw.copy()
    changed = np.flatnonzero(np.diff(raw)) + 1
    begin = np.concatenate([[0], changed])
    run = np.searchsorted(changed, np.arange(raw.size), side="right")
    held = t - t[begin[run]]
    # What has settled is the state of the last run that held long enough; the first always has.
    settled = (held >= settle) | (run == 0)
    known = np.maximum.accumulate(np.where(settled, np.arange(raw.size), -1))
    return raw[known]


def count_changes(states: ArrayLike) -> int:
    """How often a contact closed."""
    raw = np.asarray(states, dtype=bool)
    return int(np.count_nonzero(~raw[:-1] & raw[1:]))
