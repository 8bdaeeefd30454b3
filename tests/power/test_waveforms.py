"""Waveforms of three phases: cycles, events, harmonics, powers, aggregation; each against its definition."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from leitwerk.errors import QuantityError
from leitwerk.power import (
    CycleTracker,
    EventFinder,
    HalfCycleRms,
    InrushFinder,
    RapidChangeFinder,
    Thresholds,
    TransientFinder,
    aggregate,
    aggregate_windows,
    crest_factor,
    cycles_of,
    effective_apparent_power,
    effective_apparent_power_of_three_wires,
    flag,
    frequency_of,
    harmonics_of,
    phasor,
    powers_of,
    resynchronised,
    symmetrical_components,
    unbalance,
    unbalance_of_amounts,
    windows,
)

RATE, U = 10_000.0, 230.0


def net(seconds, frequency=50.0, spoil=lambda t, amount: None, rate=RATE, distorted=0.0):
    """Three phases in V, with a fifth harmonic; ``spoil`` changes their amounts over the time."""
    t = np.arange(round(rate * seconds)) / rate
    amount = np.ones((3, t.size))
    spoil(t, amount)
    angle = [2 * np.pi * frequency * t - 2 * np.pi * k / 3 + 0.3 for k in range(3)]
    return [
        U * math.sqrt(2) * amount[k] * (np.sin(angle[k]) + distorted * np.sin(5 * angle[k]))
        for k in range(3)
    ]


def events_of(waves, blocks=1000, **more):
    half = [HalfCycleRms(RATE, 50.0, 20.0) for _ in waves]
    finder = EventFinder(U, len(waves), **more)
    found = []
    for k in range(0, waves[0].size, blocks):
        found += finder.take([h.take(x[k : k + blocks]) for h, x in zip(half, waves, strict=True)])
    return found, finder


@pytest.mark.parametrize("frequency", [42.5, 49.2, 50.0, 50.7, 57.5])
def test_frequency_and_rms_follow_a_fundamental_off_nominal(frequency):
    wave = net(12.0, frequency, distorted=0.08)[0]
    crossings = CycleTracker(RATE, 50.0, 20.0).take(wave)
    within = crossings[(crossings > RATE) & (crossings < 11 * RATE)]
    assert frequency_of(within, RATE) == pytest.approx(frequency, abs=0.001)
    _, rms = HalfCycleRms(RATE, 50.0, 20.0).take(wave)
    assert rms[4:] == pytest.approx(U * math.hypot(1, 0.08), rel=5e-4)


@pytest.mark.parametrize("frequency", [49.3, 50.0, 51.0])
@pytest.mark.parametrize("begin", [2.0, 2.0037, 2.0078, 2.011])
def test_dips_and_swells_whatever_the_point_on_the_wave(frequency, begin):
    def spoil(t, amount):
        amount[1][(t >= begin) & (t < begin + 0.2)] = 0.6
        amount[2][(t >= begin + 0.05) & (t < begin + 0.3)] = 0.7
        amount[0][(t >= 4.0) & (t < 4.1)] = 1.2

    (dip, swell), _ = events_of(net(6.0, frequency, spoil))
    assert (dip.kind, dip.channels) == ("dip", (1, 2))  # one event of two phases
    assert dip.extreme == pytest.approx(0.6 * U, rel=0.01)
    # The first value that shows it began at most a cycle before, the last begins where it ended.
    assert -0.022 <= dip.begin_s - begin <= 0.0
    assert 0.3 - 0.012 <= dip.duration_s <= 0.3 + 0.025
    assert (swell.kind, swell.channels) == ("swell", (0,))
    assert swell.extreme == pytest.approx(1.2 * U, rel=0.01)


def test_an_interruption_needs_all_phases_and_time_goes_on_without_a_voltage():
    def one(t, amount):
        amount[1][(t >= 2.0) & (t < 2.5)] = 0.0

    def every(t, amount):
        amount[:, (t >= 2.0) & (t < 3.0)] = 0.01

    assert [event.kind for event in events_of(net(5.0, spoil=one))[0]] == ["dip"]
    found, finder = events_of(net(5.0, spoil=every))
    assert {event.kind for event in found} == {"dip", "interruption"}
    gone = next(event for event in found if event.kind == "interruption")
    assert gone.duration_s == pytest.approx(1.0, abs=0.04)
    assert not finder.is_open


def test_an_event_ends_behind_the_hysteresis_only():
    def spoil(t, amount):
        amount[0][t >= 2.0] = 0.85
        amount[0][t >= 2.5] = 0.91  # above the threshold, inside the hysteresis
        amount[0][t >= 3.0] = 0.85
        amount[0][t >= 3.5] = 0.93

    (event,), _ = events_of(net(5.0, spoil=spoil))
    assert event.duration_s == pytest.approx(1.5, abs=0.03)
    with pytest.raises(QuantityError):
        Thresholds(dip=1.2)


@settings(max_examples=10, deadline=None)
@given(blocks=st.integers(37, 9000))
def test_the_division_into_blocks_makes_no_event_and_hides_none(blocks):
    def spoil(t, amount):
        amount[0][(t >= 1.7) & (t < 1.9)] = 0.5

    waves = net(3.0, 49.6, spoil)
    one, other = events_of(waves, blocks)[0], events_of(waves, waves[0].size)[0]
    assert [e.kind for e in one] == [e.kind for e in other] == ["dip"]
    assert one[0].begin_s == pytest.approx(other[0].begin_s, abs=1e-6)
    assert one[0].extreme == pytest.approx(other[0].extreme, abs=1e-6)


def test_a_rapid_change_is_from_steady_to_steady_and_no_dip():
    steps = np.concatenate([np.full(300, 230.0), np.full(20, 209.0), np.full(300, 217.0)])
    times = 0.01 * np.arange(steps.size)
    (event,) = RapidChangeFinder(230.0).take(times, steps)
    assert (event.begin_s, event.extreme) == (pytest.approx(3.0), pytest.approx(21.0))
    assert event.duration_s == pytest.approx(0.2, abs=0.02)
    deep = np.where(steps == 209.0, 190.0, steps)
    assert list(RapidChangeFinder(230.0).take(times, deep)) == []
    with pytest.raises(QuantityError):
        RapidChangeFinder(230.0, threshold=0.01, hysteresis=0.02)


def test_inrush_and_transients():
    rms = np.concatenate([np.full(100, 10.0), np.linspace(120.0, 12.0, 50), np.full(100, 12.0)])
    (inrush,) = InrushFinder(30.0, 2.0 / 30.0).take(0.01 * np.arange(rms.size), rms)
    assert (inrush.begin_s, inrush.extreme) == (pytest.approx(1.0), 120.0)
    wave = net(2.0, 49.9)[0]
    wave[10_123:10_129] += 400.0
    finder = TransientFinder(RATE, 50.0, 100.0)
    found = [event for k in range(0, wave.size, 700) for event in finder.take(wave[k : k + 700])]
    assert len(found) == 1
    assert found[0].begin_s == pytest.approx(1.0123, abs=1e-4)
    assert found[0].duration_s == pytest.approx(6e-4, abs=1.1e-4)
    assert found[0].peak == pytest.approx(400.0, abs=25.0)


@pytest.mark.parametrize(
    ("nominal", "frequency"), [(50.0, 50.0), (50.0, 49.3), (60.0, 60.0), (60.0, 60.6)]
)
def test_harmonics_and_their_groups(nominal, frequency):
    cycles = cycles_of(nominal)
    orders = {1: 100.0, 3: 5.0, 5: 8.0, 25: 1.5, 50: 0.7}
    t = np.arange(40_000) / 20_000.0
    wave = sum(
        math.sqrt(2) * rms * np.sin(2 * np.pi * h * frequency * t + h) for h, rms in orders.items()
    )
    # An interharmonic in the middle between two orders belongs half to each group.
    wave += math.sqrt(2) * 2.0 * np.sin(2 * np.pi * 7.5 * frequency * t)
    crossings = CycleTracker(20_000.0, nominal, 5.0).take(wave)
    found = harmonics_of(windows(wave, crossings, cycles, 20_000.0), cycles)
    assert found.groups.shape[1] == 51
    for order, rms in orders.items():
        assert found.subgroups[2:, order] == pytest.approx(rms, rel=0.004), order
    assert found.groups[2:, 7] == pytest.approx(2.0 * math.sqrt(0.5), rel=0.005)
    assert found.groups[2:, 8] == pytest.approx(2.0 * math.sqrt(0.5), rel=0.005)
    assert found.between[2:, 7] == pytest.approx(2.0, rel=0.005)
    assert found.subgroups[2:, 7] == pytest.approx(0.0, abs=0.02)
    expected = math.sqrt(sum(rms**2 for h, rms in orders.items() if h > 1))
    assert found.thd_of_subgroups[2:] == pytest.approx(expected, rel=0.004)
    assert found.tdd(200.0)[2:] == pytest.approx(expected / 2, rel=0.004)
    squares = {h: rms**2 for h, rms in orders.items()}
    k = sum(h * h * s for h, s in squares.items()) / sum(squares.values())
    assert found.k_factor[2:] == pytest.approx(k, rel=0.01)


def test_a_missing_sample_marks_its_window_only():
    wave = net(1.5)[0]
    crossings = 200.0 * np.arange(60) + 33.3
    wave[4321] = np.nan
    found = harmonics_of(windows(wave, crossings, 10, RATE), 10).subgroups[:, 1]
    assert np.isnan(found).tolist() == [False, False, True, False, False]
    assert crest_factor(windows(wave, crossings, 10, RATE))[0] == pytest.approx(
        math.sqrt(2), abs=1e-4
    )


def test_dc_is_part_of_root_mean_square_and_active_power_and_of_no_distortion():
    """IEC 61000-4-30:2015, 3.24: all components count; IEC 61000-4-7:2002, 3.2: harmonics from order 1."""
    t = np.arange(2000) / 10_000.0
    u = 325.0 * np.sin(2 * np.pi * 50 * t) + 23.0
    i = 14.0 * np.sin(2 * np.pi * 50 * t) - 2.0
    p = powers_of(u[None], i[None], 10)
    assert p.active[0] == pytest.approx(325.0 * 14.0 / 2.0 - 46.0)
    assert p.apparent[0] == pytest.approx(
        math.hypot(325.0 / math.sqrt(2), 23.0) * math.hypot(14.0 / math.sqrt(2), 2.0)
    )
    assert harmonics_of(u[None], 10).thd[0] == pytest.approx(0.0, abs=1e-9)
    half = HalfCycleRms(10_000.0, 50.0, 20.0)
    _, rms = half.take(np.tile(u, 5))
    assert rms[5:-5] == pytest.approx(math.hypot(325.0 / math.sqrt(2), 23.0), rel=1e-3)


def test_powers_by_each_definition():
    """IEEE 1459: P = ΣUhIh cos φh; Budeanu QB = ΣUhIh sin φh; Fryze S² = P² + QF²."""
    t = 10 * np.arange(2048) / 2048
    lines = {1: (230.0, 20.0, 30.0), 3: (9.0, 6.0, -50.0), 7: (5.0, 3.0, 70.0)}
    u = sum(math.sqrt(2) * a * np.sin(2 * np.pi * h * t) for h, (a, _, _) in lines.items())
    i = sum(
        math.sqrt(2) * b * np.sin(2 * np.pi * h * t - math.radians(p))
        for h, (_, b, p) in lines.items()
    )
    found = powers_of(u[None], i[None], 10)
    active = sum(a * b * math.cos(math.radians(p)) for a, b, p in lines.values())
    reactive = sum(a * b * math.sin(math.radians(p)) for a, b, p in lines.values())
    apparent = math.sqrt(
        sum(a * a for a, _, _ in lines.values()) * sum(b * b for _, b, _ in lines.values())
    )
    assert found.active[0] == pytest.approx(active)
    assert found.reactive_budeanu[0] == pytest.approx(reactive)
    assert found.reactive_of_fundamental[0] == pytest.approx(230 * 20 * 0.5)
    assert found.nonactive_fryze[0] == pytest.approx(math.sqrt(apparent**2 - active**2))
    assert found.distortion_budeanu[0] == pytest.approx(
        math.sqrt(apparent**2 - active**2 - reactive**2)
    )
    assert found.cos_phi[0] == pytest.approx(math.cos(math.radians(30)))
    assert found.power_factor[0] == pytest.approx(active / apparent)
    # A load on one phase alone takes more of the net than its own S says.
    assert effective_apparent_power([230] * 3, [398.37] * 3, [30, 0, 0], 30) == pytest.approx(
        3 * 230 * 30 * math.sqrt(2 / 3), rel=1e-4
    )
    assert effective_apparent_power_of_three_wires([400] * 3, [10] * 3) == pytest.approx(
        6928.2, rel=1e-4
    )


@given(st.tuples(*[st.floats(180, 260)] * 3), st.tuples(*[st.floats(-8, 8)] * 3))
def test_both_forms_of_unbalance_agree_and_components_add_up(amounts, off):
    u = phasor(amounts, np.array([0.0, -120.0, 120.0]) + np.array(off))
    parts = symmetrical_components(u)
    assert parts.sum() == pytest.approx(u[0])
    between = np.abs(u - np.roll(u, -1))
    assert unbalance_of_amounts(between) == pytest.approx(unbalance(u)[0], abs=1e-5)


def test_aggregation_by_the_clock_and_its_flags():
    begin = 1_767_225_600.0 + 595.0  # five seconds before a tick
    begins = begin + 0.2 * np.arange(50)
    values = np.where(begins < begin + 5.0, 220.0, 240.0)
    values[30] = np.nan

    class Dip:
        kind, begin_s, duration_s = "dip", begin + 7.05, 0.1

    flags = flag(begins, begins + 0.2, [Dip()])
    assert np.flatnonzero(flags).tolist() == [35]
    found = aggregate(begins, begins + 0.2, values, flags)
    assert found.values == pytest.approx([220.0, 240.0])
    assert found.begins_s.tolist() == [1_767_225_600.0, 1_767_226_200.0]
    assert found.share * 600 == pytest.approx([5.0, 4.8], abs=1e-3)  # missing is missing, not good
    assert found.flagged.tolist() == [False, True]
    means, marked = aggregate_windows(np.array([3.0, 4.0] * 15), np.arange(30) == 20)
    assert means == pytest.approx(
        [math.sqrt((8 * 9 + 7 * 16) / 15), math.sqrt((7 * 9 + 8 * 16) / 15)]
    )
    assert marked.tolist() == [False, True]
    with pytest.raises(QuantityError):
        aggregate(begins, begins, values, flags, 700.0)


def test_windows_begin_anew_at_the_tick():
    crossings = 1_767_225_600.0 + 598.013 + 0.02 * np.arange(300)
    begins, ends = resynchronised(crossings, 10)
    at_tick = begins[np.searchsorted(crossings[begins], 1_767_226_200.0)]
    assert crossings[at_tick] - 1_767_226_200.0 == pytest.approx(0.013, abs=1e-6)
    assert (ends - begins == 10).all()
    steps = np.diff(begins)
    assert sorted({*steps.tolist()}) == [10] or (steps < 10).sum() == 1  # overlap 1, once


@pytest.mark.parametrize(
    "act",
    [
        lambda: CycleTracker(500.0, 50.0, 1.0), lambda: CycleTracker(math.nan, 50.0, 1.0),
        lambda: EventFinder(0.0, 3), lambda: InrushFinder(1.0, 2.0),
        lambda: TransientFinder(RATE, 50.0, 0.0), lambda: cycles_of(55.0),
        lambda: harmonics_of(np.zeros((1, 500)), 10),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused(act):
    with pytest.raises(QuantityError) as error:
        act()
    assert error.value.valid
