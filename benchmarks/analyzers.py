"""Benchmarks of sound and power, as ratios within one run; ``make bench`` runs them after the others."""

from __future__ import annotations

import resource
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
from run import compare, seconds
from scipy import signal

from leitwerk.power import EventFinder, HalfCycleRms, harmonics_of
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


WAVE_HZ, PIECE = 10_000.0, 100_000
USUAL_MINUTES = 10.0


def write_waves(path: Path, minutes: float) -> int:
    """Three phases at 10 kHz on disk, piece by piece, with a dip in every minute; how many."""
    count = round(minutes * 60.0 * WAVE_HZ)
    with path.open("wb") as file:
        for begin in range(0, count, PIECE):
            n = begin + np.arange(min(PIECE, count - begin))
            turn = 2 * np.pi * np.mod(49.97 * n / WAVE_HZ, 1.0)
            waves = np.stack([325.0 * np.sin(turn - 2 * np.pi * k / 3) for k in range(3)], axis=1)
            at = n % 600_000
            waves[(at >= 200_000) & (at < 201_000), 1] *= 0.6
            waves.astype(np.float32).tofile(file)
    return round(minutes)


def dips(minutes: float) -> None:
    """Dips in three-phase waveforms at 10 kHz, streamed from disk; ``1440`` minutes are a day."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "waves.f32"
        planted = write_waves(path, minutes)
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss

        def find() -> int:
            half = [HalfCycleRms(WAVE_HZ, 50.0, 20.0) for _ in range(3)]
            finder, count = EventFinder(230.0, 3), 0
            with path.open("rb") as file:
                while (block := np.fromfile(file, np.float32, 3 * 50_000)).size:
                    each = block.reshape(-1, 3).T.astype(float)
                    values = [one.take(x) for one, x in zip(half, each, strict=True)]
                    count += sum(1 for _ in finder.take(values))
            return count

        found = 0

        def once() -> None:
            nonlocal found
            found = find()

        spent = min(seconds(once) for _ in range(3 if minutes <= USUAL_MINUTES else 1))
        more = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
        print(
            f"dips in {minutes:g} minutes of three phases at 10 kHz, from disk: {found} found of {planted}\n"
            f"    {spent:.2f} s: {60 * minutes / spent:.0f} times real time (goal: at least 50), "
            f"{max(more, 0) / 1024:.0f} MB more memory than before"
        )


def harmonics() -> None:
    """Harmonic subgroups and groups of a minute of windows, against a loop over windows and orders."""
    window = np.random.default_rng(7).normal(0.0, 1.0, (300, 2048))

    def by_hand() -> None:
        for row in window:
            lines = np.abs(np.fft.rfft(row)) * np.sqrt(2.0) / row.size
            for order in range(1, 51):
                middle = 10 * order
                near = lines[middle - 1 : middle + 2]
                np.sqrt(sum(x * x for x in near))
                inner = lines[middle - 4 : middle + 5]
                ends = 0.5 * (lines[middle - 5] ** 2 + lines[middle + 5] ** 2)
                np.sqrt(sum(x * x for x in inner) + ends)
                between = lines[middle + 2 : middle + 9]
                np.sqrt(sum(x * x for x in between))

    first, second, ratio = compare(lambda: harmonics_of(window, 10), by_hand)
    print(
        f"harmonics of {len(window)} windows, against a loop over windows and orders\n"
        f"    {first * 1e3:.0f} ms against {second * 1e3:.0f} ms: {1 / ratio:.0f} times as fast "
        "(goal: at least 20)"
    )


if __name__ == "__main__":
    if len(sys.argv) > 1:
        dips(float(sys.argv[1]))
    else:
        sound()
        dips(USUAL_MINUTES)
        harmonics()
