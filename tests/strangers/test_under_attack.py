"""Commands on a link that does harm at each request in turn: no traceback, no wrong device, no untrue end.

The devices and the proxy are written apart from the product. ``LEITWERK_HOSTILE=all`` takes every request;
else some of them are taken.
"""

import os
import shutil
import time
from pathlib import Path

import pytest
from hasel import Hasel
from hostile import ACTS, HostileProxy

HERE = Path(__file__).parent
# The proxy is ended in the middle of a connection, as its client is.
pytestmark = pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
EVERY = os.environ.get("LEITWERK_HOSTILE") == "all"
SETUP = """\
leitwerk: 1
title: Weir
device: {{model: HASEL-R, at: "modbus+tcp://127.0.0.1:{port}?unit=1", serial: 70012}}
channels:
  level: {{reading: level, expect: 2140 ± 5 mm}}
settings: {{network.name: Tannried, level.zero: 20 mm, full_scale: 1500 mm, sensor: float}}
"""
NAME = [int.from_bytes(b"Tannried"[k : k + 2], "big") for k in range(0, 8, 2)]
NEW = dict(zip(range(1, 5), NAME, strict=True)) | {18: 20, 20: 1500}
COMMANDS = {
    "upload": ("upload", "weir.yaml"),
    "live": ("live", "weir.yaml", "--for", "0.3 s", "--every", "0.1 s", "--samples", "samples.csv"),
    "device": ("device", "weir.yaml"),
    "adopt": ("adopt", "weir.yaml", "--to", "adopted.yaml"),
    "find": ("find", "{at}"),
    "compare": ("compare", "weir.yaml", "{at}"),
    "try": ("datasheet", "datasheets/hasel.yaml", "--try", "{at}"),
    "restore": ("restore", "backup.json", "{at}"),
    "recover": ("recover", "weir.yaml", "--finish"),
}
BACKUP = """{"backup": 1, "taken": "2026-03-02T06:00:00Z", "device": {"maker": "Haselnuss Messtechnik",
"model": "HASEL-R", "serial": "70012", "firmware": "1.04"}, "settings": {"network.name": "Tannried",
"level.zero": 20.0, "full_scale": 1500.0, "sensor": "float"}}"""


class Neighbour(Hasel):
    """The same model with another serial number, another level, and another setting."""

    def __init__(self):
        super().__init__()
        self.holding[20] = 1800

    def shown(self, function):
        found = super().shown(function)
        return {**found, 6: 4477, 11: 77} if function == 4 else found


def run(leitwerk, folder, name, act, at, requests=None):
    """One command with one harm; what it said, the devices afterwards."""
    with (
        Hasel() as right,
        Neighbour() as wrong,
        HostileProxy(right.port, wrong.port, act, at) as proxy,
    ):
        shutil.rmtree(folder / "kept", ignore_errors=True)
        Path("weir.yaml").write_text(SETUP.format(port=proxy.port), "utf-8")
        Path("adopted.yaml").unlink(missing_ok=True)
        if name == "recover":
            leave_unfinished(leitwerk, proxy, right)
        before = dict(right.holding)
        where = f"modbus+tcp://127.0.0.1:{proxy.port}?unit=1"
        words = [word.format(at=where) for word in COMMANDS[name]]
        proxy.requests = 0
        began = time.monotonic()
        result = leitwerk(*words, "--timeout", "0.15")
        assert time.monotonic() - began < 20
        if requests is not None:
            requests.append(proxy.requests)
        return result, right, wrong, before


def leave_unfinished(leitwerk, proxy, right):
    """An upload whose answer to the first write was lost, and which could not be undone."""
    act, at, proxy.act = proxy.act, proxy.at, ""
    right.cut_at = right.requests + 8
    leitwerk("upload", "weir.yaml", "--timeout", "0.1")
    right.cut_at = 0
    proxy.act, proxy.at = act, at


@pytest.fixture
def folder(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    (tmp_path / "datasheets").mkdir()
    shutil.copy(HERE / "hasel.yaml", tmp_path / "datasheets" / "hasel.yaml")
    (tmp_path / "backup.json").write_text(BACKUP, "utf-8")
    return tmp_path


@pytest.mark.parametrize("act", ACTS)
@pytest.mark.parametrize("name", COMMANDS)
def test_a_command_under_attack_ends_in_order(leitwerk, folder, name, act, record_property):
    counted: list[int] = []
    run(leitwerk, folder, name, "", 0, counted)
    every = range(1, counted[0] + 2)
    chosen = every if EVERY else sorted({1, len(every) // 2 + 1, len(every) - 1})
    for at in chosen:
        result, right, wrong, before = run(leitwerk, folder, name, act, at)
        where = (name, act, at, result.exit_code, result.output[-600:])
        # No other device is ever written to. Only a swap that cannot be seen, between an identification
        # and the write behind it, is found out afterwards; and then it is said.
        if wrong.writes:
            assert act == "swap in silence", where
            assert result.exit_code == 4, where
            assert "what was written may be in either of them" in result.output, where
            continue
        now = {k: right.holding[k] for k in (*NEW, 19)}
        new = NEW | {19: 0}
        old = {k: before[k] for k in now}
        if result.exit_code == 0 and name in {"upload", "restore", "recover"}:
            assert now == new, where
        if "unchanged: no setting was written" in result.output:
            assert now == old, where
        if "has been undone" in result.output:
            # What was left unfinished is undone to what was before it.
            assert now == (dict.fromkeys(now, 0) | {20: 2000} if name == "recover" else old), where
        if "it works with the new settings" in result.output:
            assert now == new, where
        if name == "live":
            passed = result.exit_code == 0
            assert passed is (
                "PASSED: 1 of 1" in result.output and "NOT PASSED" not in result.output
            ), where
            # No value of the other device is kept as good.
            text = Path("samples.csv").read_text("utf-8") if Path("samples.csv").exists() else ""
            assert ",77,good" not in text or act == "swap in silence", where
            Path("samples.csv").unlink(missing_ok=True)
        if name == "adopt" and Path("adopted.yaml").exists():
            text = Path("adopted.yaml").read_text("utf-8")
            assert "serial: 70012" in text, where
            assert "1800" not in text, where
    record_property("attacks", len(chosen))
