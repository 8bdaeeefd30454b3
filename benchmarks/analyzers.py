"""Benchmarks of sound and power, as ratios within one run; ``make bench`` runs them after the others."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from run import compare
from scipy import signal

from leitwerk.sound import BandFilters, Evaluation, SoundMeter, bands_between, weighting_sections

RATE_HZ, SECONDS = 48_000.0, 600.0


def show(what: str, ours: Callable[[], object], other: Callable[[], object], goal: str) -> float:
    """Compare two acts, print the ratio, and give the time of the first in s."""
    first, second, ratio = compare(ours, other)
    print(f"{what}\n    {first:.2f} s against {second:.2f} s: {ratio:.2f} times (goal: {goal})")
    return first


def sound() -> None:
    """Ten minutes of sound at 48 kHz: A-weighted levels and third-octave bands, against sosfilt alone."""
    x = np.random.default_rng(8).normal(0.0, 0.1, round(RATE_HZ * SECONDS))
    sections = weighting_sections("A", RATE_HZ)

    def run(evaluation: Evaluation) -> Callable[[], object]:
        return lambda: list(SoundMeter(RATE_HZ, [evaluation]).take(x))

    show(
        "A-weighted levels of 10 minutes at 48 kHz, against sosfilt alone",
        run(Evaluation("a", "A", "")),
        lambda: signal.sosfilt(sections, x),
        "at most 1.3",
    )
    bands = bands_between("third octave", 25.0, 20_000.0)
    bank = BandFilters(bands, RATE_HZ)

    def bare() -> None:
        """The same sections, at the same rates, each on the whole signal at once."""
        for stage in bank.stages:
            own = x[: round(x.size * min(stage.rate_hz / RATE_HZ, 1.0))]
            own = np.repeat(own, 2) if stage.way == "twice" else own
            before = np.repeat(own, 2) if stage.way == "half" else own
            if stage.way != "as it is":
                signal.sosfilt(stage.sections, before)
            for _, band, _ in stage.bands:
                signal.sosfilt(band, own)

    spent = show(
        f"{len(bands)} third-octave bands of it, against sosfilt on the same sections",
        run(Evaluation("z", "Z", "", bands="third octave", low_hz=25.0, high_hz=20_000.0)),
        bare,
        "at most 1.3",
    )
    print(f"    {SECONDS / spent:.0f} times real time")


if __name__ == "__main__":
    sound()
