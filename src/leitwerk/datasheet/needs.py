"""Needs: what a measuring job asks of a device, and why a model does or does not meet it."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from leitwerk.datasheet.model import Datasheet, Terminal
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import Span, format_number, parse_quantity, parse_span
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


def parse_needs(words: str) -> Needs:
    """Needs in words: phrases with commas between them.

    Known are numbers of a kind of input or part (``4 Pt100``, ``6 buttons``), of outputs (``2 relays``, ``1
    4..20 mA output``), ``every 10 s``, ``memory for 7 d``, ``4 alarms``, temperatures around it (``-20..40
    °C``), and a degree of protection (``IP54``).

    Raises
    ------
    QuantityError
        A phrase is not understood.

    Examples
    --------
    >>> needs = parse_needs("6 buttons, 2 relays, IP54")
    >>> needs.inputs, needs.outputs, needs.protection
    ((Counted(count=6, kind='button'),), (Counted(count=2, kind='relay'),), 'IP54')

    """
    needs = Needs()
    for phrase in filter(None, (part.strip() for part in words.split(","))):
        needs = _with_phrase(needs, phrase)
    return needs


_WITH_TIME = re.compile(r"(every|memory for|for)\s+(\S.*)")
_OUTPUT = re.compile(r"(.*\S)\s+outputs?|(\d{1,4}\s+relays?)")


def _with_phrase(needs: Needs, phrase: str) -> Needs:
    """Needs with one phrase more."""
    if _PROTECTION.fullmatch(phrase.upper()):
        return replace(needs, protection=parse_protection(phrase))
    if timed := _WITH_TIME.fullmatch(phrase):
        seconds = parse_quantity(timed[2]).value_in(parse_unit("s"))
        key = "interval_s" if timed[1] == "every" else "keep_s"
        return replace(needs, **{key: seconds})  # type: ignore[arg-type]
    span = _span(phrase)
    if span is not None and span.unit is not None:
        low, high = sorted(span.ends_in(parse_unit("°C")))
        return replace(needs, surroundings_c=(low, high))
    if output := _OUTPUT.fullmatch(phrase):
        counted = _singular(parse_counted(output[1] or output[2]))
        return replace(needs, outputs=(*needs.outputs, counted))
    counted = _singular(parse_counted(phrase))
    if counted.kind == "alarm":
        return replace(needs, alarms=counted.count)
    return replace(needs, inputs=(*needs.inputs, counted))


def _singular(counted: Counted) -> Counted:
    """Of more than one, words have an s at their end."""
    kind = counted.kind
    is_word = kind.isalpha() and len(kind) > 3 and kind.endswith("s")
    return Counted(counted.count, kind[:-1]) if is_word else counted


def single_needs(needs: Needs) -> list[tuple[str, Needs]]:
    """Each need by itself, with a short name."""
    found = [(str(one), Needs(inputs=(one,))) for one in needs.inputs]
    found += [(f"{one} output", Needs(outputs=(one,))) for one in needs.outputs]
    if needs.interval_s is not None:
        found.append(
            (f"every {format_number(needs.interval_s)} s", Needs(interval_s=needs.interval_s))
        )
    if needs.keep_s is not None:
        whole = Needs(inputs=needs.inputs, interval_s=needs.interval_s, keep_s=needs.keep_s)
        found.append((f"memory for {format_number(needs.keep_s / 3600.0)} h", whole))
    if needs.alarms:
        found.append((f"{needs.alarms} alarms", Needs(alarms=needs.alarms)))
    if needs.surroundings_c is not None:
        low, high = map(format_number, needs.surroundings_c)
        found.append((f"{low}..{high} °C", Needs(surroundings_c=needs.surroundings_c)))
    if needs.protection:
        found.append((needs.protection, Needs(protection=needs.protection)))
    return found


def parts_of(kind: str, sheet: Datasheet) -> int:
    """How many parts of a kind a model has: buttons, places, carriers, by the names of its points."""
    head = f"{kind.casefold()}."
    counts = [
        len(family.indices)
        for group in ("settings", "readings")
        for name, family in sheet.groups[group].items()
        if name.startswith(head) and "{" in name
    ]
    return max(counts, default=0)


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
        known = known or any(parts_of(counted.kind, sheet) for sheet in datasheets)
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
        named = sum(kind.casefold() == name.casefold() for name in sheet.own_readings)
        return max(named, parts_of(kind, sheet))
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
