"""The plug-in of pytest that runs the conformance suite: ``pytest --leitwerk datasheets templates``.

pytest loads it wherever the package is installed; without its options, it does nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import pytest


def pytest_addoption(parser: pytest.Parser) -> None:
    """The options of the suite."""
    group = parser.getgroup("leitwerk", "conformance of files and links for Leitwerk")
    group.addoption(
        "--leitwerk", action="store_true", help="Test the files of Leitwerk that are named."
    )
    group.addoption("--leitwerk-link", metavar="ADDRESS", help="Test the link to the device there.")
    group.addoption("--leitwerk-model", metavar="MODEL", help="The model of that device.")


def pytest_collect_file(file_path: Path, parent: pytest.Collector) -> pytest.Collector | None:
    """A file of Leitwerk, if they are to be tested."""
    if not parent.config.getoption("--leitwerk") or file_path.suffix != ".yaml":
        return None
    file: pytest.Collector = _File.from_parent(parent, path=file_path)
    return file


def pytest_collection_modifyitems(
    session: pytest.Session, config: pytest.Config, items: list[pytest.Item]
) -> None:
    """Add the checks of a link, if one is named."""
    address, model = config.getoption("--leitwerk-link"), config.getoption("--leitwerk-model")
    if not address:
        return
    if not model:
        raise pytest.UsageError(
            "--leitwerk-link needs --leitwerk-model, the model of the device there"
        )
    from leitwerk.conformance.checks import link_checks  # noqa: PLC0415 - pytest loads this everywhere

    items += [
        _Check.from_parent(session, name=f"link: {name}", check=check)
        for name, check in link_checks(address, model)
    ]


class _Check(pytest.Item):
    """One thing that is tried."""

    def __init__(self, *, check: Callable[[], object], **more: Any) -> None:
        super().__init__(**more)
        self._check = check

    def runtest(self) -> None:
        """Try it."""
        self._check()

    def repr_failure(self, excinfo: pytest.ExceptionInfo[BaseException], style: Any = None) -> Any:
        """What was found, without the way through the code where it is a message."""
        from leitwerk.errors import LeitwerkError  # noqa: PLC0415 - as above

        if isinstance(excinfo.value, (LeitwerkError, AssertionError)) and str(excinfo.value):
            return str(excinfo.value)
        return super().repr_failure(excinfo, style)

    def reportinfo(self) -> tuple[Path, int | None, str]:
        """Where it is reported."""
        return self.path, None, self.name


class _File(pytest.File):
    """A file of Leitwerk: what can be tried with it."""

    def collect(self) -> Iterable[pytest.Item]:
        """The checks of its kind; none of a file of another kind."""
        from leitwerk.conformance.checks import kind_of  # noqa: PLC0415 - as above

        checks = kind_of(self.path)
        for name, check in checks(self.path) if checks is not None else ():
            yield _Check.from_parent(self, name=name, check=check)
