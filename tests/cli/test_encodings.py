"""Output that is no UTF-8, as that of a redirected file on many machines: never a traceback, no line lost."""

import json
import os
import subprocess
import sys

import pytest

import leitwerk as lw
from conftest import example

CODES = ["cp1252", "cp850", "cp437", "ascii", "utf-8"]
PROGRAM = """
import io, sys
from click.testing import CliRunner
from leitwerk.cli import _write_anywhere, main
import shlex
failed = []
for line in sys.stdin.read().splitlines():
    raw = io.BytesIO()
    sys.stdout = io.TextIOWrapper(raw, encoding=sys.argv[1])
    sys.stderr = io.TextIOWrapper(raw, encoding=sys.argv[1])
    _write_anywhere()
    try:
        main(shlex.split(line), prog_name="leitwerk")
    except SystemExit as end:
        code = end.code
    except BaseException as error:
        code = repr(error)
    sys.stdout.flush(); sys.stderr.flush()
    if code not in (0, 1) or not raw.getvalue():
        failed.append((line, code, raw.getvalue()[-300:]))
sys.stdout = sys.__stdout__
print(failed)
"""
COMMANDS = """check kiln.yaml
upload kiln.yaml
upload kiln.yaml --json
live kiln.yaml --for '0.2 s' --every '0.1 s'
explain kiln.yaml air_top
explain kiln.yaml air_top --json
device kiln.yaml
compare kiln.yaml kiln.yaml
history kiln.yaml
wiring-sheet kiln.yaml
example kiln
budget kiln.yaml
visits K2-00417
limits list
models kiln.yaml
finding wrong-unit
card
devices
templates
sensors
datasheet fichte-8
schema setup
dry-run kiln-guard.yaml --course 'air_top: 21.5; to 85 in 5 min'
--help"""


@pytest.mark.process
@pytest.mark.parametrize("code", CODES)
def test_every_command_prints_in_every_encoding(standin, tmp_path, code):
    address = standin().address
    (tmp_path / "kiln.yaml").write_text(example("kiln", address), "utf-8")
    (tmp_path / "kiln-guard.yaml").write_text(example("kiln-guard", address), "utf-8")
    (tmp_path / "none").mkdir()
    env = {**os.environ, "LEITWERK_PASSWORD_OPERATOR": "1834", "LC_ALL": "C"}
    done = subprocess.run(
        [sys.executable, "-c", PROGRAM, code], input=COMMANDS, text=True, cwd=tmp_path, env=env,
        capture_output=True, check=False, encoding="utf-8",
    )  # fmt: skip
    assert (done.returncode, done.stdout) == (0, "[]\n"), done.stderr
    assert (tmp_path / "kept").exists()


@pytest.mark.process
def test_an_upload_into_a_file_of_windows_is_whole(standin, tmp_path):
    path = tmp_path / "kiln.yaml"
    path.write_text(example("kiln", standin().address), "utf-8")
    env = {**os.environ, "LEITWERK_PASSWORD_OPERATOR": "1834", "PYTHONIOENCODING": "cp437"}
    words = [sys.executable, "-m", "leitwerk"]
    done = subprocess.run([*words, "upload", str(path)], env=env, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr
    assert "verified" in done.stdout.decode("cp437")
    shown = subprocess.run(
        [*words, "explain", str(path), "air_top", "--json"],
        env=env,
        capture_output=True,
        check=False,
    )
    assert json.loads(shown.stdout)["unit"] == "°C"  # nothing is lost
    assert lw.read_setup(path).channel("air_top").symbol == "°C"
