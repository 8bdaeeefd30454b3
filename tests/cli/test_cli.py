"""The command as people meet it: words, exit codes, bad input, and how little it loads."""

import json
import os
import socket
import subprocess
import sys
from importlib import resources

import jsonschema
import pytest
import yaml
from schema import SCHEMAS

import leitwerk as lw
from conftest import EXAMPLES, KILN, NOWHERE
from leitwerk.cli import _COMMANDS, demo_analyzers
from leitwerk.datasheet.entries import datasheet_schema
from leitwerk.setup.limits import limits_schema
from leitwerk.setup.model import setup_schema


def fresh(*words, code=None):
    """A process of its own."""
    command = [sys.executable, "-c", code] if code else [sys.executable, "-m", "leitwerk", *words]
    return subprocess.run(command, capture_output=True, encoding="utf-8", timeout=60, check=False)


def test_without_arguments_it_says_what_it_is_for_and_what_to_type_next(leitwerk):
    result = leitwerk()
    assert result.exit_code == 0
    assert "leitwerk demo" in result.stdout
    assert len(result.stdout.splitlines()) < 12


def test_help_names_every_command_and_each_has_its_own(leitwerk):
    listed = leitwerk("--help").stdout
    for name in _COMMANDS:
        assert f"\n  {name} " in listed
        assert leitwerk(name, "--help").exit_code == 0
    assert leitwerk("chekc").exit_code == 2
    assert leitwerk("--version").stdout == f"leitwerk {lw.__version__}\n"


@pytest.mark.process
@pytest.mark.parametrize("word", ["--help", "--version", ""])
def test_starting_up_loads_click_and_nothing_heavy(word):
    code = (
        "import sys; sys.argv = ['leitwerk', *sys.argv[1:]]\n"
        "from leitwerk.cli import main\n"
        f"main({[word] if word else []!r}, standalone_mode=False)\n"
        "heavy = {'asyncio', 'matplotlib', 'numpy', 'pint', 'pydantic', 'pymodbus', 'rich'}\n"
        "print(sorted(heavy & set(sys.modules)))"
    )
    assert fresh(code=code).stdout.splitlines()[-1] == "[]"


def test_the_example_is_a_setup_without_findings(leitwerk, tmp_path):
    path = tmp_path / "kiln.yaml"
    path.write_text(leitwerk("example").stdout, encoding="utf-8")
    result = leitwerk("check", str(path))
    *account, last = result.stdout.splitlines()
    assert (result.exit_code, last) == (0, f"{path}: can be uploaded (0 errors)")
    assert account == [
        "account:  48 entries stored in the device and read back",
        "          13 worked by Leitwerk",
        "          2 for people only, 0 refused",
    ]


def test_findings_as_text_and_as_json_are_the_same(leitwerk, tmp_path):
    path = tmp_path / "kiln.yaml"
    path.write_text(KILN.replace("clear: 75", "clear: 80").replace("±1 V", "±10 V"), "utf-8")
    plain, as_json = leitwerk("check", str(path)), leitwerk("check", str(path), "--json")
    assert plain.exit_code == as_json.exit_code == 1
    content = json.loads(as_json.stdout)
    assert content["counts"] == {"error": 1, "warning": 1, "note": 0}
    for finding in content["findings"]:
        assert (
            f"{path}:{finding['line']}:{finding['column']}: {finding['severity']}" in plain.stdout
        )
        assert finding["message"] in plain.stdout
    assert "\x1b" not in plain.stdout


def schema_of(leitwerk):
    return json.loads(leitwerk("schema").stdout)


def test_the_schema_takes_the_examples_and_refuses_mistakes(leitwerk):
    schema = schema_of(leitwerk)
    jsonschema.Draft202012Validator.check_schema(schema)
    check = jsonschema.Draft202012Validator(schema)
    for file in EXAMPLES.iterdir():
        assert check.is_valid(yaml.safe_load(file.read_text("utf-8"))), file.name
    for old, new in (
        ("sensor:", "senser:"),
        ("title:", "titel:"),
        ("severity: high", "severity: hgh"),
        ("leitwerk: 1", "leitwerk: 2"),
        ("{4 mA: 0 %, 20 mA: 100 %}", "{4 mA: 0 %}"),
        ("offset: 850 kg, ", ""),
    ):
        assert not check.is_valid(yaml.safe_load(KILN.replace(old, new)))


