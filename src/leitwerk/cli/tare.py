"""leitwerk tare."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import for_option, link_options

_UNKNOWN_STEP = 1e-4  # of the span, where the converter is not known

if TYPE_CHECKING:
    from leitwerk.links.options import LinkOptions
    from leitwerk.parsing.units import Unit


@click.command()
@click.argument("setup")
@click.argument("channel")
@click.option("--undo", is_flag=True, help="Take the last tare off again.")
@for_option("How long to read.", "5 s")
@click.option("--nominal", default="0", show_default=True, help="What it should show at rest.")
@click.option("--spread", metavar="VALUE", help="How far readings at rest may spread.")
@click.option("--drift", metavar="VALUE", help="How far they may drift meanwhile.")
@click.option("--most", metavar="VALUE", help="The largest tare that is plausible.")
@link_options(2.0)
def tare(
    setup: str,
    channel: str,
    *,
    undo: bool,
    duration_s: float,
    nominal: str,
    spread: str | None,
    drift: str | None,
    most: str | None,
    link: LinkOptions,
) -> int:
    """Read CHANNEL of SETUP at rest and take off what it shows.

    The tare is written into the setup file, under the earlier ones; the last is in force. It is
    refused when the readings spread or drift: by more than five noise-free steps, or ten, unless
    said otherwise; or when it would be larger than a quarter of the channel's span.

    Exit code 0: taken, or undone. 2: usage, or not at rest. 3: device not reached. 4: it refused.
    """
    from datetime import UTC, datetime

    from leitwerk.calibration.tare import capture_tare
    from leitwerk.devices.device import connect
    from leitwerk.evaluation.signal_chain import explain_channel
    from leitwerk.monitoring.spot_readings import read_untared
    from leitwerk.project.editing import add_tare, undo_tare
    from leitwerk.project.files import write_atomic
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    text = checked.setup.source.content.decode("utf-8-sig")
    if undo:
        write_atomic(Path(setup), undo_tare(text, channel))
        click.echo(f"{setup}: the last tare of {channel} is gone")
        return FINE
    found = checked.measured(channel)
    unit = found.unit
    low, high = found.span
    steps = (f["noise_free"] for f in explain_channel(found).ranges if f["chosen"])
    step = next(steps, 0.0) or (high - low) * _UNKNOWN_STEP
    with connect(checked, link=link) as device:
        times, values, good = read_untared(
            checked, device, found, duration_s=duration_s, period_s=min(duration_s, 5.0) / 10.0
        )
    taken = capture_tare(
        times,
        values,
        datetime.now(UTC),
        spread=_number(spread, unit, 5.0 * step),
        drift=_number(drift, unit, 10.0 * step),
        most=_number(most, unit, (high - low) / 4.0),
        nominal=_number(nominal, unit, 0.0),
        good=good,
    )
    write_atomic(Path(setup), add_tare(text, channel, taken, unit))
    click.echo(
        f"{setup}: {channel} is tared by {taken.offset:g} {unit} from {len(values)} readings"
    )
    return FINE


def _number(text: str | None, unit: Unit, otherwise: float) -> float:
    from leitwerk.parsing.quantities import parse_quantity

    return otherwise if text is None else parse_quantity(text).value_in(unit)
