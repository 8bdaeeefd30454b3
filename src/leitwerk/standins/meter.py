"""The simulated sound level meter of the saw hall: it answers in lines, as SCPI instruments do."""

from __future__ import annotations

import math
import time
from datetime import datetime
from typing import Any

import numpy as np

from leitwerk.datasheet.text_points import texts
from leitwerk.standins.clock import CLOCK_FORM
from leitwerk.standins.error_queue import ErrorQueue
from leitwerk.standins.hall_sound import (
    RATE_HZ,
    band_count,
    band_levels,
    hall_sound,
    levels_of,
)
from leitwerk.standins.held_files import HeldFiles
from leitwerk.standins.lines import LineDevice
from leitwerk.standins.memory import RunMemory
from leitwerk.standins.sampled_files import wave_file

# The hall with the saw running: level by frequency weighting, and how far peaks stand out.
_LEVEL_DB = {"A": 86.3, "C": 89.1, "Z": 90.4}
_STANDS_OUT_DB = {"equivalent": 0.0, "maximum": 4.1, "peak": 17.6}
_COLUMNS = [f"evaluation.{k}.{what}" for k in (1, 2, 3) for what in _STANDS_OUT_DB]
_NO_LEVEL, _OVER, _UNDER = "9.91E37", "9.9E37", "-9.9E37"  # SCPI-1999, 7.2.1: no number, infinity
_QUIET_DB = 24.0  # how much quieter it is while the saw stands
# A shift: the saw stands in the breaks, from ... to ... h since the run began.
_BREAKS_H = ((2.0, 2.25), (4.0, 4.75))
_WINDOW = 240  # values of a recording that can be read at once
_BLOCK = 65_536  # bytes of a file that can be read at once
_FULL_SCALE_PA = 63.2
_SECONDS_OF_SPECTRUM = 2.0


