"""leitwerk exchange."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON, for_option, link_options

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.check.exchanges import CheckedExchange
    from leitwerk.exchange.definition import Carried, LineForm, Part
    from leitwerk.links.options import LinkOptions

_NAME = click.argument("name")
_SETUP = click.argument("setup")


@click.group()
def exchange() -> None:
    """Lines of text between two ends: see them, hold two ends together, write the other end's sheet."""


@exchange.command()
@_SETUP
@_NAME
@click.option("--value", "given", multiple=True, metavar="NAME=VALUE", help="A value: air=21.5.")
@click.option("--live", is_flag=True, help="Ask the device for the values of its channels.")
@JSON
@link_options(2.0)
def preview(
    setup: str, name: str, *, given: tuple[str, ...], live: bool, as_json: bool, link: LinkOptions
) -> int:
    """Show the exact bytes of every message of the exchange NAME, without any device.

    Values that are neither given nor asked for are examples.

    Exit code 0: shown. 1: the setup has errors. 2: usage. 3: device not reached. 4: another device.
    """
    from leitwerk.cli.printing import echo_json

    checked = _read(setup)
    found = find_exchange(checked, name)
    values = {**(_live_values(checked, link) if live else {}), **_given(given)}
    shown = [_previewed(found, line, _values(line, values)) for line in found.exchange.says.lines]
    if as_json:
        echo_json(shown)
        return FINE
    for one in shown:
        click.echo(one["message"])
        if "trouble" in one:
            click.echo(f"  cannot be said: {one['trouble']}")
            continue
        click.echo(f"  {one['visible']}")
        click.echo(f"  {one['hex']}   ({one['bytes']} bytes)")
        click.echo("  " + " | ".join(f"{name}: {text}" for name, text in one["parts"]))
    if found.load:
        click.echo(f"messages on a timer take {found.load:.1%} of the line")
    return FINE


def _live_values(checked: CheckedSetup, link: LinkOptions) -> dict[str, str]:
    """The values of all channels now, as texts; empty where there is no good one."""
    from leitwerk.devices.device import connect
    from leitwerk.monitoring.spot_readings import read_values

    with connect(checked.require(), link=link) as device:
        values = read_values(checked, device)
    words = {}
    for channel in checked.channels:
        value = values[channel.name]
        states = channel.states
        shown = "" if value is None else repr(value) if states is None else states.name(value)
        words[channel.name] = shown
    return words


def _previewed(found: CheckedExchange, line: LineForm, values: Sequence[Carried]) -> dict[str, Any]:
    from leitwerk.exchange.characters import hexadecimal, visible
    from leitwerk.exchange.saying import packed, places, speaker
    from leitwerk.exchange.values import CannotSay

    way = found.exchange.says
    try:
        data = packed(speaker(line, way)(values), way, found.exchange.address)
    except CannotSay as error:
        return {"message": line.name, "trouble": error.message}
    return {
        "message": line.name,
        "visible": visible(data),
        "hex": hexadecimal(data),
        "bytes": len(data),
        "parts": [(place.name, visible(place.text)) for place in places(line, way, values)],
    }


@exchange.command()
@_SETUP
@_NAME
@click.argument("line", default="")
@click.option(
    "--kept", metavar="FILE", help="In place of LINE: what a conversation that was kept said."
)
@click.option("--hex", "is_hex", is_flag=True, help="LINE are bytes: 'T;21.5' is 543B32312E35.")
@JSON
def hear(setup: str, name: str, line: str, *, kept: str | None, is_hex: bool, as_json: bool) -> int:
    """Show step by step what the exchange NAME makes of LINE: divided, converted, stored, answered.

    The end of the line is added, unless the bytes are given with --hex. With --kept, all that was said to
    a device in a conversation is taken: 'leitwerk talk --keep' keeps one.

    Exit code 0: understood. 1: not understood, or the setup has errors. 2: usage.
    """
    from pathlib import Path

    from leitwerk.cli.printing import echo_json, print_rows
    from leitwerk.devices.talk import read_talk
    from leitwerk.exchange.steps import explain_line

    checked = _read(setup)
    found = find_exchange(checked, name)
    way = found.exchange.understands
    if kept is not None:
        data = b"".join(t.data for t in read_talk(Path(kept)) if t.way == "said")
    elif is_hex:
        try:
            data = bytes.fromhex(line)
        except ValueError:
            raise click.BadParameter("these are no pairs of hexadecimal digits") from None
    else:
        text = way.start + found.exchange.address + line + way.end
        data = text.encode(way.encoding, "replace")
    steps, heard = explain_line(found.exchange, data)
    after = [
        (r.name, ", then ".join(map(str, r.actions)))
        for h in heard
        if h.trouble is None
        for r in checked.rules
        if r.trigger.event == f"heard {name}.{h.name}"
    ]
    if as_json:
        echo_json([{"step": s.title, "text": s.text, "failed": s.failed} for s in steps])
    else:
        print_rows([(s.title, f"{'✗ ' * s.failed}{s.text}") for s in steps])
        print_rows([("then", what) for _, what in after])
    return FOUND if any(s.failed for s in steps) else FINE


