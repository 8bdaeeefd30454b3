"""The names of points that code looks for in a datasheet, and what each stands for.

A setup asks for settings by these names; a datasheet says which of them a model has, and where. Names
that stand here nowhere are fine in a datasheet too: a setup reaches them under ``settings``. The table
in docs/guide/datasheets.md is written from here.
"""

from __future__ import annotations

import enum
from collections.abc import Mapping
from dataclasses import dataclass, field


class Without(enum.Enum):
    """What becomes of a wish when a model has no point for it."""

    REFUSED = "refused"  # neither the device nor Leitwerk can do it
    LEITWERK = "worked by Leitwerk"
    PEOPLE = "for people only"


@dataclass(frozen=True, slots=True, eq=False)  # each is one of a kind, and looked up often
class KnownPoint:
    """A point that code looks for.

    ``without`` is what becomes of a wish for a setting when a model lacks it. ``cleared`` is the value
    by which a part that setups assign (a channel, an alarm, a relay) is given up; ``along`` are names
    of the same group that make no sense one without the other.
    """

    group: str
    name: str
    meaning: str
    without: Without = Without.REFUSED
    cleared: float | str | None = None
    along: tuple[str, ...] = ()
    choices: tuple[str, ...] = ()
    _around_index: tuple[str, str] = field(init=False, repr=False)

    def __post_init__(self) -> None:
        head, _, rest = self.name.partition("{")
        object.__setattr__(self, "_around_index", (head, rest.partition("}")[2]))

    def __str__(self) -> str:
        return self.name

    def at(self, index: int | None = None) -> str:
        """The name with an index in the place of its letter."""
        if index is None:
            return self.name
        head, tail = self._around_index
        return f"{head}{index}{tail}"

    @property
    def block(self) -> str:
        """The part of a device that it belongs to: ``channel.{n}``; empty for a single point."""
        return ".".join(self.name.split(".")[:2]) if "{" in self.name else ""


_EVERY: list[KnownPoint] = []
LEITWERK, PEOPLE = Without.LEITWERK, Without.PEOPLE


def _known(
    group: str,
    name: str,
    meaning: str,
    *,
    without: Without = Without.REFUSED,
    cleared: float | str | None = None,
    along: tuple[str, ...] = (),
    choices: tuple[str, ...] = (),
) -> KnownPoint:
    point = KnownPoint(group, name, meaning, without, cleared, along, choices)
    _EVERY.append(point)
    return point


# ---------------------------------------------------------------------- identity and status

MAKER = _known("identity", "maker", "Who made it")
MODEL = _known("identity", "model", "Its model; an upload to another is refused")
SERIAL = _known("identity", "serial", "Its serial number; an upload to another is refused")
FIRMWARE = _known("identity", "firmware", "Version of its firmware")

RECORDING = _known(
    "status",
    "recording",
    "Whether it records, waits for its start, or pauses",
    choices=("recording", "waiting", "paused"),
)
RECORDINGS = _known("status", "recordings", "How many recordings it holds")
UNFETCHED = _known("status", "recordings.unfetched", "How many of them have not been fetched")
FILES = _known("status", "files", "How many files it holds")
UNCOMMITTED = _known("status", "uncommitted", "How many registers wait for a commit")
RESTART_PENDING = _known(
    "status", "restart_pending", "Whether settings wait for a restart", choices=("yes",)
)
UPTIME = _known("status", "uptime", "How long it has been running, in s")
LOGGED_IN = _known("status", "logged_in", "The role that is logged in")
MEMORY_USED = _known("status", "memory.used", "How full its memory is, in %")
DEVICE_CLOCK = _known("status", "clock", "What its clock shows")
CLOCK_DATE = _known("status", "clock.date", "The date, where time has a point of its own")
CLOCK_TIME = _known("status", "clock.time", "The time, where the date has a point of its own")
RELAY_STATE = _known("status", "relay.{r}.state", "What a relay is now", choices=("on", "off"))
ALARM_STATE = _known("status", "alarm.{k}.state", "What its own alarm is now", choices=("active",))
WATCHDOG_COUNT = _known("status", "watchdog.count", "How often its watchdog has acted")

# ---------------------------------------------------------------------- readings

