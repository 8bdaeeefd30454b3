"""The simulated power analyzer at the main board of the saw hall."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import datetime
from typing import Any

import numpy as np

from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.register_points import registers
from leitwerk.datasheet.vocabulary import (
    FILE_FIRST,
    FILE_SELECT,
    FILE_WORD,
    FIRST_ROW,
    SELECT,
    STORAGE_INTERVAL,
)
from leitwerk.standins.clock import CLOCK_FORM
from leitwerk.standins.firmware import Firmware, Refusal, RefusedError
from leitwerk.standins.held_files import HeldFiles
from leitwerk.standins.mains import Board, Net, Wires
from leitwerk.standins.memory import MEMORY_ROWS, RunMemory
from leitwerk.standins.survey import Campaign, Survey

_HOUR_S, _DAY_S = 3600.0, 86_400.0
_HELD_S = 1.0  # a reading is held until the next one is made
_COLUMNS = (
    "voltage.1", "voltage.2", "voltage.3", "current.1", "current.2", "current.3", "power.active",
    "power.reactive", "frequency", "distortion.1", "distortion.2", "distortion.3", "unbalance",
    "angle.voltage.2", "angle.current.1", "angle.current.2", "flagged",
)  # fmt: skip
_WINDOW, _WORDS = 112, 120
_CAMPAIGNS = range(1, 7)
_SHORT_S = 180.0
_ROW_BYTES = 4.0 * len(_COLUMNS)


class PowerAnalyzer(Firmware):
    """A power analyzer in factory condition. ``factor`` lets its recordings go by faster."""

    def __init__(
        self, *args: Any, wires: Wires, factor: float = 1.0, seed: int = 11, **more: Any
    ) -> None:
        super().__init__(*args, **more)
        self._board, self._wires = Board(seed), wires
        self._began_s = self.clock()
        self.memory = RunMemory(_COLUMNS, self._row, self.clock, self.device_clock, factor)
        self.files = HeldFiles()
        (first_word,) = registers([self.datasheet.point(FILE_WORD, 1)])
        self._words_at = first_word.start
        self._survey: Survey | None = None
        self._held: tuple[tuple[int, bytes], dict[str, float]] | None = None

    @property
    def is_busy(self) -> bool:
        """Settings are taken only while it does not record."""
        return self.memory.is_recording

    def tick(self) -> None:
        """Store the rows that have fallen due."""
        self.memory.tick()

    def carry_out(self, command: Stored) -> None:
        """Start, stop, or erase recordings."""
        if command == "start" and not self.is_busy:
            if self.troubles.full_memory:
                raise RefusedError(Refusal.FAILED)
            self._survey = self._begin_survey()
            self.memory.start(0.0, self._survey.go_on)
        elif command == "stop":
            self.memory.stop()
        elif command == "erase recordings" and not self.is_busy:
            self.memory.erase()
            self.files = HeldFiles()
        else:
            raise RefusedError(Refusal.BAD_VALUE)

    def read(self, table: str, start: int, count: int) -> list[int]:
        """As every device; a piece of a file alone is quick, as there are many."""
        if (
            table == "input"
            and self._words_at <= start
            and start + count <= self._words_at + _WORDS
        ):
            skipped = start - self._words_at
            return self.files.words(skipped + count)[skipped:]
        return super().read(table, start, count)

    def write(self, start: int, words: Sequence[int]) -> None:
        """As every device, and the window onto recordings."""
        for known, holder, name in (
            (SELECT, self.memory, "selected"),
            (FIRST_ROW, self.memory, "first"),
            (FILE_SELECT, self.files, "selected"),
            (FILE_FIRST, self.files, "first"),
        ):
            chosen = self.written(known, None, start, words)
            if chosen is not None:
                setattr(holder, name, int(float(chosen)))
                return
        super().write(start, words)

    def measured(self) -> dict[str, Stored]:
        """Status and readings."""
        # Only recordings go by faster: what is watched is a Monday from 8:00 on.
        since = self.clock() - self._began_s
        # All readings are of one moment: they are made anew once a second, and held until then.
        held = math.floor(since / _HELD_S), bytes(np.array(self.holding, np.uint16))
        if self._held is None or self._held[0] != held:
            at_s = held[0] * _HELD_S
            self._held = held, self._read(self._board.at(at_s % (7 * _DAY_S) + 8 * _HOUR_S))
        now = self._held[1]
        energy = since / _HOUR_S
        return {
            **now,
            "energy.imported": 1204.0 + energy * max(now["power.active"], 0.0),
            "energy.exported": 8817.0 + energy * max(-now["power.active"], 0.0),
            "logged_in": self.roles[self.role],
            "uncommitted": float(len(self.staged)),
            "battery.voltage": 2.31 if self.troubles.flat_battery else 3.58,
            **self._feeder(now["power.active"]),
            **self.memory.shown(_WINDOW),
            **self.files.shown(),
            "memory.used": self._used_percent(),
            **{f"file.word.{w}": float(word) for w, word in enumerate(self.files.words(_WORDS), 1)},
        }

    def _used_percent(self) -> float:
        """How full its memory is: rows, and files in rows."""
        rows = sum(len(run.rows) for run in self.memory.runs)
        in_files = sum(len(data) for data in self.files.content.values()) / _ROW_BYTES
        return min(100.0, 100.0 * (rows + in_files) / MEMORY_ROWS)

    def _feeder(self, active_kw: float) -> dict[str, Stored]:
        """The switch of the feeder and its protection, and what they have done."""
        happened = self._survey.happened if self._survey else []
        gone = [event for event in happened if event.kind == "interruption"]
        since_s = self.memory.since_s
        opened = since_s is not None and any(
            event.begin_s <= since_s < event.begin_s + event.lasts_s for event in gone
        )
        flagged = since_s is not None and self._survey is not None and (
            self._survey.flags(since_s - 1.0, since_s)
        )  # fmt: skip
        return {
            "switch.position": "open" if opened else "closed", "protection": "on",
            "control.mode": "remote", "events": float(len(happened)),
            "interruptions.short": float(sum(e.lasts_s <= _SHORT_S for e in gone)),
            "interruptions.long": float(sum(e.lasts_s > _SHORT_S for e in gone)),
            "operations": float(2 * len(gone)), "flagged": "yes" if flagged else "no",
            "power.direction": "import" if active_kw >= 0.0 else "export",
        }  # fmt: skip

    def _begin_survey(self) -> Survey:
        """What its campaigns store; without one, trends until it is stopped."""
        began = datetime.strptime(self.device_clock.text(), CLOCK_FORM)  # noqa: DTZ007
        campaigns = [
            Campaign(
                str(self.setting(f"campaign.{k}.stores")), str(self.setting(f"campaign.{k}.start")),
                self._number(f"campaign.{k}.wait"), str(self.setting(f"campaign.{k}.time")),
                self._number(f"campaign.{k}.lasts"), self._number(f"campaign.{k}.every"),
                int(self._number(f"campaign.{k}.at_most")),
            )
            for k in _CAMPAIGNS
            if self.setting(f"campaign.{k}.stores") != "off"
        ]  # fmt: skip
        every_s = float(self.setting(STORAGE_INTERVAL))
        parts = ("dip", "swell", "interruption", "hysteresis", "transient")
        triggers = {key: self._number(f"trigger.{key}") / 100.0 for key in parts}
        triggers |= {key: self._number(f"trigger.{key}") for key in ("inrush", "power")}
        triggers |= {key: self._number(f"trigger.{key}") / 1e3 for key in ("before", "after")}
        return Survey(
            campaigns or [Campaign("trends", "at once", 0.0, "", 0.0, every_s, 0)],
            began,
            self._number("nominal.voltage"),
            triggers,
            net_at=self._board.at,
            row_at=self._row,
            columns=_COLUMNS,
            runs=self.memory.runs,
            files=self.files,
        )

    def _row(self, since_s: float) -> list[float]:
        # What it stores is what it shows: 32-bit numbers.
        found = self._read(self._board.at(since_s))
        return [float(np.float32(found[name])) for name in _COLUMNS[:-1]]

    def _read(self, net: Net) -> dict[str, float]:
        """What it makes of its terminals, by its settings."""
        at = self._wires.connect(net)
        ratio_u = self._number("voltage.primary") / self._number("voltage.secondary")
        ratio_i = self._number("current.primary") / self._number("current.secondary")
        if self.setting("current.sensor") != "transformer":
            ratio_i = 0.0  # another input, to which nothing is wired
        u, i = [ratio_u * x for x in at.u], [ratio_i * x for x in at.i]
        neutral = ratio_i * at.neutral
        system = str(self.setting("wiring.system"))
        phases = {"1-phase 2-wire": 1, "split-phase": 2}.get(system, 3)
        between = [u[k] - u[(k + 1) % 3] for k in range(3)]
        zero = sum(u) / 3.0
        to_star = [x - zero for x in u] if "3-wire" in system else u
        used = list(i)
        if system.endswith("2 currents"):
            used[1] = -(i[0] + i[2])
        powers = [to_star[k] * used[k].conjugate() for k in range(phases)]
        total = sum(powers)
        # With distortion, as the root mean squares are: U·I of each phase, and their sum.
        distorted_i = [min(thd, 120.0) for thd in net.distorted_i]
        apparents = [
            abs(to_star[p]) * math.hypot(1.0, net.distorted_u[p] / 100.0)
            * abs(used[p]) * math.hypot(1.0, distorted_i[p] / 100.0)
            for p in range(phases)
        ]  # fmt: skip
        apparent = sum(apparents)
        turn = complex(-0.5, math.sqrt(0.75))
        positive = abs(u[0] + turn * u[1] + turn.conjugate() * u[2]) or 1.0
        negative = abs(u[0] + turn.conjugate() * u[1] + turn * u[2])
        currents = [abs(sum(i)), abs(i[0] + turn * i[1] + turn.conjugate() * i[2]),
                    abs(i[0] + turn.conjugate() * i[1] + turn * i[2])]  # fmt: skip
        found = {
            "power.active": total.real / 1e3, "power.reactive": total.imag / 1e3,
            "power.apparent": apparent / 1e3, "power.factor": _ratio(total.real, apparent),
            "cos_phi": _ratio(total.real, abs(total)), "frequency": net.frequency,
            "unbalance": 100.0 * negative / positive, "unbalance.zero": 300.0 * abs(zero) / positive,
            "current.neutral": abs(neutral),
            "sequence.voltage.zero": abs(zero), "sequence.voltage.positive": positive / 3.0,
            "sequence.voltage.negative": negative / 3.0,
            **{f"sequence.current.{name}": amperes / 3.0
               for name, amperes in zip(("zero", "positive", "negative"), currents, strict=True)},
        }  # fmt: skip
        for p in range(3):
            power, n = (powers[p] if p < phases else 0j), p + 1
            thd_u, thd_i = net.distorted_u[p], distorted_i[p]
            whole = apparents[p] if p < phases else 0.0
            found |= {
                f"voltage.{n}": abs(u[p]) * math.hypot(1.0, thd_u / 100.0),
                f"voltage.between.{n}": abs(between[p]),
                f"angle.voltage.{n}": _degrees(u[p], u[0]),
                f"angle.voltage.between.{n}": _degrees(between[p], between[0]),
                f"current.{n}": abs(i[p]) * math.hypot(1.0, thd_i / 100.0),
                f"angle.current.{n}": _degrees(i[p], between[0] if "3-wire" in system else u[0]),
                f"power.active.{n}": power.real / 1e3, f"power.reactive.{n}": power.imag / 1e3,
                f"power.apparent.{n}": whole / 1e3, f"power.factor.{n}": _ratio(power.real, whole),
                f"cos_phi.{n}": _ratio(power.real, abs(power)),
                f"distortion.{n}": thd_u, f"distortion.current.{n}": thd_i,
            }  # fmt: skip
        return found

    def _number(self, name: str) -> float:
        return float(self.setting(name))


def _degrees(one: complex, reference: complex) -> float:
    """The angle of a phasor to another, from -180 to 180; 0 of nothing."""
    turned = one * reference.conjugate()
    return math.degrees(math.atan2(turned.imag, turned.real)) if abs(turned) > 1e-6 else 0.0


def _ratio(part: float, whole: float) -> float:
    return part / whole if whole else 1.0