@exchange.command()
@_SETUP
@_NAME
@click.option("--out", metavar="FILE", help="Write it there: .md or .html; else it is printed.")
def sheet(setup: str, name: str, *, out: str | None) -> int:
    """Write the sheet for whoever programs the other end of the exchange NAME.

    Exit code 0: written. 1: the setup has errors. 2: usage.
    """
    from pathlib import Path

    from leitwerk.project.files import write_atomic
    from leitwerk.reports.exchange_sheet import sheet_markdown
    from leitwerk.reports.html_page import page_html

    checked = _read(setup).require()
    found = find_exchange(checked, name)
    text = sheet_markdown(found.exchange, checked.setup.title)
    if out is None:
        click.echo(text, nl=False)
        return FINE
    path = Path(out)
    if path.suffix not in {".md", ".html"}:
        raise click.BadParameter(f"{path.name!r} is neither .md nor .html", param_hint="--out")
    is_page = path.suffix == ".html"
    write_atomic(path, page_html(text, f"{checked.setup.title}: {name}") if is_page else text)
    click.echo(f"{path} written")
    return FINE


@exchange.command()
@_SETUP
@_NAME
@click.option(
    "--at", metavar="ADDRESS", required=True, help="Where the other end hears the device."
)
@click.option("--out", metavar="FILE", help="Write it there; else it is printed.")
def mirror(setup: str, name: str, *, at: str, out: str | None) -> int:
    """Write the setup for the other end of the exchange NAME, so that Leitwerk can be that end.

    ADDRESS is talk+serial:///dev/ttyUSB0?line=9600,8N1 or talk+tcp://127.0.0.1:4001. What the device says
    becomes channels there, with units, expectations and alarms: 'leitwerk live' works on them.

    Exit code 0: written. 1: the setup has errors. 2: usage.
    """
    from pathlib import Path

    import yaml

    from leitwerk.evaluation.mirror import mirror_setup
    from leitwerk.parsing.address import parse_address
    from leitwerk.project.files import write_atomic

    checked = _read(setup).require()
    found = find_exchange(checked, name)
    if parse_address(at).protocol != "talk":
        valid = "talk+serial:///dev/ttyUSB0?line=9600,8N1 or talk+tcp://127.0.0.1:4001"
        raise click.BadParameter(f"{at!r} is no address of a device that talks\n  valid: {valid}")
    content = mirror_setup(checked, found, at, "talker")
    text = yaml.safe_dump(content, sort_keys=False, allow_unicode=True, width=100)
    text = f"# The other end of the exchange {name} of {Path(setup).name}.\n{text}"
    if out is None:
        click.echo(text, nl=False)
        return FINE
    write_atomic(Path(out), text)
    click.echo(f"{out} written; 'leitwerk live {out}' compares what the device says")
    return FINE


@exchange.command()
@_SETUP
@click.argument("message")
@click.argument("values", nargs=-1)
@link_options(2.0)
def say(setup: str, message: str, values: tuple[str, ...], *, link: LinkOptions) -> int:
    """Say MESSAGE with its VALUES to the device of SETUP, which is known by its exchange alone.

    Such a setup is written by 'leitwerk exchange mirror'.

    Exit code 0: confirmed. 1: not confirmed, or the setup has errors. 2: usage. 3: not reached. 4: refused.
    """
    from leitwerk.devices.device import connect
    from leitwerk.links.talk import TalkLink

    checked = _read(setup).require()
    known = checked.datasheet.exchange
    line = next((x for x in known.says.lines if x.name == message), None) if known else None
    if known is None or line is None:
        names = ", ".join(x.name for x in known.says.lines) if known else "none: it is no 'talker'"
        raise click.BadParameter(f"there is no message {message[:40]!r}\n  valid: {names}")
    given = [_typed(part, text) for part, text in zip(line.values, values, strict=False)]
    given += [*values[len(given) :]]
    with connect(checked, link=link) as device:
        assert isinstance(device.link, TalkLink)
        device.require(checked.setup.device.model, str(checked.setup.device.serial))
        with device.staying_the_same():
            confirmed = device.link.say(message, given)
    click.echo("confirmed" if confirmed is not None else "said; nothing confirms it")
    return FINE if confirmed is not None else FOUND