def test_the_shipped_schemas_are_those_of_the_code(leitwerk):
    assert schema_of(leitwerk) == setup_schema()
    for name, made in SCHEMAS.items():
        assert json.loads(leitwerk("schema", name).stdout) == made, name
    assert json.loads(leitwerk("schema", "datasheet").stdout) == datasheet_schema()
    limits = json.loads(leitwerk("schema", "limits").stdout)
    assert limits == limits_schema()
    for file in (resources.files("leitwerk") / "limitsets").iterdir():
        content = yaml.safe_load(file.read_text("utf-8"))
        jsonschema.Draft202012Validator(limits).validate(content)
        content.setdefault("alarms", {})["odd"] = {"abofe": 1}
        assert not jsonschema.Draft202012Validator(limits).is_valid(content)


@pytest.mark.parametrize(
    ("folder", "kind", "mistake"),
    [
        ("templates", "template", "parameter"),
        ("sensors", "sensor", "wires"),
        ("testplans", "test-plan", "sample"),
        ("examples", "setup", "chanels"),
    ],
)
def test_the_schemas_take_every_shipped_file_and_refuse_a_mistake(folder, kind, mistake):
    schema = jsonschema.Draft202012Validator(SCHEMAS[kind])
    files = [
        f for f in (resources.files("leitwerk") / folder).iterdir() if f.name.endswith(".yaml")
    ]
    assert files
    for file in files:
        content = json.loads(json.dumps(yaml.safe_load(file.read_text("utf-8")), default=str))
        assert [error.message for error in schema.iter_errors(content)] == [], file.name
        assert not schema.is_valid({**content, mistake: "x"}), file.name


@pytest.mark.parametrize("model", ["fichte-8", "linde", "eibe"])
def test_the_schema_takes_every_datasheet_and_refuses_mistakes(model):
    text = (resources.files("leitwerk") / "datasheets" / f"{model}.yaml").read_text("utf-8")
    check = jsonschema.Draft202012Validator(datasheet_schema())
    assert check.is_valid(yaml.safe_load(text))
    for old, new in (("link:", "lnk:"), ("datasheet: 1", "datasheet: 2"), (": {", ": {x: 1, ")):
        assert old in text
        assert not check.is_valid(yaml.safe_load(text.replace(old, new, 1)))


def test_models_are_listed_and_chosen_with_reasons(leitwerk, kiln_file):
    assert [line.split()[0] for line in leitwerk("models").stdout.splitlines()] == [
        "ahorn", "birke", "buche-6", "eibe", "erle", "fichte-8", "hasel", "kiefer", "laerche", "linde",
        "talker", "ulme-3p", "weide",
    ]  # fmt: skip
    chosen = leitwerk("models", kiln_file(NOWHERE))
    lines = chosen.stdout.splitlines()
    assert lines[0].startswith("fits      fichte-8: Universal logger")
    assert "has no terminal 1" in chosen.stdout
    content = json.loads(leitwerk("models", kiln_file(NOWHERE), "--json").stdout)
    assert [fit["fits"] for fit in content] == [True] + [False] * 12


@pytest.mark.process
@pytest.mark.parametrize("command", ["upload", "live"])
def test_devices_that_are_not_what_they_should_be(standin, leitwerk, kiln_file, command):
    for options, code, says in (
        (("--serial", "K2-00418"), 4, "serial number 'K2-00418', this is for 'K2-00417'"),
        (("--as-model", "fichte-16"), 4, "a model 'fichte-16', this is for 'fichte-8'"),
        (("--silent-after-requests", "0"), 3, "no answer to 'read input 0..31' within 0.3 s"),
    ):
        result = leitwerk(command, kiln_file(standin(*options).address), "--timeout", "0.3")
        assert result.exit_code == code
        assert says in result.stderr
        assert "remedy: " in result.stderr


@pytest.mark.parametrize("time", ["0", "-1 s", "5 V", "soon"])
def test_times_are_asked_for_as_times(leitwerk, kiln_file, time):
    result = leitwerk("live", kiln_file("modbus+tcp://127.0.0.1"), "--every", time)
    assert result.exit_code == 2
    assert "  valid: " in result.stderr


def test_nobody_at_the_address(leitwerk, kiln_file):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))  # bound but not listening: refused
        path = kiln_file(f"modbus+tcp://127.0.0.1:{taken.getsockname()[1]}?unit=3")
        result = leitwerk("upload", path, "--timeout", "0.5")
    assert result.exit_code == 3
    assert "no device answers there" in result.stderr


