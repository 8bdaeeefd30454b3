"""The report of a recording: a template filled with what was recorded, as Markdown with figures beside it."""

from __future__ import annotations

import io
import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from leitwerk.analysis.levels import BAND_NAME
from leitwerk.analysis.series import Column, Series
from leitwerk.analysis.summary import total_of
from leitwerk.check.channels import DerivedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.sound import judge_calibrator
from leitwerk.errors import FileProblem, QuantityError
from leitwerk.evaluation.display_units import require_alike
from leitwerk.evaluation.judged import every_span, survey
from leitwerk.evaluation.summary import Summary, summarise
from leitwerk.evaluation.supply_events import SupplyEvents
from leitwerk.monitoring.events import KeptEvent
from leitwerk.parsing.units import Unit, convert, parse_unit
from leitwerk.project.files import content_hash, read_bytes
from leitwerk.recordings.about import About, clock_words
from leitwerk.recordings.sources import chosen
from leitwerk.reports.report_tables import recording_tables
from leitwerk.reports.report_template import Forms, fill_template
from leitwerk.reports.report_text import ReportText
from leitwerk.reports.seal import series_hash
from leitwerk.setup.papers import Papers, Totals

if TYPE_CHECKING:
    from leitwerk.reports.time_figure import Drawable, Trace

_EVENTS = _PERIODS = 200  # rows of a table
_PANELS = 2
_ADDED_UP = ("energy", "flow")
# What kinds of reports are about: the key of the section papers. Others hold all that it asks for.
_ABOUT = {"noise": "exposure", "supply": "shares", **dict.fromkeys(_ADDED_UP, "totals")}
_KEYS = ("totals", "exposure", "shares")
_FIGURE_PX = 600  # high: two of them fit beside text on a page
_LATER_S = 7 * 86_400.0  # an alarm may be acknowledged behind the end of a recording
_LOGO_BYTES = 2_000_000


@dataclass(frozen=True)
class ReportOptions:
    """How a report is made.

    Attributes
    ----------
    kind : str
        One of ``report_kinds()``, or the path of a template of one's own.
    language : str
        ``en`` or ``de``.
    local : bool
        Times as the clock of the place shows them, with the day first in German; else ISO 8601 in UTC.
    units : mapping from channel to Unit
        In which channels are shown; their own, if not given.
    notes : sequence of str
        What is to be said beside.
    events : sequence of KeptEvent
        What operators did, from the log of an attended device; those within the recording are shown.
    supply_events : SupplyEvents, optional
        What an analyzer of power stored of events.
    panels : sequence of sequences of names
        Of the figure; if not given, the channels that are judged or added up, by their units.

    """

    kind: str = "recording"
    language: str = "en"
    local: bool = True
    units: Mapping[str, Unit] = field(default_factory=dict)
    notes: Sequence[str] = ()
    events: Sequence[KeptEvent] = ()
    panels: Sequence[Sequence[str]] = ()
    supply_events: SupplyEvents | None = None


