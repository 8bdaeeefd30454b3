"""leitwerk live."""

from __future__ import annotations

import sys
from collections.abc import Collection, Iterator, Sequence
from contextlib import ExitStack, contextmanager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Self

import click

from leitwerk.cli.exit_codes import FINE, exit_code, result_code
from leitwerk.cli.options import every_option, for_option, kept_folder, link_options

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.cli.live_view import LiveView
    from leitwerk.commissioning.live_check import LiveProgress
    from leitwerk.commissioning.live_report import LiveReport
    from leitwerk.links.options import LinkOptions
    from leitwerk.monitoring.keeping import SampleKeeper
    from leitwerk.monitoring.live_board import LiveBoard
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
    metavar="NAME=UNIT",
    multiple=True,
    help="Show a channel in another unit: 'air_top=°F'.",
)
@click.option("--figure", metavar="FILE", help="Draw the values against expectations (PNG).")
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
    units: tuple[str, ...],
    figure: str | None,
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
    interactive = form is None and stream is None and duration_s is None and _is_terminal()
    if stream == "csv" and len(every) > 1:
        raise click.UsageError("--stream csv has the columns of one device: name one setup")
    if not (interactive or stream) and len(every) == 1:
        seconds = _CHECK_S if duration_s is None else duration_s
        return _check(every[0], seconds, period_s, form, _Kept(samples, limit), figure, link)
    with ExitStack() as stack:
        watches = [stack.enter_context(_watched(setup, link)) for setup in every]
        changed = [_visited(watch) for watch in watches]
        titles = [every[0].setup.title] if len(every) == 1 else _titles(setups)
        kept = stack.enter_context(_Kept(samples, limit))
        watching = _begun(watches, titles, period_s, stream, kept)
        stack.callback(watching.stop)
        if interactive:
            from leitwerk.cli.live_screen import run_screen

            view = _view(watching, titles, kept, columns, chosen, units)
            view.message = "; ".join(text for text in changed if text)
            path = _kept_view(setups)
            if columns is None and not chosen and not units:
                view.load(path)
            watching.start()
            run_screen(view)
            view.save(path)
        else:
            watching.start()
            watching.wait(_CHECK_S if duration_s is None and not stream else duration_s)
        watching.stop()
        return _close(watching, form, figure, prints=not stream)


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
    kept: _Kept,
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
    kept: _Kept,
    columns: str | None,
    chosen: Sequence[str],
    units: Sequence[str],
) -> LiveView:
    from leitwerk.cli.live_columns import COLUMNS
    from leitwerk.cli.live_view import LiveView
    from leitwerk.parsing.units import parse_unit

    view = LiveView(watching, titles, draw=_draw, trouble=kept.trouble)
    names = {view.name(entry): entry for entry in view.entries}
    if columns:
        keys = [key.strip() for key in columns.split(",")]
        _require_known(keys, COLUMNS, "column")
        view.take_columns(keys)
    if chosen:
        _require_known(chosen, names, "channel")
        view.entries = [names[name] for name in dict.fromkeys(chosen)]
    for text in units:
        name, _, symbol = text.partition("=")
        _require_known([name], names, "channel")
        view.take_unit(names[name], parse_unit(symbol))
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


def _draw(board: LiveBoard, column: int, unit: Unit) -> str:
    """Draw a channel of a running watch into a file beside the work; says where it is."""
    from leitwerk.reports.time_figure import draw_channels

    channel, history = board.channels[column], board.history
    path = Path(f"{channel.name}.png")
    draw_channels(
        board.channels, history.times_s, history.known(), path, title=channel.label,
        panels=[[channel.name]], units={channel.name: unit}, zone=board.setup.setup.zone,
    )  # fmt: skip
    return f"figure: {path.resolve()}"


