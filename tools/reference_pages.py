"""The pages of the reference that follow from the code: commands, keys, findings, devices."""

from __future__ import annotations

import inspect
import re
from collections.abc import Iterator, Mapping
from importlib import import_module, resources
from pathlib import Path
from typing import Any

import click
from schema import SCHEMAS

from leitwerk.cli import _COMMANDS, SECTIONS
from leitwerk.datasheet.model import Datasheet
from leitwerk.project.library import find_datasheet, known_models
from leitwerk.reports.finding_help import finding_groups
from leitwerk.setup.model import setup_schema

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"
_GROUPS = {
    "alarms": "Alarm", "bands": "Band", "calibration": "Calibration", "channels": "Channel",
    "contacts": "Contact", "device": "DeviceSection", "made_from": "MadeFrom", "outputs": "Output",
    "papers": "Papers", "pulses": "Pulses", "rules": "RuleEntry", "schedule": "Run", "services": "Services",
    "sound": "Sound", "tare": "TareEntry", "triggers": "Triggers", "wiring": "WiringEntry",
}  # fmt: skip


def _written_by(what: str) -> str:
    return f"Written by `make pages` from {what}."


def _command(name: str) -> click.Command:
    module = import_module(f"leitwerk.cli.{_COMMANDS[name][0]}")
    command: click.Command = getattr(module, name.replace("-", "_"))
    return command


def _usage(name: str, command: click.Command) -> str:
    context = click.Context(command, info_name=name)
    return " ".join(["leitwerk", name, *command.collect_usage_pieces(context)])


def _options(command: click.Command) -> Iterator[tuple[str, str]]:
    context = click.Context(command)
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context)
        if isinstance(parameter, click.Option) and record is not None and record[0] != "--help":
            yield record


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "&lt;").replace("\n", " ")


def commands_page() -> str:
    """All commands, in the order of the work."""
    lines = ["# Commands", "", _written_by("the commands themselves"), ""]
    for section, commands in SECTIONS.items():
        lines += [f"## {section}", ""]
        for name in commands:
            command = _command(name)
            lines += [f"### {name}", "", f"    {_usage(name, command)}", ""]
            text = inspect.cleandoc(command.help or "").replace("\b\n", "")
            lines += [line for part in text.split("\n\n") for line in (_prose(part), "")]
            if isinstance(command, click.Group):
                lines += ["| command | what it does |", "|---|---|"]
                context = click.Context(command)
                for sub in command.list_commands(context):
                    found = command.get_command(context, sub)
                    lines.append(
                        f"| `{name} {sub}` | {_cell(found.get_short_help_str(200) if found else '')} |"
                    )
                lines.append("")
            options = list(_options(command))
            if options:
                lines += ["| option | what it does |", "|---|---|"]
                lines += [f"| `{_cell(head)}` | {_cell(text)} |" for head, text in options]
                lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def _prose(text: str) -> str:
    return re.sub(r"\s+", " ", text).replace("<", "&lt;")


def card_page() -> str:
    """One page with the commands and a line of each."""
    lines = [
        "# Card of commands",
        "",
        _written_by("the commands themselves") + " `leitwerk card --to card.pdf` prints it.",
        "",
    ]
    for section, commands in SECTIONS.items():
        lines += [f"**{section}**", "", "| command | what it does |", "|---|---|"]
        lines += [f"| `{name}` | {_cell(text)} |" for name, (_, text) in commands.items()]
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def keys_page() -> str:
    """The keys of all kinds of files, from their schemas."""
    lines = [
        "# Keys of the files",
        "",
        _written_by("the schemas") + " `leitwerk schema` prints a schema for an editor.",
        "",
    ]
    lines += ["## The setup", "", *_keys(setup_schema())]
    known = setup_schema()["$defs"]
    names = {model: key for key, model in _GROUPS.items()}
    for model in sorted(known, key=lambda one: (names.get(one, "~"), one)):
        if "properties" not in known[model]:
            continue
        title = f"### {names[model]}" if model in names else f"### {_words(model)}"
        lines += [
            title,
            "",
            known[model].get("description", "").split("\n\n")[0].replace("\n", " "),
            "",
        ]
        lines += _keys(known[model])
    for kind, schema in SCHEMAS.items():
        if kind != "setup" and "properties" in schema:
            lines += [
                f"## {schema.get('title', kind).removeprefix('Leitwerk ')}",
                "",
                *_keys(schema),
            ]
    return "\n".join(lines).rstrip() + "\n"