CHANNEL_VALUE = _known("readings", "channel.{n}.value", "The value at a terminal")
CHANNEL_QUALITY = _known("readings", "channel.{n}.quality", "Why a value can or cannot be trusted")
COLD_JUNCTION = _known("readings", "cold_junction", "Temperature of its terminals, in °C")
LEVEL = _known("readings", "level", "Level of the water, from which it computes a flow")
FLOW = _known(
    "readings", "flow", "Flow that it computes from the level, by the settings of its flume"
)
CARRIER_INTERMEDIATE = _known(
    "readings",
    "carrier.{k}.intermediate",
    "Intermediate frequency of a carrier; its span is the receiver's",
)
OUTPUT_SIGNAL = _known("readings", "output.{n}", "The signal that an output gives, as it says")


OF_EVALUATION = {
    what: _known("readings", f"evaluation.{{k}}.{what}", meaning)
    for what, meaning in {
        "equivalent": "Equivalent level of an evaluation, over the last integration",
        "maximum": "Its highest time-weighted level",
        "minimum": "Its lowest time-weighted level",
        "peak": "Its peak level",
    }.items()
}
PLACE_VALUE = _known("readings", "place.{k}.value", "Value of the transmitter at a place")
PLACE_STATE = _known("readings", "place.{k}.state", "State of the switch at a place")
PLACE_AGE = _known("readings", "place.{k}.age", "How long ago the transmitter at a place was heard")
LINE_LEVEL = _known(
    "readings",
    "line.{k}.level",
    "What a line reads while a test drives lines",
    choices=("low", "high"),
)
FLAGGED = _known(
    "readings",
    "flagged",
    "Whether a dip, a swell or an interruption fell into the values (IEC 61000-4-30, 4.7)",
    choices=("no", "yes"),
)
BAND_LEVEL = _known(
    "readings", "band.{b}", "Equivalent level of a band of its filter, from the lowest on"
)


@dataclass(frozen=True, slots=True)
class NetReading:
    """A reading of an analyzer of power, and what its channel is called.

    ``by_voltage`` is one that needs a voltage to the neutral, ``neutral`` one of the neutral conductor.
    """

    known: KnownPoint
    name: str
    label: str
    between_phases: bool = False
    by_voltage: bool = False
    neutral: bool = False


VOLTAGE = _known("readings", "voltage.{p}", "Root mean square of a voltage to the neutral")
VOLTAGE_BETWEEN = _known(
    "readings", "voltage.between.{p}", "Of a voltage between phases: 1-2, 2-3, 3-1"
)
VOLTAGE_ANGLE = _known(
    "readings", "angle.voltage.{p}", "Angle of a voltage to the neutral; that of the first is 0"
)
VOLTAGE_BETWEEN_ANGLE = _known(
    "readings", "angle.voltage.between.{p}", "Angle of a voltage between phases; of the first, 0"
)
CURRENT = _known("readings", "current.{p}", "Root mean square of a current")
CURRENT_ANGLE = _known(
    "readings", "angle.current.{p}", "Angle of a current, to the same zero as the voltages"
)
OF_VOLTAGES = (
    NetReading(VOLTAGE, "u{}", "Voltage"),
    NetReading(VOLTAGE_BETWEEN, "u{}", "Voltage", between_phases=True),
    NetReading(VOLTAGE_ANGLE, "u{}_angle", "Angle of the voltage"),
    NetReading(VOLTAGE_BETWEEN_ANGLE, "u{}_angle", "Angle of the voltage", between_phases=True),
)
OF_PHASES = (
    NetReading(CURRENT, "i{}", "Current"),
    NetReading(CURRENT_ANGLE, "i{}_angle", "Angle of the current"),
    *(
        NetReading(_known("readings", point, meaning), name, label, by_voltage=by_voltage)
        for point, meaning, name, label, by_voltage in (
            (
                "power.active.{p}",
                "Active power of a phase; import is positive",
                "p{}",
                "Active power",
                True,
            ),
            (
                "power.reactive.{p}",
                "Reactive power of its fundamental; lagging is positive",
                "q{}",
                "Reactive power",
                True,
            ),
            ("power.apparent.{p}", "Apparent power of a phase", "s{}", "Apparent power", True),
            (
                "power.factor.{p}",
                "Power factor of a phase; import is positive",
                "pf{}",
                "Power factor",
                True,
            ),
            ("cos_phi.{p}", "cos φ of its fundamental", "cos_phi{}", "cos φ", True),
            (
                "distortion.{p}",
                "THD of a voltage, to its fundamental",
                "thd_u{}",
                "THD of the voltage",
                False,
            ),
            ("distortion.current.{p}", "THD of a current", "thd_i{}", "THD of the current", False),
        )
    ),
)
OF_NET = (
    NetReading(
        _known("readings", "current.neutral", "Current in the neutral conductor"),
        "i_n", "Current in the neutral", neutral=True,
    ),
    *(
        NetReading(_known("readings", point, meaning), name, label)
        for point, meaning, name, label in (
            ("power.active", "Active power of all phases; import is positive", "p", "Active power"),
            ("power.reactive", "Reactive power of the fundamentals", "q", "Reactive power"),
            ("power.apparent", "Apparent power of all phases", "s", "Apparent power"),
            ("power.factor", "Power factor of all phases; import is positive", "pf", "Power factor"),
            ("cos_phi", "cos φ of all phases", "cos_phi", "cos φ"),
            ("unbalance", "Negative by positive sequence of the voltages", "unbalance", "Unbalance"),
            ("unbalance.zero", "Zero by positive sequence of the voltages", "unbalance_zero",
             "Zero sequence"),
            *(
                (f"sequence.{what}.{which}", f"{which.title()} sequence of the {what}s",
                 f"{letter}_{which}", f"{which.title()} sequence of the {what}s")
                for what, letter in (("voltage", "u"), ("current", "i"))
                for which in ("zero", "positive", "negative")
            ),
            ("frequency", "Frequency of the net", "frequency", "Frequency"),
            ("energy.imported", "Energy that was imported", "energy_import", "Energy imported"),
            ("energy.exported", "Energy that was exported", "energy_export", "Energy exported"),
        )
    ),
)  # fmt: skip

