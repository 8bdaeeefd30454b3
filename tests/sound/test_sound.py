"""Sound against the tables of IEC 61672-1, IEC 61260-1 and the rules of dose and exposure."""

import math
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from leitwerk.errors import QuantityError
from leitwerk.signals import Quality
from leitwerk.sound import (
    BandFilters,
    Evaluation,
    FrequencyCorrection,
    PeakDetector,
    SoundMeter,
    TimeWeighting,
    band_at,
    bands_between,
    class_1_limits,
    class_1_up_to,
    daily_exposure,
    day_evening_night,
    dose_percent,
    exceeded_level,
    mean_level,
    pressure_level,
    time_weighted_average,
    weighting_db,
    weighting_sections,
)

RATE = 48_000.0
# IEC 61672-1:2013, table 3: A and C at 10 Hz to 20 kHz in third octaves.
TABLE_A = (
    -70.4, -63.4, -56.7, -50.5, -44.7, -39.4, -34.6, -30.2, -26.2, -22.5, -19.1, -16.1, -13.4, -10.9, -8.6,
    -6.6, -4.8, -3.2, -1.9, -0.8, 0.0, 0.6, 1.0, 1.2, 1.3, 1.2, 1.0, 0.5, -0.1, -1.1, -2.5, -4.3, -6.6, -9.3,
)  # fmt: skip
TABLE_C = (
    -14.3, -11.2, -8.5, -6.2, -4.4, -3.0, -2.0, -1.3, -0.8, -0.5, -0.3, -0.2, -0.1, 0.0, 0.0, 0.0, 0.0, 0.0,
    0.0, 0.0, 0.0, 0.0, -0.1, -0.2, -0.3, -0.5, -0.8, -1.3, -2.0, -3.0, -4.4, -6.2, -8.5, -11.2,
)  # fmt: skip


def tone(frequency, seconds, rate=RATE, amount=1.0):
    return (
        amount
        * math.sqrt(2.0)
        * np.sin(2 * np.pi * frequency * np.arange(round(rate * seconds)) / rate)
    )


@pytest.mark.parametrize(("weighting", "table"), [("A", TABLE_A), ("C", TABLE_C)])
def test_weightings_of_table_3(weighting, table):
    frequencies, upper, lower = class_1_limits()
    assert weighting_db(weighting, frequencies).round(1) + 0.0 == pytest.approx(table, abs=1e-9)
    for rate in (44_100.0, 48_000.0, 96_000.0):
        _, response = signal.sosfreqz(weighting_sections(weighting, rate), frequencies, fs=rate)
        off = 20 * np.log10(np.abs(response)) - np.array(table)
        assert (off <= upper).all()
        assert (off >= lower).all()
        assert np.abs(off[:31]).max() < 0.3  # far within the limits up to 10 kHz
        assert class_1_up_to(weighting, rate) == pytest.approx(19952.6, abs=0.1)
    assert class_1_up_to(weighting, 8000.0) < 4000.0


@pytest.mark.parametrize(
    ("letter", "ms", "goal"),
    # IEC 61672-1:2013, table 4: the maximum of a burst of 4 kHz, to the steady level.
    [
        ("F", 1000, 0.0), ("F", 500, -0.1), ("F", 200, -1.0), ("F", 100, -2.6), ("F", 50, -4.8),
        ("F", 20, -8.3), ("F", 10, -11.1), ("F", 5, -14.1), ("F", 2, -18.0), ("F", 1, -21.0),
        ("F", 0.5, -24.0), ("F", 0.25, -27.0), ("S", 1000, -2.0), ("S", 500, -4.1), ("S", 200, -7.4),
        ("S", 100, -10.2), ("S", 50, -13.1), ("S", 20, -17.0), ("S", 10, -20.0), ("S", 5, -23.0),
        ("S", 2, -27.0),
    ],
)  # fmt: skip
def test_tonebursts_of_table_4(letter, ms, goal):
    sections = weighting_sections("A", RATE)
    burst = np.concatenate([np.zeros(4800), tone(4000, ms / 1000), np.zeros(24000)])
    steady = signal.sosfilt(sections, tone(4000, 1.0))[24000:]
    weighted = TimeWeighting(letter, RATE).take(signal.sosfilt(sections, burst) ** 2)
    found = pressure_level(weighted.max()) - pressure_level(np.mean(steady**2))
    assert found == pytest.approx(goal, abs=0.1 if ms > 0.3 else 0.3)


@pytest.mark.parametrize(("letter", "goal"), [("F", 34.7), ("S", 4.3), ("I", 2.9)])
def test_decay(letter, goal):
    """IEC 61672-1:2013, 5.8.3; for I, IEC 60651:1979, 7.3."""
    found = TimeWeighting(letter, RATE).take(
        np.concatenate([tone(1000, 5.0) ** 2, np.zeros(96_000)])
    )
    levels = pressure_level(found[-96_000:])
    assert levels[10_000] - levels[58_000] == pytest.approx(goal, abs=0.1)


