"""The simulated climate logger of a load: a drive with a file of settings, and its own report at the end."""

from __future__ import annotations

import asyncio
import math
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.text_points import texts
from leitwerk.errors import LinkError, QuantityError
from leitwerk.protocols.drive_files import (
    SETTINGS,
    STATUS,
    WISHES,
    format_values,
    parse_values,
)
from leitwerk.standins.clock import CLOCK_FORM, DeviceClock
from leitwerk.standins.faults import Troubles
from leitwerk.standins.firmware import Profile, factory_value

_STEP_S = 0.02
_WRITES_S = 0.2  # how long it writes at the end of a run
_UNKNOWN, _VALUE, _FIXED, _RECORDS, _USED_UP = 1, 2, 3, 4, 5
_LIMITS = range(1, 7)


@dataclass
class _Run:
    number: int
    started: datetime
    began_s: float
    interval_s: float
    length_s: float
    rows: list[tuple[float, float]] = field(default_factory=list)


class ClimateLogger:
    """A climate logger in factory condition, whose drive is a folder. ``factor`` lets its time run faster."""

    def __init__(
        self,
        datasheet: Datasheet,
        profile: Profile,
        folder: Path,
        clock: Callable[[], float],
        *,
        factor: float = 1.0,
        device_clock: DeviceClock | None = None,
        troubles: Troubles | None = None,
    ) -> None:
        self.datasheet, self.profile, self.folder = datasheet, profile, folder
        self.clock, self.factor = clock, factor
        self.device_clock = device_clock or DeviceClock()
        self.troubles = troubles or Troubles()
        self._points = {p.query.partition(" ")[2]: p for p in texts(datasheet.points("settings"))}
        self.settings: dict[str, Stored] = {
            name: factory_value(datasheet.settings[name], text)
            for name, text in profile.factory.items()
        }
        self.state, self._result, self._taken = "IDLE", "0", 0
        self._run: _Run | None = None
        self._waits_until_s = self._written_at_s = 0.0
        self._runs, self._unfetched = 0, set[int]()
        self._alarms = dict.fromkeys(_LIMITS, "OK")
        self._was_used = False
        self._shown = b""
        self._write_settings()
        self._write_status()

    def step(self) -> None:
        """Take what is wanted, and go on recording."""
        if (self.folder / WISHES).exists():
            self._take()
        self._tick()
        self._write_status()

    # ------------------------------------------------------------------ what is wanted of it

    def _take(self) -> None:
        path = self.folder / WISHES
        try:
            wishes = parse_values(path.read_bytes(), WISHES)
            code, what = self._refusal(wishes)
        except LinkError:
            wishes, code, what = {}, _UNKNOWN, WISHES
        if not code:
            for key, text in wishes.items():
                if key in self._points:
                    point = self._points[key]
                    self.settings[point.name] = point.decode(text)
                else:
                    self._act(key, text)
            self._write_settings()
        path.unlink()
        self._taken, self._result = self._taken + 1, f"{code} {what}".strip()

    def _refusal(self, wishes: dict[str, str]) -> tuple[int, str]:
        """Why it takes nothing of it: a number and the key; 0 if it takes all."""
        for key, text in wishes.items():
            point = self._points.get(key)
            if point is not None:
                if not point.write:
                    return _FIXED, key
                if self.state in {"WAITING", "RECORDING"}:
                    return _RECORDS, key
                try:
                    point.storable(point.decode(text))
                except (QuantityError, LinkError):
                    return _VALUE, key
            elif key == "COMMAND" and text == "START":
                if self.state in {"WAITING", "RECORDING"}:
                    return _RECORDS, key
                if self._was_used and self.settings["run.use"] == "single":
                    return _USED_UP, key
            elif key not in {"COMMAND", "CLOCK", "FETCHED"}:
                return _UNKNOWN, key
        return 0, ""

    def _act(self, key: str, text: str) -> None:
        if key == "CLOCK":
            self.device_clock.set(text)
        elif key == "FETCHED":
            self._unfetched.discard(int(text))
        elif text == "START":
            self.state = "WAITING"
            self._waits_until_s = self.clock() + 60.0 * self._number("run.delay") / self.factor
        elif text == "STOP":
            self._end()
        elif text == "ERASE":
            for number in range(1, self._runs + 1):
                for name in (f"RUN-{number}.CSV", f"REPORT-{number}.PDF"):
                    (self.folder / name).unlink(missing_ok=True)
            self._runs, self._unfetched, self.state = 0, set(), "IDLE"

    # ------------------------------------------------------------------ recording

    def _number(self, name: str) -> float:
        return float(self.settings[name] or 0.0)

    def _tick(self) -> None:
        now = self.clock()
        if self.state == "WAITING" and now >= self._waits_until_s:
            started = datetime.strptime(self.device_clock.text(), CLOCK_FORM)  # noqa: DTZ007 - it knows no zone
            self._run = _Run(
                self._runs + 1, started, now, self._number("sample.interval"),
                86_400.0 * self._number("run.length"),
            )  # fmt: skip
            self.state, self._was_used = "RECORDING", True
        run = self._run
        if self.state == "RECORDING" and run is not None:
            passed_s = min((now - run.began_s) * self.factor, run.length_s)
            while len(run.rows) * run.interval_s <= passed_s:
                run.rows.append(climate(len(run.rows) * run.interval_s))
            self._judge(run)
            if passed_s >= run.length_s:
                self._end()
        if self.state == "writing" and now >= self._written_at_s:
            self._finish()

    def _end(self) -> None:
        if self.state == "RECORDING":
            self.state, self._written_at_s = "writing", self.clock() + _WRITES_S
            self._write_csv(half=True)
        elif self.state == "WAITING":
            self.state = "IDLE"

    def _finish(self) -> None:
        run = self._run
        assert run is not None
        self._write_csv(half=False)
        if self.settings["report.pdf"] == "yes":
            lines = [f"kiefer {self.profile.serial}", f"{len(run.rows)} rows since {run.started}"]
            lines += [str(self.settings[f"header.{n}"]) for n in range(1, 7)]
            lines += [f"alarm {k}: {state}" for k, state in self._alarms.items()]
            (self.folder / f"REPORT-{run.number}.PDF").write_bytes(_pdf(lines))
        self._runs = run.number
        self._unfetched.add(run.number)
        self.state = "FINISHED"

    def _write_csv(self, *, half: bool) -> None:
        run = self._run
        assert run is not None
        rows = run.rows[: len(run.rows) // 2] if half else run.rows
        text = f"STARTED={run.started.strftime(CLOCK_FORM)},INTERVAL={run.interval_s:g}\r\n"
        text += "temperature,humidity\r\n"
        text += "".join(f"{t:.1f},{h:.1f}\r\n" for t, h in rows)
        (self.folder / f"RUN-{run.number}.CSV").write_bytes(text.encode())

    def _judge(self, run: _Run) -> None:
        """Its own alarms: one time long enough outside, or long enough in all."""
        for k in _LIMITS:
            watches = self.settings[f"limit.{k}.watches"]
            if watches == "off":
                self._alarms[k] = "OK"
                continue
            column = 0 if watches == "temperature" else 1
            low, high = self._number(f"limit.{k}.low"), self._number(f"limit.{k}.high")
            longest = together = current = 0.0
            for row in run.rows:
                outside = not low <= row[column] <= high
                current = current + run.interval_s if outside else 0.0
                together += run.interval_s if outside else 0.0
                longest = max(longest, current)
            counted = together if self.settings[f"limit.{k}.counts"] == "accumulated" else longest
            is_over = counted > 60.0 * self._number(f"limit.{k}.after")
            self._alarms[k] = "ALARM" if is_over else "OK"

    # ------------------------------------------------------------------ what it shows

    def _write_settings(self) -> None:
        values = {key: p.encode(self.settings[p.name]) for key, p in self._points.items()}
        _write(self.folder / SETTINGS, format_values(values))

    def _write_status(self) -> None:
        temperature, humidity = self._run.rows[-1] if self._run and self._run.rows else climate(0.0)
        values = {
            "MAKER": self.datasheet.maker, "MODEL": self.profile.model, "SERIAL": self.profile.serial,
            "FIRMWARE": self.profile.firmware, "STATE": self.state, "CLOCK": self.device_clock.text(),
            "RUNS": str(self._runs), "UNFETCHED": str(len(self._unfetched)),
            "BATTERY": "2.31" if self.troubles.flat_battery else "3.05",
            "TEMPERATURE": f"{temperature:.1f}", "HUMIDITY": f"{humidity:.1f}",
            **{f"ALARM{k}": state for k, state in self._alarms.items()},
            "TAKEN": str(self._taken), "RESULT": self._result,
        }  # fmt: skip
        content = format_values(values)
        if content != self._shown:
            _write(self.folder / STATUS, content)
            self._shown = content


def climate(seconds: float) -> tuple[float, float]:
    """Temperature in °C and humidity in % of a load on its way: a warm hour at a border on the first day."""
    hours = seconds / 3600.0
    temperature = 5.2 + 1.6 * math.sin(2.0 * math.pi * hours / 24.0)
    if 6.0 <= hours < 7.0:
        temperature += 4.5
    humidity = 48.0 + 4.0 * math.sin(2.0 * math.pi * (hours - 5.0) / 24.0)
    return round(temperature, 1), round(humidity, 1)


def _write(path: Path, content: bytes) -> None:
    temporary = path.with_name(f"~{path.name}")
    temporary.write_bytes(content)
    temporary.replace(path)


def _pdf(lines: list[str]) -> bytes:
    """A page with some lines of text, by ISO 32000."""
    escaped = (line.encode("latin-1", "replace").replace(b"\\", b"\\\\").replace(b"(", b"\\(")
               .replace(b")", b"\\)") for line in lines)  # fmt: skip
    text = (
        b"BT /F1 11 Tf 60 780 Td 16 TL " + b"".join(b"(" + x + b") Tj T* " for x in escaped) + b"ET"
    )
    objects = [
        b"<< /Type /Catalog /Pages 2 0 R >>",
        b"<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
        (
            b"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R "
            b"/Resources << /Font << /F1 5 0 R >> >> >>"
        ),
        b"<< /Length %d >>\nstream\n%s\nendstream" % (len(text), text),
        b"<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
    ]
    out, places = b"%PDF-1.4\n", []
    for number, content in enumerate(objects, start=1):
        places.append(len(out))
        out += b"%d 0 obj\n%s\nendobj\n" % (number, content)
    table = b"".join(b"%010d 00000 n \n" % place for place in places)
    head = b"xref\n0 %d\n0000000000 65535 f \n" % (len(objects) + 1)
    end = b"trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n" % (
        len(objects) + 1,
        len(out),
    )
    return out + head + table + end


async def serve_drive(device: ClimateLogger, ready: Callable[[Path], None]) -> None:
    """Let the device work on its drive, until this is ended."""
    ready(device.folder)
    while True:
        device.step()
        await asyncio.sleep(_STEP_S)