# What is of the supply, and not of a load: an event of the voltage flags it.
SUPPLY_READINGS = (
    VOLTAGE,
    VOLTAGE_BETWEEN,
    *(one.known for one in OF_PHASES if one.name == "thd_u{}"),
    *(one.known for one in OF_NET if one.name in {"unbalance", "unbalance_zero", "frequency"}),
)

# ---------------------------------------------------------------------- settings

TITLE = _known("settings", "title", "The title of the setup", without=PEOPLE)
NAME = _known("settings", "name", "The device's own name, for 'leitwerk readdress --name'")
BUS_UNIT = _known("settings", "bus.unit", "Its unit identifier, for 'leitwerk readdress'")
SAMPLE_INTERVAL = _known("settings", "sample.interval", "The time between two samples")
SAMPLE_INTEGRATION = _known("settings", "sample.integration", "How long an input is measured")
STORAGE_INTERVAL = _known(
    "settings", "storage.interval", "The time between two stored values", without=LEITWERK
)
STORAGE_STATISTICS = _known(
    "settings", "storage.statistics", "Statistics that it keeps of its samples", without=LEITWERK
)
REPORT_INTERVAL = _known("settings", "report.interval", "The time between two reports")
WHEN_FULL = _known(
    "settings", "memory.when_full", "What it does with a full memory", choices=("stop", "overwrite")
)
WATCHDOG_AFTER = _known(
    "settings",
    "watchdog.after",
    "How long it waits for a request; 0 is off",
    along=("watchdog.then",),
)
WATCHDOG_THEN = _known("settings", "watchdog.then", "What it does when none has come")

_SCALE = tuple(
    f"channel.{{n}}.scale.{end}" for end in ("signal_low", "signal_high", "value_low", "value_high")
)
CHANNEL_SENSOR = _known(
    "settings", "channel.{n}.sensor", "What is wired to a terminal: a sensor or a kind of signal",
    cleared="off", choices=("off",),
)  # fmt: skip
CHANNEL_RANGE = _known("settings", "channel.{n}.range", "The range in which it is measured")
CHANNEL_UNIT = _known("settings", "channel.{n}.unit", "The unit that it shows", without=LEITWERK)
CHANNEL_LABEL = _known("settings", "channel.{n}.label", "What people call it", without=PEOPLE)
SIGNAL_LOW = _known("settings", _SCALE[0], "The scale: the lower signal", along=_SCALE)
SIGNAL_HIGH = _known("settings", _SCALE[1], "The scale: the upper signal", along=_SCALE)
VALUE_LOW = _known("settings", _SCALE[2], "The scale: the value at the lower signal", along=_SCALE)
VALUE_HIGH = _known("settings", _SCALE[3], "The scale: the value at the upper signal", along=_SCALE)

