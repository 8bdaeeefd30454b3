"""From signal to value and back: pure functions on arrays, to the published standards."""

from leitwerk.signals import platinum, thermocouple
from leitwerk.signals.quality import Quality
from leitwerk.signals.sensors import SENSORS, Sensor, find_sensor
from leitwerk.signals.twopoint import TwoPoint

__all__ = [
    "SENSORS",
    "Quality",
    "Sensor",
    "TwoPoint",
    "find_sensor",
    "platinum",
    "thermocouple",
]
