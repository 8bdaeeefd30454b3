"""The interactive view of a watch: what is shown, and what each key does. It knows no terminal.

A line is a list of pairs of a style and a text. What a style says by colour is said in words, too.
"""

from __future__ import annotations

import copy
import json
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any, Literal

from leitwerk.analysis.running import RunningStatistics
from leitwerk.cli.live_columns import (
    COLUMNS,
    USUAL,
    age_cell,
    alarm_cell,
    cut,
    state_cell,
    style_of,
    value_cell,
)
from leitwerk.errors import FileProblem, LeitwerkError
from leitwerk.evaluation.display_units import next_unit
from leitwerk.monitoring.live_board import LiveBoard, LiveRow
from leitwerk.monitoring.watching import Watching
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.units import Unit, parse_unit
from leitwerk.project.files import write_atomic
from leitwerk.reports.terminal_pictures import big_text, curve_lines

Line = list[tuple[str, str]]
Entry = tuple[int, int]  # the number of the device, and of its channel
SMALLEST = (40, 10)
PERIODS = (0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 30.0, 60.0, 300.0, 600.0, 3600.0)
_WIDEST_NAME = 24
_STALE_PERIODS, _STALE_S = 2.5, 1.0


_KEYS = (
    ("↑↓", "select"), ("Enter", "large"), ("Space", "pause"), ("←→", "back"), ("m", "mark"), ("r", "reset"),
    ("u", "unit"), ("+ -", "interval"), ("[ ]", "move"), ("h H", "hide, show"), ("c", "columns"),
    ("f", "figure"), ("q", "end"),
)  # fmt: skip


