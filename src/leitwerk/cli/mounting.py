"""leitwerk mounting."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import JSON, for_option, link_options

if TYPE_CHECKING:
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("setup")
@click.argument("axes", nargs=-1, metavar="[X Y Z]")
@click.option(
    "--forward",
    metavar="AXIS",
    help="The axis that points forward: x, -x, y, -y, z, -z.",
)
@click.option(
    "--list", "as_list", is_flag=True, help="Print all mountings at a right angle, to choose from."
)
@for_option("How long to read.", "5 s")
@JSON
@link_options(2.0)
def mounting(
    setup: str,
    axes: tuple[str, ...],
    *,
    forward: str | None,
    as_list: bool,
    duration_s: float,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Find how the three-axis sensor of channels X, Y and Z of SETUP is mounted, from gravity at rest.

    At rest it feels gravity only, which says what is up; one axis is named that points forward, as near
    as can be judged by eye. Prints the lines for the setup. It is refused when the readings move, or
    are not those of gravity. With a table 'sides' in SETUP, --list speaks of these sides of the sensor.

    Exit code 0: found. 2: usage, or not at rest. 3: device not reached. 4: it refused.
    """
    from leitwerk.calibration.orientation import find_orientation
    from leitwerk.cli.printing import echo_json
    from leitwerk.derived.mounting import AXES, mounting_list, parse_sides, table_lines
    from leitwerk.devices.device import connect
    from leitwerk.monitoring.spot_readings import read_axes
    from leitwerk.project.setups import load_setup, read_setup

    if as_list:
        sides = load_setup(setup).tables.get("sides")
        for line in mounting_list(parse_sides(tuple(sides.items())) if sides else AXES):
            click.echo(line)
        return FINE
    if len(axes) != 3 or forward is None:
        raise click.UsageError("three channels and --forward are needed, or --list")
    checked = read_setup(setup)
    with connect(checked, link=link) as device:
        readings = read_axes(checked, device, axes, duration_s=duration_s)
    found = find_orientation(readings, forward)
    if as_json:
        echo_json({
            "rotation": found.rotation.tolist(),
            "gravity": found.gravity,
            "right_angle": found.is_right_angle,
            "axes": found.axis_names(),
        })  # fmt: skip
        return FINE
    click.echo(f"gravity {found.gravity:.3f} m/s², from {readings.shape[0]} readings")
    for line in table_lines(found, "mounting"):
        click.echo(line)
    return FINE
