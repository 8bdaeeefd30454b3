"""The reference functions of thermocouples: emf in mV from temperature in °C.

Reference junction at 0 °C, ITS-90. Source of all coefficients: IEC 60584-1:2013, Annex A (the same
functions as in NIST Monograph 175). Each curve is a row of polynomials, the next one beginning where
the one before ends; where they meet they differ by less than 0.1 nV, which a test uses to catch a
wrong digit.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.signals.chunks import all_inside
from leitwerk.signals.polynomial import horner

if TYPE_CHECKING:
    from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Piece:
    """One polynomial of a reference function, from ``low`` to ``high`` in °C.

    ``hump`` is the exponential term of type K: a0 · exp(a1 · (t - a2)²).
    """

    low: float
    high: float
    coefficients: tuple[float, ...]
    hump: tuple[float, float, float] | None = None

    def emf(self, t: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Fill ``out`` (not ``t``) with the emf in mV."""
        horner(self.coefficients, t, out)
        if self.hump:
            a0, a1, a2 = self.hump
            out += a0 * np.exp(a1 * np.square(t - a2))

    def slope(self, t: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Fill ``out`` (not ``t``) with the slope in mV/K."""
        horner(tuple(k * c for k, c in enumerate(self.coefficients))[1:], t, out)
        if self.hump:
            a0, a1, a2 = self.hump
            out += 2.0 * a0 * a1 * (t - a2) * np.exp(a1 * np.square(t - a2))


@dataclass(frozen=True, slots=True)
class Curve:
    """The reference function of one type. ``unique_above`` is where an emf begins to stand for one
    temperature only: below, the curve of type B goes down and up again.
    """

    kind: str
    pieces: tuple[Piece, ...]
    unique_above: float | None = None

    @property
    def low(self) -> float:
        """The lowest temperature, in °C."""
        return self.pieces[0].low

    @property
    def high(self) -> float:
        """The highest temperature, in °C."""
        return self.pieces[-1].high

    def emf(self, t: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Fill ``out`` (not ``t``) with the emf in mV; ``t`` lies inside the curve."""
        self._by_piece("emf", t, out)

    def slope(self, t: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Fill ``out`` (not ``t``) with the slope in mV/K; ``t`` lies inside the curve."""
        self._by_piece("slope", t, out)

    def _by_piece(self, what: str, t: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        for piece in self.pieces:
            if all_inside(t, piece.low, piece.high):  # the usual case: one object, one piece
                getattr(piece, what)(t, out)
                return
        for piece in self.pieces:
            at = np.flatnonzero((t >= piece.low) & (t <= piece.high))
            if at.size:
                part = np.empty(at.size)
                getattr(piece, what)(t[at], part)
                out[at] = part


CURVES = {
    curve.kind: curve
    for curve in (
        Curve(
            "B",
            (
                Piece(
                    0, 630.615,
                    (
                        0.0, -0.246508183460e-3, 0.590404211710e-5, -0.132579316360e-8,
                        0.156682919010e-11, -0.169445292400e-14, 0.629903470940e-18,
                    ),
                ),
                Piece(
                    630.615, 1820,
                    (
                        -0.389381686210e1, 0.285717474700e-1, -0.848851047850e-4, 0.157852801640e-6,
                        -0.168353448640e-9, 0.111097940130e-12, -0.445154310330e-16, 0.989756408210e-20,
                        -0.937913302890e-24,
                    ),
                ),
            ),
            unique_above=42.2,
        ),
        Curve(
            "E",
            (
                Piece(
                    -270, 0,
                    (
                        0.0, 0.586655087080e-1, 0.454109771240e-4, -0.779980486860e-6,
                        -0.258001608430e-7, -0.594525830570e-9, -0.932140586670e-11, -0.102876055340e-12,
                        -0.803701236210e-15, -0.439794973910e-17, -0.164147763550e-19, -0.396736195160e-22,
                        -0.558273287210e-25, -0.346578420130e-28,
                    ),
                ),
                Piece(
                    0, 1000,
                    (
                        0.0, 0.586655087100e-1, 0.450322755820e-4, 0.289084072120e-7,
                        -0.330568966520e-9, 0.650244032700e-12, -0.191974955040e-15, -0.125366004970e-17,
                        0.214892175690e-20, -0.143880417820e-23, 0.359608994810e-27,
                    ),
                ),
            ),
        ),
        Curve(
            "J",
            (
                Piece(
                    -210, 760,
                    (
                        0.0, 0.503811878150e-1, 0.304758369300e-4, -0.856810657200e-7,
                        0.132281952950e-9, -0.170529583370e-12, 0.209480906970e-15, -0.125383953360e-18,
                        0.156317256970e-22,
                    ),
                ),
                Piece(
                    760, 1200,
                    (
                        0.296456256810e3, -0.149761277860e1, 0.317871039240e-2, -0.318476867010e-5,
                        0.157208190040e-8, -0.306913690560e-12,
                    ),
                ),
            ),
        ),
        Curve(
            "K",
            (
                Piece(
                    -270, 0,
                    (
                        0.0, 0.394501280250e-1, 0.236223735980e-4, -0.328589067840e-6,
                        -0.499048287770e-8, -0.675090591730e-10, -0.574103274280e-12, -0.310888728940e-14,
                        -0.104516093650e-16, -0.198892668780e-19, -0.163226974860e-22,
                    ),
                ),
                Piece(
                    0, 1372,
                    (
                        -0.176004136860e-1, 0.389212049750e-1, 0.185587700320e-4, -0.994575928740e-7,
                        0.318409457190e-9, -0.560728448890e-12, 0.560750590590e-15, -0.320207200030e-18,
                        0.971511471520e-22, -0.121047212750e-25,
                    ),
                    hump=(0.1185976e0, -0.1183432e-3, 0.1269686e3),
                ),
            ),
        ),
        Curve(
            "N",
            (
                Piece(
                    -270, 0,
                    (
                        0.0, 0.261591059620e-1, 0.109574842280e-4, -0.938411115540e-7,
                        -0.464120397590e-10, -0.263033577160e-11, -0.226534380030e-13, -0.760893007910e-16,
                        -0.934196678350e-19,
                    ),
                ),
                Piece(
                    0, 1300,
                    (
                        0.0, 0.259293946010e-1, 0.157101418800e-4, 0.438256272370e-7,
                        -0.252611697940e-9, 0.643118193390e-12, -0.100634715190e-14, 0.997453389920e-18,
                        -0.608632456070e-21, 0.208492293390e-24, -0.306821961510e-28,
                    ),
                ),
            ),
        ),
        Curve(
            "R",
            (
                Piece(
                    -50, 1064.18,
                    (
                        0.0, 0.528961729765e-2, 0.139166589782e-4, -0.238855693017e-7,
                        0.356916001063e-10, -0.462347666298e-13, 0.500777441034e-16, -0.373105886191e-19,
                        0.157716482367e-22, -0.281038625251e-26,
                    ),
                ),
                Piece(
                    1064.18, 1664.5,
                    (
                        0.295157925316e1, -0.252061251332e-2, 0.159564501865e-4, -0.764085947576e-8,
                        0.205305291024e-11, -0.293359668173e-15,
                    ),
                ),
                Piece(
                    1664.5, 1768.1,
                    (
                        0.152232118209e3, -0.268819888545e0, 0.171280280471e-3, -0.345895706453e-7,
                        -0.934633971046e-14,
                    ),
                ),
            ),
        ),
        Curve(
            "S",
            (
                Piece(
                    -50, 1064.18,
                    (
                        0.0, 0.540313308631e-2, 0.125934289740e-4, -0.232477968689e-7,
                        0.322028823036e-10, -0.331465196389e-13, 0.255744251786e-16, -0.125068871393e-19,
                        0.271443176145e-23,
                    ),
                ),
                Piece(
                    1064.18, 1664.5,
                    (
                        0.132900444085e1, 0.334509311344e-2, 0.654805192818e-5, -0.164856259209e-8,
                        0.129989605174e-13,
                    ),
                ),
                Piece(
                    1664.5, 1768.1,
                    (
                        0.146628232636e3, -0.258430516752e0, 0.163693574641e-3, -0.330439046987e-7,
                        -0.943223690612e-14,
                    ),
                ),
            ),
        ),
        Curve(
            "T",
            (
                Piece(
                    -270, 0,
                    (
                        0.0, 0.387481063640e-1, 0.441944343470e-4, 0.118443231050e-6,
                        0.200329735540e-7, 0.901380195590e-9, 0.226511565930e-10, 0.360711542050e-12,
                        0.384939398830e-14, 0.282135219250e-16, 0.142515947790e-18, 0.487686622860e-21,
                        0.107955392700e-23, 0.139450270620e-26, 0.797951539270e-30,
                    ),
                ),
                Piece(
                    0, 400,
                    (
                        0.0, 0.387481063640e-1, 0.332922278800e-4, 0.206182434040e-6,
                        -0.218822568460e-8, 0.109968809280e-10, -0.308157587720e-13, 0.454791352900e-16,
                        -0.275129016730e-19,
                    ),
                ),
            ),
        ),
    )
}  # fmt: skip