# Of an input that takes pulses.
PULSE_GATE = _known("settings", "pulse.{n}.gate", "For how long pulses are counted for one value")
PULSE_FILTER = _known("settings", "pulse.{n}.filter", "Pulses shorter than this are ignored")
PULSE_MISSING = _known(
    "settings", "pulse.{n}.missing", "What no pulses mean: at rest, or lost",
    choices=("at rest", "lost"),
)  # fmt: skip
PULSE_MISSING_AFTER = _known(
    "settings", "pulse.{n}.missing_after", "After which time without a pulse"
)

# How a flow is computed from a level; a model may know some of the laws only.
FLUME_LAW = _known(
    "settings", "flume.law", "The law by which it computes flow from level",
    choices=("parshall", "v-notch", "power law", "table"),
)  # fmt: skip
FLUME_SIZE = _known("settings", "flume.size", "Throat of its Parshall flume")
FLUME_ANGLE = _known("settings", "flume.angle", "Angle of its V-notch")
FLUME_COEFFICIENT = _known(
    "settings", "flume.coefficient", "Flow at a level of 1 m, by a power law"
)
FLUME_EXPONENT = _known("settings", "flume.exponent", "Exponent of a power law")
_TABLE = ("flume.table.{k}.level", "flume.table.{k}.flow")
FLUME_TABLE_LEVEL = _known("settings", _TABLE[0], "A point of its table: the level", along=_TABLE)
FLUME_TABLE_FLOW = _known("settings", _TABLE[1], "A point of its table: the flow", along=_TABLE)

# Carriers of a receiver.
CARRIER_FREQUENCY = _known("settings", "carrier.{k}.frequency", "Frequency of a carrier")
CARRIER_TONE = _known(
    "settings",
    "carrier.{k}.tone",
    "Whether a tone chooses the high oscillator",
    choices=("off", "on"),
)
OSCILLATOR_LOW = _known(
    "settings", "oscillator.low", "Frequency of the low oscillator of a converter"
)
OSCILLATOR_HIGH = _known("settings", "oscillator.high", "Frequency of its high oscillator")

# How a sound level meter evaluates: each evaluation has a name of its own.
_EVALUATION = ("evaluation.{k}.weighting", "evaluation.{k}.time")
EVALUATION_NAME = _known("settings", "evaluation.{k}.name", "Its name", without=PEOPLE)
EVALUATION_WEIGHTING = _known(
    "settings", _EVALUATION[0], "Frequency weighting of an evaluation", cleared="off",
    along=_EVALUATION, choices=("off", "A", "C", "Z"),
)  # fmt: skip
EVALUATION_TIME = _known(
    "settings", _EVALUATION[1], "Its time weighting", along=_EVALUATION,
    choices=("none", "fast", "slow", "impulse"),
)  # fmt: skip
EVALUATION_PEAK = _known(
    "settings", "evaluation.{k}.peak", "Whether it has a peak level", choices=("no", "yes")
)
EVALUATION_STORES = _known(
    "settings", "evaluation.{k}.stores", "What a recording holds of it",
    choices=("equivalent", "all"),
)  # fmt: skip
INTEGRATION_TIME = _known(
    "settings", "integration.time", "For how long each level is made", without=LEITWERK
)
RANGE_UPPER = _known(
    "settings", "range.upper", "Upper end of its measuring range", without=LEITWERK
)
RANGE_LOWER = _known(
    "settings", "range.lower", "Lower end of its measuring range", without=LEITWERK
)
BANDS_FILTER = _known(
    "settings", "bands.filter", "The bands of its filter", cleared="none",
    along=("bands.filter", "bands.evaluation"), choices=("none", "octave", "third octave"),
)  # fmt: skip
BANDS_EVALUATION = _known(
    "settings", "bands.evaluation", "The number of the evaluation that has bands"
)
AUDIO_LENGTH = _known(
    "settings", "audio.length", "How much of a recording it keeps as sound, from its start"
)
_START = ("start.mode", "start.time", "start.level")
START_MODE = _known(
    "settings", _START[0], "When a recording begins that was started", along=_START,
    choices=("at once", "at time", "above level"),
)  # fmt: skip
START_TIME = _known("settings", _START[1], "The time at which it begins", along=_START)
START_LEVEL = _known(
    "settings", _START[2], "The level of the first evaluation above which it begins", along=_START
)
ERASE_BACK_LENGTH = _known(
    "settings", "erase_back.length", "How much the command 'erase back' takes away"
)