@pytest.mark.parametrize(
    ("frequency", "cycles", "goal", "limit"),
    # IEC 61672-1:2013, table 5: LCpeak of whole and half cycles, to the steady level LC.
    [(31.5, 1, 2.5, 0.5), (500, 1, 3.5, 0.3), (8000, 1, 3.4, 0.6), (500, 0.5, 2.4, 0.3),
     (500, -0.5, 2.4, 0.3)],
)  # fmt: skip
def test_peaks_of_table_5(frequency, cycles, goal, limit):
    sections = weighting_sections("C", RATE)
    count = abs(cycles) / frequency
    shot = np.concatenate([np.zeros(4800), tone(frequency, count), np.zeros(9600)])
    steady = np.mean(signal.sosfilt(sections, tone(frequency, 2.0))[48_000:] ** 2)
    peak = PeakDetector().take(signal.sosfilt(sections, np.sign(cycles) * shot))
    assert pressure_level(peak**2) - pressure_level(steady) == pytest.approx(goal, abs=limit)


def test_a_peak_between_two_samples_is_seen():
    x = np.cos(2 * np.pi * 12_000 * np.arange(4800) / RATE + np.pi / 4)  # samples at 0.707 only
    x *= np.minimum(1.0, np.arange(4800) / 2400.0)  # without a click
    assert np.abs(x).max() < 0.71
    assert PeakDetector().take(x) == pytest.approx(1.0, abs=0.02)


# IEC 61260-1:2014, table 1, class 1: least and most attenuation at powers of the octave ratio.
MASK = [
    (0, -0.4, 0.4), (1 / 8, -0.4, 0.5), (1 / 4, -0.4, 0.7), (3 / 8, -0.4, 1.4), (1, 16.6, 999),
    (2, 40.5, 999), (3, 60.0, 999), (4, 70.0, 999),
]  # fmt: skip


@pytest.mark.parametrize(
    ("fraction", "nominal"),
    [("octave", f) for f in (31.5, 500, 8000, 16000)]
    + [("third octave", f) for f in (25, 630, 1000, 4000, 10000, 12500, 20000)],
)
def test_bands_of_class_1(fraction, nominal):
    """By tones through the whole bank, halvings of the rate and all: what folds back is seen, too."""
    (band,) = bands_between(fraction, nominal, nominal)
    b = {"octave": 1, "third octave": 3}[fraction]
    g = 10.0**0.3
    for power, least, most in MASK:
        wide = 1 + (g ** (1 / (2 * b)) - 1) / (g**0.5 - 1) * (g**power - 1)  # 5.10.3
        for frequency in {band.mid_hz * wide, band.mid_hz / wide}:
            if not 3.0 < frequency < RATE / 2:
                continue
            seconds = max(0.5, 60.0 / band.low_hz)
            bank = BandFilters([band], RATE)
            bank.take(tone(frequency, seconds))
            x = tone(frequency, 2 * seconds)[round(RATE * seconds) :]
            loss = -10 * math.log10(bank.mean_squares(x)[0] + 1e-30)
            assert least <= loss <= most + 0.05, (frequency, loss)


def test_mid_frequencies():
    names = [band.nominal_hz for band in bands_between("third octave", 25, 20_000)]
    assert names[:4] + names[-3:] == [25, 31.5, 40, 50, 12_500, 16_000, 20_000]
    assert [b.nominal_hz for b in bands_between("octave", 31.5, 8000)] == pytest.approx(
        [31.5, 63, 125, 250, 500, 1000, 2000, 4000, 8000]
    )
    assert band_at("third octave", 13).mid_hz == pytest.approx(19952.623, abs=1e-3)


EVALUATIONS = (
    Evaluation("main", "A", "F", percentiles=(10.0, 90.0)),
    Evaluation("peak", "C", "", peak=True),
    Evaluation("spectrum", "Z", "I", bands="third octave", low_hz=100.0, high_hz=10_000.0),
)


@settings(max_examples=15, deadline=None)
@given(cuts=st.lists(st.integers(0, 9600), max_size=12), seed=st.integers(0, 99))
def test_any_division_into_blocks_gives_the_same_bits(cuts, seed):
    x = np.random.default_rng(seed).normal(0, 0.3, 9600)
    whole = list(SoundMeter(RATE, EVALUATIONS, integration_s=0.05).take(x))
    meter = SoundMeter(RATE, EVALUATIONS, integration_s=0.05)
    pieces = [row for part in np.split(x, sorted(cuts)) for row in meter.take(part)]
    assert pieces == whole
    assert len(whole) == 4


