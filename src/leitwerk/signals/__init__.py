"""From signal to value and back: pure functions on arrays, to the published standards.

Scales are plain values with one interface (``scale.py``); a sensor's curve is a scale as well. Arrays
of any shape and real type go in, float64 arrays of the same shape come out. NaN, and what lies
outside a scale's domain, gives NaN; ``convert`` gives the reason beside it.
"""

from leitwerk.signals import rtd, thermocouple
from leitwerk.signals.bridge import Arms, StrainBridge, check_shunt, load_cell
from leitwerk.signals.linear import Limits, Linear, TwoPoint
from leitwerk.signals.loop import Shunt
from leitwerk.signals.polynomial import Polynomial
from leitwerk.signals.pulses import (
    count_changes,
    count_steps,
    debounce,
    duty_cycle,
    rate_by_gate,
    rate_by_period,
    totals,
)
from leitwerk.signals.quality import Quality
from leitwerk.signals.root import Logarithmic, LoopBands, SquareRoot
from leitwerk.signals.rtd import ResistanceThermometer, lead_error
from leitwerk.signals.scale import Chain, Labelled, Scale
from leitwerk.signals.sensors import SENSORS, Sensor, find_sensor
from leitwerk.signals.states import States
from leitwerk.signals.table import PointTable
from leitwerk.signals.thermistor import SteinhartHart
from leitwerk.signals.thermocouple import Thermocouple
from leitwerk.signals.tolerance import platinum_tolerance, thermocouple_tolerance
from leitwerk.signals.transformer import Transformer, parse_transformer

__all__ = [
    "SENSORS",
    "Arms",
    "Chain",
    "Labelled",
    "Limits",
    "Linear",
    "Logarithmic",
    "LoopBands",
    "PointTable",
    "Polynomial",
    "Quality",
    "ResistanceThermometer",
    "Scale",
    "Sensor",
    "Shunt",
    "SquareRoot",
    "States",
    "SteinhartHart",
    "StrainBridge",
    "Thermocouple",
    "Transformer",
    "TwoPoint",
    "check_shunt",
    "count_changes",
    "count_steps",
    "debounce",
    "duty_cycle",
    "find_sensor",
    "lead_error",
    "load_cell",
    "parse_transformer",
    "platinum_tolerance",
    "rate_by_gate",
    "rate_by_period",
    "rtd",
    "thermocouple",
    "thermocouple_tolerance",
    "totals",
]
