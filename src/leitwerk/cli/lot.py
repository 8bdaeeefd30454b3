"""leitwerk lot."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON

if TYPE_CHECKING:
    from leitwerk.commissioning.lot_results import LotResult, MeasureOfLot

_HEADS = ("Measure", "Units", "Mean", "Spread", "Limits", "Cp", "Cpk (95 %)", "Unit")


@click.command()
@click.argument("ledger", type=click.Path(path_type=Path, dir_okay=False, exists=True))
@click.option("--beside", type=click.Path(path_type=Path, dir_okay=False, exists=True), metavar="LEDGER",
              help="Compare it with another lot.")  # fmt: skip
@click.option("--figures", type=click.Path(path_type=Path, file_okay=False), metavar="FOLDER",
              help="Draw faults, distributions and trends into this folder.")  # fmt: skip
@click.option("--table", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Write a row for each unit: .csv, .xlsx or .parquet.")  # fmt: skip
@JSON
def lot(
    ledger: Path, *, beside: Path | None, figures: Path | None, table: Path | None, as_json: bool
) -> int:
    """Evaluate the LEDGER of a lot: yield, faults, spreads, capability, trends, units that do not belong.

    Of a unit that was tested again, the last record counts. Spreads and capability are of all units, trends
    and outliers of those that passed. Cp and Cpk are worked with the standard deviation between all units,
    each with its confidence interval of 95 %.

    Exit code 0: all units passed. 1: some did not. 2: usage.
    """
    from leitwerk.cli.printing import echo_json

    found = _evaluated(ledger)
    if table is not None:
        from leitwerk.commissioning.lot_table import write_units

        write_units(table, found.records)
    if figures is not None:
        _draw(found, figures)
    if as_json:
        echo_json(found.to_dict())
    else:
        _print(found)
    if beside is not None:
        _print_beside(found, _evaluated(beside), beside)
    return FINE if found.passed == len(found.records) else FOUND


def _evaluated(path: Path) -> LotResult:
    from leitwerk.commissioning.lot_ledger import Ledger
    from leitwerk.commissioning.lot_results import evaluate_lot

    book = Ledger(path)
    book.read()
    latest = book.latest()
    return evaluate_lot(latest, len(book.records) - len(latest))


def _print(found: LotResult) -> None:
    from leitwerk.cli.printing import print_columns, print_line

    low, high = (100.0 * end for end in found.interval)
    again = (
        f"; {found.tested_again} records of units that were tested again"
        if found.tested_again
        else ""
    )
    click.echo(
        f"{found.passed} of {len(found.records)} units passed: {100.0 * found.share:.1f} % "
        f"(95 %: {low:.1f} to {high:.1f} %){again}"
    )
    for fault, count in found.pareto:
        click.echo(f"  {count:5d}  {fault}")
    print_columns(_HEADS, found.capability_rows())
    for measure in found.measures:
        change = measure.trend
        if change is not None and change.is_clear:
            click.echo(
                f"{measure.name} changes by {change.change:.3g} {measure.unit} over the lot".rstrip()
            )
    for record, measure in found.outliers():
        value = measure.values[found.records.index(record)]
        shown = f"{value:.5g} {measure.unit}".rstrip()
        print_line(f"{record.serial} passed and does not belong: {measure.name} is {shown}", 2)


def _print_beside(found: LotResult, other: LotResult, path: Path) -> None:
    from leitwerk.cli.printing import print_columns
    from leitwerk.commissioning.lot_results import compare_lots

    click.echo(
        f"beside {path}: {other.passed} of {len(other.records)} units passed there "
        f"({100.0 * other.share:.1f} %)"
    )
    rows = [
        (
            measure.name, f"{diff.means:+.3g}", f"{diff.interval[0]:+.3g} to {diff.interval[1]:+.3g}",
            "yes" if diff.is_clear else "no", f"{diff.spread_ratio:.2f}", measure.unit,
        )
        for measure, diff in compare_lots(found, other)
    ]  # fmt: skip
    print_columns(("Measure", "Difference", "95 %", "Clear", "Spread ratio", "Unit"), rows)


def _draw(found: LotResult, folder: Path) -> None:
    from leitwerk.reports.lot_figures import draw_distributions, draw_pareto, draw_trends

    folder.mkdir(parents=True, exist_ok=True)
    draw_pareto(found, folder / "faults.png")
    tests: dict[str, list[MeasureOfLot]] = {}
    for measure in found.measures:
        tests.setdefault(measure.test, []).append(measure)
    for test, measures in tests.items():
        stem = test.replace(" ", "-")
        draw_distributions(
            measures, f"{test}: {len(found.records)} units", folder / f"distribution-{stem}.png"
        )
        draw_trends(measures, f"{test}, in the order of test", folder / f"trend-{stem}.png")
    click.echo(f"figures in {folder}", err=True)