def _words(name: str) -> str:
    return re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name).lower()


def _keys(schema: Mapping[str, Any]) -> list[str]:
    lines = ["| key | what it says | such as |", "|---|---|---|"]
    needed = set(schema.get("required", ()))
    for key, entry in schema["properties"].items():
        text, examples = _described(entry)
        must = " (needed)" if key in needed else ""
        lines.append(f"| `{key}`{must} | {_cell(text)} | {_cell(examples)} |")
    return [*lines, ""]


def _described(entry: Mapping[str, Any]) -> tuple[str, str]:
    parts = [entry, *entry.get("anyOf", ())]
    text = next((p["description"] for p in parts if p.get("description")), "")
    shown = [f"`{value}`" for p in parts for value in p.get("examples", ())]
    choices: list[Any] = next((p["enum"] for p in parts if p.get("enum")), [])
    if choices and not shown:
        shown = [f"`{one}`" for one in choices if isinstance(one, str)][:12]
    return text.split("\n\n")[0], ", ".join(shown[:6])


_MANUAL = """.TH LEITWERK 1 "" "Leitwerk" "User commands"
.SH NAME
leitwerk \\- check, upload and verify the setup of measuring devices
.SH SYNOPSIS
.B leitwerk
.I COMMAND
[options]
.SH DESCRIPTION
A setup is a text file for one device. leitwerk finds the mistakes in it, uploads it, reads back what arrived,
and compares readings with what is expected. leitwerk COMMAND \\-\\-help shows the options of a command."""
_STATUS = """.SH EXIT STATUS
0: fine. 1: errors were found, or a verdict is not passed. 2: usage, or a file. 3: the device was not reached.
4: the device refused."""


def manual_page() -> str:
    """The page of the manual, for man(1)."""
    lines = [_MANUAL]
    for section, commands in SECTIONS.items():
        lines.append(f".SH {section.upper()}")
        for name in commands:
            command = _command(name)
            lines += [".TP", f".B {_roff(_usage(name, command).removeprefix('leitwerk '))}"]
            for number, part in enumerate(inspect.cleandoc(command.help or "").split("\n\n")):
                lines += ([".IP"] if number else []) + [_roff(re.sub(r"\s+", " ", part))]
            for head, text in _options(command):
                lines += [".RS", ".TP", f".B {_roff(head)}", _roff(text), ".RE"]
    lines.append(_STATUS)
    return "\n".join(lines) + "\n"


def _roff(text: str) -> str:
    text = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{text}" if text.startswith((".", "'")) else text


_FINDINGS_ARE = (
    "What a check finds, each by the name of its rule: what it means, and what to do. "
    "`leitwerk finding RULE` shows the same."
)


def findings_page() -> str:
    """Each finding with its cause and its remedy, at its own address."""
    lines = [
        "# Findings", "", _FINDINGS_ARE, "",
    ]  # fmt: skip
    for group, rules in finding_groups().items():
        lines += [f"## {group}", ""]
        for help_ in rules:
            lines += [
                f"({help_.rule})=", f"### {help_.rule}", "",
                f"*{help_.severity}.* {help_.cause}", "", f"What to do: {help_.remedy}", "",
            ]  # fmt: skip
    return "\n".join(lines).rstrip() + "\n"


# ---------------------------------------------------------------------- a page for each kind of device