@pytest.mark.process
def test_a_device_that_stops_answering_in_the_middle_of_the_upload(standin, leitwerk, kiln_file):
    path = kiln_file(standin("--silent-after-writes", "6").address)
    result = leitwerk("upload", path, "--timeout", "0.3")
    assert result.exit_code == 3
    assert "write what differs" not in result.stderr.splitlines()[-3]
    assert "no answer to 'write holding" in result.stderr
    assert (
        "device: it works with its old settings; what was written is uncommitted" in result.stderr
    )
    assert "remedy: remove the cause, then run the same upload again" in result.stderr


@pytest.mark.process
def test_upload_tells_its_steps_and_prints_the_receipt(standin, leitwerk, kiln_file):
    path = kiln_file(standin("--recordings", "2").address)
    refused = leitwerk("upload", path)
    assert refused.exit_code == 4
    assert "2 recordings not fetched from the device" in refused.stderr
    done = leitwerk("upload", path, "--discard-recordings", "--by", "Ida")
    assert done.exit_code == 0
    assert "commit: done" in done.stderr
    assert done.stdout.startswith("Receipt: Kiln 2, spring drying run\n")
    assert "by:        Ida, " in done.stdout
    again = leitwerk("upload", path, "--json")
    assert json.loads(again.stdout)["changes"] == []


@pytest.mark.process
def test_a_trace_is_kept_without_the_password(standin, leitwerk, kiln_file, tmp_path):
    path, trace = kiln_file(standin().address), tmp_path / "trace.txt"
    assert leitwerk("upload", path, "--trace", str(trace)).exit_code == 0
    lines = trace.read_text("utf-8").splitlines()
    assert any("-> 00" in line and line.endswith("read input 0..31") for line in lines)
    assert any(line.endswith("** write holding 900..901".replace("** ", "**  ")) for line in lines)
    assert "07 2a" not in trace.read_text("utf-8")  # 1834
    assert leitwerk("live", path, "--trace", "/nowhere/x").exit_code == 2


@pytest.mark.process
def test_a_password_is_asked_for_by_name(standin, leitwerk, kiln_file, monkeypatch):
    monkeypatch.delenv("LEITWERK_PASSWORD_OPERATOR")
    result = leitwerk("upload", kiln_file(standin().address))
    assert result.exit_code == 4
    assert "set LEITWERK_PASSWORD_OPERATOR" in result.stderr


@pytest.mark.process
def test_the_demo_leaves_nothing_outside_its_folder(tmp_path):
    environment = {**os.environ, "NO_COLOR": "1"}
    done = subprocess.run(
        [sys.executable, "-m", "leitwerk", "demo", "--folder", "here"],
        cwd=tmp_path, capture_output=True, encoding="utf-8", timeout=60,
        env=environment, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert "would clear at 80 °C" in done.stdout
    assert "range ±100 mV clips" in done.stdout
    assert "cannot be uploaded like this (2 errors)" in done.stdout
    assert done.stdout.count("\nPASS ") == 7
    assert "PASSED: 7 of 7 expectations met" in done.stdout
    assert [p.name for p in tmp_path.iterdir()] == ["here"]
    port = int(done.stdout.split("127.0.0.1:")[1].split("?")[0])
    with pytest.raises(OSError):
        socket.create_connection(("127.0.0.1", port), timeout=1)


@pytest.mark.parametrize("command", ["device", "fetch", "adopt", "release", "history", "watchdog"])
def test_a_file_that_is_not_there_is_named_as_such(leitwerk, tmp_path, command):
    """It is not taken for the name of a device."""
    for name, says in (
        (str(tmp_path / "no.yaml"), "No such file"),
        (str(tmp_path), "is not a file"),
    ):
        shown = leitwerk(command, name)
        assert (shown.exit_code, says in shown.output) == (2, True), shown.output


@pytest.mark.process
@pytest.mark.parametrize(
    ("thread", "hours", "words"),
    [("sound", 0.1, ["calibrator passed", "shift.pdf: "]), ("supply", 1.0, ["wiring passed", "inrush: 1"])],
)  # fmt: skip
def test_the_threads_of_the_demo(leitwerk, tmp_path, monkeypatch, thread, hours, words):
    monkeypatch.chdir(tmp_path)
    record = demo_analyzers._record
    monkeypatch.setattr(
        demo_analyzers, "_record", lambda file, **more: record(file, **{**more, "hours": hours})
    )
    done = leitwerk("demo", "--thread", thread, "--folder", "it")
    assert all(word in done.stdout for word in words), done.output
    assert done.stdout.count("$ leitwerk ") >= 9
