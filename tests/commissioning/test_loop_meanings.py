"""Loop checks through another device: what both ends mean by a signal, not only the signal."""

import contextlib

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import leitwerk as lw
from conftest import MemoryLink, SteppedTime, checked, example
from leitwerk.commissioning.loop_check import check_loop
from leitwerk.commissioning.proof_reference import ReferenceChannel
from leitwerk.standins.flow import FlowTransmitter
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile
from leitwerk.standins.wires import lay, parse_wire

FLOW, LOGGER = lw.find_datasheet("weide"), lw.find_datasheet("fichte-8")
PASSWORDS = {"operator": "3317"}
# By hand, and apart from the table of the product: how many litres per second one of them is.
LITRES = {"l/s": 1.0, "m³/s": 1000.0, "m³/h": 1000.0 / 3600.0, "l/min": 1.0 / 60.0}


def mill_setup(low="0", high="500", unit="l/s"):
    text = example("mill-race", "modbus+tcp://127.0.0.1:1?unit=7")
    return text.replace("span: 0..500 l/s", f"span: {low}..{high} {unit}")


def logger_setup(channel):
    return (
        "leitwerk: 1\ntitle: Display, by the logger\n"
        "device: {model: fichte-8, at: 'modbus+tcp://127.0.0.1:1?unit=3', serial: K2-00417}\n"
        "sample: every 10 s\nchannels:\n  flow:\n    label: Flow to the wheel\n" + channel
    )


class Bench:
    """The transmitter and the logger, wired, in memory."""

    def __init__(self, folder, channel, wire, mill=None, *, upload=True):
        self.clock = SteppedTime()
        self.weide = FlowTransmitter(FLOW, find_profile("weide"), self.clock)
        self.fichte = Logger(LOGGER, find_profile("fichte-8"), Plant(), self.clock)
        if wire:
            lay(parse_wire(wire), [self.weide, self.fichte])
        self.transmitter = lw.Device(FLOW, MemoryLink(self.weide))
        self.reader = lw.Device(LOGGER, MemoryLink(self.fichte))
        self.mill = checked(mill or mill_setup())
        self.setup = checked(logger_setup(channel))
        assert not [f for f in self.setup.findings if f.is_error], self.setup.findings
        keep = lw.UploadOptions(folder / "kept", {"operator": "1834"}, clock=self.clock.clock)
        if upload:
            lw.upload(self.setup, self.reader, keep)
        drives = lw.UploadOptions(folder / "kept", PASSWORDS, clock=self.clock.clock)
        lw.upload(self.mill, self.transmitter, drives)

    def check(self, **more):
        other = ReferenceChannel(self.setup, self.reader, "flow", clock=self.clock.clock)
        (wheel,) = self.mill.outputs
        return check_loop(
            wheel, self.transmitter, lambda asked: other.received(wheel.loop), passwords=PASSWORDS,
            clock=self.clock.clock, wanted=self.mill.settings, **more,
        )  # fmt: skip


CURRENT = "    terminal: 5\n    scale: {{4 mA: {0}, 20 mA: {1}}}\n"
SHUNT = (
    "    terminal: 7\n    signal: 4..20 mA\n    shunt: {2}\n    scale: {{4 mA: {0}, 20 mA: {1}}}\n"
)


@pytest.mark.parametrize("form", [CURRENT, SHUNT])
@pytest.mark.parametrize(
    ("low", "high", "outcome", "cause"),
    [
        ("0 l/s", "500 l/s", "passed", ""),
        ("0 m³/h", "1800 m³/h", "passed", ""),
        ("0 l/s", "625 l/s", "not passed",
         "for 4..20 mA this output gives 0..500 l/s, flow of fichte-8 K2-00417 shows 0..625 l/s"),
        ("500 l/s", "0 l/s", "not passed", "shows 500..0 l/s; the span at one of the two ends is reversed"),
        ("0 m", "0.8 m", "not passed", "it is in m, the output's in l/s"),
    ],
)  # fmt: skip
def test_both_ends_must_mean_the_same(tmp_path, form, low, high, outcome, cause):
    wire = "weide A1, fichte-8 5, 0 Ω" if form is CURRENT else "weide A1, fichte-8 7, 250 Ω"
    result = Bench(tmp_path, form.format(low, high, "250 Ω"), wire.replace(", 0 Ω", "")).check()
    assert result.outcome == outcome, str(result)
    assert cause in result.cause
    assert [p.measured for p in result.points] == pytest.approx(
        [4.0, 8.0, 12.0, 16.0, 20.0], abs=0.01
    )


