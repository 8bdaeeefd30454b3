"""Passwords: named in no file, found in the environment, the key store, or asked for."""

import subprocess
import sys

import keyring
import keyring.backend
import keyring.errors
import pytest

import leitwerk as lw
from conftest import NOWHERE
from leitwerk.project import passwords
from leitwerk.project.passwords import Passwords, keep_password


class Store(keyring.backend.KeyringBackend):
    """A key store that lasts as long as a test."""

    priority = 1

    def __init__(self):
        super().__init__()
        self.kept, self.locked = {}, False

    def _open(self):
        if self.locked:
            raise keyring.errors.KeyringLocked("it is locked")

    def get_password(self, service, username):
        self._open()
        return self.kept.get((service, username))

    def set_password(self, service, username, password):
        self._open()
        self.kept[service, username] = password

    def delete_password(self, service, username):
        del self.kept[service, username]


@pytest.fixture
def store(monkeypatch):
    before, one = keyring.get_keyring(), Store()
    keyring.set_keyring(one)
    monkeypatch.delenv("LEITWERK_PASSWORD_OPERATOR", raising=False)
    yield one
    keyring.set_keyring(before)


def test_the_environment_comes_first_then_the_store_then_a_question(store, monkeypatch):
    asked = []
    mine = Passwords("fichte-8", "K2-00417", lambda role: asked.append(role) or "typed")
    assert mine["operator"] == "typed"
    keep_password("operator", "fichte-8", "k2 417", "stored")
    assert mine["operator"] == "stored"
    store.locked = True
    assert mine["operator"] == "typed"
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "set")
    assert mine["operator"] == "set"
    assert asked == ["operator", "operator"]
    monkeypatch.delenv("LEITWERK_PASSWORD_OPERATOR")
    with pytest.raises(lw.DeviceRefused, match="wants the password of the operator"):
        Passwords("fichte-8", "1")["operator"]


def test_the_command_keeps_and_forgets(store, leitwerk, kiln_file, monkeypatch):
    monkeypatch.delenv("LEITWERK_PASSWORD_OPERATOR", raising=False)
    path = kiln_file(NOWHERE)
    monkeypatch.setattr("sys.stdin", type("Typed", (), {
        "isatty": lambda self: False, "readline": lambda self: "1834\n"})())  # fmt: skip
    from click.testing import CliRunner

    from leitwerk.cli import main

    kept = CliRunner().invoke(main, ["password", path, "operator"], input="1834\n")
    assert (kept.exit_code, list(store.kept.values())) == (0, ["1834"])
    assert "1834" not in kept.output
    assert leitwerk("password", path, "operator", "--forget").exit_code == 0
    assert leitwerk("password", path, "operator", "--forget").exit_code == 1
    assert CliRunner().invoke(main, ["password", path, "operator"], input="\n").exit_code == 2
    store.locked = True
    locked = CliRunner().invoke(main, ["password", path, "operator"], input="1\n")
    assert (locked.exit_code, "it is locked" in locked.stderr) == (2, True)


def test_without_the_package_the_other_ways_are_left(monkeypatch, leitwerk, kiln_file):
    monkeypatch.setattr(passwords, "_store", lambda: None)
    assert Passwords("m", "1", lambda role: "typed")["any"] == "typed"
    result = leitwerk("password", kiln_file(NOWHERE), "operator", "--forget")
    assert (result.exit_code, "leitwerk[keystore]" in result.stderr) == (2, True)


@pytest.mark.process
def test_the_key_store_is_loaded_only_when_a_password_is_wanted():
    code = "import sys, leitwerk.transfer, leitwerk.reports.device_page; print('keyring' in sys.modules)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "False"
