"""leitwerk certificate, take-certificate and write-certificate: digital calibration certificates."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import Pair
from leitwerk.cli.settle import WRITE, settle

if TYPE_CHECKING:
    from leitwerk.calibration.certificate import Certificate, Result

_KINDS = ["none", "offset", "gain", "offset and gain", "polynomial 2", "table"]


class _Day(click.ParamType[date]):
    """A day, such as 2027-03-02."""

    name = "day"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> date:
        """The day."""
        try:
            return date.fromisoformat(str(value))
        except ValueError:
            self.fail(f"{str(value)[:40]!r} is not a day, such as 2027-03-02", param, ctx)


@click.command()
@click.argument("file")
def certificate(file: str) -> int:
    """Show what a digital calibration certificate says (DCC 3, XML).

    Points with their uncertainty and coverage, conditions, who and what; what is not understood is named.
    Whether it is signed is shown; the signature is not judged.

    Exit code 0: shown. 2: it cannot be read.
    """
    from leitwerk.cli.printing import print_rows
    from leitwerk.commissioning.certificates import read_certificate

    print_rows(_rows(read_certificate(file)))
    return FINE


def _rows(found: Certificate) -> list[tuple[str, str]]:
    from leitwerk.parsing.quantities import format_number

    rows = [
        ("certificate:", found.number),
        (
            "laboratory:",
            ", ".join([found.laboratory.name, *(text for _, text in found.laboratory.address)]),
        ),
        ("customer:", found.customer.name),
        ("performed:", f"{found.begun} to {found.ended}, at the {found.place}"),
    ]
    if found.issued is not None:
        rows.append(("issued:", str(found.issued)))
    for item in found.items:
        numbers = ", ".join(f"{one.value} ({one.issuer})" for one in item.identifications)
        rows.append(("item:", f"{item.name}, {item.manufacturer} {item.model}: {numbers}"))
    rows += [("person:", f"{name}{f', {role}' if role else ''}") for name, role in found.persons]
    for held in found.measurements:
        rows += [("method:", text) for text in held.methods]
        rows += [("instrument:", text) for text in held.instruments]
        for condition in held.conditions:
            numbers = " to ".join(format_number(n) for n in condition.values.numbers)
            rows.append(("condition:", f"{condition.name}: {numbers} {condition.values.unit}"))
        for result in held.results:
            rows += [(f"{result.stage or result.name}:", line) for line in _points(result)]
    state = "present; Leitwerk does not judge whether it is valid" if found.is_signed else "absent"
    rows.append(("signature:", state))
    return rows + [("not understood:", name) for name in _not_understood(found)]


def _not_understood(found: Certificate) -> list[str]:
    """The parts that are not understood, but for the languages of texts."""
    return list(dict.fromkeys(part.name for part in found.kept if part.attribute != "lang"))


def _points(result: Result) -> list[str]:
    from leitwerk.errors import QuantityError

    if result.reference is None:
        return ["no reference values"]
    unit = result.reference.unit
    given = next((v.uncertainty for v in (result.error, result.measured, result.reference)
                  if v is not None and v.uncertainty is not None), None)  # fmt: skip
    cover = "" if given is None else f" (k = {given.factor:g}, {given.probability:.4g})"
    try:
        points = list(result.points(unit))
    except QuantityError as error:
        return [error.message]
    return [
        f"{reading:.10g} {unit} for {reference:.10g} {unit}"
        + (
            ""
            if wide is None or given is None
            else f" ± {wide / 2.0 * given.factor:.4g} {unit.difference}{cover}"
        )
        for reading, reference, wide in points
    ]


@click.command("take-certificate")
@click.argument("file")
@click.argument("setup", required=False)
@click.argument("channel", required=False)
@click.option("--sensor", metavar="NAME", help="Into a sensor of your own, instead of a channel.")
@click.option(
    "--due", type=_Day(), metavar="DAY", help="Until when it holds; else as long as the one before."
)
@click.option("--correct", type=click.Choice(_KINDS), default="table", show_default=True,
              help="Which correction is made of the points.")  # fmt: skip
@click.option(
    "--item", default="", metavar="NUMBER", help="The number of the item, where it is another."
)
@click.option(
    "--series", default="", metavar="NAME", help="Which points, where it has several series."
)
@WRITE
def take_certificate(
    file: str,
    setup: str | None,
    channel: str | None,
    *,
    sensor: str | None,
    due: date | None,
    correct: str,
    item: str,
    series: str,
    write: bool,
) -> int:
    """Take the certificate FILE into CHANNEL of SETUP, or into a sensor of your own.

    The item must be the device of the setup, or a serial number of the sensor. Points behind an adjustment
    count, where there are some. Each point is held against what is stored. The certificate itself is kept in
    the folder 'certificates' beside it, with all that is not understood.

    Exit code 0: written. 1: shown only. 2: usage, or the certificate is of something else.
    """
    from leitwerk.cli.printing import print_line
    from leitwerk.commissioning.certificates import (
        FOLDER,
        TakeOptions,
        find_sensor_file,
        kept_name,
        read_certificate,
        take_into_channel,
        take_into_sensor,
    )
    from leitwerk.errors import FileProblem, QuantityError
    from leitwerk.project.files import read_bytes, write_atomic

    found = read_certificate(file)
    options = TakeOptions(due, correct, item, series)
    if sensor is not None and setup is None:
        target = find_sensor_file(sensor, Path())
        taken, folder = take_into_sensor(found, target, options), target.parent.parent
    elif sensor is None and setup is not None and channel is not None:
        target = Path(setup)
        taken, folder = take_into_channel(found, setup, channel, options), target.parent
    else:
        raise QuantityError(
            "where it is to go is not clear", valid="SETUP CHANNEL, or --sensor NAME"
        )
    for line in taken.lines:
        print_line(f"  {line}", 4)
    if unknown := _not_understood(found):
        names = ", ".join(unknown[:3]) + (", …" if len(unknown) > 3 else "")
        click.echo(f"  {len(unknown)} parts not understood, kept in the certificate: {names}")
    kept = folder / FOLDER / kept_name(found)
    if write:
        if kept.exists() and read_bytes(kept) != read_bytes(file):
            raise FileProblem(
                f"{kept} holds another certificate of this number", remedy="look which one is right"
            )
        write_atomic(kept, read_bytes(file))
    return settle(target, taken.text, (), write=write, summary=f"the certificate is kept as {kept}")


@click.command("write-certificate")
@click.argument("setup")
@click.argument("channel")
@click.argument("file")
@click.option("--number", required=True, help="The number of the certificate, unlike all others.")
@click.option("--laboratory", required=True, help="Who issues it.")
@click.option("--person", required=True, help="Who is responsible for it.")
@click.option("--customer", required=True, help="For whom.")
@click.option("--country", default="AT", show_default=True, metavar="CODE", help="By ISO 3166-1.")
@click.option("--place", type=click.Choice(["laboratory", "customer"]), default="laboratory",
              show_default=True, help="Where it was performed.")  # fmt: skip
@click.option("--condition", "conditions", type=Pair(), multiple=True, metavar="NAME=VALUE",
              help="What prevailed, such as 'temperature=23.1 °C'.")  # fmt: skip
def write_certificate(
    setup: str,
    channel: str,
    file: str,
    *,
    number: str,
    laboratory: str,
    person: str,
    customer: str,
    country: str,
    place: str,
    conditions: tuple[tuple[str, str], ...],
) -> int:
    """Write the calibration of CHANNEL, as found and as left, as a digital calibration certificate.

    It has no signature: sign it with a program that does. A file that is there already is kept.

    Exit code 0: written. 1: the setup has errors. 2: usage.
    """
    from leitwerk import __version__
    from leitwerk.calibration.certificate_xml import write_certificate_xml
    from leitwerk.commissioning.certificates import Laboratory, certificate_of_channel
    from leitwerk.errors import FileProblem
    from leitwerk.parsing.quantities import parse_quantity
    from leitwerk.project.files import write_atomic
    from leitwerk.project.setups import read_setup

    if Path(file).exists():
        raise FileProblem(f"{file} is there already", remedy="give another name, or move it away")
    issuer = Laboratory(laboratory, person, customer, number, country, place)
    prevailing = {name: parse_quantity(text) for name, text in conditions}
    made = certificate_of_channel(read_setup(setup), channel, issuer, prevailing)
    write_atomic(Path(file), write_certificate_xml(made, software=__version__))
    click.echo(f"{file}: certificate {number} of channel {channel}, without a signature", err=True)
    return FINE