@given(st.lists(st.integers(1, 90_000), max_size=5))
def test_corrections_by_frequency_add_their_levels_without_delay(cuts):
    curves = [{1000.0: 0.0, 4000.0: 0.8, 8000.0: 2.0}, {63.0: -1.0, 125.0: 0.0}]
    t = np.arange(150_000) / RATE
    tones = {63.0: -1.0, 1000.0: 0.0, 4000.0: 0.8, 8000.0: 2.0, 12_000.0: 2.0}
    x = sum(np.cos(2 * np.pi * f * t) for f in tones)
    x[70_000] = np.nan
    edges = sorted({0, x.size, *(c for c in np.cumsum(cuts) if c < x.size)})
    blocks = [x[a:b] for a, b in pairwise(edges)]
    y = np.concatenate([*FrequencyCorrection(curves, RATE).run(blocks)])
    whole = np.concatenate([*FrequencyCorrection(curves, RATE).run([x])])
    np.testing.assert_array_equal(y, whole)
    assert np.flatnonzero(np.isnan(y)).tolist() == [70_000]
    right = sum(10 ** (level / 20) * np.cos(2 * np.pi * f * t) for f, level in tones.items())
    inner = np.r_[5_000:65_000, 75_000:145_000]
    assert np.abs(y - right)[inner].max() < 0.03
    with pytest.raises(QuantityError):
        FrequencyCorrection([{}], RATE)
    with pytest.raises(QuantityError):
        FrequencyCorrection([{0.0: 1.0}], RATE)


def test_levels_of_a_calibrator():
    meter = SoundMeter(RATE, EVALUATIONS, integration_s=1.0, upper_db=110.0, lower_db=30.0)
    rows = list(
        meter.take(
            np.concatenate([tone(1000, 3.0), tone(1000, 1.0, amount=30.0), np.zeros(96_000)])
        )
    )
    steady = rows[2].values
    for name in ("main.equivalent", "main.maximum", "main.exceeded_10", "spectrum.band_1000_Hz"):
        assert steady[name] == pytest.approx(93.98, abs=0.05), name
    assert math.isnan(rows[0].values["main.minimum"]) is False  # F settles within the first row
    assert rows[0].values["main.minimum"] == pytest.approx(93.94, abs=0.1)
    assert meter.percentiles()["main.exceeded_90"] == pytest.approx(94.0, abs=0.2)
    assert steady["peak.peak"] == pytest.approx(96.99, abs=0.05)
    assert [row.quality for row in rows] == [
        Quality.GOOD, Quality.GOOD, Quality.GOOD, Quality.ABOVE_RANGE, Quality.GOOD, Quality.BELOW_RANGE
    ]  # fmt: skip


def test_a_sample_that_is_no_number_spoils_its_row_only():
    x = tone(1000, 0.3)
    x[5000] = np.nan
    rows = list(SoundMeter(RATE, EVALUATIONS, integration_s=0.1).take(x))
    assert [row.quality for row in rows] == [Quality.GOOD, Quality.NO_NUMBER, Quality.GOOD]
    assert math.isfinite(rows[2].values["main.equivalent"])


def test_dose_and_exposure():
    # 29 CFR 1910.95, table G-16: 90 dB for 8 h, 95 dB for 4 h, 100 dB for 2 h are each 100 %.
    for level, hours in ((90, 8), (95, 4), (100, 2), (115, 0.25)):
        dose = dose_percent([level], 3600 * hours, criterion_db=90, exchange_db=5, threshold_db=80)
        assert dose == pytest.approx(100.0)
        assert time_weighted_average(dose, criterion_db=90, exchange_db=5) == pytest.approx(90.0)
    assert dose_percent([79.9], 28_800, criterion_db=90, exchange_db=5, threshold_db=80) == 0.0
    # Equal energy: 88.01 dB for 4 h is 85 dB for 8 h.
    assert dose_percent([88.0103], 4 * 3600.0) == pytest.approx(100.0, abs=1e-3)
    assert daily_exposure(88.0103, 4.0) == pytest.approx(85.0, abs=1e-4)
    assert mean_level([80, 90], [6, 2]) == pytest.approx(10 * math.log10((6e8 + 2e9) / 8))
    assert day_evening_night(60, 60, 60) == pytest.approx(66.4, abs=0.01)
    assert exceeded_level(np.arange(101), 90) == 10.0


@pytest.mark.parametrize(
    "act",
    [
        lambda: weighting_sections("B", RATE), lambda: weighting_sections("A", 4000.0),
        lambda: TimeWeighting("X", RATE), lambda: bands_between("third octave", 0.0, 100.0),
        lambda: BandFilters([band_at("octave", 5)], RATE), lambda: SoundMeter(RATE, []),
        lambda: SoundMeter(44_100.0, EVALUATIONS, integration_s=1e-5), lambda: mean_level([]),
        lambda: SoundMeter(RATE, [Evaluation("a"), Evaluation("a")]), lambda: exceeded_level([1.0], 100),
        lambda: Evaluation("a", time="", percentiles=(10.0,)), lambda: daily_exposure(90, 0),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused(act):
    with pytest.raises(QuantityError) as error:
        act()
    assert error.value.valid or error.value.message
