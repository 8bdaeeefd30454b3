"""What devices say: passwords that are repeated, control characters, numbers that are none."""

from pathlib import Path

import pytest
from ilex import PASSWORD as ILEX_PASSWORD
from ilex import Eibisch, Ilex
from scenes import SCENES
from ulme import PASSWORD, Ulme


class TellingUlme(Ulme):
    """Repeats the password in an entry of its error queue."""

    def _do(self, head, rest):
        super()._do(head, rest)
        if head == "SYST:PASS":
            self.errors.append(f'-203,"Wrong: {rest[1:-1]}"')


class TellingIlex(Ilex):
    """Repeats the password in what should be a confirmation."""

    telling = "+ {}"

    def answers(self, line):
        found = super().answers(line)
        return [self.telling.format(line[2:])] if line.startswith("K=") and line != "K=" else found


class RefusingIlex(TellingIlex):
    telling = "-3 {}"


def prepared(name, device, tmp_path, monkeypatch):
    scene = SCENES[name]
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", scene.password)
    Path("datasheets").mkdir()
    Path("datasheets/one.yaml").write_text(scene.datasheet, "utf-8")
    at = "text+tcp://127.0.0.1:{port}" if scene.on_a_wire else scene.at
    where = at.format(port=device.port)
    Path("setup.yaml").write_text(scene.setup.format(at=where), "utf-8")


@pytest.mark.parametrize(
    ("scene", "kind", "secret"),
    [("SCPI", TellingUlme, PASSWORD), ("text", TellingIlex, ILEX_PASSWORD),
     ("text", RefusingIlex, ILEX_PASSWORD)],
)  # fmt: skip
def test_a_password_that_a_device_repeats_is_nowhere(
    leitwerk, tmp_path, monkeypatch, scene, kind, secret
):
    with kind() as device:
        prepared(scene, device, tmp_path, monkeypatch)
        result = leitwerk("upload", "setup.yaml", "--trace", "trace.txt", "--timeout", "0.3")
        assert result.exit_code != 0
    shown = result.output + "".join(
        path.read_text("utf-8", "replace") for path in tmp_path.rglob("*.*") if path.is_file()
    )
    assert secret not in shown
    assert secret.encode().hex(" ") not in shown


ODD_TEXTS = ("\x1b[2J\x1b]0;owned\x07", "[/] [bold]", "a\x00b\x08c", "\x9b31m", "=1+1")


@pytest.mark.parametrize("text", ODD_TEXTS)
def test_control_characters_of_a_device_are_made_visible(leitwerk, tmp_path, monkeypatch, text):
    with Ulme() as device:
        prepared("SCPI", device, tmp_path, monkeypatch)
        device.settings["DISP:TEXT"] = f'"{text}"'
        device.firmware = text
        for words in (
            ("device", "setup.yaml", "--settings"), ("compare", "setup.yaml", f"scpi+tcp://127.0.0.1:{device.port}"),
            ("upload", "setup.yaml"), ("live", "setup.yaml", "--for", "0.1 s", "--every", "0.1 s"),
            ("history", "setup.yaml"), ("find", f"scpi+tcp://127.0.0.1:{device.port}"), ("devices",),
        ):  # fmt: skip
            result = leitwerk(*words)
            printable = result.output.replace("\n", "")
            assert not any(ord(c) < 32 or 127 <= ord(c) < 160 for c in printable), (
                words,
                printable,
            )


@pytest.mark.parametrize(
    "said", ["NAN", "inf", "-INF", "9.91E37", "1e999", "", "abc", "1_000", "٣"]
)
@pytest.mark.parametrize("scene", ["SCPI", "text"])
def test_what_is_no_number_is_no_reading(leitwerk, tmp_path, monkeypatch, scene, said):
    with (Ulme if scene == "SCPI" else Ilex)() as device:
        prepared(scene, device, tmp_path, monkeypatch)
        setattr(device, "voltage" if scene == "SCPI" else "value", said)
        words = ("--for", "0.2 s", "--every", "0.1 s", "--samples", "samples.csv")
        result = leitwerk("live", "setup.yaml", *words, "--timeout", "0.3")
        assert result.exit_code in {1, 3, 4}, result.output
        assert "PASSED: 1" not in result.output
        text = Path("samples.csv").read_text("utf-8") if Path("samples.csv").exists() else ""
        assert ",good" not in text


def test_a_sensor_that_wants_999_seconds_is_not_waited_for(leitwerk, tmp_path, monkeypatch):
    class Slow(Eibisch):
        def answers(self, line):
            return [f"{self.unit}9992"] if line[1:] == "MC" else super().answers(line)

    from hostile import HostileProxy

    with Slow() as device, HostileProxy(device.port, device.port, "", 0, wire=tmp_path / "tty"):
        scene = SCENES["SDI-12"]
        monkeypatch.chdir(tmp_path)
        Path("datasheets").mkdir()
        Path("datasheets/one.yaml").write_text(scene.datasheet, "utf-8")
        text = scene.setup.format(at=scene.at.format(path=tmp_path / "tty"))
        Path("setup.yaml").write_text(text, "utf-8")
        result = leitwerk("live", "setup.yaml", "--for", "0.1 s", "--timeout", "0.3")
        assert result.exit_code == 3
        assert "would take 999 s" in result.output
