"""What tests share: the kiln's setup, its datasheet, stand-ins, and the command."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime, timedelta
from importlib import resources
from pathlib import Path

import pytest
from click.testing import CliRunner, Result
from hypothesis import settings

import leitwerk as lw
from leitwerk.cli import main
from leitwerk.parsing.address import LinkAddress
from leitwerk.protocols.modbus import ReadRequest, WriteRequest
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.firmware import RefusedError
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile

_FUZZ = int(os.environ.get("LEITWERK_FUZZ_EXAMPLES", "2000"))
settings.register_profile("fuzz", max_examples=_FUZZ, deadline=None)
settings.register_profile("usual", deadline=None, max_examples=50)
settings.load_profile("usual")

ROOT = Path(__file__).parent.parent
PASSWORDS = {"operator": "1834"}
EXAMPLES = resources.files("leitwerk") / "examples"
KILN = (EXAMPLES / "kiln.yaml").read_text("utf-8")
NOWHERE = LinkAddress("modbus+tcp", "127.0.0.1", 9, 3)


@pytest.fixture(autouse=True, scope="session")
def nobodys_data_folder(tmp_path_factory):
    """No datasheet of whoever runs the tests is seen by them, and no lock of other tests."""
    with pytest.MonkeyPatch.context() as patch:
        folder = str(tmp_path_factory.mktemp("data"))
        patch.setenv("XDG_DATA_HOME", folder)
        patch.setenv("LEITWERK_LOCKS", folder)
        yield


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


class SteppedTime:
    """A time in s that stands still until it is waited for."""

    def __init__(self) -> None:
        self.now_s = 0.0
        self._began = datetime.now(UTC)

    def __call__(self) -> float:
        return self.now_s

    def wait(self, seconds: float) -> None:
        self.now_s += seconds

    @property
    def clock(self) -> lw.Clock:
        """The same as a clock for what waits."""
        began = self._began
        return lw.Clock(lambda: began + timedelta(seconds=self.now_s), self, self.wait)


class MemoryLink:
    """A logger without a socket; from request ``fails_at`` on it is not heard any more.

    With ``deaf`` it still gets that one request, and only its answer is lost.
    """

    def __init__(self, logger: Logger) -> None:
        self.logger = logger
        self.address = NOWHERE
        self.requests: list[str] = []
        self.fails_at: int | None = None
        self.deaf = False

    def read(self, requests: Sequence[ReadRequest]) -> list[int]:
        return [word for r in requests for word in self._do(r)]

    def write(self, request: WriteRequest) -> None:
        self._do(request)

    def close(self) -> None:
        pass

    def _do(self, request: ReadRequest | WriteRequest) -> list[int]:
        lost = self.fails_at is not None and len(self.requests) >= self.fails_at
        heard = not lost or (self.deaf and len(self.requests) == self.fails_at)
        self.requests.append(str(request))
        words: list[int] = []
        if heard:
            try:
                if isinstance(request, ReadRequest):
                    words = self.logger.read(request.table, request.start, request.count)
                else:
                    self.logger.write(request.start, request.words)
            except RefusedError as refused:
                raise lw.DeviceRefused("refused", code=refused.code) from refused
        if lost:
            raise lw.LinkTimeout("no answer")
        return words


@pytest.fixture
def logger(sheet) -> Logger:
    """A logger of the kiln in factory condition, on a clock of its own."""
    return Logger(sheet, find_profile("fichte-8"), Plant(), SteppedTime(), Disturbances())


@pytest.fixture
def device(sheet, logger) -> lw.Device:
    """The logger behind a link in memory."""
    return lw.Device(sheet, MemoryLink(logger))


def example(name: str, address: object) -> str:
    """An example's setup for a device at an address."""
    text = (EXAMPLES / f"{name}.yaml").read_text("utf-8")
    at = next(line for line in text.splitlines() if line.startswith("  at: "))
    return text.replace(at, f"  at: {address}")


def kiln_text(address: object = NOWHERE) -> str:
    """The kiln's setup for a device at this address."""
    return KILN.replace("modbus+tcp://127.0.0.1:5020?unit=3", str(address))


def checked(text: str, file: str = "setup.yaml") -> lw.CheckedSetup:
    """A setup, checked on the datasheet of its model."""
    setup = lw.parse_setup(text, file=file)
    return lw.check_setup(setup, lw.find_datasheet(setup.device.model))


def kiln(address: object = NOWHERE) -> lw.CheckedSetup:
    """The kiln's setup, checked."""
    return checked(kiln_text(address), "kiln.yaml")


def kept(folder: object, **options: object) -> lw.UploadOptions:
    """Options of an upload with the logger's password."""
    return lw.UploadOptions(folder, **({"passwords": PASSWORDS} | options))


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

    def run(*words: str, typed: str | None = None) -> Result:
        result = CliRunner().invoke(main, words, input=typed)
        assert result.exception is None or isinstance(result.exception, SystemExit), result.output
        assert "Traceback" not in result.output
        return result

    return run


def pytest_terminal_summary(terminalreporter):
    """At how many points uploads were cut off."""
    told = {
        value
        for report in terminalreporter.stats.get("passed", [])
        for name, value in report.user_properties
        if name == "cut points"
    }
    for value in sorted(told):
        terminalreporter.write_line(f"cut points of {value}")
    attacks: dict[str, list[str]] = {}
    for report in terminalreporter.stats.get("passed", []):
        for name, value in report.user_properties:
            if name == "attacks":
                scene, command, count = value.split(":")
                attacks.setdefault(scene, []).append(f"{command} {count}")
    for scene, counts in sorted(attacks.items()):
        total = sum(int(count.split()[-1]) for count in counts)
        terminalreporter.write_line(f"attacks, {scene}: {total} ({', '.join(sorted(counts))})")
