"""Bands of a spectrum and phasors: their means against a slow computation, and what is none."""

import cmath
import math

import numpy as np
import pytest
from PIL import Image

import leitwerk as lw
from leitwerk.parsing.units import parse_unit
from leitwerk.reports.mean_figures import band_means, phasors
from leitwerk.reports.time_figure import Curve, Trace


def trace(name, unit, values):
    values = np.asarray(values, float)
    return Trace(name, Curve(name, parse_unit(unit)), 1.7e9 + np.arange(values.size), values)


def test_the_means_of_bands():
    traces = [
        trace("band_1_kHz", "dB", [80.0, 90.0, math.nan]),
        trace("band_31_5_Hz", "dB", [60.0, 60.0, 60.0]),
        trace("level", "dB", [99.0] * 3),
    ]
    frequencies, means, highest, unit = band_means(traces)
    assert (frequencies, highest, unit) == ([31.5, 1000.0], [60.0, 90.0], "dB")
    assert means == pytest.approx([60.0, 10 * math.log10((1e8 + 1e9) / 2)])
    plain = band_means([trace("harmonic 150 Hz", "V", [1.0, 3.0])])
    assert (plain[0], plain[1]) == ([150.0], [2.0])
    with pytest.raises(lw.QuantityError, match="several units"):
        band_means([*traces, trace("band_63_Hz", "V", [1.0])])


def test_the_mean_of_a_phasor_is_that_of_its_turning_arrows():
    others = [trace("p", "kW", [1.0, 1.0]), trace("i1", "A", [1.0]), trace("i1_angle", "K", [1.0])]
    found = phasors(
        [trace("u1", "V", [230.0] * 2), trace("u1_angle", "°", [170.0, -170.0]), *others]
    )
    ((name, (mean, unit)),) = found.items()
    assert (name, unit) == ("u1", "V")
    turned = [cmath.rect(230.0, math.radians(angle)) for angle in (170.0, -170.0)]
    assert mean == pytest.approx(sum(turned) / 2)
    with pytest.raises(lw.QuantityError, match="no channel is a phasor"):
        phasors([trace("u1", "V", [1.0])])


@pytest.mark.parametrize(
    ("form", "head"),
    [("bands", "band_63_Hz [dB],band_125_Hz [dB]"), ("phasors", "u1 [V],u1_angle [°]")],
)
def test_they_are_drawn(form, head, leitwerk, tmp_path):
    (tmp_path / "r.csv").write_text(
        f"time,{head}\n2026-03-02T06:00:00Z,60,70\n2026-03-02T06:00:01Z,61,71\n"
    )
    drawn = leitwerk(
        "draw", str(tmp_path / "r.csv"), "--form", form, "--to", str(tmp_path / "r.png")
    )
    assert drawn.exit_code == 0, drawn.output
    with Image.open(tmp_path / "r.png") as picture:
        assert picture.size == (1280, 800)
    other = {"bands": "phasors", "phasors": "bands"}[form]
    assert leitwerk("draw", str(tmp_path / "r.csv"), "--form", other).exit_code == 2
