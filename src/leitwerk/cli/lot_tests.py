"""leitwerk reference and leitwerk test-lot."""

from __future__ import annotations

import shutil
import sys
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON, link_options, user

if TYPE_CHECKING:
    from collections.abc import Callable

    from leitwerk.check.channels import CheckedChannel
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.check.test_plan import CheckedPlan
    from leitwerk.commissioning.lot_ledger import Ledger, UnitRecord
    from leitwerk.devices.device import Device
    from leitwerk.identity import Identity
    from leitwerk.links.options import LinkOptions
    from leitwerk.lots.limits import ReferenceValue
    from leitwerk.setup.test_plan import StimulusEntry

_LEDGER = "lot.jsonl"
_BELLS = {True: 1, False: 3}  # one for a pass, three for a fail


class Person:
    """Who changes the units: asked by lines on standard error, answers by what is at the socket."""

    def __init__(self, *, as_json: bool) -> None:
        self._as_json = as_json

    def insert(self) -> None:
        """Ask for the next unit."""
        self._say("insert the next unit")

    def remove(self, identity: Identity) -> None:
        """Ask that it is removed."""
        self._say(f"remove {identity.serial}")

    def begins(self, identity: Identity) -> None:
        """It was recognised."""
        self._say(f"{identity.serial}: testing")

    def begin(self, stimulus: StimulusEntry, channel: CheckedChannel) -> float | None:
        """Ask for a stimulus; where it has a value, for that: a line with another value, or an empty one."""
        from leitwerk.errors import QuantityError
        from leitwerk.parsing.quantities import parse_quantity

        ask = stimulus.ask.replace("{label}", channel.label).replace("{channel}", channel.name)
        if stimulus.applied is None:
            self._say(ask)
            return None
        asked = stimulus.applied.value_in(channel.unit)
        while True:
            self._say(f"{ask} ({stimulus.applied}); press Enter, or type the value that it is")
            line = self._line()
            try:
                return parse_quantity(line).value_in(channel.unit) if line else asked
            except QuantityError as error:
                self._say(f"{error.message}; valid: {asked:g} {channel.symbol}".rstrip())

    def label(self) -> str:
        """The label of the next unit, from the keyboard or a scanner, which is one."""
        self._say("scan its label")
        return self._line()

    def _line(self) -> str:
        line = sys.stdin.readline()
        if not line:
            raise KeyboardInterrupt  # the keyboard, or the file in its place, has ended
        return line.strip()

    def end(self, stimulus: StimulusEntry, channel: CheckedChannel) -> None:
        """Ask that it ends."""
        del channel
        self._say(stimulus.release)

    def tested_before(self, record: UnitRecord) -> None:
        """Say so."""
        when = f"{record.serial} was tested at {record.started}: {record.verdict}"
        self._say(f"{when}; it is not tested again without --again")

    def not_expected(self, identity: Identity, why: str) -> None:
        """Say why it is not tested."""
        self._say(f"{identity.serial} is not tested: {why}")

    def ends(self, record: UnitRecord, ledger: Ledger) -> None:
        """Show the verdict."""
        if self._as_json:
            click.echo(record.model_dump_json())
        elif sys.stdout.isatty():
            _show_large(record, ledger)
        else:
            click.echo(record.line())
        sys.stdout.flush()

    def _say(self, line: str) -> None:
        click.echo(line, err=True)


