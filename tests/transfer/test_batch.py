"""One setup for many devices."""

import json
from importlib import resources

import pytest

import leitwerk as lw
from conftest import PASSWORDS, example, kept, kiln
from leitwerk.transfer.batch import read_batch, upload_batch


@pytest.fixture
def fleet(tmp_path):
    """Starts numbered loggers, and writes the setup and the table for them."""
    running = []

    def start(count, *words):
        running.append(lw.start_standin("fichte-8", "--copies", str(count), "--numbered", *words))
        addresses = running[-1].addresses
        (tmp_path / "kiln.yaml").write_text(example("kiln", addresses[0]), encoding="utf-8")
        rows = [f"{serial(at)},{at},Kiln {k + 1}" for k, at in enumerate(addresses)]
        write(rows)
        return addresses

    def serial(address):
        with lw.connect(kiln(address)) as device:
            for _ in range(9):  # it may hang up
                try:
                    return device.identify().serial
                except lw.LinkError:
                    continue
        raise AssertionError

    def write(rows, head="serial,at,title"):
        (tmp_path / "units.csv").write_text("\n".join([head, *rows]) + "\n", encoding="utf-8")

    start.lines = lambda: (tmp_path / "units.csv").read_text("utf-8").splitlines()
    start.write, start.file, start.table = (
        write,
        str(tmp_path / "kiln.yaml"),
        str(tmp_path / "units.csv"),
    )
    yield start
    for one in running:
        one.stop()


@pytest.mark.process
def test_every_unit_gets_its_own_and_a_second_run_goes_on_with_the_rest(fleet, leitwerk, tmp_path):
    fleet(5)
    first = leitwerk("batch", fleet.file, fleet.table, "--at-once", "3")
    assert (first.exit_code, "5 devices: 5 done, 0 earlier, 0 failed" in first.stderr) == (0, True)
    assert {folder.name for folder in (tmp_path / "kept").iterdir() if folder.is_dir()} == {
        f"K2-00{n}" for n in range(417, 422)
    }
    second = leitwerk("batch", fleet.file, fleet.table, "--json")
    assert {o["state"] for o in json.loads(second.stdout)} == {"earlier"}
    units = read_batch(fleet.file, fleet.table)
    with lw.connect(units[3].setup) as device:
        assert device.read_settings().values["title"] == units[3].setup.setup.title == "Kiln 4"
    lines = fleet.lines()
    fleet.write([line.replace("Kiln 4", "Kiln four") for line in lines[1:]])
    third = leitwerk("batch", fleet.file, fleet.table)
    assert "1 done, 4 earlier" in third.stderr


def test_a_batch_accepts_what_check_accepts(fleet, leitwerk, tmp_path):
    """Limit sets and contact lists too, which stand in files of their own beside the setup."""
    own = (resources.files("leitwerk") / "limitsets" / "timber-store.yaml").read_text("utf-8")
    (tmp_path / "limitsets").mkdir()
    (tmp_path / "limitsets" / "our-store.yaml").write_text(
        own.replace("name: timber-store", "name: our-store"), "utf-8"
    )
    setup = example("kiln-guard", "modbus+tcp://z").replace(
        'unit: "%"', 'unit: "%"\n    limits: {set: our-store, product: framing}', 1
    )
    begin, end = setup.index("contacts:\n"), setup.index("rules:\n")
    people = setup[begin:end]
    (tmp_path / "people.yaml").write_text(f"contact list: 1\n{people}", "utf-8")
    setup = f"{setup[:begin]}contact_list: people.yaml\n\n{setup[end:]}"
    (tmp_path / "kiln.yaml").write_text(setup, "utf-8")
    fleet.write(["1,modbus+tcp://a", "2,modbus+tcp://b"], "serial,at")
    for words in (("check", fleet.file), ("batch", fleet.file, fleet.table, "--plan")):
        result = leitwerk(*words)
        assert result.exit_code == 0, result.stderr


@pytest.mark.process
def test_one_that_fails_stops_no_other(fleet, leitwerk):
    addresses = fleet(3)
    lines = fleet.lines()
    lines[2] = lines[2].replace(f":{addresses[1].port}", ":9")
    fleet.write(lines[1:])
    result = leitwerk("batch", fleet.file, fleet.table)
    assert (result.exit_code, "2 done, 0 earlier, 1 failed" in result.stderr) == (1, True)
    assert "no device answers there" in result.stdout


@pytest.mark.process
def test_a_hundred_units_some_of_which_drop_the_link_end_verified_or_told(fleet, tmp_path):
    fleet(100, "--drop-share", "0.05")
    units = read_batch(fleet.file, fleet.table)
    link = lw.LinkOptions(2.0, retries=4)
    results = upload_batch(
        units, kept(tmp_path / "kept"), passwords=lambda setup: PASSWORDS, link=link, at_once=4
    )
    for result in results:
        if result.ok:
            with lw.connect(result.item.setup, link=link) as device:
                assert device.read_settings().values["title"] == result.item.setup.setup.title
        else:
            assert "device: " in result.message
    assert sum(result.ok for result in results) >= 95


@pytest.mark.parametrize(
    ("head", "rows", "says"),
    [
        (
            "serial,at",
            ["1,modbus+tcp://a", "01,modbus+tcp://b"],
            "the serial number of line 2 again",
        ),
        ("serial,at", ["1,modbus+tcp://a", "2,modbus+tcp://a"], "the address of line 2 again"),
        ("at", ["modbus+tcp://a"], "no serial number"),
        ("serial,serial", ["1,2"], "two have the same"),
        ("serial,at", ["1"], "not as many columns"),
        ("serial,at", [f"{k},modbus+tcp://a" for k in range(1001)], "has more than 1000 lines"),
        ("serial,at", [",x"], "has no serial number"),
        ("serial,speed", ["1,2"], "the setup has no 'speed'"),
        ("serial,channels.attic.label", ["1,2"], "the setup has no 'channels.attic.label'"),
        ("serial,at", ['1,"modbus'], "is not CSV"),
    ],
)
def test_tables_that_are_none(fleet, leitwerk, tmp_path, head, rows, says):
    (tmp_path / "kiln.yaml").write_text(example("kiln", "modbus+tcp://z"), encoding="utf-8")
    fleet.write(rows, head)
    result = leitwerk("batch", fleet.file, fleet.table)
    assert (result.exit_code, says in result.stderr) == (2, True), result.stderr


def test_any_value_may_differ_and_mistakes_are_told_before_anything_is_written(
    fleet, leitwerk, tmp_path
):
    (tmp_path / "kiln.yaml").write_text(example("kiln", "modbus+tcp://z"), encoding="utf-8")
    fleet.write(
        ["1;modbus+tcp://a;every 5 s;Air;KILN-1", "2;modbus+tcp://b;;;"],
        "serial;at;sample;channels.air_top.label;settings.name",
    )
    units = read_batch(fleet.file, fleet.table)
    assert units[0].setup.setup.channels["air_top"].label == "Air"
    assert units[0].setup.setup.settings == {"name": "KILN-1"}
    assert units[1].setup.setup.channels["air_top"].label == "Air above the stack"
    fleet.write(["1,modbus+tcp://a,every 5 s", "2,modbus+tcp://b,every 0.1 s"], "serial,at,sample")
    planned = leitwerk("batch", fleet.file, fleet.table, "--plan")
    assert (planned.exit_code, "units.csv: 3 errors" in planned.stderr) == (1, True)
    assert "units.csv:3:10:9: error: fichte-8 cannot sample every 0.1 s" in planned.stderr