@dataclass
class LiveView:
    """Everything that the view shows. What changes it, and what reads it, holds ``watching.lock``."""

    watching: Watching
    titles: Sequence[str]
    now: Callable[[], datetime] = lambda: datetime.now(UTC)
    draw: Callable[[str, Unit], str] = lambda name, unit: "no figure here"
    trouble: Callable[[], str] = lambda: ""
    columns: list[str] = field(default_factory=lambda: list(USUAL))
    entries: list[Entry] = field(default_factory=list)
    units: dict[Entry, Unit] = field(default_factory=dict)
    mode: Literal["table", "large", "columns"] = "table"
    selected: int = 0
    top: int = 0
    message: str = ""
    is_over: bool = False
    _paused: dict[int, tuple[int, RunningStatistics]] = field(default_factory=dict)
    _back: int = 0
    _chosen_column: int = 0
    _now_s: float = 0.0

    def __post_init__(self) -> None:
        """``boards`` are one for each device."""
        self.boards: list[LiveBoard] = [watch.board for watch in self.watching.watches]
        self.entries = self.entries or self.all_entries()

    def all_entries(self) -> list[Entry]:
        """All channels of all devices, in the order of the files."""
        return [(d, k) for d, board in enumerate(self.boards) for k in range(len(board.channels))]

    def name(self, entry: Entry) -> str:
        """How a channel is called here: with its device, if there are several."""
        device, column = entry
        name = self.boards[device].channels[column].name
        return name if len(self.boards) == 1 else f"{self.titles[device]}.{name}"

    # ------------------------------------------------------------------ rows

    def row(self, entry: Entry, also: Sequence[str] = ()) -> LiveRow:
        """A channel as it is shown now, or was when it was paused."""
        device, column = entry
        board, back, statistics = self.boards[device], 0, None
        if self._paused:
            taken, statistics = self._paused[device]
            back = min(board.taken - taken + self._back, max(0, len(board.history) - 1))
        stale_s = _STALE_PERIODS * self.watching.period_s + _STALE_S
        return board.row(
            column, self._now_s, unit=self.units.get(entry), back=back, stale_s=stale_s,
            statistics=statistics, also=also or self.columns,
        )  # fmt: skip

    # ------------------------------------------------------------------ lines

    def lines(self, width: int, height: int) -> list[Line]:
        """All lines of the screen."""
        self._now_s = self.now().timestamp()
        if width < SMALLEST[0] or height < SMALLEST[1]:
            text = f"This window is too small: at least {SMALLEST[0]} x {SMALLEST[1]}."
            said: list[Line] = [[("bad", text[:width])], [("", "q ends."[:width])]]
            return (said + [[] for _ in range(height)])[:height]
        keys = self._key_lines(width)
        space = height - 1 - len(keys)
        body = {
            "table": self._table, "large": self._large, "columns": self._choice,
        }[self.mode](width, space)  # fmt: skip
        body = body[:space] + [[] for _ in range(space - len(body))]
        return [self._title(width), *body, *keys]

    def _title(self, width: int) -> Line:
        state = f"every {duration_text(self.watching.period_s)}"
        if self._paused:
            back = f", {self._back} samples back" if self._back else ""
            state = f"PAUSED{back}"
        at = self.now().astimezone().strftime("%H:%M:%S")
        right = f" {state}  {at}"
        left = " · ".join(self.titles)
        room = width - len(right)
        left = left if len(left) <= room else left[: max(0, room - 1)] + "…"
        return [("title", f"{left:{room}}"), ("warn" if self._paused else "title", right)]

    @staticmethod
    def _key_lines(width: int) -> list[Line]:
        lines: list[Line] = [[]]
        used = 0
        for key, what in _KEYS:
            size = len(key) + len(what) + 3
            if used and used + size > width:
                lines.append([])
                used = 0
            lines[-1] += [("key", key), ("", f" {what}  ")]
            used += size
        return lines

    def _table(self, width: int, height: int) -> list[Line]:
        if not self.entries:
            return [[("warn", "All channels are hidden: H shows them again.")]]
        self.selected = min(self.selected, len(self.entries) - 1)
        below = self._details(self.row(self.entries[self.selected], ["signal"]), width)
        space = max(1, height - 1 - len(below))
        self.top = max(0, min(self.top, self.selected, len(self.entries) - space))
        self.top = max(self.top, self.selected - space + 1)
        visible = self.entries[self.top : self.top + space]
        rows = [self.row(entry) for entry in visible]
        names = [self.name(entry) for entry in visible]
        heading, table = self._cells(names, rows, width)
        lines: list[Line] = [[("head", heading[:width])]]
        for number, (text, row) in enumerate(zip(table, rows, strict=True), start=self.top):
            marker = ">" if number == self.selected else " "
            style = "selected" if number == self.selected else style_of(row)
            lines.append([(style, f"{marker}{text}"[:width].ljust(width))])
        lines += [[] for _ in range(space - len(rows))]
        return [*lines, *below]

    def _cells(
        self, names: Sequence[str], rows: Sequence[LiveRow], width: int
    ) -> tuple[str, list[str]]:
        """The heading, and one text for each row; columns that do not fit are left out at the right."""
        size = min(_WIDEST_NAME, max(7, *map(len, names)))
        heading = f" {'channel':{size}}"
        texts = [f"{name[:size]:{size}}" for name in names]
        for key in self.columns:
            column = COLUMNS[key]
            cells = [column.cell(row) for row in rows]
            wide = min(column.widest, max(map(len, [column.heading, *cells])))
            room = width - len(heading) - 2
            if room < min(wide, 9):
                return heading + " ›", texts
            wide = min(wide, room)
            heading += f"  {column.heading[:wide]:{column.align}{wide}}"
            texts = [
                f"{text}  {cut(cell, wide):{column.align}{wide}}"
                for text, cell in zip(texts, cells, strict=True)
            ]
        return heading, texts

    def _details(self, row: LiveRow, width: int) -> list[Line]:
        """What is to be said of the selected channel beside its line."""
        parts = [f"value is {age_cell(row)} old"] if row.is_stale and row.age_s is not None else []
        parts += [row.label] if row.label != row.channel else []
        parts += [f"signal {row.signal}"] if row.signal else []
        parts += [f"expected {row.expected} {row.unit}".rstrip()] if row.expected != "–" else []
        parts += [f"alarm {name}: {state}" for name, state in row.alarms]
        lines: list[Line] = [[("dim", "─" * width)], [("", "   ".join(parts)[:width])]]
        lines.append([("bad" if row.is_stale else "warn", row.why[:width])])
        trouble = self.trouble()
        lines.append([("bad", trouble[:width])] if trouble else [("", self.message[:width])])
        return lines

    def _large(self, width: int, height: int) -> list[Line]:
        entry = self.entries[self.selected] if self.entries else self.all_entries()[0]
        row = self.row(entry)
        alarm = alarm_cell(row)
        head = [
            ("head", f"{self.name(entry)}  {row.label if row.label != row.channel else ''}"[:width])
        ]
        state = f"{state_cell(row)}" + (f"   alarm {alarm}" if alarm else "")
        state += f"   {age_cell(row)} old" if row.is_stale else ""
        figures = (
            f"min {row.minimum}   max {row.maximum}   mean {row.mean}   std dev {row.deviation}"
        )
        tall = max(3, (height - 4) * 3 // 5)
        text = f"{value_cell(row)} {row.unit}".strip()
        style = style_of(row) or "value"
        big = [[(style, line.rstrip())] for line in big_text(text, width - 2, tall)]
        board, column = self.boards[entry[0]], entry[1]
        history = board.history
        values = board.in_unit(column, history.known()[:, column], self.units.get(entry))
        lines: list[Line] = [head, *big, [(style_of(row), state[:width])], [("", figures[:width])]]
        left = height - len(lines) - 1
        if board.channels[column].states is None and left > 1 and len(history):
            lines += [[("dim", x)] for x in curve_lines(history.times_s, values, width, left)]
        lines.append([("", self.message[:width])])
        return lines

    def _choice(self, width: int, height: int) -> list[Line]:
        """The columns, to switch on and off."""
        head = "Columns: Space switches one on or off, [ ] moves it, c closes"
        lines: list[Line] = [[("head", head[:width])]]
        for number, key in enumerate(self._every_column()):
            marker = ">" if number == self._chosen_column else " "
            mark = "x" if key in self.columns else " "
            text = f"{marker} [{mark}] {key:10} {COLUMNS[key].heading}"
            style = "selected" if number == self._chosen_column else ""
            lines.append([(style, text[:width])])
        first = max(0, self._chosen_column + 2 - height)
        return [lines[0], *lines[1 + first :]]

    def _every_column(self) -> list[str]:
        return [*self.columns, *(key for key in COLUMNS if key not in self.columns)]

    # ------------------------------------------------------------------ keys

    def press(self, key: str) -> None:
        """Do what a key is for; a key that is for nothing does nothing."""
        self.message = ""
        if self.mode == "columns" and key in {
            "up",
            "down",
            "space",
            "[",
            "]",
            "c",
            "enter",
            "escape",
        }:
            self._press_in_choice(key)
            return
        act = self._acts().get(key)
        if act is not None:
            act()

    def _acts(self) -> Mapping[str, Callable[[], None]]:
        return {
            "up": partial(self._move, -1), "down": partial(self._move, 1),
            "pageup": partial(self._move, -10), "pagedown": partial(self._move, 10),
            "home": partial(self._move, -(10**6)), "end": partial(self._move, 10**6),
            "enter": self._enlarge, "escape": self._table_again, "space": self._pause,
            "left": partial(self._scroll, 1), "right": partial(self._scroll, -1),
            "m": self._mark, "r": self._reset, "u": self._unit,
            "+": partial(self._interval, 1), "-": partial(self._interval, -1),
            "[": partial(self._shift, -1), "]": partial(self._shift, 1),
            "h": self._hide, "H": self._show_all, "c": self._choose, "f": self._figure, "q": self._end,
        }  # fmt: skip

    def _move(self, step: int) -> None:
        self.selected = max(0, min(len(self.entries) - 1, self.selected + step))

    def _pause(self) -> None:
        if self._paused:
            self._paused, self._back = {}, 0
            return
        self._paused = {
            d: (board.taken, copy.deepcopy(board.statistics)) for d, board in enumerate(self.boards)
        }

    def _scroll(self, step: int) -> None:
        if not self._paused:
            self._pause()
        longest = max((len(board.history) for board in self.boards), default=1)
        self._back = max(0, min(longest - 1, self._back + step))

    def _mark(self) -> None:
        for board in self.boards:
            board.mark()
        self.message = "mark: statistics of all channels begin now"

    def _reset(self) -> None:
        if self.entries:
            device, column = self.entries[self.selected]
            self.boards[device].statistics.reset([column])
            self.message = f"statistics of {self.name((device, column))} begin now"

    def _unit(self) -> None:
        if not self.entries:
            return
        entry = self.entries[self.selected]
        own = self.boards[entry[0]].channels[entry[1]].unit
        shown = next_unit(own, self.units.get(entry, own))
        self.units[entry] = shown
        if shown == own:
            del self.units[entry]
        self.message = f"{self.name(entry)} is shown in {shown or 'its own unit'}"

    def _interval(self, step: int) -> None:
        now = self.watching.period_s
        faster = [p for p in PERIODS if p < now * 0.999]
        slower = [p for p in PERIODS if p > now * 1.001]
        if step < 0 and faster:
            self.watching.period_s = faster[-1]
        elif step > 0 and slower:
            self.watching.period_s = slower[0]

    def _shift(self, step: int) -> None:
        at, to = self.selected, self.selected + step
        if 0 <= at < len(self.entries) and 0 <= to < len(self.entries):
            self.entries[at], self.entries[to] = self.entries[to], self.entries[at]
            self.selected = to

    def _hide(self) -> None:
        if self.entries:
            entry = self.entries.pop(self.selected)
            self.message = f"{self.name(entry)} is hidden; H shows all"
            self._move(0)

    def _show_all(self) -> None:
        self.entries += [entry for entry in self.all_entries() if entry not in self.entries]

    def _figure(self) -> None:
        if self.entries:
            device, column = self.entries[self.selected]
            channel = self.boards[device].channels[column]
            unit = self.units.get((device, column), channel.unit)
            try:
                self.message = self.draw(self.name((device, column)), unit)
            except LeitwerkError as error:
                self.message = error.message

    def _enlarge(self) -> None:
        self.mode = "table" if self.mode == "large" else "large"

    def _choose(self) -> None:
        self.mode = "columns"

    def _table_again(self) -> None:
        self.mode = "table"

    def _end(self) -> None:
        self.is_over = True

    def _press_in_choice(self, key: str) -> None:
        every = self._every_column()
        key_of = every[self._chosen_column]
        step = {"up": -1, "down": 1, "[": -1, "]": 1}.get(key, 0)
        if key in {"c", "enter", "escape"}:
            self.mode = "table"
        elif key == "space" and key_of in self.columns:
            self.columns.remove(key_of)
            self._chosen_column = self._every_column().index(key_of)
        elif key == "space":
            self.columns.append(key_of)
            self._chosen_column = self.columns.index(key_of)
        elif key in {"[", "]"} and key_of in self.columns:
            to = max(0, min(len(self.columns) - 1, self._chosen_column + step))
            self.columns.remove(key_of)
            self.columns.insert(to, key_of)
            self._chosen_column = to
        elif step:
            self._chosen_column = max(0, min(len(every) - 1, self._chosen_column + step))

    # ------------------------------------------------------------------ kept

    def save(self, path: Path) -> None:
        """Keep columns, order, selection and units; what cannot be written is no reason to fail."""
        content = {
            "columns": self.columns,
            "channels": [self.name(entry) for entry in self.entries],
            "units": {self.name(entry): str(unit) for entry, unit in self.units.items()},
        }
        with suppress(FileProblem):
            write_atomic(path, json.dumps(content, ensure_ascii=False, indent=1) + "\n")

    def load(self, path: Path) -> None:
        """Take what was kept, as far as it fits; a new channel stands at the end."""
        try:
            content: Any = json.loads(path.read_text("utf-8"))
            names = {self.name(entry): entry for entry in self.all_entries()}
            self.take_columns([str(key) for key in content["columns"]])
            chosen = [names[name] for name in dict.fromkeys(content["channels"]) if name in names]
            self.entries = chosen or self.all_entries()
            for name, symbol in dict(content["units"]).items():
                entry = names.get(name)
                if entry is not None:
                    self.take_unit(entry, parse_unit(str(symbol)))
        except (OSError, ValueError, KeyError, TypeError, AttributeError, LeitwerkError):
            return

    def take_columns(self, keys: Sequence[str]) -> None:
        """Show these columns; those that there are."""
        self.columns = [key for key in dict.fromkeys(keys) if key in COLUMNS] or list(USUAL)

    def take_unit(self, entry: Entry, unit: Unit) -> None:
        """Show a channel in a unit, if it is one of its kind."""
        own = self.boards[entry[0]].channels[entry[1]].unit
        if unit.dimension == own.dimension and unit != own:
            self.units[entry] = unit
