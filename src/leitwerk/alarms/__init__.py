"""Alarms: definitions as data, and two ways to follow them that agree exactly.

``follow`` goes through a whole recording, ``Board`` takes one sample of all channels at a time.
"""

from leitwerk.alarms.bands import NO_BAND, BandPart, Bands
from leitwerk.alarms.board import Board, Watching
from leitwerk.alarms.chatter import cycles_per_hour
from leitwerk.alarms.point import AlarmPoint, Watch
from leitwerk.alarms.states import Act, Deed, Level, State
from leitwerk.alarms.timeline import Timeline, follow
from leitwerk.alarms.watched import change, difference

__all__ = [
    "NO_BAND",
    "Act",
    "AlarmPoint",
    "BandPart",
    "Bands",
    "Board",
    "Deed",
    "Level",
    "State",
    "Timeline",
    "Watch",
    "Watching",
    "change",
    "cycles_per_hour",
    "difference",
    "follow",
]