def make_report(
    series: Series, about: About, setup: CheckedSetup | None, options: ReportOptions
) -> ReportText:
    """The report of a recording.

    Parameters
    ----------
    series : Series
        With the derived channels of the setup, if it has some.
    about : About
    setup : CheckedSetup, optional
        Whose channels they are; its section ``papers`` says what is judged, and the header.
    options : ReportOptions

    Raises
    ------
    QuantityError
        A unit does not fit.
    FileProblem
        There is no such template, it fails, or the logo is no picture.

    """
    channels = () if setup is None else setup.channels
    derived = {channel.name for channel in channels if isinstance(channel, DerivedChannel)}
    stored = chosen(series, [c.name for c in series.columns if c.name not in derived], "the rows")
    shown = _in_units(series, options.units)
    papers = _papers_of(options.kind, None if setup is None else setup.setup.papers, series)
    zone = ZoneInfo(about.zone) if setup is None else setup.setup.zone
    summary, judged = survey(series, papers, channels, zone)
    if options.kind in _ADDED_UP and judged.totals is None:
        raise QuantityError(
            f"a report of the kind {options.kind} adds up powers or flows, and these rows have none",
            remedy="name counters in the setup: papers: {totals: {channels: […]}}",
        )
    outcome = judged.outcome
    pictures = dict[str, bytes]()
    if papers.logo is not None and setup is not None:
        pictures["logo"] = _logo(Path(setup.setup.source.file).parent / papers.logo)
    setup_hash = about.setup_hash if setup is None else content_hash(setup.setup.source.content)
    title = about.title if setup is None else setup.setup.title
    forms = Forms(options.language, zone if options.local else None)
    spans = list(every_span(summary))
    facts = {
        "title": title or about.run or "recording",
        "header": _header(summary, about, setup, forms),
        "verdicts": judged.groups,
        "shares": judged.shares,
        "exposure": judged.exposure,
        "totals": judged.totals,
        "supply_events": options.supply_events,
        "supply_events_at_most": _EVENTS,
        "periods_at_most": _PERIODS,
        "is_judged": judged.is_judged,
        "outcome": outcome.value,
        "channels": _shown_channels(shown, summary, channels),
        "logo": "logo" in pictures,
        "has_bands": any(BAND_NAME.fullmatch(column.name) for column in shown.columns),
        "events": [
            {"name": a.name, "condition": a.condition, "unit": unit, "begin_s": s.begin_s,
             "end_s": s.end_s, "worst": s.worst}
            for a, unit, s in spans[:_EVENTS]
        ],
        "operator": [
            {"at_s": e.at.timestamp(), "alarm": e.subject, "text": e.text}
            for e in options.events
            if series.times_s[0] <= e.at.timestamp() <= series.times_s[-1] + _LATER_S
        ][:_EVENTS],
        "more_events": max(0, len(spans) - _EVENTS),
        "notes": [*about.notes, *options.notes, *_of_calibrator(setup)],
        "zone": zone.key if options.local else "UTC",
        "data_hash": series_hash(stored),
        "setup_hash": setup_hash,
    }  # fmt: skip
    markdown = fill_template(options.kind, facts, forms)
    panels = options.panels or _panels(papers, shown)
    pictures |= _pictures(
        markdown, shown, channels, zone if options.local else ZoneInfo("UTC"), panels
    )
    sealed_about = {
        "kind": options.kind, "title": str(facts["title"]), "data": str(facts["data_hash"]),
        "setup": setup_hash, "device": about.device.serial if about.device else "",
        "from": str(series.times_s[0]), "to": str(series.times_s[-1]), "outcome": outcome.value,
        "columns": ",".join(column.name for column in stored.columns),
        "made": datetime.now(UTC).isoformat(timespec="seconds"),
    }  # fmt: skip
    return ReportText(
        str(facts["title"]),
        markdown,
        pictures,
        sealed_about,
        outcome if judged.is_judged else None,
        forms.t("page"),
        recording_tables(sealed_about, summary, judged, options.supply_events),
    )


def _of_calibrator(setup: CheckedSetup | None) -> tuple[str, ...]:
    """Whether levels were verified with a calibrator: without it they stand, and are marked."""
    sound = None if setup is None else setup.setup.sound
    return () if sound is None else (str(judge_calibrator(sound)),)


def _header(
    summary: Summary, about: About, setup: CheckedSetup | None, forms: Forms
) -> list[tuple[str, str]]:
    t, rows = forms.t, list[tuple[str, str]]()
    papers = None if setup is None else setup.setup.papers
    if papers is not None:
        rows += papers.header.items()
    if about.device is not None:
        rows.append((t("device"), str(about.device.identity())))
    if setup is not None:
        rows.append((t("setup"), setup.setup.source.file))
    if words := clock_words(about.clock_off_s):
        rows.append((t("clock"), words))
    rows += ((t("remark"), note) for note in about.notes)
    span = f"{forms.time(summary.begin_s)} – {forms.time(summary.end_s)}"
    rows.append((f"{t('from')}, {t('to')}", span))
    every = "–" if math.isnan(summary.interval_s) else forms.lasting(summary.interval_s)
    rows.append((t("rows"), f"{forms.count(summary.rows)}, {t('every')} {every}"))
    if summary.gaps:
        rows.append((t("gaps"), f"{len(summary.gaps)}, {forms.lasting(summary.missing_s)}"))
    for name, column in about.columns.items():
        if column.calibration:
            rows.append((f"{t('calibration')}: {name}", column.calibration))
    return rows


def _shown_channels(shown: Series, summary: Summary, channels: Sequence[Any]) -> tuple[Any, ...]:
    """The summary in the units that are shown; alarms are judged in their own."""
    if tuple(c.unit for c in shown.columns) == tuple(c.unit for c in summary.channels):
        return summary.channels
    labels = {channel.name: channel.label for channel in channels}
    found = summarise(shown).channels
    return tuple(
        replace(one, label=labels.get(one.name, ""), in_bands_s=own.in_bands_s)
        for one, own in zip(found, summary.channels, strict=True)
    )


def _in_units(series: Series, units: Mapping[str, Unit]) -> Series:
    columns, values = list(series.columns), series.values
    for k, column in enumerate(series.columns):
        unit = units.get(column.name)
        if unit is not None:
            values = values.copy() if values is series.values else values
            own = parse_unit(column.unit)
            require_alike(column.name, own, unit)
            values[:, k] = convert(values[:, k], own, unit)
            columns[k] = Column(column.name, str(unit))
    unknown = units.keys() - {column.name for column in series.columns}
    if unknown:
        valid = ", ".join(column.name for column in series.columns)
        raise QuantityError(f"there is no channel {min(unknown)!r}", valid=valid)
    return replace(series, columns=tuple(columns), values=values)


