"""Devices that appear as a drive: what they hold is read from files; what is wanted is left for them."""

from __future__ import annotations

import csv
import io
import os
import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.text_points import texts
from leitwerk.errors import DeviceRefused, LinkError, LinkTimeout, NotReached
from leitwerk.links.options import LinkOptions
from leitwerk.links.reconnects import Reconnects
from leitwerk.links.text_sessions import QuerySession
from leitwerk.links.trace import note
from leitwerk.parsing.address import LinkAddress
from leitwerk.protocols.drive_files import (
    MOST_BYTES,
    RUN,
    SETTINGS,
    STATUS,
    WISHES,
    format_values,
    parse_values,
)

_LOOK_S = 0.02  # from one look at the drive to the next
_TAKES_S = 30.0  # how long a device may take to take what is wanted
_RUN_BYTES = 50_000_000
_HEAD = ("SELECT", "FIRST")


class DriveLink:
    """One drive. Nothing is kept open: each request looks at its files."""

    def __init__(self, address: LinkAddress, *, options: LinkOptions) -> None:
        self.address, self.options = address, options
        self.folder = Path(address.folder)
        self.reconnects = Reconnects()
        self.requests = 0
        self.lock = threading.RLock()

    def close(self) -> None:
        """Nothing is open."""

    def values(self, name: str) -> dict[str, str]:
        """The values of a file, when the device is not writing.

        Raises
        ------
        NotReached, LinkTimeout, LinkError
            The drive is not there, the device goes on writing, or the file has no values.

        """
        until = time.monotonic() + self.options.timeout_s
        while True:
            self.requests += 1
            status = parse_values(self._content(STATUS), f"{self.folder / STATUS}")
            if status.get("STATE") != "writing":
                break
            if time.monotonic() > until:
                raise LinkTimeout(
                    f"{self.folder}: the device is still writing: do not unplug it",
                    remedy="wait until it shows that it is safe, and try again",
                )
            time.sleep(_LOOK_S)
        if name == STATUS:
            return status
        return parse_values(self._content(name), f"{self.folder / name}")

    def leave(self, wishes: Mapping[str, str]) -> None:
        """Leave what is wanted for the device, and wait until it has taken it.

        Raises
        ------
        DeviceRefused
            It does not take it.
        LinkTimeout, LinkError
            It did not take it in time, or the drive cannot be written.

        """
        with self.lock:
            before = self.values(STATUS).get("TAKEN", "0")
            path = self.folder / WISHES
            self._put(path, format_values(wishes))
            self._trace(WISHES, format_values(wishes), sent=True)
            until = time.monotonic() + max(self.options.timeout_s, _TAKES_S)
            while (status := self.values(STATUS)).get("TAKEN", "0") == before:
                if time.monotonic() > until:
                    path.unlink(missing_ok=True)
                    raise LinkTimeout(
                        f"{self.folder}: the device has not taken {WISHES}; it is removed again",
                        remedy="is this the drive of the device, and not a copy of it?",
                    )
                time.sleep(_LOOK_S)
        code, _, what = status.get("RESULT", "").partition(" ")
        if code != "0":
            raise DeviceRefused(
                f"{self.folder}: the device refused {what[:60] or 'what was wanted'}",
                code=int(code) if code.isdecimal() else None,
            )

    def run(self, number: int) -> list[list[str]]:
        """The lines of a recording: heads, then rows.

        Raises
        ------
        LinkError
            It is not there, or incomplete.

        """
        self.values(STATUS)  # the device is not writing
        text = self._content(f"RUN-{number}.CSV", _RUN_BYTES).decode("utf-8", "replace")
        lines = list(csv.reader(io.StringIO(text)))
        if len(lines) < 3 or any(len(line) != len(lines[1]) for line in lines[1:]):
            raise LinkError(
                f"{self.folder}: RUN-{number}.CSV is incomplete", remedy="is the drive damaged?"
            )
        return lines

    def reports(self) -> list[Path]:
        """The files that the device itself has written: its reports and recordings.

        Raises
        ------
        NotReached, LinkTimeout, LinkError
            As for ``values``.

        """
        self.values(STATUS)
        return sorted(
            path
            for path in self.folder.iterdir()
            if path.is_file() and (path.suffix.upper() == ".PDF" or RUN.fullmatch(path.name))
        )

    def _content(self, name: str, most: int = MOST_BYTES) -> bytes:
        path = self.folder / name
        try:
            with path.open("rb") as file:
                content = file.read(most + 1)
        except FileNotFoundError:
            raise NotReached(
                f"{path} is not there",
                remedy="is the device plugged in, and this the folder of its drive?",
            ) from None
        except OSError as error:
            raise LinkError(
                f"cannot read {path}: {error.strerror}", remedy="was it unplugged? Plug it in again"
            ) from error
        self._trace(name, content, sent=False)
        return content

    @staticmethod
    def _put(path: Path, content: bytes) -> None:
        """Put a file onto the drive: under another name first, so that the device sees it whole."""
        temporary = path.with_name(f"~{path.name}")
        try:
            with temporary.open("wb") as file:
                file.write(content)
                file.flush()
                os.fsync(file.fileno())
            temporary.replace(path)
        except OSError as error:
            raise LinkError(
                f"cannot write {path}: {error.strerror}",
                remedy="is the drive full, or write-protected?",
            ) from error

    def _trace(self, name: str, content: bytes, *, sent: bool) -> None:
        if len(content) <= MOST_BYTES:
            note(self.options.tracer, self.address, content, name, sent=sent)