def _show_large(record: UnitRecord, ledger: Ledger) -> None:
    """The verdict on the whole terminal, in words and colour, with a bell."""
    from leitwerk.reports.terminal_pictures import big_text

    width, height = shutil.get_terminal_size()
    ink, latest = "green" if record.passed else "red", ledger.latest()
    passed = sum(one.passed for one in latest)
    click.clear()
    click.echo()
    for line in big_text(record.word, width - 2, max(4, height // 2)):
        click.echo(" " + click.style(line, fg=ink, bold=True))
    click.echo()
    click.echo(click.style(f" {record.serial}", bold=True) + f"   {record.took_s:.1f} s")
    for text in record.details[: max(1, height - 16)]:
        click.echo(f" {text[: width - 2]}")
    click.echo(f"\n {passed} of {len(latest)} units passed" + "\a" * _BELLS[record.passed])


@click.command("test-lot")
@click.argument("plan")
@click.option("--units", "most", type=click.IntRange(1), metavar="N", help="End after so many.")
@click.option("--list", "listed", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="The units of the lot: a table with serial, and at for addresses.")  # fmt: skip
@click.option(
    "--labels", is_flag=True, help="Read the label of each unit first: scanned, or typed."
)
@click.option("--again", multiple=True, metavar="SERIAL", help="Test this unit again.")
@click.option("--ledger", type=click.Path(path_type=Path), metavar="FILE",
              help=f"Where records are added; {_LEDGER} beside the plan, if not given.")  # fmt: skip
@JSON
@link_options(0.5)
def test_lot(
    plan: str,
    *,
    most: int | None,
    listed: Path | None,
    labels: bool,
    again: tuple[str, ...],
    ledger: Path | None,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Test unit after unit by the PLAN: insert, tests, verdict, remove.

    A list with addresses is worked through, unit after unit. Without one, units are changed at the address of
    the plan's setup, and nothing is pressed between them: a unit is recognised by its serial number when it
    answers, and is gone when it does not. Its record is on disk before its verdict is shown. A unit that was
    tested before is not tested again without --again. The same command goes on with a lot that was ended.

    Exit code 0: all units were tested, and passed. 1: some failed, or the fixture is in doubt. 2: usage.
    3: not reached.
    """
    from leitwerk.commissioning.lot_ledger import Ledger
    from leitwerk.commissioning.lot_run import LotOptions, LotRun, missing
    from leitwerk.devices.device import connect
    from leitwerk.project.test_plans import read_test_plan

    checked = read_test_plan(plan)
    units = _listed(listed, checked, link) if listed else {}
    person = Person(as_json=as_json)
    path = ledger or Path(plan).parent / _LEDGER
    expected = tuple(units)
    prepare = _uploading(plan) if checked.plan.entry.upload == "yes" else None
    options = LotOptions(user(), _reference(checked, plan), most, expected, again, prepare, labels)
    with Ledger(path) as book:
        end = None
        try:
            lot = LotRun(checked, book, person, options)
            reach = {serial: one for serial, one in units.items() if one is not None}
            end = (
                lot.run_list(reach)
                if reach
                else lot.run(partial(connect, checked.setup, link=link))
            )
        except KeyboardInterrupt:
            click.echo("ended from the keyboard: the same command goes on", err=True)
        latest = book.latest()
        passed = sum(one.passed for one in latest)
        click.echo(f"{passed} of {len(latest)} units passed; {path}", err=True)
        if left := missing(book, expected):
            click.echo(f"not tested yet: {', '.join(left[:20])}", err=True)
        if end is not None:
            click.echo(end.why, err=True)
    fine = end is not None and not end.is_fixture and passed == len(latest)
    return FINE if fine else FOUND


def _listed(
    path: Path, checked: CheckedPlan, link: LinkOptions
) -> dict[str, Callable[[], Device] | None]:
    """The units of a list by serial number; each with what connects to it, where the list has addresses."""
    from leitwerk.devices.device import open_device
    from leitwerk.errors import FileProblem
    from leitwerk.parsing.address import parse_address
    from leitwerk.project.rows_file import read_rows

    found: dict[str, Callable[[], Device] | None] = {}
    for row in read_rows(path):
        serial, at = row.get("serial", "").strip(), row.get("at", "").strip()
        if not serial or serial in found:
            what = f"{serial} stands there twice" if serial else "a line has no serial number"
            raise FileProblem(f"{path}: {what}", remedy="a column 'serial', each unit once")
        reach = (
            partial(open_device, checked.setup.datasheet, parse_address(at), link=link)
            if at
            else None
        )
        found[serial] = reach
    if len({one is None for one in found.values()}) > 1:
        raise FileProblem(
            f"{path}: some units have an address, some not", remedy="give all, or none"
        )
    return found


def _uploading(plan: str) -> Callable[[CheckedSetup, Device], object]:
    """What uploads to a unit before its tests; its backups and receipts are kept beside the plan."""
    from leitwerk.cli.password import passwords_of
    from leitwerk.transfer.task import UploadOptions
    from leitwerk.transfer.upload import upload

    def prepare(setup: CheckedSetup, device: Device) -> object:
        named = setup.setup.device
        passwords = passwords_of(named.model, named.serial)
        return upload(
            setup, device, UploadOptions(Path(plan).parent / "kept", passwords, by=user())
        )

    return prepare


def _reference(checked: CheckedPlan, plan: str) -> dict[tuple[str, str], ReferenceValue]:
    from leitwerk.commissioning.reference_units import read_reference

    name = checked.plan.entry.reference
    if name is None or not checked.needs_reference:
        return {}
    reference = read_reference(Path(plan).parent / name)
    for text in reference.remarks(checked):
        click.echo(f"reference: {text}", err=True)
    return reference.values()


@click.command()
@click.argument("plan")
@click.option("--units", default=10, type=click.IntRange(1, 1000), show_default=True,
              help="How many known-good units.")  # fmt: skip
@click.option("--repeats", default=3, type=click.IntRange(1, 100), show_default=True,
              help="How often each is measured.")  # fmt: skip
@JSON
@link_options(0.5)
def reference(plan: str, *, units: int, repeats: int, as_json: bool, link: LinkOptions) -> int:
    """Measure known-good units by the tests of the PLAN, and keep what they show as its reference.

    The limits of a plan may then be a deviation from them: in percent, or in their spread. A unit that is odd
    beside the others is named.

    Exit code 0: kept. 1: kept, and something is odd. 2: usage. 3: not reached.
    """
    from leitwerk.cli.printing import echo_json, print_columns
    from leitwerk.commissioning.lot_run import measure_references
    from leitwerk.commissioning.reference_units import write_reference
    from leitwerk.devices.device import connect
    from leitwerk.project.test_plans import read_test_plan

    checked = read_test_plan(plan)
    name = checked.plan.entry.reference
    if name is None:
        raise click.UsageError(
            "the plan names no file of reference units: add 'reference: good.json'"
        )
    reach = partial(connect, checked.setup, link=link)
    kept = measure_references(
        checked, reach, Person(as_json=as_json), units=units, repeats=repeats, by=user()
    )
    path = Path(plan).parent / name
    write_reference(path, kept)
    if as_json:
        echo_json(kept.model_dump())
    else:
        rows = [
            (
                e.test,
                e.channel,
                f"{(v := e.value()).mean:.5g}",
                f"{v.spread:.2g}",
                str(v.units),
                e.unit,
            )
            for e in kept.entries
        ]
        print_columns(("Test", "Channel", "Mean", "Spread", "Units", "Unit"), rows)
        click.echo(f"kept in {path}: {len(kept.units)} units")
    odd = kept.remarks(checked)
    for text in odd:
        click.echo(text, err=True)
    return FOUND if odd else FINE