def _pictures(
    markdown: str,
    shown: Series,
    channels: Sequence[Any],
    zone: ZoneInfo,
    panels: Sequence[Sequence[str]],
) -> dict[str, bytes]:
    """The figures that a template names; how values spread is shown of the first panel, if there are some."""
    from leitwerk.reports import mean_figures  # noqa: PLC0415 - Matplotlib is large
    from leitwerk.reports.canvas import new_figure  # noqa: PLC0415
    from leitwerk.reports.spread_figures import FORMS, fill_spread  # noqa: PLC0415
    from leitwerk.reports.time_figure import fill_figure  # noqa: PLC0415

    traces, units = _traces(shown, channels)
    spread = [trace for trace in traces if not panels or trace.name in panels[0]]
    found = {}
    for name in dict.fromkeys(re.findall(r"!\[[^]]*\]\((\w+)\)", markdown)):
        figure, out = new_figure(_FIGURE_PX), io.BytesIO()
        if name == "figure":
            fill_figure(figure, traces, panels=panels, units=units, zone=zone)
        elif name in mean_figures.FORMS:
            mean_figures.fill_means(figure, name, traces, title="")
        elif name in FORMS:
            fill_spread(figure, name, spread[:6], title="", zone=zone)
        else:
            continue
        figure.savefig(out, format="png", metadata={"Software": None})
        found[name] = out.getvalue()
    return found


def _papers_of(kind: str, papers: Papers | None, series: Series) -> Papers:
    """What a kind of report takes of the section ``papers``.

    Raises
    ------
    QuantityError
        It judges what the setup does not ask for.

    """
    asked = papers or Papers()
    about = _ABOUT.get(kind)
    if about == "totals" and asked.totals is None:
        flows = [c.name for c in series.columns if total_of(c.unit)]
        asked = asked.model_copy(update={"totals": Totals(channels=flows)})
    if about is None:
        return asked
    if not getattr(asked, about):
        raise QuantityError(
            f"a report of the kind {kind} judges what the setup says in papers: {about}",
            remedy=f"give --setup, and in it papers: {{{about}: {{…}}}}; see the guide on recordings",
        )
    empty: dict[str, Any] = {"totals": None, "exposure": None, "shares": {}}
    return asked.model_copy(update={key: empty[key] for key in _KEYS if key != about})


def _panels(papers: Papers, shown: Series) -> list[list[str]]:
    """The channels that are added up or judged, a panel for each unit; none where nothing is."""
    names = [*(papers.totals.channels if papers.totals else ())]
    if papers.exposure is not None:
        names += [name for name in (papers.exposure.level, papers.exposure.peak) if name]
    names += [name for share in papers.shares.values() for name in share.channels]
    units = {column.name: column.unit for column in shown.columns}
    panels: dict[str, list[str]] = {}
    for name in dict.fromkeys(names):
        if name in units:
            panels.setdefault(units[name], []).append(name)
    return list(panels.values())[:_PANELS]


def _traces(shown: Series, channels: Sequence[Any]) -> tuple[list[Trace], dict[str, Unit]]:
    """The columns to draw, with the alarms of their channels, and the units of those that were converted."""
    from leitwerk.reports.time_figure import Curve, Trace  # noqa: PLC0415 - Matplotlib is large

    known = {channel.name: channel for channel in channels}
    traces, units = [], dict[str, Unit]()
    for k, column in enumerate(shown.columns):
        channel: Drawable | None = known.get(column.name)
        values = shown.known()[:, k]
        if channel is None or (channel.states is None and str(channel.unit) != column.unit):
            if channel is not None and channel.states is None:
                units[column.name] = parse_unit(column.unit)
                values = convert(values, parse_unit(column.unit), channel.unit)
            else:
                channel = Curve(column.name, parse_unit(column.unit or "1"))
        # What is expected is said of one moment, not of a whole recording.
        channel = Curve(column.name, channel.unit, None, channel.alarms, channel.states)
        traces.append(Trace(column.name, channel, shown.times_s, values))
    return traces, units


def _logo(path: Path) -> bytes:
    from PIL import Image, UnidentifiedImageError  # noqa: PLC0415 - only for this

    content = read_bytes(path)
    try:
        with Image.open(io.BytesIO(content)) as picture:
            picture.verify()
            is_known = picture.format in {"PNG", "JPEG"}
    except (UnidentifiedImageError, OSError, SyntaxError, ValueError, Image.DecompressionBombError):
        is_known = False
    if not is_known or len(content) > _LOGO_BYTES:
        raise FileProblem(f"{path} is no picture for a logo", remedy="PNG or JPEG of 2 MB at most")
    return content
