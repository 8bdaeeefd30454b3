"""Commands on a link that does harm at each request in turn: no traceback, no wrong device, no output
left on, no untrue end.

The devices and the proxy are written apart from the product. ``LEITWERK_HOSTILE=all`` takes every request;
else some of them are taken, and some of the acts.
"""

import shutil
import time
from pathlib import Path

import pytest
from hostile import ACTS, HostileProxy
from scenes import EVERY, OUTPUTS, SCENES, wait_until

# The proxy is ended in the middle of a connection, as its client is.
pytestmark = pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
EACH = [(scene, name) for scene, found in SCENES.items() for name in found.commands]
# What became known too late to be prevented: a swap that nothing shows, right before a request.
SAID_OF_A_SWAP = ("may be in either of them", "it may have been given it in place")


class Stage:
    """A scene, with a folder of its own."""

    def __init__(self, scene, leitwerk, folder):
        self.scene, self.leitwerk, self.folder = SCENES[scene], leitwerk, folder
        self.begun_by = 1  # requests of an upload until it is left unfinished

    def run(self, name, act, at):
        """One command with one harm: what it said, the devices afterwards, what there was before."""
        scene = self.scene
        wire = self.folder / "tty" if scene.on_a_wire else None
        shutil.rmtree(self.folder / "kept", ignore_errors=True)
        for left in ("adopted.yaml", "samples.csv"):
            Path(left).unlink(missing_ok=True)
        with (
            scene.right() as right,
            scene.wrong() as wrong,
            HostileProxy(right.port, wrong.port, "", 0, wire=wire) as proxy,
        ):
            where = scene.at.format(port=getattr(proxy, "port", 0), path=wire)
            text = scene.setup.format(at=where)
            Path("setup.yaml").write_text(text, "utf-8")
            Path("table.csv").write_text(f'serial,at\n{scene.serial},"{where}"\n', "utf-8")
            if name == "recover":
                self.leave_unfinished(proxy, right)
            before = dict(scene.state(right))
            if name in {"attend", "prove"}:
                right.course = [1200, 1200, 1350, 1350, 1200, 1200]
            right.writes.clear()
            proxy.act, proxy.at, proxy.requests = act, at, 0
            proxy.restart = getattr(right, "restart", proxy.restart)
            began = time.monotonic()
            result = self.leitwerk(*scene.words(name, where), "--timeout", scene.timeout)
            assert time.monotonic() - began < 30, (name, act, at)
            self.requests = proxy.requests
            return result, right, wrong, before

    def leave_unfinished(self, proxy, right):
        """An upload that broke off behind its first write, and could not be undone."""
        while True:
            proxy.cut_after, proxy.requests = self.begun_by, 0
            self.leitwerk("upload", "setup.yaml", "--timeout", self.scene.timeout)
            proxy.cut_after = 0
            assert wait_until(lambda: proxy.wire is None or proxy.wire.exists())
            begun = list(Path("kept").glob("*/journal.json"))
            if begun and wait_until(lambda: right.writes, 0.2):
                return
            assert not right.writes, "it was finished or undone"
            shutil.rmtree("kept", ignore_errors=True)
            self.begun_by += 1


@pytest.fixture
def stage(leitwerk, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))

    def begin(scene):
        found = SCENES[scene]
        monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", found.password)
        (tmp_path / "datasheets").mkdir()
        if found.datasheet:
            (tmp_path / "datasheets" / "one.yaml").write_text(found.datasheet, "utf-8")
        (tmp_path / "backup.json").write_text(found.backup, "utf-8")
        return Stage(scene, leitwerk, tmp_path)

    return begin


@pytest.mark.parametrize(("scene", "name"), EACH, ids=[f"{s}-{n}" for s, n in EACH])
def test_a_command_under_attack_ends_in_order(stage, scene, name, record_property):
    acting = stage(scene)
    well, right, _, _ = acting.run(name, "", 0)
    assert well.exit_code == acting.scene.well.get(name, 0), well.output
    assert_true(acting, name, "", well, right, {})
    every = range(1, acting.requests + 2)
    attacks = [(act, at) for at in every for act in ACTS]
    if not EVERY:  # some of them, others for each command
        first, some = EACH.index((scene, name)) % 7, 1 if name == "recover" else 2
        attacks = attacks[first :: max(1, len(attacks) // some)][:some]
    for act, at in attacks:
        result, right, wrong, before = acting.run(name, act, at)
        where = (scene, name, act, at, result.exit_code, result.output[-700:])
        if wrong.writes:
            assert act == "swap in silence", where
            assert result.exit_code != 0, where
            assert any(said in result.output for said in SAID_OF_A_SWAP), where
            continue
        assert_true(acting, name, act, result, right, before, where)
    record_property("attacks", f"{scene}:{name}:{len(attacks)}")


def assert_true(acting, name, act, result, right, before, where=""):
    """What was said last is so."""
    scene, said = acting.scene, result.output
    if name in {"upload", "restore", "recover", "batch"}:
        assert_settings_are_as_said(scene, name, result, dict(scene.state(right)), before, where)
    if name == "say" and result.exit_code == 0:
        assert "confirmed" in said, where
        assert scene.state(right) == scene.new, where
    if name == "request" and result.exit_code == 1 and "requested" in said:
        assert wait_until(lambda: scene.state(right) == scene.new), where
    if name == "live":
        passed = result.exit_code == 0
        assert passed is ("PASSED: 1 of 1" in said and "NOT PASSED" not in said), where
        # No value of the other device is kept as good.
        text = Path("samples.csv").read_text("utf-8") if Path("samples.csv").exists() else ""
        assert scene.odd[0] not in text or act == "swap in silence", where
    if name == "adopt" and Path("adopted.yaml").exists():
        text = Path("adopted.yaml").read_text("utf-8")
        assert f"serial: {scene.serial}" in text, where
        assert scene.odd[1] not in text, where
    if name in OUTPUTS:
        assert_outputs_are_as_said(name, result, right, where)


def assert_settings_are_as_said(scene, name, result, now, before, where):
    said, new = result.output, dict(scene.new)
    if result.exit_code == 0 or "it works with the new settings" in said:
        assert now.items() >= new.items(), where
    if "unchanged: no setting was written" in said:
        assert now == before, where
    if "has been undone" in said:
        with scene.right() as factory:
            assert now == (scene.state(factory) if name == "recover" else before), where


def assert_outputs_are_as_said(name, result, right, where):
    if getattr(right, "driven", (0, 0)) != (0, 0):
        assert result.exit_code != 0, where
        assert "NOT SAFE" in result.output, where
    if result.exit_code != 0:
        return
    if name == "readdress":
        assert right.unit in {9, "9"}, where
    if name == "record":
        assert right.recording, where
    if name == "fetch":
        rows = next(Path("kept").glob("*/*recording*.csv")).read_text("utf-8")
        assert all(f",{value:g}" in rows for value in (20.5, 23, 26)), where
