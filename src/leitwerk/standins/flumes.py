"""How the simulated flow transmitter gets a flow from a level: its own tables, apart from Leitwerk's.

Heads in ft and flows in cfs, as they are printed: a device made for that market reckons so.
"""

from __future__ import annotations

import math
from itertools import pairwise

_FOOT = 0.3048
# USBR, Water Measurement Manual, ch. 8: flow = C · head ^ n.
_THROATS = {
    "1 in": (0.338, 1.55), "2 in": (0.676, 1.55), "3 in": (0.992, 1.547), "6 in": (2.06, 1.58),
    "9 in": (3.07, 1.53), "1 ft": (4.0, 1.522), "1.5 ft": (6.0, 1.538), "2 ft": (8.0, 1.55),
    "3 ft": (12.0, 1.566),
}  # fmt: skip
# ISO 1438: discharge coefficients of V-notches by angle, read off its figure.
_NOTCHES = (
    (20.0, 0.592),
    (40.0, 0.582),
    (60.0, 0.5770),
    (80.0, 0.5770),
    (90.0, 0.5785),
    (100.0, 0.5810),
)
_GRAVITY = 9.81


def parshall(level_m: float, size: str) -> float:
    """Flow in l/s through a Parshall flume."""
    if size not in _THROATS or level_m <= 0.0:
        return 0.0
    coefficient, exponent = _THROATS[size]
    cfs = coefficient * math.pow(level_m / _FOOT, exponent)
    return cfs * _FOOT**3 * 1000.0


def v_notch(level_m: float, angle_deg: float) -> float:
    """Flow in l/s over a V-notch."""
    if level_m <= 0.0:
        return 0.0
    below = max((n for n in _NOTCHES if n[0] <= angle_deg), default=_NOTCHES[0])
    above = min((n for n in _NOTCHES if n[0] >= angle_deg), default=_NOTCHES[-1])
    part = 0.0 if above == below else (angle_deg - below[0]) / (above[0] - below[0])
    coefficient = below[1] + part * (above[1] - below[1])
    opening = math.tan(math.radians(angle_deg / 2.0))
    head = math.pow(level_m + 0.0009, 2.5)
    return 8.0 / 15.0 * coefficient * math.sqrt(2.0 * _GRAVITY) * opening * head * 1e3


def power_law(level_m: float, coefficient: float, exponent: float) -> float:
    """Flow in l/s by a power law in m and m³/s."""
    return 1000.0 * coefficient * math.pow(level_m, exponent) if level_m > 0.0 else 0.0


def table(level_m: float, points: list[tuple[float, float]]) -> float:
    """Flow in l/s between the points of a table, on straight lines; beyond its last, that of the last."""
    used = [points[0], *(p for p in points[1:] if p[0] > 0.0)]
    for (low, first), (high, last) in pairwise(used):
        if low <= level_m <= high and high > low:
            return first + (last - first) * (level_m - low) / (high - low)
    return used[-1][1] if level_m > used[-1][0] else 0.0
