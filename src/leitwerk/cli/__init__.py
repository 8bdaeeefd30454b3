"""The command-line tool: parse, call, print. Commands are loaded when they are called."""

from __future__ import annotations

from importlib import import_module

import click

from leitwerk import __version__

# Name -> module below this package, and the line that --help shows without loading it.
_COMMANDS = {
    "check": ("check", "Find the mistakes in a setup before they reach a device."),
    "explain": ("explain", "Show what becomes of a signal, and when alarms trip."),
    "rehearse": ("rehearse", "Feed a course of values through the alarms, on paper only."),
    "limits": ("limits", "List limit sets, and show what they come to."),
    "budget": ("timing", "Say whether time, memory, battery and link last, and how long."),
    "timetable": ("timing", "Show the planned runs of a setup as one timeline."),
    "condense": ("timing", "Work out the statistics of a recording's storage intervals."),
    "upload": ("upload", "Carry a setup to its device and verify that it arrived."),
    "batch": ("batch", "Carry one setup to many devices, and verify each."),
    "program": ("program", "Turn a setup into the image of a board, and back."),
    "request": ("station", "Ask a station that sleeps for the settings of a setup."),
    "station": ("station", "Show a station that sleeps: what is in force, what waits."),
    "compare": ("adopt", "Say in which settings two of setup, backup and device differ."),
    "adopt": ("adopt", "Write a setup file from what a device holds."),
    "recover": ("recover", "Finish or undo an upload that was broken off."),
    "restore": ("recover", "Give a device the settings of a backup back."),
    "history": ("recover", "List the receipts of a device, and verify their chain."),
    "live": ("live", "Watch the readings and hold them against what they should be."),
    "attend": ("attend", "Follow alarms and rules on this computer, and do what is due."),
    "acknowledge": ("attend", "Acknowledge, reset or shelve an alarm that is attended."),
    "prove": ("attend", "Watch an alarm trip and clear, and say what did not happen."),
    "loop": ("outputs", "Drive an analog output step by step, and compare."),
    "pulse": ("outputs", "Switch a relay on for a moment, to see that it works."),
    "tare": ("tare", "Take what a channel reads at rest as its tare."),
    "models": ("models", "Say which models a setup fits, and why not the others."),
    "datasheet": ("datasheet", "Find the mistakes in a datasheet, or try it on a device."),
    "device": ("devices", "Show one device: identity, clock, status, receipts."),
    "devices": ("devices", "List the devices that were seen; names stand for addresses."),
    "readdress": ("devices", "Give a device another address on its bus, safely."),
    "password": ("password", "Keep a device's password in the system's key store."),
    "watchdog": ("watchdog", "Stay silent, and see that a device's watchdog acts."),
    "ports": ("find", "List the serial ports, and what keeps them from being used."),
    "find": ("find", "Ask who is there behind an address. Reads only."),
    "demo": ("demo", "See all of it in 20 seconds, with a simulated device."),
    "standin": ("standin", "Run a simulated device to try things on."),
    "services": ("services", "Run a simulated gateway and mail server to try rules on."),
    "example": ("example", "Print a setup to start from."),
    "schema": ("example", "Print the JSON Schema of setups or datasheets, for your editor."),
}

WELCOME = """\
Leitwerk checks, uploads and verifies the setup of measuring devices, from one text file.

  leitwerk demo                  see all of it in 20 seconds, with a simulated device
  leitwerk example > kiln.yaml   a setup to start from
  leitwerk check kiln.yaml       find the mistakes in it
  leitwerk upload kiln.yaml      carry it to the device
  leitwerk live kiln.yaml        hold the readings against what they should be

leitwerk --help lists every command, leitwerk COMMAND --help its options.
"""


class _Commands(click.Group):
    """A group that knows its commands by name and loads each one only to run it."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        del ctx
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        del ctx
        if cmd_name not in _COMMANDS:
            return None
        module = import_module(f"leitwerk.cli.{_COMMANDS[cmd_name][0]}")
        command: click.Command = getattr(module, cmd_name)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        del ctx
        with formatter.section("Commands"):
            formatter.write_dl([(name, text) for name, (_, text) in _COMMANDS.items()])


@click.group(cls=_Commands, invoke_without_command=True)
@click.version_option(__version__, message="leitwerk %(version)s")
@click.pass_context
def main(ctx: click.Context) -> None:
    """Check, upload and verify the setup of measuring devices, from one text file."""
    if ctx.invoked_subcommand is None:
        click.echo(WELCOME, nl=False)