# Model: what kind of device it is, the page that goes on from there, its example, its template.
DEVICES = {
    "fichte-8": ("Logger", "first-setup", "kiln", "kiln"),
    "weide": ("Level and flow transmitter", "computed", "mill-race", "mill-race"),
    "ulme-3p": ("Analyzer of power", "analyzers", "saw-supply", "generator"),
    "eibe": ("Sound level meter", "recordings", "saw-hall", "saw-hall"),
    "laerche": ("Battery station", "stations", "head-water", None),
    "hasel": ("Receiver of wireless gauges", "transmitters", "board-gauges", None),
    "birke": ("Panel indicator", "exchanges", "panel", None),
    "ahorn": ("Digital sensors on a bus", "links", "timber", None),
    "linde": ("Charge controller", "upload", "station", "battery-station"),
    "buche-6": ("Controller board", "lots", "panel-board", None),
    "erle": ("Carrier meter", "own-device", "telemetry", None),
    "kiefer": ("Climate logger on a drive", "recordings", "load", "transport"),
    "talker": ("Device that talks in lines", "exchanges", None, None),
}


def device_pages() -> dict[str, str]:
    """A page for each kind of device, by the name of its file."""
    pages = {
        model: "\n".join(_device(model)).rstrip() + "\n"
        for model in DEVICES
        if model in known_models()
    }
    rows = [f"| [{DEVICES[m][0]}]({m}.md) | {m} | {find_datasheet(m).summary} |" for m in pages]
    head = ["| kind | model | summary |", "|---|---|---|"]
    index = ["# Devices", "", "One page for each kind of device.", "", *head]
    listed = ["", "```{toctree}", ":hidden:", "", *pages, "```"]
    return {"index": "\n".join([*index, *rows, *listed]) + "\n", **pages}


def _device(model: str) -> Iterator[str]:
    kind, page, example, template = DEVICES[model]
    sheet = find_datasheet(model)
    yield from [f"# {kind}: {model}", "", sheet.summary + ".", "", _written_by("its datasheet"), ""]
    yield from ["## Begin", ""]
    if template is not None:
        yield f"    $ leitwerk begin {template} my-setup.yaml"
    elif example is not None:
        yield f"    $ leitwerk example {example} > my-setup.yaml"
    yield from ["    $ leitwerk check my-setup.yaml", ""] if example else [""]
    yield f"To try it without a device: `leitwerk standin {model}`. Read on: [the guide](../guide/{page}.md)."
    yield from ["", "## What it has", "", "| what | of this model |", "|---|---|"]
    yield from (f"| {what} | {_cell(text)} |" for what, text in _facts(sheet) if text)
    if example is not None:
        text = (resources.files("leitwerk") / "examples" / f"{example}.yaml").read_text("utf-8")
        yield from ["", "## A setup", "", f"`leitwerk example {example}` prints it:", "", "```yaml"]
        yield from [text.rstrip(), "```"]
    readings = list(sheet.own_readings)
    if readings:
        yield from [
            "",
            "## What it measures by itself",
            "",
            ", ".join(f"`{name}`" for name in readings[:60]),
        ]
    settings = list(dict.fromkeys(re.sub(r"\.\d+(?=\.|$)", ".N", name) for name in sheet.settings))
    if settings:
        yield from ["", "## Its settings", "", ", ".join(f"`{name}`" for name in settings[:120])]


def _facts(sheet: Datasheet) -> Iterator[tuple[str, str]]:
    yield "protocol", sheet.link
    yield "terminals", ", ".join(_spans(list(sheet.terminals)))
    yield "outputs", ", ".join(_spans(list(sheet.output_terminals)))
    for name, kind in sheet.inputs.items():
        yield f"ranges of {name}", kind.range_names
    if sheet.limits.channels < 100_000:  # more is no limit
        yield "channels", str(sheet.limits.channels)
    yield "alarms", str(sheet.limits.alarms or "")
    yield "sensors", ", ".join(sheet.sensors)
    yield "commands", ", ".join(name for name in sheet.commands if name != "nothing")


def _spans(names: list[str]) -> list[str]:
    return names if len(names) <= 16 else [names[0], "…", names[-1]]
