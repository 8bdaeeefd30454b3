"""The command-line tool: parse, call, print. Commands are loaded when they are called."""

from __future__ import annotations

import gc
import io
import os
import signal
import sys
from difflib import get_close_matches
from functools import partial
from importlib import import_module

import click

from leitwerk import __version__

# The package that reads models looks for plug-ins of its own at start-up; nothing here uses any, and
# looking for them takes longer than to check a setup.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "1")
# What is loaded at start-up stays: to look through it again and again for garbage finds none.
gc.set_threshold(50_000)

# In the order of the work: section -> command -> module below this package, and its line in --help,
# which is shown without loading the module.
SECTIONS = {
    "Before the device": {
        "templates": ("templates", "List templates of setups, and what may be chosen in one."),
        "begin": ("templates", "Make a setup from a template, by questions."),
        "renew": ("templates", "Bring a setup up to date with its template."),
        "replace-sensor": ("sensors", "Replace the sensor of a channel, and all that hangs on it."),
        "sensors": ("sensors", "List sensors of your own, with their calibrations."),
        "to-table": ("setup_tables", "Write channels, alarms and contacts as CSV or XLSX."),
        "from-table": ("setup_tables", "Take channels, alarms and contacts from CSV or XLSX."),
        "wiring-sheet": ("templates", "Show what is wired where, and the signals to be seen."),
        "example": ("example", "Print a setup to start from."),
        "check": ("check", "Find the mistakes in a setup."),
        "explain": ("explain", "Show how a signal becomes a value, and when alarms trip."),
        "dry-run": ("dry_run", "Feed made-up values through the alarms, without a device."),
        "budget": ("timing", "Show whether time, memory, battery and link suffice."),
        "timetable": ("timing", "Show the planned runs of a setup as one timeline."),
        "models": ("models", "Show which models a setup fits, and why not the others."),
        "program": ("program", "Turn a setup into the image of a board, and back."),
        "exchange": ("exchange", "See lines of text between two ends, before they are wired."),
        "certificate": ("certificates", "Show what a digital calibration certificate says."),
        "take-certificate": ("certificates", "Take a certificate into a channel or a sensor."),
        "write-certificate": ("certificates", "Write a calibration as a digital certificate."),
        "due": ("sensors", "List when calibrations are due, and what each touches."),
        "password": ("password", "Store a device's password in the system's key store."),
    },
    "At the device": {
        "ports": ("find", "List the serial ports, and why one cannot be used."),
        "find": ("find", "Find the devices behind an address; reads only."),
        "readdress": ("devices", "Change the address of a device on its bus."),
        "upload": ("upload", "Upload a setup to its device, and verify it."),
        "batch": ("batch", "Upload one setup to many devices, and verify each."),
        "request": ("station", "Request settings of a station that sleeps."),
        "station": ("station", "Show a station that sleeps: settings in force, and requests."),
        "live": ("live", "Watch the readings, and compare them with what is expected."),
        "talk": ("talk", "Talk to a device by hand, in lines of text."),
        "reference": ("lot_tests", "Measure known-good units, as the measure of others."),
        "test-lot": ("lot_tests", "Test unit after unit by a plan: pass or fail."),
        "bars": ("bars", "Show what a finger does, and suggest thresholds."),
        "rating": ("rating", "Print the table of a computed channel: flow by level."),
        "rows": ("rows", "Read a table that a device stores, as text or spreadsheet."),
        "wiring": ("wiring", "Verify how an analyzer of power is wired."),
        "mounting": ("mounting", "Find how a three-axis sensor is mounted, at rest."),
        "listen": ("listen", "Listen to wireless transmitters; nothing is bound."),
        "single-out": ("listen", "Find which transmitter is the one in the hand."),
        "bind": ("places", "Bind a transmitter to a place of its receiver."),
        "unbind": ("places", "Free a place of a receiver."),
        "places": ("places", "List the places of a receiver, and what is odd there."),
        "tare": ("tare", "Take the reading of a channel at rest as its tare."),
        "prove": ("prove", "Prove a whole setup, or that an alarm trips and clears."),
        "loop": ("outputs", "Drive an analog output step by step, and compare."),
        "pulse": ("outputs", "Switch a relay on for a moment, to test it."),
        "release": ("outputs", "Release outputs that a killed program left driven."),
        "watchdog": ("watchdog", "Stay silent, and test that a device's watchdog acts."),
        "attend": ("attend", "Follow alarms and rules, and carry out their actions."),
        "test-run": ("short_run", "Record for seconds at full rate, fetch it, and draw it."),
        "record": ("recordings", "Start or stop the recording of a device."),
        "acknowledge": ("attend", "Acknowledge, reset or shelve an alarm."),
    },
    "Afterwards": {
        "fetch": ("recordings", "Fetch the recordings of a device, into files or a store."),
        "recordings": ("summary", "List what a store of recordings holds."),
        "levels": ("sound_levels", "Evaluate a recording of sound: levels, bands, peaks."),
        "waveforms": ("waveforms", "Evaluate sampled voltages and currents: values, events."),
        "summary": ("summary", "Summarise a recording: numbers, gaps, times in alarm."),
        "draw": ("draw", "Draw recorded samples over time."),
        "report": ("report", "Write a report on a recording: PDF, HTML, tables."),
        "verify-report": ("report", "Verify that a report was not changed, and of what it is."),
        "import-rows": ("rows_in_out", "Take rows of a file, also a foreign one, into the store."),
        "export-rows": ("rows_in_out", "Write rows as CSV, Parquet or XLSX."),
        "correct-rows": ("rows_in_out", "Make a corrected version of rows, beside the others."),
        "lot": ("lot", "Evaluate a lot that was tested: yield, faults, capability."),
        "condense": ("timing", "Compute the statistics of a recording's storage intervals."),
        "compare": ("adopt", "Show the settings in which two of setup, backup, device differ."),
        "adopt": ("adopt", "Write a setup file from what a device holds."),
        "recover": ("recover", "Finish or undo an interrupted upload."),
        "restore": ("recover", "Write the settings of a backup to its device."),
        "history": ("recover", "List the receipts of a device, and verify their chain."),
    },
    "Look up": {
        "device": ("devices", "Show one device: identity, clock, status, receipts."),
        "visits": ("visits", "List the visits to a device, and what changed between them."),
        "bundle": ("visits", "Pack what somebody needs who is to help with a device."),
        "devices": ("devices", "List the devices that were seen; names stand for addresses."),
        "limits": ("limits", "List limit sets, and show the limits of one."),
        "datasheet": ("datasheet", "Find the mistakes in a datasheet, or try it on a device."),
        "finding": ("look_up", "Show what a finding means, and what to do."),
        "card": ("look_up", "Show all commands on one page."),
        "completion": ("look_up", "Install completion of commands in your shell."),
        "schema": ("example", "Print the JSON Schema of a kind of file, for an editor."),
    },
    "Try out": {
        "demo": ("demo", "The whole work in less than a minute, with a simulated device."),
        "standin": ("standin", "Run a simulated device."),
        "services": ("services", "Run a simulated message gateway and mail server."),
    },
}
_COMMANDS = {name: entry for section in SECTIONS.values() for name, entry in section.items()}