# How an analyzer of power is wired.
WIRING_SYSTEM = _known(
    "settings", "wiring.system", "How the net is wired, by the names in the guide"
)
NOMINAL_VOLTAGE = _known(
    "settings", "nominal.voltage", "Nominal voltage of the net", without=LEITWERK
)
NOMINAL_FREQUENCY = _known("settings", "nominal.frequency", "Nominal frequency of the net")
_VOLTAGES = ("voltage.primary", "voltage.secondary")
VOLTAGE_PRIMARY = _known(
    "settings", _VOLTAGES[0], "Primary side of the voltage transformers", along=_VOLTAGES
)
VOLTAGE_SECONDARY = _known(
    "settings", _VOLTAGES[1], "Secondary side of the voltage transformers", along=_VOLTAGES
)
_CURRENTS = ("current.primary", "current.secondary")
CURRENT_SENSOR = _known(
    "settings", "current.sensor", "Its current sensors: of which kind, or one by its name",
    choices=("transformer", "voltage"),
)  # fmt: skip
CURRENT_PRIMARY = _known(
    "settings", _CURRENTS[0], "Primary side of the current transformers", along=_CURRENTS
)
CURRENT_SECONDARY = _known(
    "settings", _CURRENTS[1], "Secondary side of the current transformers", along=_CURRENTS
)
CURRENT_SENSITIVITY = _known(
    "settings", "current.sensitivity", "Voltage of a current sensor at 1 A"
)
WIRING_SETTINGS = (
    WIRING_SYSTEM, NOMINAL_VOLTAGE, NOMINAL_FREQUENCY, VOLTAGE_PRIMARY, VOLTAGE_SECONDARY,
    CURRENT_SENSOR, CURRENT_PRIMARY, CURRENT_SECONDARY, CURRENT_SENSITIVITY,
)  # fmt: skip

# What begins an event of an analyzer, and what is stored of it.
TRIGGERS = {
    key: _known("settings", f"trigger.{key}", meaning, without=LEITWERK)
    for key, meaning in {
        "dip": "A voltage below this part of the nominal one is a dip",
        "swell": "A voltage above this part of the nominal one is a swell",
        "interruption": "All voltages below this part of the nominal one are an interruption",
        "hysteresis": "How far behind its threshold an event ends, as a part of the nominal voltage",
        "change": "A rapid change is larger than this part of the nominal voltage",
        "transient": "A transient leaves its envelope by this part of the nominal peak",
        "inrush": "A current above this is an inrush",
        "power": "A mean power above this is an alarm",
        "before": "How much of a waveform is kept before an event",
        "after": "How much of it is kept after an event",
    }.items()
}
# Campaigns: what is stored, and when, after a recording was started.
_CAMPAIGN = tuple(f"campaign.{{k}}.{key}" for key in ("stores", "start", "lasts"))
CAMPAIGN_NAME = _known("settings", "campaign.{k}.name", "Its name", without=PEOPLE)
CAMPAIGN_STORES = _known(
    "settings", _CAMPAIGN[0], "What a campaign stores", cleared="off", along=_CAMPAIGN,
    choices=("off", "trends", "events", "transients", "inrush", "alarms"),
)  # fmt: skip
CAMPAIGN_START = _known(
    "settings", _CAMPAIGN[1], "How its start is given", along=_CAMPAIGN,
    choices=("at once", "after", "at time", "daily"),
)  # fmt: skip
CAMPAIGN_LASTS = _known(
    "settings", _CAMPAIGN[2], "How long it lasts; 0 until the recording is stopped", along=_CAMPAIGN
)
CAMPAIGN_WAIT = _known(
    "settings", "campaign.{k}.wait", "How long it waits; of a daily one, since midnight"
)
CAMPAIGN_TIME = _known("settings", "campaign.{k}.time", "The time at which it begins")
CAMPAIGN_EVERY = _known("settings", "campaign.{k}.every", "The time between two rows of trends")
CAMPAIGN_MOST = _known("settings", "campaign.{k}.at_most", "How many events it stores at most")

