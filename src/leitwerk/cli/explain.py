"""leitwerk explain."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import JSON, link_options

if TYPE_CHECKING:
    from leitwerk.check.channels import DerivedChannel
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.evaluation.signal_chain import Explanation
    from leitwerk.links.options import LinkOptions
    from leitwerk.parsing.quantities import Quantity


@click.command()
@click.argument("setup")
@click.argument("channel")
@click.option("--signal", metavar="SIGNAL", help="What is on the terminal, such as '12 mA'.")
@click.option("--live", is_flag=True, help="Ask the device what it reads now.")
@click.option("--junction", metavar="TEMP", help="Temperature of the terminals (thermocouples).")
@JSON
@click.option("--figure", metavar="FILE", help="Draw the scale with everything on it (PNG).")
@link_options(2.0)
def explain(
    setup: str,
    channel: str,
    *,
    signal: str | None,
    live: bool,
    junction: str | None,
    as_json: bool,
    figure: str | None,
    link: LinkOptions,
) -> int:
    """Show what becomes of a signal on CHANNEL of SETUP, step by step.

    From the terminal through range, converter, scale, calibration and tare to the value with its
    uncertainty; and the signals at which its alarms trip, to try them with a calibrator. Without a
    signal, the one is taken that the expectation stands for. Of a computed channel: the value of each
    input, and how much of the uncertainty comes from it.

    Exit code 0: explained. 1: the setup has errors. 2: usage. 3: device not reached. 4: it refused.
    """
    from leitwerk.check.channels import DerivedChannel
    from leitwerk.cli.printing import echo_json
    from leitwerk.evaluation.signal_chain import explain_channel
    from leitwerk.parsing.quantities import parse_quantity
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    named = checked.channel(channel)
    if isinstance(named, DerivedChannel):
        return _explain_derived(checked, named, live=live, as_json=as_json, link=link)
    one = checked.measured(channel)
    shown, cold = None, _celsius(junction)
    if live:
        from leitwerk.devices.device import connect
        from leitwerk.monitoring.spot_readings import read_once

        with connect(checked, link=link) as device:
            found = read_once(checked, device, one)
        shown = found.value if found.is_good else None
        cold = found.junction if cold is None else cold
    typed: Quantity | None = parse_quantity(signal) if signal else None
    explanation: Explanation = explain_channel(one, signal=typed, shown=shown, cold_junction=cold)
    if figure:
        from leitwerk.check.channels import SignalChannel
        from leitwerk.errors import QuantityError
        from leitwerk.reports.scale_figure import draw_scale

        if not isinstance(one, SignalChannel):
            raise QuantityError(
                f"channel {one.name!r} has no scale to draw",
                valid="a channel that measures a signal",
            )
        draw_scale(one, explanation, figure)
    if as_json:
        echo_json(explanation.to_dict())
    else:
        click.echo(str(explanation))
    return FINE


def _explain_derived(
    checked: CheckedSetup, channel: DerivedChannel, *, live: bool, as_json: bool, link: LinkOptions
) -> int:
    from leitwerk.cli.printing import print_result
    from leitwerk.devices.device import connect
    from leitwerk.evaluation.derived_chain import explain_derived
    from leitwerk.monitoring.spot_readings import read_values

    values = None
    if live:
        with connect(checked, link=link) as device:
            values = read_values(checked, device)
    print_result(explain_derived(checked, channel, values), as_json=as_json)
    return FINE


def _celsius(text: str | None) -> float | None:
    from leitwerk.parsing.quantities import parse_quantity
    from leitwerk.parsing.units import parse_unit

    return None if text is None else parse_quantity(text).value_in(parse_unit("°C"))