def test_a_bare_current_has_no_meaning_to_compare(tmp_path):
    bench = Bench(tmp_path, "    terminal: 5\n    signal: 4..20 mA\n", "weide A1, fichte-8 5")
    result = bench.check()
    assert result.outcome == "passed"
    assert {p.received.meaning for p in result.points} == {""}
    assert "means" not in str(result)


def test_nothing_measured_has_its_likely_causes(tmp_path):
    through_shunt = Bench(tmp_path, SHUNT.format("0 l/s", "500 l/s", "250 Ω"), "").check()
    assert through_shunt.outcome != "passed"
    assert "a wire is off" in "; ".join(through_shunt.reasons)
    unwired = CURRENT.format("0 l/s", "500 l/s").replace("terminal: 5", "terminal: 8")
    direct = Bench(tmp_path / "b", unwired, "").check()
    assert direct.outcome != "passed"
    assert "a wire is off, the loop has no supply, or its polarity" in "; ".join(direct.reasons)


def test_a_receiver_that_does_not_hold_its_setup_is_named_first(tmp_path):
    bench = Bench(
        tmp_path, CURRENT.format("0 l/s", "500 l/s"), "weide A1, fichte-8 5", upload=False
    )
    with pytest.raises(lw.DeviceRefused, match=r"does not hold what .* says of this channel"):
        bench.check()
    assert bench.weide.measured()["output.1"] != 4.0  # given back


def test_an_output_that_is_set_otherwise_is_not_passed(tmp_path):
    bench = Bench(tmp_path, CURRENT.format("0 l/s", "500 l/s"), "weide A1, fichte-8 5")
    other = checked(mill_setup(high="800"))
    keep = lw.UploadOptions(tmp_path / "kept", PASSWORDS, clock=bench.clock.clock)
    lw.upload(other, bench.transmitter, keep)
    result = bench.check()
    assert result.outcome == "not passed"
    assert "this device is not set up like its setup" in result.cause


def test_what_was_found_is_given_when_it_is_broken_off(tmp_path):
    bench = Bench(tmp_path, CURRENT.format("0 l/s", "500 l/s"), "weide A1, fichte-8 5")
    (wheel,), seen, so_far = bench.mill.outputs, [], []
    other = ReferenceChannel(bench.setup, bench.reader, "flow", clock=bench.clock.clock)

    def twice(_):
        seen.append(1)
        if len(seen) == 3:
            raise KeyboardInterrupt
        return other.received(wheel.loop)

    with contextlib.suppress(KeyboardInterrupt):
        check_loop(wheel, bench.transmitter, twice, passwords=PASSWORDS, clock=bench.clock.clock,
                   on_interrupt=so_far.append)  # fmt: skip
    (check,) = so_far
    assert (len(check.points), check.outcome) == (2, "unknown")
    assert "broken off after 2 of 5 signals" in str(check)


def test_errors_have_digits_that_mean_something(tmp_path):
    text = str(Bench(tmp_path, CURRENT.format("0 l/s", "500 l/s"), "weide A1, fichte-8 5").check())
    for line in text.splitlines()[2:7]:
        assert all(len(cell.partition(".")[2]) <= 3 for cell in line.split()[:6]), text


@st.composite
def ends(draw):
    """A span at the receiving end, a resistor, and what was typed of both."""
    unit = draw(st.sampled_from(sorted(LITRES)))
    low = draw(st.sampled_from([0.0, 0.0, 0.0, 40.0, 500.0]))
    high = draw(st.sampled_from([500.0, 500.0, 500.0, 400.0, 507.0, 0.0]))
    real = draw(st.sampled_from([250.0, 250.0, 248.0, 100.0]))
    typed = draw(st.sampled_from([250.0, 250.0, 100.0]))
    return unit, low, high, real, typed


@settings(max_examples=60, deadline=None)
@given(ends())
def test_a_wrong_value_at_the_receiving_end_is_never_passed(tmp_path_factory, case):
    unit, low, high, real, typed = case
    if low == high:
        return
    first, last = (f"{x / LITRES[unit]:.9g} {unit}" for x in (low, high))
    folder = tmp_path_factory.mktemp("loop")
    bench = Bench(
        folder, SHUNT.format(first, last, f"{typed:g} Ω"), f"weide A1, fichte-8 7, {real:g} Ω"
    )
    result = bench.check()
    wrong = False
    for asked in (4.0, 8.0, 12.0, 16.0, 20.0):
        current = asked * real / typed  # what the logger takes the voltage for
        value = low + (current - 4.0) / 16.0 * (high - low)
        wrong |= abs(value - (asked - 4.0) / 16.0 * 500.0) > 0.006 * 500.0
    assert not (wrong and result.outcome == "passed"), str(result)
    if (low, high) == (0.0, 500.0) and real == typed:
        assert result.outcome == "passed", str(result)