def _close(watching: Watching, form: str | None, figure: str | None, *, prints: bool) -> int:
    """The reports on all devices; the exit code is that of the worst."""
    from leitwerk.commissioning.live_check import report_of

    if watching.failure is not None:
        raise watching.failure
    reports = [report_of(watch) for watch in watching.watches]
    if figure:
        from leitwerk.reports.live_figure import draw_report

        for number, report in enumerate(reports):
            path = Path(figure)
            draw_report(report, path if not number else path.with_stem(f"{path.stem}-{number + 1}"))
    for error in watching.ended.values():
        click.echo(str(error), err=True)
    codes = [exit_code(error) for error in watching.ended.values()]
    if prints:
        for report in reports:
            _print(report, form, shown_already=False)
        codes += map(result_code, reports)
    return max(codes, default=FINE)


# ---------------------------------------------------------------------- a check of some seconds


def _check(
    checked: CheckedSetup,
    duration_s: float,
    period_s: float,
    form: str | None,
    kept: _Kept,
    figure: str | None,
    link: LinkOptions,
) -> int:
    from leitwerk.cli.devices import remember
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.commissioning.live_check import verify
    from leitwerk.devices.device import connect

    view = TableView(checked.setup.title) if form is None and sys.stdout.isatty() else None
    with connect(checked, link=link) as device, view or nullcontext(), kept:

        def show(progress: LiveProgress) -> None:
            if view is not None:
                view.show(progress)

        report = verify(
            checked,
            device,
            duration_s=duration_s,
            period_s=period_s,
            on_sample=show,
            on_taken=kept.take,
        )
        changed = note_visit(device, kept_folder(checked.setup.source.file, None), "live")
    remember(report.identity, device.address)
    if figure:
        from leitwerk.reports.live_figure import draw_report

        draw_report(report, figure)
    _print(report, form, shown_already=view is not None)
    if changed and form is None:
        click.echo(changed)
    return result_code(report)


def _print(report: LiveReport, form: str | None, *, shown_already: bool) -> None:
    from leitwerk.cli.printing import echo_json

    if form == "json":
        echo_json(report.to_dict())
    elif form == "csv":
        click.echo(report.to_csv(), nl=False)
    elif shown_already:
        from leitwerk.cli.tables import closing_text, console

        console().print(closing_text(report))
    else:
        click.echo(str(report))


class TableView:
    """A table that is drawn anew with each sample, and stays when all is done."""

    def __init__(self, title: str) -> None:
        from rich.live import Live

        from leitwerk.cli.tables import console

        self._title = title
        self._live = Live(console=console(wraps=True), auto_refresh=False)

    def __enter__(self) -> Self:
        self._live.__enter__()
        return self

    def __exit__(self, *error: object) -> None:
        self._live.__exit__(None, None, None)

    def show(self, sample: LiveProgress) -> None:
        """Draw the table with what is known after this sample."""
        from leitwerk.cli.tables import live_table

        caption = f"sample {sample.number} of {sample.total}"
        width = self._live.console.width
        table = live_table(sample.channels(), self._title, caption, width)
        self._live.update(table, refresh=True)


class _Kept:
    """The files in which samples are kept, one for each device; begun with its first sample."""

    def __init__(self, path: str | None, limit_mb: float | None) -> None:
        self._path = None if path is None else Path(path)
        self._limit = None if limit_mb is None else round(limit_mb * 1e6)
        self._files: dict[int, SampleKeeper] = {}
        if limit_mb is not None and path is None:
            raise click.UsageError("--limit is for --samples")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        for file in self._files.values():
            file.close()

    def take(self, watch: DeviceWatch, sample: TakenSample, name: str = "") -> None:
        """Keep a sample."""
        if self._path is None:
            return
        from leitwerk.monitoring.keeping import SampleKeeper

        if id(watch) not in self._files:
            path = self._path.with_stem(f"{self._path.stem}-{name}") if name else self._path
            self._files[id(watch)] = SampleKeeper(path, watch, limit_bytes=self._limit)
        self._files[id(watch)].take(sample)

    def trouble(self) -> str:
        """What cannot be written now, and why."""
        return next((file.trouble for file in self._files.values() if file.trouble), "")
