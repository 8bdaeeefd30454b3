"""Numbers and times that are none, in options and in files: refused with a reason, and never a traceback."""

import pytest

from conftest import KILN

LIVE = ("live", "kiln.yaml")
OPTIONS = [
    (*LIVE, "--timeout", "nan"), (*LIVE, "--timeout", "inf"), (*LIVE, "--timeout", "9" * 5000),
    (*LIVE, "--for", "nan s"), (*LIVE, "--for", "1e308 s"), (*LIVE, "--for", "1e10 s"),
    (*LIVE, "--every", "0 s"), (*LIVE, "--every", "1e-320 s"), ("loop", "kiln.yaml", "x", "--within", "nan"),
    ("batch", "kiln.yaml", "kiln.yaml", "--wait", "nan"),
    ("dry-run", "kiln.yaml", "--course", "air_top: 21; to 85 in 1e308 s"),
    ("dry-run", "kiln.yaml", "--course", "air_top: 21; swing ±3 every 1e-320 s for 1 s"),
]  # fmt: skip
FILES = [
    ("sample: every 10 s", "sample: every 1e-320 min"), ("sample: every 10 s", "sample: every 0 s"),
    ("above: 78 °C", "above: 1e308 °C"), ("above: 78 °C", "above: " + "9" * 5000 + " °C"),
    ("range: 0..400 Ω", "range: ±1" + " " * 90 + "nonsense"),
    ("sample: every 10 s", "sample: every 10 s\nschedule: {a: {start: 0001-01-01 00:00, stop: after 1 h}}"),
    ("sample: every 10 s", "sample: every 10 s\nschedule: {a: {start: 9999-12-31 23:59, stop: after 12 h}}"),
    ("after: 30 s", "after: 1e300 d"), ("title: Kiln", 'title: "\\e[2JKiln'),
]  # fmt: skip


@pytest.mark.parametrize("words", OPTIONS, ids=[" ".join(words)[:60] for words in OPTIONS])
def test_a_number_that_is_none_is_refused(leitwerk, tmp_path, monkeypatch, words):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "kiln.yaml").write_text(KILN, "utf-8")
    result = leitwerk(*words)
    assert result.exit_code == 2, result.output
    assert "valid" in result.output or "Invalid value" in result.output


@pytest.mark.parametrize(("before", "after"), FILES, ids=[after[:40] for _, after in FILES])
def test_a_file_with_such_a_number_has_findings(leitwerk, tmp_path, before, after):
    assert before in KILN
    path = tmp_path / "kiln.yaml"
    path.write_text(KILN.replace(before, after), "utf-8")
    assert leitwerk("check", str(path)).exit_code == 1
    for command in ("timetable", "budget", "explain"):
        assert leitwerk(command, str(path)).exit_code in {0, 1, 2}