# A receiver of wireless transmitters: its places, and the radio that all of them share.
PLACE_ID = _known(
    "settings", "place.{k}.id", "Number of the transmitter that is bound to a place; 0 for none",
    cleared=0.0,
)  # fmt: skip
RADIO_GROUP = _known("settings", "radio.group", "The group of transmitters that it receives")
RADIO_BAND = _known("settings", "radio.band", "The band in which it receives")
RADIO_ROLE = _known("settings", "radio.role", "Whether it is a receiver, or a relay of some hops")
RADIO_SETTINGS = (RADIO_GROUP, RADIO_BAND, RADIO_ROLE)

# Alarms that belong to an input; models without a list of alarms have these.
INPUT_ALARM_HIGH = _known(
    "settings", "channel.{n}.alarm.high", "Trip point of the input's own high alarm",
    without=LEITWERK, cleared="none",
)  # fmt: skip
INPUT_ALARM_LOW = _known(
    "settings", "channel.{n}.alarm.low", "Trip point of the input's own low alarm",
    without=LEITWERK, cleared="none",
)  # fmt: skip
INPUT_ALARM_DELAY = _known(
    "settings", "channel.{n}.alarm.delay", "The delay of both", without=LEITWERK
)
INPUT_ALARM_HYSTERESIS = _known(
    "settings", "channel.{n}.alarm.hysteresis", "How far behind the trip point both clear",
    without=LEITWERK,
)  # fmt: skip

_ALARM = ("alarm.{k}.channel", "alarm.{k}.condition", "alarm.{k}.trip")
ALARM_CHANNEL = _known(
    "settings", _ALARM[0], "The slot of the channel that it watches", along=_ALARM
)
ALARM_CONDITION = _known(
    "settings", _ALARM[1], "On which side it trips", cleared="off", along=_ALARM,
    choices=("off", "above", "below"),
)  # fmt: skip
ALARM_TRIP = _known("settings", _ALARM[2], "Its trip point, in the channel's unit", along=_ALARM)
ALARM_CLEAR = _known(
    "settings", "alarm.{k}.clear", "Its clear point", without=LEITWERK, along=_ALARM
)
ALARM_DELAY = _known(
    "settings", "alarm.{k}.delay", "How long the condition holds before it trips", without=LEITWERK
)
ALARM_CLEAR_DELAY = _known(
    "settings", "alarm.{k}.clear_delay", "How long before it clears", without=LEITWERK
)
ALARM_SEVERITY = _known("settings", "alarm.{k}.severity", "How urgent it is", without=PEOPLE)
ALARM_LATCH = _known(
    "settings", "alarm.{k}.latch", "Whether it stays", without=LEITWERK, choices=("yes", "no")
)

RELAY_ALARMS = _known(
    "settings", "relay.{r}.alarms", "The alarms that a relay follows, a bit each", cleared=0.0
)
RELAY_NORMAL = _known(
    "settings", "relay.{r}.normal", "How it is when no alarm is active", without=LEITWERK
)
RELAY_SAFE = _known(
    "settings", "relay.{r}.safe", "How it is left when it is not driven any more", without=LEITWERK
)
RELAY_LEAST_ON = _known(
    "settings", "relay.{r}.least_on", "How long it stays on at least", without=LEITWERK
)
RELAY_LEAST_OFF = _known(
    "settings", "relay.{r}.least_off", "How long it stays off at least", without=LEITWERK
)
RELAY_LIMIT = _known(
    "settings", "relay.{r}.limit", "When it goes back to its safe state", without=LEITWERK
)

