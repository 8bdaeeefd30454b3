"""Mistakes at the terminals, made physically: the live check of the failed expectation names them.

Each row is what the setup says, what is really wired (as the signal of another sensor at the same
temperature, or of another transmitter in the same state), and the words that the reason must have.
"""

import pytest

import leitwerk as lw
from conftest import checked, kept, kiln_text
from leitwerk.signals import rtd, thermocouple
from leitwerk.standins.plant import TERMINALS_C, Plant, Signal


def emf(celsius, kind):
    return Signal(
        "voltage",
        float(thermocouple.emf(celsius, kind) - thermocouple.emf(TERMINALS_C, kind)),
    )


def ohm(celsius, r0=100.0, metal="platinum", extra=0.0):
    return Signal("resistance", float(rtd.resistance(celsius, r0, metal)) + extra)


MISTAKES = [
    ("sensor: 'Pt100, 4-wire'\n range: 0..4000 Ω\n expect: 60 ± 1 °C", ohm(60, 1000),
     "above range", "a Pt1000 is wired where the setup says Pt100"),
    ("sensor: 'Pt1000, 4-wire'\n expect: 60 ± 1 °C", ohm(60),
     "below range", "a Pt100 is wired where the setup says Pt1000"),
    ("sensor: 'Pt100, 4-wire'\n expect: 60 ± 1 °C", ohm(60, metal="nickel"),
     "fail", "a Ni100 is wired where the setup says Pt100"),
    ("sensor: 'Pt100, 4-wire'\n expect: 60 ± 1 °C", ohm(60, extra=1.0),
     "fail", "leads of 0.5 Ω each"),
    ("sensor: type K\n expect: 340 ± 3 °C", emf(340, "J"),
     "fail", "a thermocouple type J is wired where the setup says type K"),
    ("sensor: type T\n expect: 150 ± 2 °C", emf(150, "K"),
     "fail", "a thermocouple type K is wired where the setup says type T"),
    ("sensor: type K\n expect: 140 ± 3 °C", Signal("voltage", -emf(140, "K").value),
     "fail", "wired with reversed polarity"),
    ("sensor: type K\n expect: 140 ± 3 °C", Signal("voltage", 0.0),
     "fail", "exactly the cold junction, a short-circuited thermocouple"),
    ("scale: {4 mA: 0 %, 20 mA: 100 %}\n expect: 60 ± 2 %", Signal("current", 12.0),
     "fail", "the transmitter gives 0..20 mA, the setup says 4..20 mA"),
    ("scale: {0 mA: 0 %, 20 mA: 100 %}\n expect: 60 ± 2 %", Signal("current", 13.6),
     "fail", "the transmitter gives 4..20 mA, the setup says 0..20 mA"),
    ("scale: {4 mA: 0 %, 20 mA: 100 %}\n expect: 60 ± 2 %", Signal("current", -13.6),
     "no reading", "no current: a wire is off, the loop has no supply, or its polarity is reversed"),
    ("scale: {4 mA: 0 %, 20 mA: 100 %}\n expect: 60 ± 2 %", Signal("current", 22.0),
     "no reading", "the transmitter reports a failure"),
    ("scale: {4 mA: 0 %, 20 mA: 100 %}\n shunt: 250 Ω\n expect: 60 ± 2 %",
     Signal("voltage", 24_000.0), "above range", "the shunt is missing"),
    ("signal: 0..20 mA\n scale: 100 A/20 mA\n expect: 40 ± 1 A", Signal("current", 16.0),
     "fail", "a transformer of 50 A/20 mA is mounted, the setup says 100 A/20 mA"),
    ("scale: {-1 V: -100 kg, 1 V: 100 kg}\n expect: 40 ± 1 kg", Signal("voltage", -400.0),
     "fail", "the two wires of the signal are swapped"),
]  # fmt: skip


class OnePlant(Plant):
    """A plant with the same signal everywhere."""

    def __init__(self, signal):
        super().__init__()
        self.only = signal

    def signal(self, *_):
        return self.only


@pytest.mark.parametrize(("wired", "signal", "verdict", "cause"), MISTAKES)
def test_a_mistake_of_wiring_is_named(device, logger, tmp_path, wired, signal, verdict, cause):
    head = kiln_text()[: kiln_text().index("channels:")]
    body = "".join(f"    {line.strip()}\n" for line in f"terminal: 1\n{wired}".splitlines())
    setup = checked(f"{head}channels:\n  probe:\n{body}")
    lw.upload(setup, device, kept(tmp_path))
    logger.plant = OnePlant(signal)
    logger.clock.wait(1)
    report = lw.verify(setup, device, duration_s=1, period_s=0.2, clock=logger.clock.clock)
    (probe,) = report.channels
    assert cause in probe.reason
    assert verdict in {str(probe.verdict), probe.quality}


@pytest.mark.parametrize("wired", sorted({m[0] for m in MISTAKES}))
def test_what_is_wired_right_passes(device, logger, tmp_path, wired):
    right = {
        "Pt1000": ohm(60, 1000), "'Pt100": ohm(60), "type K\n expect: 340": emf(340, "K"),
        "type K\n expect: 140": emf(140, "K"), "type T": emf(150, "T"),
        "shunt": Signal("voltage", 3400.0), "{4 mA": Signal("current", 13.6),
        "{0 mA": Signal("current", 12.0), "100 A": Signal("current", 8.0),
        "{-1 V": Signal("voltage", 400.0),
    }  # fmt: skip
    signal = next(s for words, s in right.items() if words in wired)
    test_a_mistake_of_wiring_is_named(device, logger, tmp_path, wired, signal, "pass", "")
