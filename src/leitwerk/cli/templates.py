"""leitwerk templates, begin, renew and wiring-sheet: setups that are made from templates."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import Pair, link_options
from leitwerk.cli.settle import WRITE, settle

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.links.options import LinkOptions
    from leitwerk.setup.template import Template, TemplateParameter

WITH = click.option(
    "--with", "given", type=Pair(), multiple=True, metavar="NAME=VALUE",
    help="A parameter of the template; more of them with further --with.",
)  # fmt: skip


@click.command()
@click.argument("name", required=False)
def templates(name: str | None) -> int:
    """List the templates; of template NAME, what may be chosen and what must be wired.

    Templates of your own stand in a folder 'templates' beside the setups, or above.

    Exit code 0: shown. 2: the name is not known.
    """
    from leitwerk.cli.printing import print_columns, print_rows
    from leitwerk.project.templates import find_template, known_templates
    from leitwerk.setup.template import valid_values

    if name is None:
        every = [find_template(known) for known in known_templates()]
        print_columns(
            ("template", "version", "for", "summary"),
            [(t.entry.name, str(t.entry.version), ", ".join(t.entry.fits), t.entry.summary)
             for t in every],
        )  # fmt: skip
        return FINE
    template = find_template(name)
    entry = template.entry
    rows = [
        ("template:", str(template)),
        ("summary:", entry.summary),
        ("for:", ", ".join(entry.fits)),
    ]
    rows += [("changes:", f"version {number}: {text}") for number, text in entry.changes.items()]
    rows += [("wiring:", f"{terminal}: {text}") for terminal, text in entry.wiring.items()]
    print_rows(rows)
    click.echo()
    print_columns(
        ("parameter", "default", "valid", "question"),
        [(key, one.default, valid_values(one), one.ask) for key, one in entry.parameters.items()],
    )
    return FINE


@click.command()
@click.argument("template")
@click.argument("file")
@click.option(
    "--at", metavar="WHERE", help="Address or name of the device; it is asked which it is."
)
@click.option("--model", metavar="MODEL", help="Its model, where no device is asked.")
@click.option("--serial", metavar="NUMBER", help="Its serial number, where no device is asked.")
@click.option("--offline", is_flag=True, help="Do not ask the device at the address.")
@WITH
@click.option("--answers", metavar="FILE", help="Parameters from a file, 'name: value' lines.")
@click.option(
    "--defaults", is_flag=True, help="Ask no questions; what is not given is the default."
)
@click.option(
    "--sheet", metavar="FILE", help="Also write the wiring sheet: .pdf, .html, .csv, .xlsx."
)
@link_options(2.0)
def begin(
    template: str,
    file: str,
    *,
    at: str | None,
    model: str | None,
    serial: str | None,
    offline: bool,
    given: tuple[tuple[str, str], ...],
    answers: str | None,
    defaults: bool,
    sheet: str | None,
    link: LinkOptions,
) -> int:
    """Make a setup FILE from TEMPLATE, by questions.

    What is given by --with or --answers is not asked. Enter takes the default, ? shows the help. With the
    address of a device, its model and serial number are those that it says. At the end stands the
    wiring sheet. A file that is there already is kept.

    Exit code 0: made, it can be uploaded. 1: made, with errors. 2: usage. 3: device not reached.
    """
    from leitwerk.cli.printing import counts_text, print_findings
    from leitwerk.errors import FileProblem, QuantityError
    from leitwerk.project.files import read_bytes, write_atomic
    from leitwerk.project.setups import check_file
    from leitwerk.project.templates import find_template
    from leitwerk.setup.template_text import fill_in, parse_answers

    if Path(file).exists():
        raise FileProblem(f"{file} is there already", remedy="give another name, or move it away")
    found = find_template(template, near=Path(file).parent)
    values = parse_answers(read_bytes(answers), answers) if answers else {}
    values |= dict(given)
    found.checked(values)
    asking = _Asking(found, quiet=defaults or not sys.stdin.isatty())
    device = asking.device(at, model, serial, None if offline else link)
    if device["model"] not in found.entry.fits:
        raise QuantityError(
            f"the template {found} is not for {device['model']}", valid=", ".join(found.entry.fits)
        )
    made = fill_in(found, asking.parameters(values), device)
    write_atomic(Path(file), made.text)
    result = check_file(file)
    print_findings(result.findings, err=True)
    can = "can be uploaded" if result.ok else "cannot be uploaded like this"
    click.echo(f"{file}: made from {found}; it {can} ({counts_text(result.findings)})", err=True)
    if result.checked is not None and result.ok:
        _print_sheet(result.checked, found.entry.wiring)
        if sheet:
            _write_sheet(result.checked, found.entry.wiring, sheet)
    return FINE if result.ok else FOUND


class _Asking:
    """Asks at the terminal what was not given; with ``quiet``, takes the defaults."""

    def __init__(self, template: Template, *, quiet: bool) -> None:
        self._template, self._quiet = template, quiet

    def device(
        self, at: str | None, model: str | None, serial: str | None, link: LinkOptions | None
    ) -> dict[str, str]:
        """Which device it is: as it says itself, or as was given."""
        where = at or self._ask(
            "Address of the device", "its link, such as modbus+tcp://host?unit=1"
        )
        if link is not None and model is None and serial is None:
            from leitwerk.cli.devices import open_where, remember

            with open_where(where, None, link) as device:
                identity = device.identify()
            remember(identity, device.address)
            click.echo(f"{where}: {identity}", err=True)
            return {"model": identity.model, "at": where, "serial": identity.serial}
        fits = self._template.entry.fits
        model = model or (fits[0] if len(fits) == 1 else self._ask("Its model", " | ".join(fits)))
        serial = serial or self._ask("Its serial number", "as it stands on its plate")
        return {"model": model, "at": where, "serial": serial}

    def _ask(self, question: str, valid: str) -> str:
        from leitwerk.errors import QuantityError

        if self._quiet:
            raise QuantityError(
                f"not given: {question.lower()}",
                valid=valid,
                remedy="--at, --model and --serial give it",
            )
        while True:
            typed = _read(f"{question} ({valid})")
            if typed:
                return typed

    def parameters(self, given: Mapping[str, str]) -> dict[str, str]:
        """All parameters, those that were not given as they are answered."""
        entries = self._template.entry.parameters
        if self._quiet:
            return dict(given)
        click.echo("Enter takes the value in brackets, ? shows what is meant.", err=True)
        return {
            name: given[name] if name in given else self._answer(name, one)
            for name, one in entries.items()
        }

    def _answer(self, name: str, one: TemplateParameter) -> str:
        from leitwerk.errors import QuantityError
        from leitwerk.setup.template import check_value, valid_values

        while True:
            typed = _read(f"{one.ask} ({valid_values(one)}) [{one.default}]")
            if typed == "?":
                click.echo(f"  {one.help}", err=True)
                continue
            try:
                return check_value(name, one, typed or one.default)
            except QuantityError as error:
                click.echo(f"  {error}", err=True)


def _read(question: str) -> str:
    from leitwerk.cli.interrupts import read_line

    click.echo(f"{question}: ", nl=False, err=True)
    return read_line().strip()


@click.command()
@click.argument("setup")
@WITH
@WRITE
def renew(setup: str, *, given: tuple[tuple[str, str], ...], write: bool) -> int:
    """Bring SETUP up to date with its template, or change a parameter of it.

    Shown is each entry in which the versions of the template differ: taken over, added, removed, or kept
    because it was changed by hand. Comments and all other entries stay as they are.

    Exit code 0: written, or nothing to do. 1: shown, there is something to do, or the result has errors.
    2: usage.
    """
    from leitwerk.cli.printing import print_findings, print_line
    from leitwerk.project.renewal import renew_setup

    done = renew_setup(setup, dict(given))
    for change in done.changes:
        print_line(f"  {change}", 13)
    if not done.is_new:
        click.echo(f"{setup}: as {done.template} has it, nothing to do", err=True)
        return FINE
    print_findings(done.errors, err=True)
    kept = sum(change.done == "kept" for change in done.changes)
    count = len(done.changes) - kept
    entries = "1 entry" if count == 1 else f"{count} entries"
    summary = f"{entries} as {done.template} has it, {kept} kept as changed by hand"
    return settle(setup, done.text, done.errors, write=write, summary=summary)


@click.command("wiring-sheet")
@click.argument("setup")
@click.option("--to", "file", metavar="FILE", help="Write it there: .pdf, .html, .csv or .xlsx.")
def wiring_sheet(setup: str, *, file: str | None) -> int:
    """Show what is wired to the terminals of SETUP, and which signals are to be seen there.

    Signals at rest are those that the expectations stand for; those at alarm points are what a calibrator
    has to give. With boxes to tick off.

    Exit code 0: shown or written. 1: the setup has errors. 2: usage.
    """
    from leitwerk.project.renewal import wiring_of
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    wired = wiring_of(checked.setup)
    if file is None:
        _print_sheet(checked, wired)
    else:
        _write_sheet(checked, wired, file)
    return FINE


def _print_sheet(checked: CheckedSetup, wired: Mapping[str, str]) -> None:
    from leitwerk.cli.printing import print_columns
    from leitwerk.reports.wiring_sheet import HEAD, wiring_rows

    print_columns(HEAD, [row.cells for row in wiring_rows(checked, wired)])


def _write_sheet(checked: CheckedSetup, wired: Mapping[str, str], file: str) -> None:
    from leitwerk.reports.report_text import require_form, write_report
    from leitwerk.reports.wiring_sheet import wiring_sheet as made

    require_form(Path(file))
    write_report(made(checked, wired), Path(file))
    click.echo(f"{file}: written", err=True)