@exchange.command()
@click.argument("here", metavar="SETUP")
@click.argument("name")
@click.argument("there", metavar="OTHER_SETUP")
@click.argument("other")
@JSON
def match(here: str, name: str, there: str, other: str, *, as_json: bool) -> int:
    """Hold two ends together: the exchange NAME of SETUP, and OTHER of OTHER_SETUP at the other end.

    Exit code 0: they fit. 1: they differ, or a setup has errors. 2: usage.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.exchange.compare import compare

    one, two = _read(here), _read(there)
    ends = find_exchange(one, name), find_exchange(two, other)
    found = compare(ends[0].exchange, ends[1].exchange)
    rows = [
        (
            _place(one, ("exchanges", name, *d.here)),
            _place(two, ("exchanges", other, *d.there)),
            d.message,
        )
        for d in found
    ]
    if as_json:
        echo_json([{"here": h, "there": t, "message": m} for h, t, m in rows])
        return FOUND if rows else FINE
    for place, far, message in rows:
        click.echo(f"{message}\n    here:  {place}\n    there: {far}")
    click.echo(f"{len(rows)} difference{'s' * (len(rows) != 1)}" if rows else "both ends fit")
    return FOUND if rows else FINE


@exchange.command()
@click.argument("address")
@_SETUP
@_NAME
@for_option("How long to listen at each line.", "2 s")
@JSON
def diagnose(address: str, setup: str, name: str, *, duration_s: float, as_json: bool) -> int:
    """Listen to the device of SETUP at the other end of a line, and say what is wrong there.

    ADDRESS is where this machine is connected. The exchange NAME is what the device says and understands.
    It is asked one thing that changes nothing, if there is one. Where no text comes over a serial port,
    the usual lines are tried.

    Exit code 0: what comes is understood. 1: it is not. 2: usage. 3: the port does not open.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.datasheet.text_points import TextPoint
    from leitwerk.devices.talk import diagnose as look
    from leitwerk.exchange.characters import visible
    from leitwerk.parsing.address import parse_address

    checked = _read(setup)
    found = find_exchange(checked, name)
    identity = [p for p in checked.datasheet.points("identity") if isinstance(p, TextPoint)]
    result = look(
        found.exchange,
        parse_address(address),
        listen_s=duration_s,
        replies=checked.datasheet.replies,
        identity=identity[0].query if identity else "",
        on_try=lambda line: click.echo(f"trying {line}", err=True),
    )
    if as_json:
        echo_json({
            "sent": result.sent.hex(), "came": result.came.hex(), "understood": result.understood,
            "symptoms": [s._asdict() for s in result.symptoms],
            "line": str(result.line) if result.line else None,
        })  # fmt: skip
        return FOUND if result.symptoms else FINE
    if result.sent:
        click.echo(f"said:  {visible(result.sent)}")
    click.echo(f"heard: {visible(result.came[:200]) or 'nothing'}")
    for symptom in result.symptoms:
        click.echo(f"{symptom.message}\n    remedy: {symptom.remedy}")
    if result.line is not None:
        click.echo(
            f"with {result.line} it makes sense\n    remedy: line={result.line} in the address"
        )
    if not result.symptoms:
        count = result.understood
        click.echo(f"{count} line{'s' * (count != 1)} understood")
    return FOUND if result.symptoms else FINE


def _place(checked: CheckedSetup, path: tuple[str, ...]) -> str:
    source = checked.setup.source
    line, column = source.root.locate(path) if source.root is not None else (1, 1)
    return f"{source.file}:{line}:{column}"


def find_exchange(checked: CheckedSetup, name: str) -> CheckedExchange:
    """An exchange of a setup by its name.

    Raises
    ------
    click.BadParameter
        The setup has no such exchange.

    """
    for found in checked.exchanges:
        if found.name == name:
            return found
    names = ", ".join(c.name for c in checked.exchanges) or "none"
    raise click.BadParameter(
        f"{checked.setup.source.file} has no exchange {name[:40]!r}\n  valid: {names}"
    )


def _read(setup: str) -> CheckedSetup:
    from leitwerk.project.setups import read_setup

    return read_setup(setup)


def _given(given: tuple[str, ...]) -> dict[str, str]:
    values = {}
    for text in given:
        name, equals, value = text.partition("=")
        if not equals:
            raise click.BadParameter(f"{text[:40]!r} is not NAME=VALUE", param_hint="--value")
        values[name] = value
    return values


def _values(line: LineForm, given: dict[str, str]) -> list[Carried]:
    """The values of a message: those that were given by the names of its parts, else examples."""
    from leitwerk.exchange.saying import example_values

    values = example_values(line)
    for k, part in enumerate(line.values):
        if part.name not in given:
            continue
        values[k] = _typed(part, given[part.name])
    return values


def _typed(part: Part, text: str) -> Carried:
    """A value of a part from a text; an empty text is no good value."""
    from leitwerk.exchange.terms import Kind

    if part.form.kind is Kind.STATE:
        return text or None
    if part.form.kind is Kind.TEXT:
        return text
    try:
        return float(text) if text else None
    except ValueError:
        raise click.BadParameter(f"{text[:40]!r} is not a number") from None
