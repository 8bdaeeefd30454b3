"""leitwerk request and leitwerk station."""

from __future__ import annotations

from contextlib import closing
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import DURATION, JSON, folder_option, kept_folder, link_options

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.links.mqtt import StationLink
    from leitwerk.links.options import LinkOptions
    from leitwerk.transfer.station_request import StationView

_FOLDER = folder_option("the requests")


@click.command()
@click.argument("setup")
@click.option(
    "--expires", "expires_s", type=DURATION, metavar="TIME",
    help="Time after which the request expires: '2 d'.",
)  # fmt: skip
@click.option(
    "--self-test", is_flag=True, help="It tests itself first, and takes nothing if it fails."
)
@_FOLDER
@click.option("--by", metavar="NAME", help="Who asks; else your user name.")
@JSON
@link_options(5.0)
def request(
    setup: str,
    *,
    expires_s: float | None,
    self_test: bool,
    folder: str | None,
    by: str | None,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Request the settings of SETUP from its station, which sleeps.

    They are kept by the broker until it wakes; it takes all of them, or refuses. A change that is
    still waiting is replaced.

    Exit code 0: in force already. 1: requested. 2: usage. 3: the broker is not reached. 4: another
    station.
    """
    from leitwerk.cli.options import user
    from leitwerk.transfer.station_request import request_setup
    from leitwerk.transfer.task import UploadOptions

    checked, station = _reach(setup, link)
    options = UploadOptions(kept_folder(setup, folder), {}, by=by or user())
    with closing(station):
        view = request_setup(checked, station, options, expires_s=expires_s, self_test=self_test)
    return _show(view, as_json=as_json)


@click.command()
@click.argument("setup")
@_FOLDER
@JSON
@link_options(5.0)
def station(setup: str, *, folder: str | None, as_json: bool, link: LinkOptions) -> int:
    """Show the station of SETUP: what is in force, what waits, when it is next expected.

    Exit code 0: nothing waits, and it is not overdue. 1: a change waits, was refused or has expired,
    or the station is overdue. 2: usage. 3: the broker is not reached. 4: another station.
    """
    from leitwerk.transfer.station_request import read_station
    from leitwerk.transfer.task import UploadOptions

    checked, one = _reach(setup, link)
    with closing(one):
        view = read_station(checked, one, UploadOptions(kept_folder(setup, folder), {}))
    return _show(view, as_json=as_json)


def _reach(setup: str, link: LinkOptions) -> tuple[CheckedSetup, StationLink]:
    from leitwerk.errors import QuantityError
    from leitwerk.links.kinds import find_kind
    from leitwerk.links.mqtt import StationLink
    from leitwerk.project.inventory import resolve_address
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    sheet, wanted = checked.datasheet, checked.setup.device
    address = resolve_address(wanted.at)
    if not find_kind(sheet.link).sleeps:
        raise QuantityError(
            f"{wanted.model} at {address} is not a station that sleeps",
            valid="a setup for a station, such as 'leitwerk example head-water'",
            remedy="carry it to the device with 'leitwerk upload'",
        )
    return checked, StationLink(address, sheet.model, serial=wanted.serial, options=link)


def _show(view: StationView, *, as_json: bool) -> int:
    from leitwerk.cli.printing import echo_json, print_rows
    from leitwerk.protocols.station import RequestStatus

    if as_json:
        echo_json(view.to_dict())
    else:
        print_rows(view.rows())
    settled = view.status in {RequestStatus.NONE, RequestStatus.IN_FORCE}
    return FINE if settled and not view.overdue else FOUND
