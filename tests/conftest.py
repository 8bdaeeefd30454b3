"""What tests share: the kiln's setup, its datasheet, running stand-ins, and the command."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from importlib import resources
from pathlib import Path

import pytest
from click.testing import CliRunner, Result

import leitwerk as lw
from leitwerk.cli import main

PASSWORDS = {"operator": "1834"}
KILN = (resources.files("leitwerk") / "examples" / "kiln.yaml").read_text("utf-8")


@pytest.fixture(scope="session")
def sheet():
    return lw.find_datasheet("fichte-8")


@pytest.fixture
def standin() -> Iterator[Callable[..., lw.StandIn]]:
    """Starts stand-ins that end with the test."""
    running = []

    def start(*options: str) -> lw.StandIn:
        running.append(lw.start_standin("fichte-8", *options))
        return running[-1]

    yield start
    for one in running:
        one.stop()


def kiln_text(address: object) -> str:
    """The kiln's setup for a device at this address."""
    return KILN.replace("modbus+tcp://127.0.0.1:5020?unit=3", str(address))


def kiln(address: object) -> lw.Setup:
    return lw.parse_setup(kiln_text(address), file="kiln.yaml")


@pytest.fixture
def kiln_file(tmp_path: Path) -> Callable[[object], str]:
    """Writes the kiln's setup for an address into a file."""

    def write(address: object) -> str:
        path = tmp_path / "kiln.yaml"
        path.write_text(kiln_text(address), encoding="utf-8")
        return str(path)

    return write


@pytest.fixture
def leitwerk(monkeypatch: pytest.MonkeyPatch) -> Callable[..., Result]:
    """The command, run in this process; a traceback fails the test."""
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", PASSWORDS["operator"])

    def run(*words: str) -> Result:
        result = CliRunner().invoke(main, words)
        assert result.exception is None or isinstance(result.exception, SystemExit), result.output
        assert "Traceback" not in result.output
        return result

    return run