_OUTPUT = ("output.{n}.shows", "output.{n}.low", "output.{n}.high")
OUTPUT_SHOWS = _known(
    "settings",
    _OUTPUT[0],
    "The reading that an analog output carries",
    cleared="off",
    along=_OUTPUT,
)
OUTPUT_LOW = _known("settings", _OUTPUT[1], "The value at its lower signal", along=_OUTPUT)
OUTPUT_HIGH = _known("settings", _OUTPUT[2], "The value at its upper signal", along=_OUTPUT)
OUTPUT_BAD = _known("settings", "output.{n}.bad", "The signal for a value that is bad; 0 holds it")

_BAND = ("band.{k}.end", "band.{k}.color")
BAND_READING = _known("settings", "band.reading", "The reading whose bands it shows")
BAND_HYSTERESIS = _known("settings", "band.hysteresis", "The hysteresis at the bands' borders")
BAND_END = _known("settings", _BAND[0], "Where a band ends", along=_BAND)
BAND_COLOR = _known(
    "settings", _BAND[1], "Its colour", cleared="off", along=_BAND, choices=("off",)
)
BAND_TEXT = _known("settings", "band.{k}.text", "Its text", without=PEOPLE)

CONTACT_NAME = _known(
    "settings", "contact.{k}.name", "A contact's name", cleared="", without=PEOPLE
)
CONTACT_NUMBER = _known(
    "settings", "contact.{k}.number", "Its number", cleared="", without=LEITWERK
)

TALK = "talk"  # the link of a device that is known by what it says alone
# An exchange that the device runs at a port of its own: lines of text that it says and understands.
TALK_MANNER = _known(
    "settings", "talk.manner", "For whom its exchange is", cleared="off",
    choices=("off", "people", "machines", "guarded"),
)  # fmt: skip
TALK_BAUD = _known("settings", "talk.baud", "The baud rate of its talking port")
TALK_BITS = _known("settings", "talk.bits", "Data bits, parity and stop bits there, such as 8N1")
TALK_FLOW = _known("settings", "talk.flow", "How one end stops the other there")
TALK_WIRES = _known("settings", "talk.wires", "RS-232 or RS-485")
TALK_ADDRESS = _known("settings", "talk.address", "What stands before each line")
TALK_WAYS = {
    way: {
        key: _known("settings", f"talk.{way}.{key}", f"{what} of the lines that it {way}")
        for key, what in {
            "separator": "Separator", "end": "End", "start": "Beginning", "encoding": "Encoding",
            "decimal": "Decimal sign", "longest": "Most bytes", "spaces": "What becomes of spaces",
            "quotes": "Quotes around texts", "confirms": "What confirms a line",
            "refuses": "What refuses one",
        }.items()
    }
    for way in ("says", "understands")
}  # fmt: skip
MOST_PARTS = 8  # fields of a message, values of a keyword, that a datasheet can name
MESSAGE_WORD = _known("settings", "message.{k}.keyword", "The keyword of a message", cleared="")
MESSAGE_EVERY = _known("settings", "message.{k}.every", "How often it is said; 0 never by itself")
MESSAGE_KEY = _known(
    "settings", "message.{k}.key", "The key at which it is said", choices=("none",)
)
MESSAGE_PAUSE = _known("settings", "message.{k}.at_most", "The least time between two of them")
MESSAGE_FIELDS = tuple(
    {
        key: _known("settings", f"message.{{k}}.field_{n}.{key}", f"Field {n} of it: {what}")
        for key, what in {
            "shows": "what it carries", "text": "a text that stays", "decimals": "its decimals",
            "digits": "the digits that count", "unit": "whether with its unit", "width": "its width",
            "pad": "what fills it up", "before": "a text before it", "after": "a text behind it",
            "bad": "what stands for no value",
        }.items()
    }
    for n in range(1, MOST_PARTS + 1)
)  # fmt: skip
KEYWORD_WORD = _known(
    "settings", "keyword.{k}.keyword", "A keyword that it understands", cleared=""
)
KEYWORD_ANSWER = _known("settings", "keyword.{k}.answer", "What it answers")
KEYWORD_ERRORS = _known("settings", "keyword.{k}.errors", "Whether it tells errors")
KEYWORD_VALUES = tuple(
    {
        key: _known("settings", f"keyword.{{k}}.value_{n}.{key}", f"Value {n} behind it: {what}")
        for key, what in {
            "kind": "a number or a text", "to": "the setting that takes it", "longest": "most characters",
            "low": "the least", "high": "the most", "unit": "whether with its unit",
            "bad": "what is no value",
        }.items()
    }
    for n in range(1, MOST_PARTS + 1)
)  # fmt: skip