WELCOME = """\
Leitwerk checks, uploads and verifies the setup of measuring devices, from one text file.

  leitwerk demo                  the whole work in less than a minute, with a simulated device
  leitwerk example > kiln.yaml   print a setup to start from
  leitwerk check kiln.yaml       find the mistakes in it
  leitwerk upload kiln.yaml      upload it to the device
  leitwerk live kiln.yaml        compare the readings with the expected values

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
        command: click.Command = getattr(module, cmd_name.replace("-", "_"))
        return command

    def invoke(self, ctx: click.Context) -> None:
        """From before the command's module is loaded, its errors are reported and signals end it in order."""
        from leitwerk.cli.exit_codes import run_command

        ctx.exit(run_command(partial(super().invoke, ctx)))

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        try:
            return super().resolve_command(ctx, args)
        except click.UsageError as error:
            near = get_close_matches(args[0][:60], _COMMANDS, n=1)
            if not near:
                raise
            message = f"{error.message} Did you mean {near[0]!r}?"
            raise click.UsageError(message, error.ctx) from None

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        del ctx
        width = max(map(len, _COMMANDS))
        for section, commands in SECTIONS.items():
            with formatter.section(section):
                formatter.write_dl([(f"{n:{width}}", text) for n, (_, text) in commands.items()])


@click.group(cls=_Commands, invoke_without_command=True)
@click.version_option(__version__, message="leitwerk %(version)s")
@click.pass_context
def main(ctx: click.Context) -> None:
    """Check, upload and verify the setup of measuring devices, from one text file."""
    if os.environ.get("NO_COLOR"):
        ctx.color = False
    if ctx.invoked_subcommand is None:
        click.echo(WELCOME, nl=False)


def _write_anywhere() -> None:
    """Let a character that the output cannot hold be replaced: no line is lost, and no command dies of it.

    The encoding of a file or pipe is that of the system, on many machines one without Ω and ±.
    """
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")


def run() -> None:
    """The program ``leitwerk``. Before and behind its command, Ctrl+C ends it as it ends any other."""
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
    _write_anywhere()
    main(prog_name="leitwerk")
