"""Tare and orientation: taken at rest only, undone, written into the file and out again."""

from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import KILN, kept, kiln
from leitwerk.calibration.orientation import find_orientation, right_angle_rotations
from leitwerk.calibration.tare import Tare, TareHistory, TareStage, capture_tare
from leitwerk.errors import DomainError, NotAtRest
from leitwerk.monitoring.spot_readings import read_untared
from leitwerk.parsing.units import parse_unit
from leitwerk.project.editing import add_tare, undo_tare
from leitwerk.signals.linear import Linear

NOW = datetime(2026, 3, 2, 8, 40, tzinfo=UTC)
LIMITS = {"spread": 0.2, "drift": 0.3, "most": 50.0}


def capture(values, **more):
    return capture_tare(np.arange(len(values)), values, NOW, **{**LIMITS, **more})


def test_a_tare_makes_the_rest_value_read_nominal():
    tare = capture([12.1, 12.3, 12.2, 12.2], nominal=2.0)
    assert (tare.offset, tare.on) == (10.2, NOW)
    chain = Linear(2.0).then(tare.stage)
    assert chain.value(6.1) == pytest.approx(2.0)
    assert chain.without(TareStage).value(6.1) == pytest.approx(12.2)
    assert tare.stage.signal(2.0) == pytest.approx(12.2)


@pytest.mark.parametrize(
    ("values", "more", "message"),
    [
        ([1, 9, 1, 9], {}, "readings spread by 5"),
        ([1, 1.2, 1.4, 1.6], {}, "readings drifted by 0.6, at most 0.3"),
        ([60, 60, 60], {}, "the offset would be 60, at most 50"),
        ([1, 1], {}, "2 readings are too few"),
        ([1, 1, np.nan], {}, "1 of 3 readings are bad"),
        ([1, 1, 1], {"good": [True, False, False]}, "2 of 3 readings are bad"),
    ],
)
def test_a_tare_is_refused_with_numbers(values, more, message):
    with pytest.raises(NotAtRest, match=message) as caught:
        capture(values, **more)
    assert caught.value.remedy


def test_earlier_tares_are_kept_and_come_back():
    one, other = Tare(1.0, NOW), Tare(2.0, NOW)
    history = TareHistory().take(one).take(other)
    assert history.current == other
    assert history.undo().current == one
    assert history.undo().undo().undo().current is None


def test_a_tare_in_the_file_leaves_everything_else_as_it_was():
    text = add_tare(KILN, "stack", Tare(12.5, NOW), parse_unit("kg"))
    added = [line for line in text.splitlines() if line not in KILN.splitlines()]
    assert added == ["      - {offset: 12.5 kg, taken: 2026-03-02T08:40Z}"]
    assert undo_tare(text, "stack") == KILN
    fresh = add_tare(KILN, "valve", Tare(0.5, NOW), parse_unit("%"))
    setup = lw.parse_setup(fresh)
    assert str(setup.channels["valve"].tare[0].offset) == "0.5 %"
    assert lw.parse_setup(undo_tare(fresh, "valve")) == lw.parse_setup(KILN)
    with pytest.raises(lw.QuantityError, match="no tare to undo"):
        undo_tare(KILN, "valve")
    with pytest.raises(lw.QuantityError, match="no channel 'x'"):
        undo_tare(KILN, "x")


def test_a_tare_is_read_without_the_earlier_ones(device, logger, tmp_path):
    lw.upload(kiln(), device, kept(tmp_path))
    channel = kiln().channel("stack")
    times, values, good = read_untared(
        kiln(), device, channel, duration_s=1, period_s=0.2, clock=logger.clock.clock
    )
    assert times == pytest.approx(np.arange(6) / 5)
    assert good.all()
    assert values.mean() == pytest.approx(2310 + 850, abs=5)


@pytest.mark.process
def test_the_command_takes_a_tare_and_undoes_it(standin, leitwerk, kiln_file):
    path = kiln_file(standin().address)
    before = Path(path).read_text("utf-8")
    assert leitwerk("upload", path).exit_code == 0
    refused = leitwerk("tare", path, "stack", "--for", "0.3 s")
    assert refused.exit_code == 2
    assert "the offset would be 31" in refused.stderr
    loose = ("--most", "5 t", "--spread", "9 kg", "--drift", "9 kg")
    taken = leitwerk("tare", path, "stack", "--for", "0.3 s", *loose)
    assert taken.exit_code == 0, taken.stderr
    assert "stack is tared by 31" in taken.stdout
    assert leitwerk("tare", path, "stack", "--undo").exit_code == 0
    assert Path(path).read_text("utf-8") == before
    assert leitwerk("tare", path, "door", "--for", "0.3 s").exit_code == 2


@given(st.integers(0, 23), st.floats(-0.03, 0.03))
def test_each_of_the_24_positions_is_found(number, slant):
    mounting = right_angle_rotations()[number]
    assert len(right_angle_rotations()) == 24
    up = mounting.T @ np.array([slant, 0.0, 1.0]) * 9.81
    forward = mounting.T @ np.array([1.0, 0.0, 0.0])
    name = ("-" if forward.sum() < -0.5 else "") + "xyz"[int(np.argmax(np.abs(forward)))]
    found = find_orientation([up, up, up], name)
    np.testing.assert_array_equal(found.rotation, mounting)
    assert found.is_right_angle
    assert found.apply(up)[2] == pytest.approx(9.81, rel=0.01)


def test_a_mounting_at_an_angle_is_turned_level():
    angle = np.radians(30)
    up = np.array([0.0, np.sin(angle), np.cos(angle)]) * 9.8
    found = find_orientation([up] * 4, "x")
    assert not found.is_right_angle
    assert found.apply(up) == pytest.approx([0, 0, 9.8], abs=1e-9)
    assert np.linalg.det(found.rotation) == pytest.approx(1.0)
    assert found.axis_names() == ("forward", "left", "up")


@pytest.mark.parametrize(
    ("readings", "axis", "error", "message"),
    [
        ([[0, 0, 9.8]] * 2, "x", NotAtRest, "show no orientation"),
        ([[0, 0, np.nan]] * 3, "x", NotAtRest, "show no orientation"),
        ([[0, 0, 9.8], [0, 0, 11], [0, 0, 8]], "x", NotAtRest, "spreads by 1.5"),
        ([[0, 0, 1.0]] * 3, "x", NotAtRest, "magnitude is 1 m/s², gravity is 9.807"),
        ([[0, 0, 9.8]] * 3, "-z", DomainError, "points up or down"),
        ([[0, 0, 9.8]] * 3, "w", DomainError, "'w' is not an axis"),
    ],
)
def test_an_orientation_is_refused_with_numbers(readings, axis, error, message):
    with pytest.raises(error, match=message):
        find_orientation(readings, axis)
