"""leitwerk live."""

from __future__ import annotations

import sys
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, exit_code, result_code
from leitwerk.cli.live_files import KeptSamples
from leitwerk.cli.options import Pair, every_option, for_option, kept_folder, link_options
from leitwerk.cli.panels import PANEL, Panels, parse_panels

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.cli.live_view import LiveView
    from leitwerk.links.options import LinkOptions
    from leitwerk.monitoring.watching import DeviceWatch, TakenSample, Watching
    from leitwerk.parsing.units import Unit

_CHECK_S = 5.0


@click.command()
@click.argument("setups", metavar="SETUP...", nargs=-1, required=True)
@for_option("How long to watch; else until you end it, and 5 s where there is no terminal.")
@every_option("0.5 s")
@click.option(
    "--stream",
    type=click.Choice(["lines", "json", "csv"]),
    help="Print every sample as it comes, until ended.",
)
@click.option("--json", "form", flag_value="json", help="Print the report as JSON.")
@click.option("--csv", "form", flag_value="csv", help="Print a CSV line for each channel.")
@click.option(
    "--samples",
    metavar="FILE",
    help="Keep every sample: .csv, or .parquet; a file that is there is continued.",
)
@click.option("--limit", metavar="MB", type=click.FloatRange(0.1), help="Keep so much, the newest.")
@click.option("--columns", metavar="NAMES", help="Columns to show: 'value,unit,mean,state'.")
@click.option(
    "--channel",
    "chosen",
    metavar="NAME",
    multiple=True,
    help="Show this channel, and others so named.",
)
@click.option(
    "--unit",
    "units",
    type=Pair(),
    metavar="NAME=UNIT",
    multiple=True,
    help="Show a channel in another unit: 'air_top=°F'.",
)
@click.option(
    "--figure", metavar="FILE", help="At the end, draw the values against expectations (PNG, SVG)."
)
@PANEL
@click.option("--window", is_flag=True, help="Let the figure grow in a window.")
@link_options(2.0)
def live(
    setups: tuple[str, ...],
    *,
    duration_s: float | None,
    period_s: float,
    stream: str | None,
    form: str | None,
    samples: str | None,
    limit: float | None,
    columns: str | None,
    chosen: tuple[str, ...],
    units: tuple[tuple[str, str], ...],
    figure: str | None,
    panels: tuple[str, ...],
    window: bool,
    link: LinkOptions,
) -> int:
    """Watch the readings of devices, and compare them with what each SETUP expects.

    On a terminal it runs until you end it; the keys stand below. With --for it ends by itself. What was seen
    is judged at the end.

    Exit code 0: passed. 1: not passed, or nothing is expected. 2: usage. 3: device not reached. 4:
    another device, or it refused.
    """
    from leitwerk.monitoring.pacing import sample_count
    from leitwerk.project.setups import read_setup

    sample_count(period_s, period_s)  # a period that cannot be used is refused
    every = [read_setup(path) for path in setups]
    groups = parse_panels(panels)
    interactive = not (form or stream or window) and duration_s is None and _is_terminal()
    if stream == "csv" and len(every) > 1:
        raise click.UsageError("--stream csv has the columns of one device: name one setup")
    if not (interactive or stream or window or panels) and len(every) == 1:
        from leitwerk.cli.live_check import check_for_a_while

        seconds = _CHECK_S if duration_s is None else duration_s
        kept = KeptSamples(samples, limit)
        return check_for_a_while(every[0], seconds, period_s, form, kept, figure, link)
    with ExitStack() as stack:
        watches = [stack.enter_context(_watched(setup, link)) for setup in every]
        changed = [_visited(watch) for watch in watches]
        titles = [every[0].setup.title] if len(every) == 1 else _titles(setups)
        kept = stack.enter_context(KeptSamples(samples, limit))
        watching = _begun(watches, titles, period_s, stream, kept)
        stack.callback(watching.stop)
        if interactive:
            from leitwerk.cli.live_screen import run_screen

            view = _view(watching, titles, kept, groups, columns, chosen, units)
            view.message = "; ".join(text for text in changed if text)
            path = _kept_view(setups)
            if columns is None and not chosen and not units:
                view.load(path)
            watching.start()
            run_screen(view)
            view.save(path)
        elif window:
            _show_window(watching, titles, groups, units, duration_s)
        else:
            watching.start()
            watching.wait(_CHECK_S if duration_s is None and not stream else duration_s)
        watching.stop()
        return _close(watching, titles, groups, form, figure, prints=not stream)


def _is_terminal() -> bool:
    return sys.stdout.isatty() and sys.stdin.isatty()


@contextmanager
def _watched(setup: CheckedSetup, link: LinkOptions) -> Iterator[DeviceWatch]:
    from leitwerk.cli.devices import remember
    from leitwerk.devices.device import connect
    from leitwerk.monitoring.watching import DeviceWatch

    with connect(setup, link=link) as device:
        watch = DeviceWatch(setup, device)
        remember(watch.identity, device.address)
        yield watch


def _visited(watch: DeviceWatch) -> str:
    """Keep the visit; what has changed since the last one."""
    from leitwerk.cli.note_visit import note_visit

    return note_visit(watch.device, kept_folder(watch.setup.setup.source.file, None), "live")