class DriveSession(QuerySession):
    """Points in the files of a drive: ``STATUS STATE``, ``SETTINGS INTERVAL``, ``RUN ROWS``.

    What is written goes into one file that the device takes whole, or refuses whole.
    """

    def __init__(self, link: DriveLink, datasheet: Datasheet) -> None:
        super().__init__(link.address, datasheet)
        self._link = link
        self._window = {"SELECT": 0, "FIRST": 0}
        self._rows: tuple[int, list[list[str]]] = 0, []
        self._fetched: set[int] = set()  # recordings whose last value was read: the device is told

    def query(self, text: str) -> str:
        """A value of a file, or the window onto a recording."""
        file, _, key = text.partition(" ")
        if file == "RUN":
            return self._shown(key)
        found = self._link.values({"STATUS": STATUS, "SETTINGS": SETTINGS}.get(file, file)).get(key)
        if found is None:
            raise LinkError(
                f"{self._address}: there is no {key} in {file}.TXT",
                remedy="does the datasheet fit this device?",
            )
        return found

    def send(self, message: str, *, public: str | None = None) -> None:
        """One wish; or where the window stands."""
        del public
        key, _, value = message.partition("=")
        if key in _HEAD:
            self._window[key] = int(float(value))
            return
        self._link.leave({key: value})

    def write(
        self,
        values: Mapping[Point, Stored],
        progress: Callable[[int, int], None] = lambda done, total: None,
        *,
        secret: bool = False,
        backwards: bool = False,
        before: Callable[[], None] = lambda: None,
    ) -> int:
        """All at once: the device takes them together, or none."""
        del secret, backwards
        wishes: dict[str, str] = {}
        for point, value in zip(texts(values), values.values(), strict=True):
            key, _, text = point.write.replace("{}", point.encode(value)).partition("=")
            if key in _HEAD:
                self.send(f"{key}={text}")
            else:
                wishes[key] = text
        if wishes:
            before()
            self._link.leave(wishes)
        progress(1, 1)
        return 1

    def count_writes(self, values: Mapping[Point, Stored]) -> int:
        """One for all."""
        return 1 if values else 0

    def _shown(self, key: str) -> str:
        """What the window shows of the recording that is chosen."""
        number = self._window["SELECT"]
        if key == "SELECT":
            return str(number)
        if key in {"FIRST", "SHOWN"}:
            return str(self._window["FIRST"])
        if self._rows[0] != number or key == "ROWS":
            self._rows = number, self._link.run(number)
        lines = self._rows[1]
        rows = lines[2:]
        if key in {"STARTED", "INTERVAL"}:
            return dict(part.partition("=")[::2] for part in lines[0]).get(key, "")
        if key == "ROWS":
            return str(len(rows))
        if key == "COLUMNS":
            return str(len(lines[1]))
        if key.startswith("HEAD"):
            return lines[1][min(int(key.removeprefix("HEAD")), len(lines[1])) - 1]
        place = int(key.removeprefix("VALUE")) - 1 + self._window["FIRST"] * len(lines[1])
        row, column = divmod(place, len(lines[1]))
        if (row, column) == (len(rows) - 1, len(lines[1]) - 1) and number not in self._fetched:
            self._fetched.add(number)
            self._link.leave({"FETCHED": str(number)})
        return rows[row][column] if row < len(rows) else "0"
