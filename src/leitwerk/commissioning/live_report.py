"""What a live check found."""

from __future__ import annotations

import csv
import io
from dataclasses import asdict, dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.analysis.series import Column, Series, number_text, plain_cell
from leitwerk.evaluation.verdict import ChannelReport, Verdict
from leitwerk.identity import Identity
from leitwerk.monitoring.silences import Silence
from leitwerk.parsing.frames import dataframe
from leitwerk.results import Outcome, overall
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import NDArray

_COLUMNS = (
    "name", "label", "unit", "count", "good", "last", "mean", "minimum", "maximum",
    "standard_deviation", "within", "quality", "alarms", "band", "expected", "tolerance", "verdict", "reason",
)  # fmt: skip


@dataclass(frozen=True)
class LiveReport:
    """The verdicts on all channels, and the samples they rest on.

    ``times_s`` has shape (n_samples,), in s from the start; ``values`` and ``qualities`` have shape
    (n_samples, n_channels), each column in its channel's unit. ``silences`` are times without an answer,
    ``doubts`` what is odd about the readings,
    ``stopped`` says that it was ended from the keyboard.
    """

    title: str
    identity: Identity
    address: str
    started: datetime
    channels: tuple[ChannelReport, ...]
    differing: tuple[str, ...]
    times_s: NDArray[np.float64] = field(repr=False)
    values: NDArray[np.float64] = field(repr=False)
    qualities: NDArray[np.uint8] = field(repr=False)
    silences: tuple[Silence, ...] = ()
    stopped: bool = False
    doubts: tuple[str, ...] = ()

    @property
    def outcome(self) -> Outcome:
        """Passed when every expectation was met.

        Unknown when nothing was expected at all, or when the device did not answer in the end.
        """
        found = [c.outcome for c in self.channels if c.verdict is not Verdict.NO_EXPECTATION]
        return overall([*found, Outcome.UNKNOWN] if self._is_silent else found)

    @property
    def _is_silent(self) -> bool:
        return any(not silence.ended for silence in self.silences)

    @property
    def reasons(self) -> tuple[str, ...]:
        """Why channels did not pass."""
        if self._is_silent:
            return (str(self.silences[-1]), *(r for c in self.channels for r in c.reasons))
        if self.outcome is Outcome.UNKNOWN:
            return ("no channel has an expectation: there is nothing to prove",)
        return tuple(reason for c in self.channels for reason in c.reasons)

    def to_dataframe(self) -> pd.DataFrame:
        """A row for each channel, with its name as the index."""
        rows = [channel.to_dict() for channel in self.channels]
        columns = {name: [row[name] for row in rows] for name in _COLUMNS}
        return dataframe(columns, {}, "name")

    def samples_dataframe(self) -> pd.DataFrame:
        """A row for each sample: ``time_s`` as its index, the value of each channel, NaN where bad.

        Beside the column of a channel is one for its quality in words, such as ``door.quality``.
        """
        columns: dict[str, Any] = {"time_s": self.times_s}
        for k, channel in enumerate(self.channels):
            bad = self.qualities[:, k] != Quality.GOOD
            columns[channel.name] = np.where(bad, np.nan, self.values[:, k])
            columns[f"{channel.name}.quality"] = Quality.describe(self.qualities[:, k])
        units = {"time_s": "s"} | {channel.name: channel.unit for channel in self.channels}
        return dataframe(columns, units, "time_s")

    def __repr__(self) -> str:
        return f"<LiveReport {self.title!r}: {self.summary()}>"

    def counts(self) -> dict[str, int]:
        """How many channels have each verdict."""
        counts = {verdict.value: 0 for verdict in Verdict}
        for channel in self.channels:
            counts[channel.verdict.value] += 1
        return counts

    def to_dict(self) -> dict[str, Any]:
        """The report as plain data for JSON, without the single samples."""
        return {
            "title": self.title,
            "device": {**self.identity.to_dict(), "address": self.address},
            "started": self.started.isoformat(timespec="seconds").replace("+00:00", "Z"),
            "duration_s": round(float(self.times_s[-1]), 3) if self.times_s.size else 0.0,
            "samples": int(self.times_s.size),
            "stopped": self.stopped,
            "silences": [asdict(silence) for silence in self.silences],
            "outcome": self.outcome.value,
            "counts": self.counts(),
            "settings_that_differ": list(self.differing),
            "doubts": list(self.doubts),
            "channels": [channel.to_dict() for channel in self.channels],
        }

    def to_csv(self) -> str:
        """One line for each channel, RFC 4180, point as decimal sign."""
        text = io.StringIO()
        writer = csv.writer(text)
        writer.writerow(_COLUMNS)
        for channel in self.channels:
            row = channel.to_dict()
            row["alarms"] = " ".join(f"{name}:{state}" for name, state in row["alarms"].items())
            writer.writerow([_cell(row[name]) for name in _COLUMNS])
        return text.getvalue()

    def samples_csv(self) -> str:
        """One line for each sample: its time in UTC, then value and quality of each channel."""
        columns = tuple(Column(channel.name, channel.unit) for channel in self.channels)
        times_s = self.started.timestamp() + self.times_s
        return Series(columns, times_s, self.values, self.qualities).csv()

    def __str__(self) -> str:
        return "\n".join([self.headline(), *self.lines(), *self.closing()])

    def headline(self) -> str:
        """Which device, and how long it was watched."""
        seconds = float(self.times_s[-1]) if self.times_s.size else 0.0
        return f"{self.title}: {self.identity} – {self.times_s.size} samples in {seconds:.1f} s"

    def lines(self) -> list[str]:
        """One plain line for each channel, and another for its reason, if it has one."""
        lines = []
        width = max((len(c.name) for c in self.channels), default=0)
        for c in self.channels:
            unit = f" {c.unit}" if c.unit else ""
            spread = "" if c.standard_deviation is None else f", s {c.standard_deviation:.2g}"
            numbers = c.shown(c.mean) + unit if c.good else "nothing"
            if c.states is None and c.good:
                numbers += f" ({c.shown(c.minimum)}..{c.shown(c.maximum)}{spread})"
            alarms = "".join(f", alarm {n}: {state}" for n, state in c.alarms.items())
            verdict = c.verdict.value.upper()
            lines.append(f"{verdict:10} {c.name:{width}}  {numbers}, {c.quality}{alarms}")
            lines += [f"{'':10} {'':{width}}  {text}" for text in (c.reason, c.remark) if text]
        return lines

    def closing(self) -> list[str]:
        """The last lines: what in the device is not as the setup says, and the summary."""
        before = [str(silence) for silence in self.silences]
        before += ["stopped from the keyboard"] if self.stopped else []
        before += [f"doubt: {text}" for text in self.doubts]
        count = len(self.differing)
        if not count:
            return [*before, self.summary()]
        shown = "; ".join(self.differing[:3]) + ("; …" if count > 3 else "")
        plural = "s" if count != 1 else ""
        differ = f"note: {count} setting{plural} in the device differ from this setup: {shown}"
        return [*before, differ, self.summary()]

    def summary(self) -> str:
        """The counts of the verdicts in one line."""
        counts = self.counts()
        asked = sum(channel.expected is not None for channel in self.channels)
        met = f"{counts[Verdict.PASS]} of {asked} expectations met"
        parts = [met if asked else "nothing is expected: there is nothing to prove"]
        failed = (Verdict.FAIL, Verdict.UNSTEADY, Verdict.NO_READING)
        parts += [f"{counts[v]} {v.value}" for v in failed if counts[v]]
        return f"{self.outcome.value.upper()}: {', '.join(parts)}"


def _cell(value: Any) -> Any:
    """A value for CSV; nothing for None."""
    if value is None:
        return ""
    return number_text(value) if isinstance(value, float) else plain_cell(value)
