"""leitwerk sensors, replace-sensor and due: what is wired to channels, and how long it is calibrated."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON
from leitwerk.cli.settle import WRITE, settle

if TYPE_CHECKING:
    from leitwerk.parsing.yaml_edit import Content


@click.command()
@click.argument("name", required=False)
def sensors(name: str | None) -> int:
    """List sensors of your own; of sensor NAME, all that is known, and each by its serial number.

    They stand in a folder 'sensors' beside the setups, or above; a setup names one by 'sensor: NAME', and
    one of its serial numbers by 'sensor_serial'.

    Exit code 0: shown. 2: the name is not known.
    """
    from leitwerk.cli.printing import print_columns, print_rows
    from leitwerk.parsing.yaml_edit import flow_text
    from leitwerk.project.library import find_own_sensor, known_sensors

    if name is None:
        every = [find_own_sensor(known) for known in known_sensors()]
        print_columns(
            ("sensor", "type", "serial numbers", "summary"),
            [
                (s.name, f"{s.maker} {s.type}".strip(), ", ".join(s.pieces) or "–", s.summary)
                for s in every
            ],
        )
        return FINE
    own = find_own_sensor(name)
    rows = [
        ("sensor:", own.name),
        ("summary:", own.summary),
        ("maker:", f"{own.maker} {own.type}".strip()),
    ]
    rows += [("entries:", f"{key}: {flow_text(value)}") for key, value in own.entries.items()]
    if own.uncertainty is not None:
        rows.append(("uncertainty:", f"{own.uncertainty} (expanded, k = 2), without a calibration"))
    rows += [("cable:", f"{wire}: {meaning}") for wire, meaning in own.cable.items()]
    print_rows([row for row in rows if row[1]])
    for serial, calibrations in own.pieces.items():
        click.echo(f"\n{serial}" + ("" if calibrations else ": no calibration"))
        for one in calibrations:
            points = ", ".join(
                f"{reading} for {reference}" for reading, reference in one.found.points
            )
            certificate = f", certificate {one.certificate}" if one.certificate else ""
            click.echo(f"  {one.date}, due {one.due}: {points} ({one.reference}{certificate})")
    return FINE


@click.command("replace-sensor")
@click.argument("setup")
@click.argument("channel")
@click.option(
    "--sensor", metavar="NAME", help="The new sensor: one that Leitwerk knows, or one of your own."
)
@click.option(
    "--sensor-serial", metavar="NUMBER", help="Of a sensor of your own, its serial number."
)
@click.option(
    "--signal", metavar="SPAN", help="Instead of a sensor: its signal, such as '4..20 mA'."
)
@click.option(
    "--scale", metavar="SCALE", help="And its scale, such as '{4 mA: 0 bar, 20 mA: 16 bar}'."
)
@click.option("--unit", metavar="UNIT", help="The channel's unit; else as it was, where that fits.")
@click.option(
    "--range", "range_", metavar="RANGE", help="The input's range; else the smallest that fits."
)
@click.option(
    "--drop", is_flag=True, help="Take away what it is judged by, where the quantity is another."
)
@WRITE
def replace_sensor(
    setup: str,
    channel: str,
    *,
    sensor: str | None,
    sensor_serial: str | None,
    signal: str | None,
    scale: str | None,
    unit: str | None,
    range_: str | None,
    drop: bool,
    write: bool,
) -> int:
    """Replace the sensor of CHANNEL in SETUP, and follow through what hangs on it.

    The range that fits is chosen; calibration and tare of the old sensor go; alarms, expectation and bands
    stay, with the signals at which they now lie. Shown is what would change, and what the check finds then.

    Exit code 0: written. 1: shown only, or the setup would have errors. 2: usage.
    """
    from leitwerk.cli.printing import print_findings, print_line
    from leitwerk.commissioning.sensor_change import replace_sensor as changed
    from leitwerk.errors import QuantityError

    given: dict[str, Content] = {
        key: text
        for key, text in (
            ("sensor", sensor), ("sensor_serial", sensor_serial), ("signal", signal), ("range", range_),
            ("unit", unit),
        )
        if text is not None
    }  # fmt: skip
    if scale is not None:
        given["scale"] = _scale(scale)
    if "sensor" not in given and "signal" not in given and "scale" not in given:
        raise QuantityError(
            "no sensor is given", valid="--sensor NAME, or --signal SPAN --scale SCALE"
        )
    done = changed(setup, channel, given, drop=drop)
    click.echo(f"channel {channel} of {setup}:")
    for line in done.lines:
        print_line(f"  {line}", 4)
    print_findings(done.findings)
    return settle(setup, done.text, done.findings, write=write)


def _scale(text: str) -> Content:
    """A scale as it was typed: pairs between braces, or a text."""
    from leitwerk.errors import QuantityError
    from leitwerk.findings import Findings
    from leitwerk.parsing.yaml_text import parse_yaml

    findings = Findings("--scale")
    root = parse_yaml(f"scale: {text}", findings)
    if root is None:
        raise QuantityError(
            f"{text!r} is not a scale", valid="{4 mA: 0 bar, 20 mA: 16 bar}, 0.5 kN/mV"
        )
    return root["scale"]


@click.command()
@click.argument("where", nargs=-1)
@click.option("--within", "within_days", metavar="DAYS", type=click.IntRange(0, 3650),
              help="Only what is overdue, or due within so many days.")  # fmt: skip
@JSON
def due(where: tuple[str, ...], *, within_days: int | None, as_json: bool) -> int:
    """List when the calibrations of channels and sensors are due, the next one first.

    WHERE are setup files and folders of them, else the current folder. Of each that is overdue, it says what
    rests on it: channels, alarms, outputs, formulas.

    Exit code 0: none is overdue. 1: some are, or a setup cannot be read. 2: usage.
    """
    from leitwerk.cli.printing import echo_json, print_findings, print_rows
    from leitwerk.project.due_dates import due_dates
    from leitwerk.project.setups import local_today

    today: date = local_today()
    dates, problems = due_dates(where or (".",))
    shown = [
        one for one in dates
        if within_days is None or (left := one.days_left(today)) is None or left <= within_days
    ]  # fmt: skip
    overdue = [one for one in dates if one.due is not None and one.due < today]
    if as_json:
        echo_json([one.to_dict() for one in shown])
        return FOUND if overdue or problems else FINE
    print_findings(problems, err=True)
    for one in shown:
        left = one.days_left(today)
        if left is None or one.due is None:
            click.echo(f"not calibrated                {one.what}")
        else:
            state = f"overdue by {-left} d" if left < 0 else f"in {left} d"
            place = f" of {one.file}" if one.what.startswith("channel ") else ""
            click.echo(f"{one.due}  {state:16}  {one.what}{place} ({one.reference})")
        touches = one.touches if left is None or left < 0 else one.touches[:1]
        print_rows([("      touches:", text) for text in touches])
    click.echo(f"{len(dates)} calibrations, {len(overdue)} overdue", err=True)
    return FOUND if overdue or problems else FINE
