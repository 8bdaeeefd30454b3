"""When to measure, as a setup file holds it: intervals, statistics, groups, runs."""

from __future__ import annotations

from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from pydantic import Field, WithJsonSchema

from leitwerk.alarms.conditions import parse_condition
from leitwerk.analysis.statistics import STATISTICS
from leitwerk.errors import QuantityError
from leitwerk.parsing.durations import DAY_S, parse_duration, parse_time_of_day
from leitwerk.parsing.local_time import find_zone, parse_local
from leitwerk.parsing.models import Model, reader, text_of
from leitwerk.rules.schedule import Start, Stop
from leitwerk.setup.fields import IntervalField, text_schema, whole_number

_MOST_EVENTS = 65_535
_STARTS = "at once; after 10 min; 2026-03-02 06:00; daily at 22:00; when door is ajar"
_STOPS = "after 36 h; 2026-03-05 06:00; when full; by hand"


def _start(value: object) -> Start:
    text = text_of(value, _STARTS).strip()
    if text == "at once":
        return Start()
    if text.startswith("after "):
        return Start(wait_s=parse_duration(text.removeprefix("after ")).seconds)
    if text.startswith("daily at "):
        return Start(daily_s=parse_time_of_day(text.removeprefix("daily at ")) % DAY_S)
    if text.startswith("when "):
        return Start(when=parse_condition(text.removeprefix("when ")))
    if text[:1].isdigit():
        return Start(at=parse_local(text))
    raise QuantityError(f"{text[:60]!r} is not a start of a run", valid=_STARTS)


def _stop(value: object) -> Stop:
    text = text_of(value, _STOPS).strip()
    if text == "by hand":
        return Stop()
    if text == "when full":
        return Stop(when_full=True)
    if text.startswith("after "):
        return Stop(after_s=parse_duration(text.removeprefix("after ")).seconds)
    if text[:1].isdigit():
        return Stop(at=parse_local(text))
    raise QuantityError(f"{text[:60]!r} is not an end of a run", valid=_STOPS)


def _statistics(value: object) -> tuple[str, ...]:
    parts = value if isinstance(value, list) else text_of(value, "mean, maximum").split(",")
    names = tuple(str(part).strip() for part in parts)
    for name in names:
        if name not in STATISTICS:
            raise QuantityError(f"{name[:40]!r} is not a statistic", valid=", ".join(STATISTICS))
    if len(set(names)) < len(names):
        raise QuantityError("a statistic is named twice", valid=", ".join(dict.fromkeys(names)))
    return names


StartField = Annotated[
    Start,
    reader(Start, _start),
    WithJsonSchema(
        {"type": "string", "description": "When it begins", "examples": _STARTS.split("; ")}
    ),
]
StopField = Annotated[
    Stop,
    reader(Stop, _stop),
    WithJsonSchema(
        {"type": "string", "description": "When it ends", "examples": _STOPS.split("; ")}
    ),
]
StatisticsField = Annotated[
    tuple[str, ...],
    reader(tuple, _statistics),
    WithJsonSchema(
        {
            "description": f"Statistics to keep of each storage interval: {', '.join(STATISTICS)}",
            "anyOf": [{"type": "string"}, {"type": "array", "items": {"enum": list(STATISTICS)}}],
            "examples": ["mean, minimum, maximum"],
        }
    ),
]
ZoneField = Annotated[
    ZoneInfo,
    reader(ZoneInfo, lambda value: find_zone(text_of(value, "a time zone").strip())),
    WithJsonSchema(
        {
            "type": "string",
            "description": "The time zone, by its name in the IANA database",
            "examples": ["Europe/Berlin", "UTC"],
        }
    ),
]


EventsField = Annotated[
    int,
    whole_number(_MOST_EVENTS, "a number of events", least=1),
    text_schema("A number of events", "100", numbers=True),
]


class Group(Model):
    """Channels that are sampled and stored otherwise than the rest."""

    sample: IntervalField | None = None
    store: IntervalField | None = Field(None, description="The time between two stored values")
    statistics: StatisticsField | None = None
    report: IntervalField | None = Field(None, description="The time between two reports")


class Run(Model):
    """A planned run: when recording begins and ends."""

    start: StartField = Field(
        default_factory=Start, description="When it begins; at once if not given"
    )
    stop: StopField = Field(default_factory=Stop, description="When it ends; by hand if not given")
    stores: Literal["trends", "events", "transients", "inrush", "alarms"] | None = Field(
        None, description="What the device stores by itself then; else Leitwerk starts it"
    )
    every: IntervalField | None = Field(None, description="Of trends: the time between two rows")
    at_most: EventsField | None = Field(None, description="Of events: how many are stored")
