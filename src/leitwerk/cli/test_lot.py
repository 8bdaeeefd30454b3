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
    from leitwerk.check.channels import CheckedChannel
    from leitwerk.check.test_plan import CheckedPlan
    from leitwerk.commissioning.lot_ledger import Ledger, UnitRecord
    from leitwerk.identity import Identity
    from leitwerk.links.options import LinkOptions
    from leitwerk.lots.limits import ReferenceValue
    from leitwerk.setup.test_plan import StimulusEntry

_LEDGER = "lot.jsonl"
_BELLS = {True: 1, False: 3}  # one for a pass, three for a fail


class Person:
    """Who changes the units: asked by lines on standard error, answers by what is at the socket."""

    def __init__(self, *, as_json: bool, again: tuple[str, ...] = ()) -> None:
        self._as_json, self._again = as_json, again

    def insert(self) -> None:
        """Ask for the next unit."""
        self._say("insert the next unit")

    def remove(self, identity: Identity) -> None:
        """Ask that it is removed."""
        self._say(f"remove {identity.serial}")

    def begins(self, identity: Identity) -> None:
        """It was recognised."""
        self._say(f"{identity.serial}: testing")

    def begin(self, stimulus: StimulusEntry, channel: CheckedChannel) -> None:
        """Ask for a stimulus."""
        self._say(stimulus.ask.replace("{label}", channel.label).replace("{channel}", channel.name))

    def end(self, stimulus: StimulusEntry, channel: CheckedChannel) -> None:
        """Ask that it ends."""
        del channel
        self._say(stimulus.release)

    def tested_before(self, record: UnitRecord) -> bool:
        """Say so; it is tested again only if that was asked for."""
        from leitwerk.identity import folded_number

        again = folded_number(record.serial) in {folded_number(serial) for serial in self._again}
        then = "it is tested again" if again else "it is not tested again without --again"
        self._say(f"{record.serial} was tested at {record.started}: {record.verdict}; {then}")
        return again

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
    word, ink = ("PASS", "green") if record.passed else ("FAIL", "red")
    passed = sum(one.passed for one in ledger.latest())
    click.clear()
    click.echo()
    for line in big_text(word, width - 2, max(4, height // 2)):
        click.echo(" " + click.style(line, fg=ink, bold=True))
    click.echo()
    click.echo(click.style(f" {record.serial}", bold=True) + f"   {record.took_s:.1f} s")
    for text in record.details[: max(1, height - 16)]:
        click.echo(f" {text[: width - 2]}")
    click.echo(f"\n {passed} of {len(ledger.latest())} units passed" + "\a" * _BELLS[record.passed])


@click.command("test-lot")
@click.argument("plan")
@click.option("--units", "most", type=click.IntRange(1), metavar="N", help="End after so many.")
@click.option("--list", "listed", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Serial numbers of the lot, one a line: no other is tested.")  # fmt: skip
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
    again: tuple[str, ...],
    ledger: Path | None,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Test unit after unit by the PLAN: insert, tests, verdict, remove.

    Nothing is pressed between units: a unit is recognised by its serial number when it answers, and is gone
    when it does not. Its record is on disk before its verdict is shown. A unit that was tested before is not
    tested again without --again. The same command goes on with a lot that was broken off.

    Exit code 0: all units were tested, and passed. 1: some failed, or the fixture is in doubt. 2: usage.
    3: not reached.
    """
    from leitwerk.commissioning.lot_ledger import Ledger
    from leitwerk.commissioning.lot_run import LotOptions, missing, run_lot
    from leitwerk.devices.device import connect
    from leitwerk.project.test_plans import read_test_plan

    checked = read_test_plan(plan)
    expected = _serials(listed) if listed else ()
    options = LotOptions(user(), _reference(checked, plan), most, expected)
    path = ledger or Path(plan).parent / _LEDGER
    with Ledger(path) as book:
        end = None
        try:
            reach = partial(connect, checked.setup, link=link)
            end = run_lot(checked, reach, book, Person(as_json=as_json, again=again), options)
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


def _serials(path: Path) -> tuple[str, ...]:
    from leitwerk.errors import FileProblem
    from leitwerk.project.files import read_bytes

    try:
        lines = read_bytes(path).decode("utf-8-sig").splitlines()
    except UnicodeDecodeError:
        raise FileProblem(f"{path} is not text in UTF-8", remedy="save it as that") from None
    return tuple(line.strip() for line in lines if line.strip())


def _reference(checked: CheckedPlan, plan: str) -> dict[tuple[str, str], ReferenceValue]:
    from leitwerk.commissioning.reference_units import read_reference

    name = checked.plan.entry.reference
    if name is None:
        return {}
    reference = read_reference(Path(plan).parent / name)
    for text in reference.remarks():
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
    from datetime import UTC, datetime

    from leitwerk.cli.printing import echo_json, print_columns
    from leitwerk.commissioning.lot_run import kept_identity, measure_references
    from leitwerk.commissioning.reference_units import (
        ReferenceFile,
        reference_entries,
        write_reference,
    )
    from leitwerk.commissioning.unit_test import TestResult
    from leitwerk.devices.device import connect
    from leitwerk.project.files import content_hash
    from leitwerk.project.test_plans import read_test_plan

    checked = read_test_plan(plan)
    name = checked.plan.entry.reference
    if name is None:
        raise click.UsageError(
            "the plan names no file of reference units: add 'reference: good.json'"
        )
    found: dict[str, list[TestResult]] = {}
    identities: dict[str, Identity] = {}
    person, reach = Person(as_json=as_json), partial(connect, checked.setup, link=link)
    for identity, results in measure_references(
        checked, reach, person, units=units, repeats=repeats
    ):
        identities[identity.serial] = identity
        found.setdefault(identity.serial, []).extend(results)
    kept = ReferenceFile(
        title=checked.plan.entry.title, plan_hash=content_hash(checked.plan.content),
        setup_hash=content_hash(checked.setup.setup.source.content),
        measured=datetime.now(UTC).isoformat(timespec="seconds"), by=user(),
        samples=checked.plan.entry.samples, units=[kept_identity(one) for one in identities.values()],
        entries=reference_entries(checked, found),
    )  # fmt: skip
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
    for text in kept.remarks():
        click.echo(text, err=True)
    return FOUND if kept.remarks() else FINE
