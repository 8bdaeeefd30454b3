"""Samples as lines, as they come: for people, as JSON, or as CSV."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import Any

import click

from leitwerk.analysis.series import Column, number_text, series_heading, series_row, utc_text
from leitwerk.monitoring.watching import DeviceWatch, TakenSample
from leitwerk.signals.quality import Quality

Printer = Callable[[DeviceWatch, TakenSample], None]


class Stream:
    """Prints samples of several devices in one form.

    Parameters
    ----------
    form : str
        ``lines``, ``json`` or ``csv``.
    titles : mapping from DeviceWatch to str
        How each device is called.

    """

    def __init__(self, form: str, titles: Mapping[DeviceWatch, str]) -> None:
        self._titles = titles
        self._is_begun = False
        printers: dict[str, Printer] = {"lines": self._line, "json": self._json, "csv": self._csv}
        self.take = printers[form]

    def _line(self, watch: DeviceWatch, sample: TakenSample) -> None:
        at = datetime.fromtimestamp(sample.time_s, UTC).astimezone(watch.setup.setup.zone)
        head = f"{at:%H:%M:%S}.{at.microsecond // 1000:03}"
        if len(self._titles) > 1:
            head += f"  {self._titles[watch]}"
        if sample.error:
            click.echo(f"{head}  no answer: {sample.error}")
            return
        parts = []
        for channel, value, code in zip(
            watch.board.channels, sample.values.tolist(), sample.qualities.tolist(), strict=True
        ):
            quality = Quality(code)
            if quality.is_good:
                parts.append(f"{channel.name} {channel.words(value)}")
            elif quality.is_uncertain:
                parts.append(f"{channel.name} {channel.words(value)} ({quality.reason})")
            else:
                parts.append(f"{channel.name} – ({quality.reason})")
        click.echo("  ".join([head, *parts]))

    def _json(self, watch: DeviceWatch, sample: TakenSample) -> None:
        channels: dict[str, Any] = {}
        for channel, value, code in zip(
            watch.board.channels, sample.values.tolist(), sample.qualities.tolist(), strict=True
        ):
            quality = Quality(code)
            known = value if quality.is_good or quality.is_uncertain else None
            if known is not None:
                named = channel.states
                known = float(number_text(known)) if named is None else named.name(known)
            entry = {"value": known, "unit": channel.symbol, "quality": quality.reason}
            channels[channel.name] = entry
        line = {
            "time": utc_text(sample.time_s),
            "device": self._titles[watch],
            "serial": watch.identity.serial,
            "error": sample.error,
            "channels": channels,
        }
        click.echo(json.dumps(line, ensure_ascii=False))

    def _csv(self, watch: DeviceWatch, sample: TakenSample) -> None:
        rows = [series_row(sample.time_s, sample.values.tolist(), sample.qualities.tolist())]
        if not self._is_begun:
            columns = [Column(c.name, c.symbol) for c in watch.board.channels]
            rows.insert(0, series_heading(columns))
            self._is_begun = True
        text = io.StringIO()
        csv.writer(text, lineterminator="\n").writerows(rows)
        click.echo(text.getvalue(), nl=False)