# ---------------------------------------------------------------------- recordings

_WINDOW = ("select", "first", "started", "interval", "rows", "columns", "shown", "value.{w}")
SELECT = _known("recordings", "select", "Chooses a recording, by its number from 1", along=_WINDOW)
FIRST_ROW = _known(
    "recordings", "first", "The row at which the window begins, from 0", along=_WINDOW
)
STARTED = _known("recordings", "started", "When its oldest row was stored", along=_WINDOW)
INTERVAL = _known("recordings", "interval", "The time between two of its rows", along=_WINDOW)
ROWS = _known("recordings", "rows", "How many rows it has", along=_WINDOW)
COLUMNS = _known("recordings", "columns", "How many values each row has", along=_WINDOW)
SHOWN = _known("recordings", "shown", "The row that the window shows first", along=_WINDOW)
WINDOW_VALUE = _known("recordings", "value.{w}", "The values of the window", along=_WINDOW)
COLUMN_NAME = _known(
    "recordings", "column.{n}.name", "The reading that a column of a recording holds, by its name"
)
OVERWRITTEN = _known(
    "recordings", "overwritten", "How many of its oldest rows made room for newer ones"
)
CHECK_SUM = _known(
    "recordings",
    "check_sum",
    "CRC-32 (ISO/IEC 13239) of the values that it holds, as they are shown",
)

# Files that a device holds beside its rows: waveforms, sound, events.
_FILE = tuple(f"file.{key}" for key in ("select", "first", "name", "size", "check_sum", "shown"))
FILE_SELECT = _known("recordings", _FILE[0], "Chooses a file, by its number from 1", along=_FILE)
FILE_FIRST = _known(
    "recordings", _FILE[1], "The byte at which what can be read begins, from 0", along=_FILE
)
FILE_NAME = _known("recordings", _FILE[2], "What the file is called", along=_FILE)
FILE_SIZE = _known("recordings", _FILE[3], "How many bytes it has", along=_FILE)
FILE_CHECK_SUM = _known(
    "recordings", _FILE[4], "CRC-32 (ISO/IEC 13239) of all its bytes", along=_FILE
)
FILE_SHOWN = _known("recordings", _FILE[5], "The byte that can be read first", along=_FILE)
FILE_WORD = _known(
    "recordings", "file.word.{w}", "Its bytes from there on, two in each, the first one high"
)
FILE_BLOCK = _known(
    "recordings", "file.block", "Its bytes from there on, as a block (IEEE 488.2, 8.7.9)"
)

# ---------------------------------------------------------------------- access

COMMAND = _known(
    "access", "command", "Carries out what is written to it",
    choices=("commit", "drop", "start", "stop", "pause", "continue", "erase back",
             "erase recordings", "restart"),
)  # fmt: skip
COMMANDS = {
    name: _known("access", f"command.{name.replace(' ', '_')}", f"The command {name!r} by itself")
    for name in COMMAND.choices
}
LOGIN = _known("access", "login", "Takes the password of a role")
DRIVE_LINES = _known(
    "access",
    "lines.drive",
    "The lines that a test drives high: bit 0 is the first one; 0 releases all",
)
LOG_OUT = _known("access", "command.log_out", "Ends a login, where that is a command")
SET_CLOCK = _known("access", "clock", "Sets its clock")
SET_DATE = _known("access", "clock.date", "Sets the date of its clock")
SET_TIME = _known("access", "clock.time", "Sets the time of its clock")
SET_BUS_UNIT = _known(
    "access", "bus.unit", "Its unit identifier, where it is not among the settings"
)
DRIVE_RELAY = _known(
    "access", "relay.{r}.drive", "Switches a relay", choices=("on", "off", "released")
)
DRIVE_OUTPUT = _known(
    "access", "output.{n}.drive", "The signal that an output is to give; 0 releases"
)

VOCABULARY: Mapping[tuple[str, str], KnownPoint] = {(p.group, p.name): p for p in _EVERY}
