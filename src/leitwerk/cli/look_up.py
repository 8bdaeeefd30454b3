"""leitwerk finding, card and completion: help for people who work with the command."""

from __future__ import annotations

import os
from pathlib import Path

import click

from leitwerk.cli.exit_codes import FINE


@click.command()
@click.argument("rules", nargs=-1, required=True)
def finding(rules: tuple[str, ...]) -> int:
    """Show what a finding means, and what to do, by the name of its rule.

    Exit code 0: shown. 2: no finding has this name.
    """
    from leitwerk.cli.printing import print_rows
    from leitwerk.reports.finding_help import find_help

    for rule in rules:
        found = find_help(rule)
        print_rows(
            [("rule:", f"{found.rule} ({found.severity})"), ("cause:", found.cause),
             ("what to do:", found.remedy), ("page:", found.page)]
        )  # fmt: skip
    return FINE


@click.command()
@click.option("--to", "file", metavar="FILE", help="Write it there: .pdf or .html.")
def card(file: str | None) -> int:
    """Show all commands on one page.

    Exit code 0: shown or written. 2: usage.
    """
    from leitwerk.cli import main
    from leitwerk.reports.command_card import command_card

    if file is None:
        click.echo(main.get_help(click.Context(main, info_name="leitwerk")))
        return FINE
    from leitwerk.cli import SECTIONS
    from leitwerk.reports.report_text import require_form, write_report

    require_form(Path(file))
    lines = {
        section: {n: text for n, (_, text) in held.items()} for section, held in SECTIONS.items()
    }
    write_report(command_card(lines), Path(file))
    click.echo(f"{file}: written", err=True)
    return FINE


_SCRIPTS = {
    "bash": "bash-completion/completions/leitwerk",
    "zsh": "zsh/site-functions/_leitwerk",
    "fish": "fish/vendor_completions.d/leitwerk.fish",
}


@click.command()
@click.argument("shell", required=False, type=click.Choice(list(_SCRIPTS)))
@click.option("--show", is_flag=True, help="Print it instead of installing it.")
def completion(shell: str | None, *, show: bool) -> int:
    """Install the completion of commands and options for SHELL: bash, zsh or fish; else for yours.

    It is written below the data folder of the user, where bash-completion and fish look for it by themselves;
    zsh needs that folder in its fpath.

    Exit code 0: installed. 2: the shell is not known, or the file cannot be written.
    """
    from click.shell_completion import get_completion_class

    from leitwerk.cli import main
    from leitwerk.errors import QuantityError
    from leitwerk.project.files import write_atomic

    name = shell or Path(os.environ.get("SHELL", "")).name
    kind = get_completion_class(name) if name in _SCRIPTS else None
    if kind is None:
        raise QuantityError(f"the shell {name!r} is not known here", valid=", ".join(_SCRIPTS))
    text = kind(main, {}, "leitwerk", "_LEITWERK_COMPLETE").source()
    if show:
        click.echo(text)
        return FINE
    data = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    file = data / _SCRIPTS[name]
    write_atomic(file, text)
    click.echo(f"{file}: written; it counts in shells that are begun from now on", err=True)
    if name == "zsh":
        click.echo(f"add to ~/.zshrc, before compinit: fpath+=({file.parent})", err=True)
    return FINE
