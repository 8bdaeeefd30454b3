"""The conformance suite, as others run it: over our own files, over wrong ones, over a link."""

import re
import subprocess
import sys
from importlib import resources

import pytest

import leitwerk as lw

SHIPPED = resources.files("leitwerk")


def suite(folder, *words):
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-p", "no:cacheprovider", "-p", "no:xdist", *map(str, words)],
        cwd=folder, capture_output=True, encoding="utf-8", check=False,
    )  # fmt: skip
    return done.returncode, done.stdout


@pytest.mark.process
def test_what_is_shipped_conforms(tmp_path):
    folders = [SHIPPED / name for name in ("limitsets", "templates", "sensors", "datasheets")]
    code, shown = suite(tmp_path, "--leitwerk", *folders)
    assert code == 0, shown
    assert int(re.search(r"(\d+) passed", shown)[1]) > 800


@pytest.mark.process
def test_mistakes_of_others_are_found(tmp_path):
    kiln = (SHIPPED / "templates" / "kiln.yaml").read_text("utf-8")
    (tmp_path / "kiln.yaml").write_text(
        kiln.replace("span: 40..95 °C", "span: 40..9500 °C"), "utf-8"
    )
    sensor = (SHIPPED / "sensors" / "pressure-16bar.yaml").read_text("utf-8")
    (tmp_path / "sensors").mkdir()
    (tmp_path / "sensors" / "a.yaml").write_text(
        sensor.replace("range: 0..24 mA", "range: 0..99 mA"), "utf-8"
    )
    (tmp_path / "other.yaml").write_text("some: thing\n", "utf-8")
    code, shown = suite(tmp_path, "--leitwerk", tmp_path)
    assert code == 1
    failed = set(re.findall(r"^FAILED (\S+?)::(.+?)(?: - |$)", shown, re.MULTILINE))
    assert ("kiln.yaml", "fichte-8: too_hot = 9500 °C") in failed, shown
    assert any(file == "sensors/a.yaml" for file, _ in failed), shown
    assert "other.yaml" not in shown


@pytest.mark.process
def test_a_link_conforms(tmp_path):
    with lw.start_standin("linde") as one:
        words = ["--leitwerk-link", str(one.address), "--leitwerk-model", "linde"]
        code, shown = suite(tmp_path, *words)
        assert (code, "4 passed" in shown) == (0, True), shown
        assert suite(tmp_path, *words[:2])[0] == 4
    code, shown = suite(tmp_path, *words)
    assert (code, "3 failed, 1 passed" in shown) == (1, True), shown
