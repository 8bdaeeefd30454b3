"""The wiring sheet of a setup: what is wired to each terminal, and which signals are to be seen there."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from leitwerk.check.channels import ContactChannel, SignalChannel, WiredChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.outputs import AnalogOutput, CheckedOutput
from leitwerk.evaluation.signal_chain import explain_channel
from leitwerk.parsing.quantities import format_number, format_value
from leitwerk.project.files import content_hash
from leitwerk.reports.html_page import plain
from leitwerk.reports.report_text import ReportText
from leitwerk.setup.model import Channel
from leitwerk.setup.rules import Output

_TICK = "☐"
HEAD = ("terminal", "channel", "what is wired", "at rest", "at alarm points", "done")
_LEGEND = (
    "At rest: the signal at the terminal when the channel shows what is expected of it. At alarm points: "
    "the signal at which the alarm trips, to be given by a calibrator. Of a thermocouple: with the terminals "
    "at 23 °C."
)


@dataclass(frozen=True, slots=True)
class WiringRow:
    """One terminal: its channel or output, what is wired there, and the signals to be seen."""

    terminal: str
    channel: str
    wired: str
    at_rest: str
    at_alarms: str

    @property
    def cells(self) -> tuple[str, ...]:
        """The row of the sheet, with the box to tick off."""
        return self.terminal, self.channel, self.wired, self.at_rest, self.at_alarms, _TICK


def wiring_rows(checked: CheckedSetup, wired: Mapping[str, str]) -> list[WiringRow]:
    """What is wired to the terminals of a setup, in the order of its file.

    Parameters
    ----------
    checked : CheckedSetup
    wired : mapping from terminal to str
        What must be wired there, as a template says it.

    """
    rows = [
        _channel_row(channel, checked.setup.channels[channel.name], wired)
        for channel in checked.channels
        if isinstance(channel, WiredChannel) and channel.name in checked.setup.channels
    ]
    rows += [
        _output_row(output, checked.setup.outputs[output.name], wired) for output in checked.outputs
    ]
    used = {row.terminal for row in rows}
    return rows + [
        WiringRow(terminal, "–", text, "", "")
        for terminal, text in wired.items()
        # At a terminal of the device that the setup does not use, nothing must be wired.
        if terminal not in used and terminal not in checked.datasheet.terminals
    ]


def _channel_row(channel: WiredChannel, entry: Channel, wired: Mapping[str, str]) -> WiringRow:
    name = f"{channel.name}: {channel.label}" if channel.label != channel.name else channel.name
    terminal = channel.terminal.name
    own = entry.own_sensor
    parts = [wired.get(terminal, "")]
    if own is not None:
        wires = ", ".join(f"{wire}: {meaning}" for wire, meaning in own.cable.items())
        serial = f" {entry.sensor_serial}" if entry.sensor_serial else ""
        parts.append(f"{own.name}{serial}" + (f" ({wires})" if wires else ""))
    else:
        parts.append(_kind(channel, entry))
    rest, alarms = _signals(channel)
    return WiringRow(terminal, name, "; ".join(filter(None, parts)), rest, alarms)


def _kind(channel: WiredChannel, entry: Channel) -> str:
    if entry.signal is not None and not isinstance(entry.signal, str):
        return str(entry.signal)
    return channel.kind


def _signals(channel: WiredChannel) -> tuple[str, str]:
    """The signal at rest, and those at which alarms trip."""
    if isinstance(channel, ContactChannel):
        if channel.expected is None:
            return "", ""
        return channel.words(channel.expected[0]), ""
    if not isinstance(channel, SignalChannel):
        return "", ""
    explained = explain_channel(channel)
    rest = ""
    if channel.expected is not None:
        value = format_value(channel.expected[0], channel.unit)
        rest = f"{format_number(explained.signal, 4)} {explained.signal_unit} = {value}"
    alarms = []
    for mark in explained.marks:
        if not mark.what.startswith("trips"):
            continue
        at = (
            ""
            if mark.signal is None
            else f"{format_number(mark.signal, 4)} {explained.signal_unit} = "
        )
        name = mark.name.removeprefix("alarm ")
        alarms.append(f"{name}: {at}{format_value(float(f'{mark.value:.5g}'), channel.unit)}")
    return rest, "; ".join(alarms)


def _output_row(output: CheckedOutput, entry: Output, wired: Mapping[str, str]) -> WiringRow:
    terminal = output.terminal.name
    signal = f"output {entry.signal}" if isinstance(output, AnalogOutput) else "relay"
    parts = [wired.get(terminal, ""), signal]
    return WiringRow(terminal, output.name, "; ".join(filter(None, parts)), "", "")


def wiring_sheet(checked: CheckedSetup, wired: Mapping[str, str]) -> ReportText:
    """The sheet, to be set as PDF or HTML, or as tables."""
    rows = wiring_rows(checked, wired)
    setup = checked.setup
    made = "" if setup.made_from is None else (
        f"{setup.made_from.template}, version {setup.made_from.version}"
    )  # fmt: skip
    header = [
        ("setup", setup.title),
        ("device", f"{setup.device.model} {setup.device.serial}"),
        ("address", str(setup.device.at)),
        ("template", made or "none"),
        ("hash of the setup", content_hash(setup.source.content)[:16]),
    ]
    lines = [f"# Wiring: {plain(setup.title)}", "", *_table(("", ""), header), ""]
    lines += [*_table(HEAD, [row.cells for row in rows]), ""]
    lines += [_LEGEND, "", *_table(("wired by", "date", "signature"), [("", "", "")])]
    return ReportText(
        title=f"Wiring: {setup.title}",
        markdown="\n".join(lines) + "\n",
        pictures={},
        about={"setup": content_hash(setup.source.content)},
        outcome=None,
        page_word="page",
        tables={"wiring": [HEAD, *(row.cells for row in rows)]},
    )


def _table(head: Sequence[str], rows: Sequence[Sequence[str]]) -> Iterator[str]:
    yield f"| {' | '.join(head)} |"
    yield f"|{'---|' * len(head)}"
    for row in rows:
        # A number stays beside its unit.
        cells = (re.sub(r"(?<=\d) (?=[^\s=])", "\u00a0", plain(cell)) for cell in row)
        yield f"| {' | '.join(cells)} |"
