"""Time: zones, storage intervals and their statistics, planned runs, and what all of it costs."""

from leitwerk.timing.condense import condense
from leitwerk.timing.intervals import Intervals, wall_clock_intervals
from leitwerk.timing.schedule import PlannedRun, RunPlan, Start, Stop, overlaps, plan_runs
from leitwerk.timing.statistics import STATISTICS, interval_statistics
from leitwerk.timing.zones import LocalTime, find_zone, parse_local, to_instant

__all__ = [
    "STATISTICS",
    "Intervals",
    "LocalTime",
    "PlannedRun",
    "RunPlan",
    "Start",
    "Stop",
    "condense",
    "find_zone",
    "interval_statistics",
    "overlaps",
    "parse_local",
    "plan_runs",
    "to_instant",
    "wall_clock_intervals",
]
