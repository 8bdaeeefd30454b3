"""Needs: what a measuring job asks of a device, and why a model does or does not meet it."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from leitwerk.datasheet.model import Datasheet, Terminal
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import Span, format_number, parse_span
from leitwerk.parsing.units import Unit, parse_unit
from leitwerk.signals.sensors import SENSORS

_COUNTED = re.compile(r"(\d{1,4})\s*[x×]?\s+(\S.*)")
_PROTECTION = re.compile(r"IP([0-6X])([0-9X])")
_MOST = 1000  # inputs of one kind: more has no device


@dataclass(frozen=True, slots=True)
class Counted:
    """A number of one kind: ``4 Pt100``, ``2 4..20 mA``, ``1 contact``, ``2 relay``."""

    count: int
    kind: str

    def __str__(self) -> str:
        return f"{self.count} {self.kind}"


@dataclass(frozen=True)
class Needs:
    """What is needed. None, 0 and empty: not asked.

    Attributes
    ----------
    inputs : a number of each kind
        A sensor (``Pt100``, ``type K``), a kind of input (``current``), a span of signal
        (``4..20 mA``), or the unit of something that the device measures by itself (``dB``).
    outputs : a number of each kind
        As datasheets name them: ``relay``, ``4..20 mA``.
    interval_s, keep_s : float, in s
        How often to sample, and for how long the memory must last at that.
    alarms : int
    surroundings_c : low and high, in °C
    protection : str
        Degree of protection (IEC 60529), such as ``IP54``.

    """

    inputs: tuple[Counted, ...] = ()
    outputs: tuple[Counted, ...] = ()
    interval_s: float | None = None
    keep_s: float | None = None
    alarms: int = 0
    surroundings_c: tuple[float, float] | None = None
    protection: str = ""


def parse_counted(text: str) -> Counted:
    """A number of one kind, from a text.

    Raises
    ------
    QuantityError
        The text is nothing of the kind.

    Examples
    --------
    >>> parse_counted("4 Pt100")
    Counted(count=4, kind='Pt100')

    """
    match = _COUNTED.fullmatch(text.strip())
    if match is None or not 1 <= int(match[1]) <= _MOST:
        raise QuantityError(
            f"{text[:60]!r} does not say how many of what",
            valid="4 Pt100, 2 type K, 1 4..20 mA, 2 contact, 1 dB",
        )
    return Counted(int(match[1]), match[2].strip())


def parse_protection(text: str) -> str:
    """A degree of protection, from a text.

    Raises
    ------
    QuantityError
        The text is not valid.

    """
    if not _PROTECTION.fullmatch(text.strip().upper()):
        raise QuantityError(
            f"{text[:20]!r} is not a degree of protection", valid="IP54, IP67, IPX4"
        )
    return text.strip().upper()


def unmet_needs(needs: Needs, datasheet: Datasheet) -> list[str]:
    """What stands against a model, in words; empty when it meets all needs.

    Raises
    ------
    QuantityError
        A kind of input is not known.

    """
    return [
        *_inputs(needs.inputs, datasheet),
        *_outputs(needs.outputs, datasheet),
        *_timing(needs, datasheet),
        *_surroundings(needs, datasheet),
    ]


def require_known(needs: Needs, datasheets: Sequence[Datasheet]) -> None:
    """Insist that kinds of input and output are such that a model could have them.

    Raises
    ------
    QuantityError
        One is not; the nearest are named.

    """
    quantities = {name for sheet in datasheets for name in (*sheet.inputs, *sheet.own_readings)}
    kinds = sorted({name.partition(",")[0] for name in SENSORS} | quantities)
    for counted in needs.inputs:
        known = counted.kind.casefold() in {kind.casefold() for kind in kinds}
        if not known and _span(counted.kind) is None and not _is_unit(counted.kind):
            near = difflib.get_close_matches(counted.kind[:60], kinds, n=3)
            raise QuantityError(
                f"{counted.kind[:60]!r} is not a kind of input",
                valid=f"{', '.join(near or kinds[:12])}; a span of signal; or a unit",
            )
    outputs = sorted({name for sheet in datasheets for name in sheet.outputs})
    for counted in needs.outputs:
        if counted.kind.casefold() not in {name.casefold() for name in outputs}:
            message = f"{counted.kind[:60]!r} is not a kind of output"
            raise QuantityError(message, valid=", ".join(outputs))


def _is_unit(text: str) -> bool:
    try:
        parse_unit(text)
    except QuantityError:
        return False
    return True


# ---------------------------------------------------------------------- inputs


def _inputs(inputs: Sequence[Counted], sheet: Datasheet) -> list[str]:
    reasons, wanted = [], []
    for counted in inputs:
        fits = _fitting(counted.kind, sheet)
        own = _own_readings(counted.kind, sheet)
        terminals = [t for t in sheet.terminals.values() if fits(t)]
        if len(terminals) + own < counted.count:
            has = len(terminals) + own
            reasons.append(f"it has {has or 'no'} input{'s' * (has != 1)} for {counted.kind}")
        else:
            wanted += [[t.name for t in terminals]] * (counted.count - own)
    if not reasons and (short := len(wanted) - _matched(wanted)):
        reasons.append(f"its terminals do not suffice for all of them together: {short} too few")
    if sum(c.count for c in inputs) > sheet.limits.channels:
        reasons.append(f"it keeps {sheet.limits.channels} channels")
    return reasons


def _fitting(kind: str, sheet: Datasheet) -> Callable[[Terminal], bool]:
    """Whether a terminal can take a kind of input."""
    quantities = {name for name, entry in sheet.inputs.items() if _input_takes(kind, name, entry)}
    sensors = [name for name in SENSORS if _names_sensor(kind, name)]
    known = [SENSORS[name].quantity for name in sensors if name in sheet.sensors]
    if sensors:
        # A curve that the device has not is worked by Leitwerk, but the signal it must take.
        quantities |= set(known or {SENSORS[name].quantity for name in sensors})
        quantities &= set(sheet.inputs)
    return lambda terminal: bool(quantities & set(terminal.takes))


def _names_sensor(kind: str, name: str) -> bool:
    return name.casefold() == kind.casefold() or name.casefold().startswith(f"{kind.casefold()},")


def _input_takes(kind: str, name: str, entry: object) -> bool:
    if kind.casefold() == name.casefold():
        return True
    span = _span(kind)
    ranges = getattr(entry, "ranges", ())
    unit: Unit = getattr(entry, "unit", parse_unit(""))
    if span is None or not ranges or span.unit is None or span.unit.dimension != unit.dimension:
        return False
    return any(r.holds(*span.ends_in(unit)) for r in ranges)


def _span(text: str) -> Span | None:
    try:
        return parse_span(text)
    except QuantityError:
        return None


def _own_readings(kind: str, sheet: Datasheet) -> int:
    """How many things of a unit the device measures by itself."""
    try:
        dimension = parse_unit(kind).dimension
    except QuantityError:
        return sum(kind.casefold() == name.casefold() for name in sheet.own_readings)
    return sum(
        parse_unit(point.unit).dimension == dimension
        for point in sheet.own_readings.values()
        if not point.choice_names and point.unit not in {"channel", "signal", ""}
    )


def _matched(wanted: Sequence[Sequence[str]]) -> int:
    """How many can have a terminal of their own at the same time (a matching of most edges)."""
    holder: dict[str, int] = {}

    def place(k: int, tried: set[str]) -> bool:
        for terminal in wanted[k]:
            if terminal in tried:
                continue
            tried.add(terminal)
            # Free, or the one that has it can move elsewhere.
            if terminal not in holder or place(holder[terminal], tried):
                holder[terminal] = k
                return True
        return False

    return sum(place(k, set()) for k in range(len(wanted)))


# ---------------------------------------------------------------------- the rest


def _outputs(outputs: Sequence[Counted], sheet: Datasheet) -> list[str]:
    reasons = []
    for counted in outputs:
        has = sum(
            n for name, n in sheet.outputs.items() if name.casefold() == counted.kind.casefold()
        )
        if has < counted.count:
            reasons.append(f"it has {has or 'no'} {counted.kind} output{'s' * (has != 1)}")
    return reasons


def _timing(needs: Needs, sheet: Datasheet) -> list[str]:
    reasons = []
    interval, span = needs.interval_s, sheet.limits.interval_s
    if interval is not None and span is not None and not span[0] <= interval <= span[1]:
        low, high = (format_number(end) for end in span)
        reasons.append(f"it samples every {low} s to {high} s")
    if needs.keep_s is not None:
        rows = (
            sheet.memory.rows_of(sum(i.count for i in needs.inputs) or 1) if sheet.memory else 0.0
        )
        if rows == 0:
            reasons.append("it keeps nothing by itself")
        elif interval is None:
            raise QuantityError(
                "how long a memory lasts depends on the interval", valid="an interval as well"
            )
        elif rows * interval < needs.keep_s:
            lasts = format_number(round(rows * interval / 3600.0, 1))
            reasons.append(f"its memory lasts {lasts} h at this interval")
    if needs.alarms > sheet.limits.alarms:
        reasons.append(f"it has {sheet.limits.alarms or 'no'} alarms")
    return reasons


def _surroundings(needs: Needs, sheet: Datasheet) -> list[str]:
    reasons = []
    if needs.surroundings_c is not None:
        if sheet.surroundings.temperature_c is None:
            reasons.append("its datasheet does not say what temperatures it stands")
        else:
            low, high = sheet.surroundings.temperature_c
            if needs.surroundings_c[0] < low or needs.surroundings_c[1] > high:
                reasons.append(f"it stands {format_number(low)} to {format_number(high)} °C")
    if needs.protection and not _protects(sheet.surroundings.protection, needs.protection):
        reasons.append(f"its protection is {sheet.surroundings.protection or 'not given'}")
    return reasons


def _protects(has: str, needs: str) -> bool:
    found, asked = _PROTECTION.fullmatch(has), _PROTECTION.fullmatch(needs)
    if found is None or asked is None:
        return False
    # X: not asked for, or not stated.
    return all(
        want == "X" or (got != "X" and int(got) >= int(want))
        for got, want in zip(found.groups(), asked.groups(), strict=True)
    )