class Meter(LineDevice):
    """A sound level meter in factory condition; what it refuses goes into its error queue.

    ``factor`` lets its recordings go by faster.
    """

    def __init__(self, *args: Any, factor: float = 1.0, seed: int = 3, **more: Any) -> None:
        super().__init__(*args, **more)
        self.errors = ErrorQueue()
        self._noise = np.random.default_rng(seed)
        self._seed = seed
        self._levels = {point.query: point for point in texts(self.datasheet.points("readings"))}
        self.memory = RunMemory(_COLUMNS, self._row, time.monotonic, self.clock, factor)
        self.files = HeldFiles()
        self._waits = False
        self._sound: Any = None  # what is heard at the beginning of the run, while it is kept
        self._spectra: dict[tuple[str, str], list[float]] = {}
        groups = ("status", "recordings")
        self._queried = {
            p.query: p for group in groups for p in texts(self.datasheet.points(group))
        }
        self._chosen = {
            "MEM:SEL ": (self.memory, "selected"), "MEM:FIRS ": (self.memory, "first"),
            "FILE:SEL ": (self.files, "selected"), "FILE:FIRS ": (self.files, "first"),
        }  # fmt: skip

    @property
    def is_busy(self) -> bool:
        """Settings are taken only while it does not record, nor waits for that."""
        return self.memory.is_recording or self._waits

    def readings(self, question: str) -> str | None:
        """Identity, error queue, clock, battery, levels, and the windows onto its memory."""
        self._begin_when_due()
        if question == "*IDN?":
            unit = self.profile
            return f"Tannried Instrumente,{unit.model},{unit.serial},{unit.firmware}"
        if question == "SYST:ERR?":
            return self.errors.next()
        if question == "SYST:TIME?":
            return f'"{self.clock.text()}"'
        if question == "SYST:BATT?":
            return "4" if self.troubles.flat_battery else "83"
        if question == "MEM:STAT?" and self._waits:
            return "WAIT"
        if question.startswith(("MEM:", "FILE:")) and question.endswith("?"):
            return self._window(question)
        level = self._levels.get(question)
        return None if level is None else _shown(self._level(level.name))

    def answer(self, line: str) -> str | bytes | None:
        """As every device, the choice of a window, and files in blocks."""
        if line.strip() == "FILE:DATA?":
            data = self.files.window(_BLOCK)
            count = str(len(data))
            return f"#{len(count)}{count}".encode() + data
        for head, (chosen, name) in self._chosen.items():
            if line.startswith(head):
                text = line.removeprefix(head).strip()
                if text.isdecimal():
                    setattr(chosen, name, int(text))
                else:
                    self.refuse("value")
                return None
        return super().answer(line)

    def refuse(self, why: str) -> None:
        """Nothing is said; it waits in the queue."""
        self.errors.refuse(why)

    def accept(self) -> None:
        """Nothing is said."""

    def command(self, word: str) -> bool:
        """Start, stop, pause, or erase."""
        runs = self.memory.is_recording
        if word == "start" and not self.is_busy and not self.troubles.full_memory:
            self._waits = True
            self._begin_when_due()
        elif word == "stop":
            self._waits = False
            self.memory.stop()
        elif word in {"pause", "continue"} and runs:
            self.memory.pause(on=word == "pause")
        elif word == "erase back" and runs:
            self.memory.erase_back(float(self.settings["erase_back.length"]))
        elif word == "erase recordings" and not self.is_busy:
            self.memory.erase()
            self.files = HeldFiles()
        else:
            return False
        return True

    # ------------------------------------------------------------------ a run

    def _begin_when_due(self) -> None:
        """Begin the run that waits, when its time or its level has come."""
        mode = self.settings["start.mode"]
        if not self._waits or (
            (mode == "at time" and self.clock.text() < str(self.settings["start.time"]))
            or (
                mode == "above level"
                and not self._level(_COLUMNS[0]) > float(self.settings["start.level"])
            )
        ):
            return
        self._waits = False
        bands = band_count(str(self.settings["bands.filter"]))
        self.memory.columns = [*_COLUMNS, *(f"band.{b + 1}" for b in range(bands))]
        seconds = float(self.settings["audio.length"])
        self._sound = hall_sound(seconds, self._seed) if seconds else None
        self.memory.start(float(self.settings["integration.time"]))
        if self._sound is not None:
            began = datetime.strptime(self.memory.runs[-1].started, CLOCK_FORM)  # noqa: DTZ007
            name = f"{began:%Y-%m-%d-%H%M%S}-sound.wav"
            samples = self._sound[:, None] / _FULL_SCALE_PA
            self.files.content[name] = wave_file(samples, RATE_HZ, began, f"{_FULL_SCALE_PA} Pa")

    def _row(self, since_s: float) -> list[float]:
        """What it stores for one integration of a shift: of the sound that it keeps, where it does."""
        interval_s = self.memory.runs[-1].interval_s
        if self._sound is not None and (since_s + interval_s) * RATE_HZ <= self._sound.size:
            piece = slice(round(since_s * RATE_HZ), round((since_s + interval_s) * RATE_HZ))
            return self._stored(self._of_sound(self._sound[piece]))
        hours = since_s / 3600.0
        stands = any(begin <= hours < end for begin, end in _BREAKS_H)
        quieter = _QUIET_DB if stands else 1.5 * math.sin(2.0 * math.pi * hours / 1.7)
        return self._stored([self._level(name, quieter) for name in self.memory.columns])

    def _stored(self, levels: list[float]) -> list[float]:
        """The levels of a row that its evaluations store."""
        kept = []
        for name, level in zip(self.memory.columns, levels, strict=True):
            own, _, what = name.rpartition(".")
            leaves_out = own != "band" and what != "equivalent" and (
                self.settings[f"{own}.stores"] == "equivalent"
            )  # fmt: skip
            kept.append(math.nan if leaves_out else round(level, 1))
        return kept

    def _of_sound(self, piece: Any) -> list[float]:
        found = []
        for k in (1, 2, 3):
            weighting, time_weighting, peak = (
                str(self.settings[f"evaluation.{k}.{key}"]) for key in ("weighting", "time", "peak")
            )
            levels = dict.fromkeys(_STANDS_OUT_DB, math.nan)
            if weighting != "off":
                levels = levels_of(piece, weighting, time_weighting)
                levels["peak"] = levels["peak"] if peak == "yes" else math.nan
            found += [self._in_range(levels[what]) for what in _STANDS_OUT_DB]
        weighting, fraction = self._of_bands()
        return found + band_levels(piece, weighting, fraction)

    def _of_bands(self) -> tuple[str, str]:
        """The weighting of the evaluation that has bands, and which."""
        own = f"evaluation.{float(self.settings['bands.evaluation']):.0f}.weighting"
        weighting = str(self.settings[own])
        return "Z" if weighting == "off" else weighting, str(self.settings["bands.filter"])

    def _level(self, name: str, quieter_db: float = 0.0) -> float:
        """A level of an evaluation, or of a band; not a number where it is off, or has no such level."""
        noise = 0.2 * float(self._noise.standard_normal())
        if name.startswith("band."):
            spectrum, number = self._spectrum(), int(name.removeprefix("band."))
            return (
                spectrum[number - 1] - quieter_db + noise if number <= len(spectrum) else math.nan
            )
        own, _, what = name.rpartition(".")
        weighting, time_weighting = (self.settings[f"{own}.{key}"] for key in ("weighting", "time"))
        level = _LEVEL_DB.get(str(weighting), math.nan) - quieter_db + noise
        if what == "maximum":
            level -= {"slow": 1.2, "none": math.nan}.get(str(time_weighting), 0.0)
        if what == "peak" and self.settings[f"{own}.peak"] == "no":
            return math.nan
        return self._in_range(level + _STANDS_OUT_DB[what])

    def _spectrum(self) -> list[float]:
        """The levels of the bands, with the saw running."""
        key = self._of_bands()
        if key not in self._spectra:
            self._spectra[key] = band_levels(hall_sound(_SECONDS_OF_SPECTRUM, self._seed), *key)
        return self._spectra[key]

    def _in_range(self, level: float) -> float:
        """A level within its measuring range; beyond it, it is infinite."""
        if level > float(self.settings["range.upper"]):
            return math.inf
        return -math.inf if level < float(self.settings["range.lower"]) else level

    # ------------------------------------------------------------------ what is read

    def _window(self, question: str) -> str | None:
        self.memory.tick()
        shown = self.memory.shown(_WINDOW if question == "MEM:DATA?" else 0) | self.files.shown()
        if question == "MEM:DATA?":
            values = (shown.get(f"value.{w}") for w in range(1, _WINDOW + 1))
            return ",".join(_shown(value) for value in values if isinstance(value, float))
        if question == "MEM:NAME?":
            names = (shown[name] for name in shown if name.startswith("column."))
            return ",".join(f'"{name}"' for name in names)
        point = self._queried.get(question)
        return None if point is None else point.encode(shown.get(point.name, 0.0))


def _shown(level: float) -> str:
    if math.isnan(level):
        return _NO_LEVEL
    if math.isinf(level):
        return _OVER if level > 0.0 else _UNDER
    return f"{level:.1f}"
