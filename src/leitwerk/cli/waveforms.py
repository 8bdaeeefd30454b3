"""leitwerk waveforms."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from leitwerk.evaluation.waveforms import Waveforms
    from leitwerk.parsing.quantities import Quantity


@click.command()
@click.argument("setup")
@click.argument("recording")
@click.option(
    "--volts", metavar="VOLTAGE", help="Full scale of voltages: '1000 V'; else as the file says."
)
@click.option(
    "--amperes", metavar="CURRENT", help="Full scale of currents: '500 A'; else as the file says."
)
@click.option(
    "--channels",
    metavar="NAMES",
    help="What the channels of the file are: 'u1 u2 u3 i1 i2 i3'; as the wiring has them if not given.",
)
@click.option("--began", metavar="TIME", help="The time of the first sample (zone of the setup).")
@click.option("--to", "target", type=click.Path(path_type=Path), help="Write the windows: CSV.")
@click.option(
    "--intervals", type=click.Path(path_type=Path), help="Write the ten-minute values: CSV."
)
@JSON
def waveforms(
    setup: str,
    recording: str,
    *,
    volts: str | None,
    amperes: str | None,
    channels: str | None,
    began: str | None,
    target: Path | None,
    intervals: Path | None,
    as_json: bool,
) -> int:
    """Evaluate RECORDING, a WAV file of voltages and currents, by the wiring of SETUP.

    Windows of 10 or 12 cycles follow the fundamental: frequency, root mean squares, distortion, unbalance,
    powers. Dips, swells and interruptions from half-cycle values of all phases, rapid changes, transients;
    counted by depth and duration. What an event fell into is marked. Ten-minute values begin at full ten
    minutes of the clock, where --began says when the recording began.

    Exit code 0: no event. 1: events, or a note on what was not seen. 2: usage, or a file that cannot be used.
    """
    from leitwerk.cli.options import began_s
    from leitwerk.cli.printing import echo_json
    from leitwerk.evaluation.waveforms import evaluate_waveforms, options_of, scaled
    from leitwerk.project.files import write_atomic
    from leitwerk.project.setups import read_setup
    from leitwerk.recordings.sound_files import open_samples

    checked = read_setup(setup)
    file = open_samples(recording)
    at = began_s(began, file.began, checked.setup.zone)
    options = options_of(
        checked.setup,
        (channels or "").split() or None,
        rate_hz=file.rate_hz,
        count=file.channels,
        begin_s=at,
    )
    scale = _full_scale(volts, amperes, file.full_scale, options.channels)
    found = evaluate_waveforms(options, scaled(file.blocks(), options, *scale))
    for path, series in ((target, found.windows), (intervals, found.intervals)):
        if path is not None:
            write_atomic(path, series.csv())
    if as_json:
        echo_json(found.to_dict())
    else:
        _print(found, options.channels, options.nominal_v)
    return FOUND if found.events or found.open_events or found.notes else FINE


def _full_scale(
    volts: str | None, amperes: str | None, stated: Sequence[Quantity], channels: Sequence[str]
) -> tuple[float, float]:
    """What full scale of voltages and of currents is: by the options, else by what the file says."""
    from leitwerk.errors import QuantityError
    from leitwerk.parsing.quantities import parse_quantity
    from leitwerk.parsing.units import parse_unit

    found = []
    for option, text, unit, letter in (("volts", volts, "V", "u"), ("amperes", amperes, "A", "i")):
        own = [q for q in stated if q.unit is not None and q.unit.symbol == unit]
        amount = parse_quantity(text) if text else own[0] if own else None
        if amount is None and any(name.startswith(letter) for name in channels):
            raise click.UsageError(f"the file does not say what full scale is: --{option}")
        value = 1.0 if amount is None else amount.value_in(parse_unit(unit))
        if not value > 0.0:
            raise QuantityError("full scale is 0 or less", valid="above 0: '1000 V', '500 A'")
        found.append(value)
    return found[0], found[1]


def _print(found: Waveforms, channels: tuple[str, ...], declared_v: float) -> None:
    import numpy as np

    from leitwerk.analysis.series import utc_text
    from leitwerk.cli.printing import print_columns

    windows = found.windows
    click.echo(
        f"{windows.times_s.size} windows, {found.intervals.times_s.size} intervals of 10 min"
    )
    good = windows.good()
    rows = []
    for k, column in enumerate(windows.columns):
        own = good[:, k][np.isfinite(good[:, k])]
        if own.size:
            shown = (f"{value:.4g}" for value in (own.min(), own.mean(), own.max()))
            rows.append((column.name, *shown, column.unit))
    if rows:
        print_columns(("Channel", "Min", "Mean", "Max", "Unit"), rows)
    else:
        click.echo("no window without an event: values are in --to, and marked")
    for event in found.events:
        when = utc_text(event.begin_s) if windows.dated else f"{event.begin_s:.3f} s"
        where = " ".join(channels[k] for k in event.channels)
        part = 100.0 * event.extreme / declared_v
        what = f"{event.extreme:.1f} V ({part:.0f} %)"
        click.echo(f"{event.kind} {where}: {when}, {event.duration_s * 1e3:.0f} ms, {what}")
    if found.open_events:
        click.echo("an event goes on at the end of the recording")
    for note in found.notes:
        click.echo(f"note: {note}")
    _print_table("dips: residual voltage in %", found.table.dips)
    _print_table("swells: highest voltage in %", found.table.swells)


def _print_table(title: str, table: Mapping[str, Mapping[str, int]]) -> None:
    from leitwerk.cli.printing import print_columns

    rows = [(row, *map(str, counts.values())) for row, counts in table.items()]
    if any(count for counts in table.values() for count in counts.values()):
        print_columns((title, *next(iter(table.values()))), rows)
