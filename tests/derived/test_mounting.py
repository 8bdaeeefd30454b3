"""How a three-axis sensor is mounted: in words, found at rest, and verified by gravity."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import EXAMPLES, PASSWORDS, MemoryLink, SteppedTime, checked
from leitwerk.calibration.orientation import find_orientation, right_angle_rotations
from leitwerk.derived import Formula, Terms
from leitwerk.derived.mounting import (
    Mounting,
    parse_mounting,
    parse_rotation,
    parse_sides,
    table_lines,
    tilt_deg,
)
from leitwerk.errors import DomainError, QuantityError
from leitwerk.evaluation.derived_chain import explain_derived
from leitwerk.monitoring.spot_readings import read_axes
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile

CARRIAGE = (EXAMPLES / "carriage.yaml").read_text("utf-8")
AXES = [
    "x forward, z up",
    "z up, y left",
    "x back, z up",
    "y forward, x down",
    "z forward, y right",
]


@pytest.mark.parametrize("text", AXES)
def test_words_and_their_picture(text):
    mounting = parse_mounting(text)
    matrix = np.array(mounting.rows)
    assert any(np.array_equal(matrix, one) for one in right_angle_rotations())
    assert all(part in str(mounting) for part in text.split(", "))


def test_every_mounting_at_a_right_angle_can_be_said():
    every = {str(Mounting(tuple(map(tuple, m.tolist())))) for m in right_angle_rotations()}
    assert len(every) == 24
    for words in every:
        assert str(parse_mounting(", ".join(words.split(", ")[:2]))) == words


def test_it_is_chosen_from_a_list_in_words_of_what_is_seen_on_the_sensor(leitwerk, tmp_path):
    path = tmp_path / "carriage.yaml"
    sides = "tables:\n  sides: {logo: z, cable: -x}\n"
    text = CARRIAGE.replace("tables:\n", sides).replace("mounting, 'up')", "'{}', 'up', sides)")
    path.write_text(text, "utf-8")
    listed = leitwerk("mounting", str(path), "--list").stdout.splitlines()
    assert len({*listed}) == 24
    assert listed[4] == "logo up, cable back"
    assert str(
        parse_mounting("logo up, cable to the back", parse_sides([("logo", "z"), ("cable", "-x")]))
    ) == ("x forward, y left, z up")
    setup = checked(text.replace("'{}'", "'cable down, logo to the left'"))
    assert setup.channel("gravity").notes == ("mounted with logo left, cable down",)
    up = parse_mounting("x up, z left").row("up")
    for axis, part in zip("xyz", up, strict=True):
        found = explain_derived(
            setup, setup.channel("gravity"), {a: float(a == axis) for a in "xyz"}
        )
        assert found.value == part
    without = leitwerk("mounting", str(path), "x", "y", "z")
    assert (without.exit_code, "--forward are needed" in without.stderr) == (2, True)
    with pytest.raises(DomainError, match="is not an axis"):
        parse_sides([("logo", "up")])


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("z up", "not a mounting"), ("x up, x forward", "not a mounting"), ("x up, y down", "same line"),
        ("x north, z up", "not a direction"), ("", "not a mounting"), ("x up z forward", "not a mounting"),
    ],
)  # fmt: skip
def test_words_that_are_no_mounting(text, says):
    with pytest.raises(DomainError, match=says):
        parse_mounting(text)


@pytest.mark.parametrize(
    ("rows", "says"),
    [
        ((("forward", "1, 0, 0"), ("left", "0, 1, 0")), "rows forward, left and up"),
        ((("forward", "1, 0, 0"), ("left", "0, 1, 0"), ("up", "0, 0")), "not three numbers"),
        ((("forward", "1, 0, 0"), ("left", "0, 1, 0"), ("up", "0, 0, -1")), "no rotation"),
        ((("forward", "2, 0, 0"), ("left", "0, 1, 0"), ("up", "0, 0, 1")), "no rotation"),
    ],
)
def test_tables_that_are_no_mounting(rows, says):
    with pytest.raises(DomainError, match=says):
        parse_rotation(rows)


@given(
    st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda v: np.linalg.norm(v) > 0.3),
    st.sampled_from("xyz"),
)
def test_what_is_found_at_rest_turns_gravity_up(direction, forward):
    up = np.array(direction) / np.linalg.norm(direction)
    if abs(up["xyz".index(forward)]) > 0.8:
        return  # it points up rather than forward
    found = find_orientation([9.81 * up] * 5, forward)
    mounting = Mounting(tuple(map(tuple, found.rotation.tolist())))
    if not found.is_right_angle:
        assert tilt_deg(mounting, *(9.81 * up)) == pytest.approx(0.0, abs=1e-5)
        lines = dict(line.split(": ", 1) for line in table_lines(found, "m")[2:])
        rows = tuple((name.strip(), text.strip('"')) for name, text in lines.items())
        np.testing.assert_allclose(parse_rotation(rows).rows, mounting.rows, atol=1e-5)


def test_a_vector_is_turned():
    terms = Terms()
    units = dict.fromkeys("xyz", "m/s^2")
    up = Formula("along(x, y, z, 'x up, y left', 'up')", units, "m/s^2", terms=terms)
    assert up(x=[9.81], y=[np.nan], z=[1.0]).tolist() == [9.81]  # the others play no role
    ahead = Formula("along(x, y, z, 'x up, y left', 'forward')", units, "m/s^2", terms=terms)
    assert ahead(x=[9.81], y=[0.0], z=[1.5]).tolist() == [-1.5]


def test_the_carriages_sensor_is_mounted_askew_and_gravity_verifies_it(sheet, tmp_path):
    clock = SteppedTime()
    logger = Logger(sheet, find_profile("fichte-8-saw"), Plant(), clock, Disturbances())
    device = lw.Device(sheet, MemoryLink(logger))
    setup = checked(CARRIAGE)
    lw.upload(setup, device, lw.UploadOptions(tmp_path, PASSWORDS))
    readings = read_axes(setup, device, ("x", "y", "z"), duration_s=2.0, clock=clock.clock)
    found = find_orientation(readings, "x")
    assert (found.is_right_angle, found.gravity) == (False, pytest.approx(9.81, abs=0.02))
    report = lw.verify(setup, device, duration_s=2, period_s=0.2, clock=clock.clock)
    assert {c.name: str(c.verdict) for c in report.channels}["gravity"] == "pass"
    wrong = checked(
        CARRIAGE.replace(
            "along(x, y, z, mounting, 'up')", "along(x, y, z, 'x forward, z up', 'up')"
        )
    )
    report = lw.verify(wrong, device, duration_s=2, period_s=0.2, clock=clock.clock)
    assert {c.name: str(c.verdict) for c in report.channels}["gravity"] == "fail"
    with pytest.raises(QuantityError, match="acceleration"):
        read_axes(setup, device, ("motor", "y", "z"), duration_s=2.0, clock=clock.clock)


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("like: x}", "like: w}", "there is no channel 'w' to be like"),
        ("terminal: 3, like: x}", "terminal: 3, like: y}", "there is no channel 'y' to be like"),
    ],
)
def test_what_a_channel_can_be_like(old, new, says):
    with pytest.raises(lw.SetupError, match=says):
        checked(CARRIAGE.replace(old, new, 1))
    y, x = (checked(CARRIAGE).channel(name) for name in "yx")
    assert (y.measurement, y.range, y.unit) == (x.measurement, x.range, x.unit)
    assert y.label == "Vibration y"