def _titles(setups: Sequence[str]) -> list[str]:
    """How each device is called: by the name of its file, with a number where that is not enough."""
    stems = [Path(path).stem for path in setups]
    return [
        stem if stems.count(stem) == 1 else f"{stem}-{stems[: k + 1].count(stem)}"
        for k, stem in enumerate(stems)
    ]


def _begun(
    watches: Sequence[DeviceWatch],
    titles: Sequence[str],
    period_s: float,
    stream: str | None,
    kept: KeptSamples,
) -> Watching:
    from leitwerk.monitoring.watching import Watching

    names = dict(zip(watches, titles, strict=True))
    printed = None
    if stream is not None:
        from leitwerk.cli.live_stream import Stream

        printed = Stream(stream, names).take

    def take(watch: DeviceWatch, sample: TakenSample) -> None:
        kept.take(watch, sample, names[watch] if len(names) > 1 else "")
        if printed is not None:
            printed(watch, sample)

    return Watching(watches, period_s, take)


def _view(
    watching: Watching,
    titles: Sequence[str],
    kept: KeptSamples,
    panels: Panels,
    columns: str | None,
    chosen: Sequence[str],
    units: Sequence[tuple[str, str]],
) -> LiveView:
    from leitwerk.cli.live_columns import COLUMNS
    from leitwerk.cli.live_view import LiveView
    from leitwerk.evaluation.display_units import require_alike
    from leitwerk.parsing.units import parse_unit

    view = LiveView(watching, titles, draw=_drawing(watching, titles, panels), trouble=kept.trouble)
    names = {view.name(entry): entry for entry in view.entries}
    if columns:
        keys = [key.strip() for key in columns.split(",")]
        _require_known(keys, COLUMNS, "column")
        view.take_columns(keys)
    if chosen:
        _require_known(chosen, names, "channel")
        view.entries = [names[name] for name in dict.fromkeys(chosen)]
    for name, symbol in units:
        _require_known([name], names, "channel")
        entry, unit = names[name], parse_unit(symbol)
        require_alike(name, view.boards[entry[0]].channels[entry[1]].unit, unit)
        view.take_unit(entry, unit)
    return view


def _require_known(given: Sequence[str], known: Collection[str], what: str) -> None:
    for name in given:
        if name not in known:
            raise click.UsageError(f"there is no {what} {name!r}; there are {', '.join(known)}")


def _kept_view(setups: Sequence[str]) -> Path:
    """Where columns, order and units of a view are kept: by the names of its setups."""
    from hashlib import sha256

    from platformdirs import user_data_dir

    name = sha256("\n".join(str(Path(path).resolve()) for path in setups).encode()).hexdigest()[:16]
    return Path(user_data_dir("leitwerk", appauthor=False)) / "views" / f"{name}.json"


def _drawing(
    watching: Watching, titles: Sequence[str], panels: Panels
) -> Callable[[str, Unit], str]:
    """What the key for a figure does: it draws the panels that were asked for, or else one channel."""

    def draw(name: str, unit: Unit) -> str:
        from leitwerk.cli.live_figure import WatchFigure

        path = Path("live.png" if panels.names else f"{name}.png")
        shown = panels if panels.names else Panels(((name,),), (None,))
        WatchFigure(watching, titles, shown, {name: unit}).save(path)
        return f"figure: {path.resolve()}"

    return draw


def _show_window(
    watching: Watching,
    titles: Sequence[str],
    panels: Panels,
    units: Sequence[tuple[str, str]],
    duration_s: float | None,
) -> None:
    """Let the figure grow in a window, until it is closed, or the time is over."""
    from threading import Timer

    from leitwerk.cli.live_figure import WatchFigure
    from leitwerk.parsing.units import parse_unit

    shown = {name: parse_unit(symbol) for name, symbol in units}
    drawing = WatchFigure(watching, titles, panels, shown)
    timer = None if duration_s is None else Timer(duration_s, watching.stop)
    watching.start()
    if timer is not None:
        timer.start()
    try:
        drawing.show()
    finally:
        if timer is not None:
            timer.cancel()


def _close(
    watching: Watching,
    titles: Sequence[str],
    panels: Panels,
    form: str | None,
    figure: str | None,
    *,
    prints: bool,
) -> int:
    """The reports on all devices; the exit code is that of the worst."""
    from leitwerk.cli.live_check import print_report
    from leitwerk.commissioning.live_check import report_of

    if watching.failure is not None:
        raise watching.failure
    reports = [report_of(watch) for watch in watching.watches]
    if figure and panels.names:
        from leitwerk.cli.live_figure import WatchFigure

        WatchFigure(watching, titles, panels, {}).save(Path(figure))
    elif figure:
        from leitwerk.reports.live_figure import draw_report

        for number, report in enumerate(reports):
            path = Path(figure)
            draw_report(report, path if not number else path.with_stem(f"{path.stem}-{number + 1}"))
    for error in watching.ended.values():
        click.echo(str(error), err=True)
    codes = [exit_code(error) for error in watching.ended.values()]
    if prints:
        for report in reports:
            print_report(report, form, shown_already=False)
        codes += map(result_code, reports)
    return max(codes, default=FINE)
