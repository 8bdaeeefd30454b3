"""Random datasheets and setups: what is stored is what an independent reader finds in the registers."""

import struct
import tempfile

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import leitwerk as lw
from conftest import NOWHERE, MemoryLink, SteppedTime, kept
from leitwerk.standins.clock import DeviceClock
from leitwerk.standins.faults import Troubles
from leitwerk.standins.from_datasheet import make, profile_of

TYPES = {"u16": ("H", 1), "i16": ("h", 1), "u32": ("I", 2), "i32": ("i", 2)}
CODES = {"off": 0, "Pt100, 4-wire": 7, "current": 0xA3}
CHANNELS = 4


class Spec:
    """Where each setting lies and how: drawn, and known to the test alone."""

    def __init__(self, draw):
        self.points = {}
        place = draw(st.integers(20, 60))
        names = ["sensor", "label", "scale.value_low", "scale.value_high",
                 "alarm.high", "alarm.low", "alarm.delay"]  # fmt: skip
        for name in draw(st.permutations(names)):
            words, more = self._drawn(draw, name)
            stride = draw(st.integers(words, words + 3))
            self.points[name] = {"start": place, "stride": stride, "words": words, **more}
            place += stride * CHANNELS + draw(st.integers(0, 5))
        self.gap = draw(st.integers(0, 10))

    @staticmethod
    def _drawn(draw, name):
        if name == "label":
            return 4, {"type": "text 8", "order": "high first"}
        signed = name.startswith(("alarm.h", "alarm.l", "scale"))
        kind = draw(st.sampled_from(["i16", "i32"] if signed else ["u16", "u32"]))
        order = draw(st.sampled_from(["high first", "low first"]))
        return TYPES[kind][1], {"type": kind, "order": order, "step": 1 if not signed else 0.1}

    def yaml(self):
        lines = []
        for name, p in self.points.items():
            first = p["start"] - p["stride"]
            at = f"at: holding {first} + {p['stride']} n, type: {p['type']}, words: {p['order']}"
            more = {
                "sensor": f", choices: {{{', '.join(f'{json(n)}: {c}' for n, c in CODES.items())}}}",
                "alarm.delay": ", unit: s",
                "label": "",
            }.get(name, ", step: 0.1, unit: channel")
            if name in {"alarm.high", "alarm.low"}:
                more += f", special: {{{hex(self.none(name))}: none}}"
            lines.append(f"  channel.{{n 1..{CHANNELS}}}.{name}: {{{at}{more}}}")
        return SHEET.format(gap=self.gap, settings="\n".join(lines))

    def none(self, name):
        return 1 << (16 * TYPES[self.points[name]["type"]][1] - 1)

    def words(self, name, value):
        """The registers of a value, high word first unless the device has it the other way round."""
        p = self.points[name]
        if name == "label":
            return list(struct.unpack(">4H", value.encode().ljust(8, b"\0")))
        code, count = TYPES[p["type"]]
        raw = -self.none(name) if value == "none" else round(value / p["step"])
        found = list(struct.unpack(f">{count}H", struct.pack(f">{code}", raw)))
        return found[::-1] if p["order"] == "low first" else found

    def at(self, name, n):
        return self.points[name]["start"] + self.points[name]["stride"] * (n - 1)


def json(name):
    return f'"{name}"'


SHEET = """datasheet: 1
model: drawn
maker: Tannried Instrumente
summary: Drawn by a test
link: modbus
inputs:
  resistance: {{unit: Ω, ranges: [0..400 Ω]}}
  current: {{unit: mA, ranges: [0..24 mA], ends: 4..20 mA}}
terminals:
  1..4: {{takes: [resistance, current], slot: 1}}
transfer: {{max_gap: {gap}}}
identity:
  model: {{at: input 0, type: text 16}}
  serial: {{at: input 8, type: u16}}
readings:
  channel.{{n 1..4}}.value: {{at: input 10 + 2 n, type: f32, unit: channel, special: {{NaN: open sensor}}}}
settings:
{settings}
"""


@st.composite
def channels(draw):
    """For some terminals: what is wired there, and the values that must be in the registers."""
    found = {}
    for n in draw(st.sets(st.integers(1, CHANNELS), min_size=1)):
        label = draw(st.text(st.sampled_from("abcXYZ 12"), min_size=1, max_size=8)).strip() or "x"
        tenths = st.integers(-1500, 1500).map(lambda k: k / 10)
        high, low = draw(st.none() | tenths), draw(st.none() | tenths)
        delay = draw(st.integers(0, 600))
        if draw(st.booleans()):
            wiring, kind = "sensor: Pt100, 4-wire", "Pt100, 4-wire"
            scale = {}
        else:
            # Typed at other signals than those that the device has: 0 mA and 24 mA, a line all the same.
            first = draw(st.integers(-160, 160)) * 1.0
            last = first + draw(st.sampled_from([400.0, 800.0]))
            gain = (last - first) / 16.0
            wiring = f"scale: {{8 mA: {first + 4 * gain:.10g}, 16 mA: {first + 12 * gain:.10g}}}"
            kind, scale = "current", {"scale.value_low": first, "scale.value_high": last}
            high, low = None, None
        found[n] = (label, wiring, kind, scale, high, low, delay)
    return found


@given(st.data())
@settings(deadline=None, max_examples=60, suppress_health_check=list(HealthCheck))
def test_what_is_stored_is_what_stands_in_the_registers_and_nothing_else(data):
    spec = Spec(data.draw)
    sheet = lw.parse_datasheet(spec.yaml())
    wired = data.draw(channels())
    lines = ["leitwerk: 1", "title: Drawn", f"device: {{model: drawn, at: '{NOWHERE}', serial: 1001}}",
             "channels:"]  # fmt: skip
    for n, (label, wiring, _, _, high, low, delay) in wired.items():
        lines += [f"  c{n}:", f"    label: {json(label)}", f"    terminal: {n}", f"    {wiring}"]
        alarms = [(k, v) for k, v in (("above", high), ("below", low)) if v is not None]
        lines += ["    alarms:"] if alarms else []
        lines += [f"      {k}_it: {{{k}: {v}, after: {delay} s}}" for k, v in alarms]
    setup = lw.check_setup(lw.parse_setup("\n".join(lines)), sheet)
    if not setup.ok:
        return  # alarms that contradict each other, or a label that the device cannot have
    time = SteppedTime()
    device = make(
        sheet, profile_of(sheet, {}), time, device_clock=DeviceClock(), troubles=Troubles()
    )
    before = list(device.holding)
    with tempfile.TemporaryDirectory() as folder:
        lw.upload(setup, lw.Device(sheet, MemoryLink(device)), kept(folder))
    wanted = list(before)

    def put(name, n, value):
        words = spec.words(name, value)
        wanted[spec.at(name, n) : spec.at(name, n) + len(words)] = words

    for n in range(1, CHANNELS + 1):
        if n not in wired:
            put("sensor", n, 0)
            put("alarm.high", n, "none")
            put("alarm.low", n, "none")
            continue
        label, _, kind, scale, high, low, delay = wired[n]
        put("sensor", n, CODES[kind])
        put("label", n, label)
        put("alarm.high", n, "none" if high is None else high)
        put("alarm.low", n, "none" if low is None else low)
        for name, value in scale.items():
            put(name, n, value)
        if high is not None or low is not None:
            put("alarm.delay", n, delay)
    assert device.holding == wanted
