"""The whole thread, setup to verdict, on every stand-in: only files differ."""

import pytest

import leitwerk as lw
from conftest import checked, example
from leitwerk.parsing.address import parse_address


@pytest.mark.process
@pytest.mark.parametrize(
    ("name", "words", "password", "receipt", "verdict"),
    [
        ("kiln", ["fichte-8"], "1834", "48 settings changed", "7 of 7"),
        ("kiln", ["fichte-8", "--rtu"], "1834", "48 settings changed", "7 of 7"),
        ("station", ["linde", "--rtu"], "2208", "11 settings changed in 3 write requests, each in",
         "4 of 4"),
        ("saw-hall", ["eibe"], "larch", "15 settings changed in 15 write requests", "2 of 2"),
        ("saw-hall", ["eibe", "--rtu"], "larch", "15 settings changed", "2 of 2"),
        ("saw-supply", ["ulme-3p"], "5206", "25 settings changed", "4 of 4"),
        ("mill-race", ["weide", "--rtu"], "3317", "7 settings changed in 4 write", "3 of 3"),
        ("telemetry", ["erle", "--rtu"], "5150", "15 settings changed", "3 of 3"),
        ("timber", ["ahorn", "--copies", "3"], "", "3 settings changed", "2 of 2"),
        ("cabin", ["birke", "--rtu"], "bark", "44 settings changed in 44 write requests", "3 of 3"),
        ("panel", ["buche-6", "--rtu"], "", "10 settings changed", "2 of 2"),
        ("cabin", ["birke"], "bark", "44 settings changed in 44 write requests", "3 of 3"),
    ],
    ids=lambda value: " ".join(value) if isinstance(value, list) else "",
)  # fmt: skip
def test_setup_upload_live(
    leitwerk, tmp_path, monkeypatch, name, words, password, receipt, verdict
):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", password)
    path = tmp_path / f"{name}.yaml"
    with lw.start_standin(*words) as one:
        path.write_text(example(name, one.address), encoding="utf-8")
        assert "0 errors" in leitwerk("check", str(path)).stdout
        uploaded = leitwerk("upload", str(path))
        assert receipt in uploaded.stdout, uploaded.output
        assert "nothing to change" in leitwerk("upload", str(path)).stdout
        live = leitwerk("live", str(path), "--for", "0.5 s")
    assert f"PASSED: {verdict} expectations met" in live.stdout, live.output


@pytest.mark.process
def test_one_command_starts_any_set_and_prints_their_addresses():
    words = ["linde", "eibe", "ahorn", "--copies", "2"]
    with lw.start_standin(*words) as every:
        schemes = [address.scheme for address in every.addresses]
    assert sorted(schemes) == ["modbus+tcp"] * 2 + ["scpi+tcp"] * 2 + ["sdi12+serial"] * 2
    assert parse_address(str(every.addresses[0])) == every.addresses[0]


@pytest.mark.process
def test_different_devices_share_one_bus():
    with lw.start_standin("linde", "weide", "--bus") as every:
        assert len({address.serial_port for address in every.addresses}) == 1
        devices = [
            lw.connect(checked(example(name, address)))
            for name, address in zip(("station", "mill-race"), every.addresses, strict=True)
        ]
        found = [device.identify().model for device in devices * 2]
        for device in devices:
            device.close()
    assert found == ["linde", "weide"] * 2
