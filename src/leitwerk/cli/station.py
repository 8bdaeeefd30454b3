"""leitwerk request and leitwerk station."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from leitwerk.cli.exit_codes import FINE, FOUND, reports_errors
from leitwerk.cli.options import link_options

if TYPE_CHECKING:
    from leitwerk.links.options import LinkOptions
    from leitwerk.transfer.station_request import StationView


@click.command()
@click.argument("setup")
@click.option("--expires", metavar="TIME", help="Not to be taken any more after so long: '2 d'.")
@click.option(
    "--self-test", is_flag=True, help="It tests itself first, and takes nothing if it fails."
)
@click.option("--keep", metavar="FOLDER", help="For what was asked; 'kept' beside the setup.")
@click.option("--by", metavar="NAME", help="Who asks; you, if not given.")
@click.option("--json", "as_json", is_flag=True, help="Print the station as JSON.")
@reports_errors
@link_options(5.0)
def request(
    setup: str,
    *,
    expires: str | None,
    self_test: bool,
    keep: str | None,
    by: str | None,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Ask the station of SETUP, which sleeps, for the settings of it.

    They are kept by the broker until it wakes; it takes all of them, or refuses. A change that is
    still waiting is replaced.

    Exit code 0: in force already. 1: requested. 2: usage. 3: the broker is not reached. 4: another
    station.
    """
    from leitwerk.cli.options import user
    from leitwerk.parsing.quantities import parse_quantity
    from leitwerk.parsing.units import parse_unit
    from leitwerk.transfer.station_request import request_setup

    seconds = parse_quantity(expires).value_in(parse_unit("s")) if expires else None
    wanted, station, sheet = _reach(setup, link)
    with closing(station):
        view = request_setup(
            wanted, station, sheet,
            keep=keep or Path(setup).parent / "kept", by=by or user(), expires_s=seconds,
            self_test=self_test,
        )  # fmt: skip
    return _show(view, as_json=as_json)


@click.command()
@click.argument("setup")
@click.option("--keep", metavar="FOLDER", help="Where what was asked is; 'kept' beside the setup.")
@click.option("--json", "as_json", is_flag=True, help="Print the station as JSON.")
@reports_errors
@link_options(5.0)
def station(setup: str, *, keep: str | None, as_json: bool, link: LinkOptions) -> int:
    """Show the station of SETUP: what is in force, what waits, when it is next expected.

    Exit code 0: nothing waits, and it is not overdue. 1: a change waits, was refused or has expired,
    or the station is overdue. 2: usage. 3: the broker is not reached. 4: another station.
    """
    from leitwerk.transfer.station_request import look_station

    wanted, one, sheet = _reach(setup, link)
    with closing(one):
        view = look_station(wanted, one, sheet, keep=keep or Path(setup).parent / "kept")
    return _show(view, as_json=as_json)


def _reach(setup: str, link: LinkOptions) -> tuple[Any, Any, Any]:
    from leitwerk.errors import QuantityError
    from leitwerk.links.kinds import find_kind
    from leitwerk.links.mqtt import StationLink
    from leitwerk.project.inventory import resolve_address
    from leitwerk.project.library import find_datasheet
    from leitwerk.project.setups import read_setup

    wanted = read_setup(setup)
    sheet = find_datasheet(wanted.device.model)
    address = resolve_address(wanted.device.at)
    if address.protocol != sheet.link or not find_kind(sheet.link).sleeps:
        raise QuantityError(
            f"{wanted.device.model} at {address} is no station that sleeps",
            valid="a setup for a station, such as 'leitwerk example head-water'",
            remedy="carry it to the device with 'leitwerk upload'",
        )
    one = StationLink(
        address,
        sheet.model,
        serial=wanted.device.serial,
        options=link,
    )
    return wanted, one, sheet


def _show(view: StationView, *, as_json: bool) -> int:
    from leitwerk.cli.printing import console, echo_json, print_rows
    from leitwerk.protocols.station import RequestStatus

    if as_json:
        echo_json(view.to_dict())
    else:
        print_rows(view.rows(), console())
    settled = view.standing in {RequestStatus.NONE, RequestStatus.IN_FORCE}
    return FINE if settled and not view.overdue else FOUND
