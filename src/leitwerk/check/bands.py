"""Checking bands: borders that rise, no gaps or overlaps, no more than the device takes."""

from __future__ import annotations

import math
from collections.abc import Sequence

from leitwerk.alarms.bands import BandPart, Bands
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import BAND_END
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import Quantity, format_value
from leitwerk.parsing.units import Unit, convert_difference
from leitwerk.setup.model import Channel


def channel_bands(channel: Channel, unit: Unit, path: KeyPath, findings: Findings) -> Bands | None:
    """The bands of a channel in its unit, None when it has none; what is wrong is a finding."""
    if not channel.bands:
        return None
    place = (*path, "bands")
    hysteresis = _hysteresis(channel.band_hysteresis, unit, path, findings)
    parts: list[BandPart] = []
    names = list(channel.bands)
    for name, band in channel.bands.items():
        here = (*place, name)
        before = parts[-1] if parts else None
        try:
            end = math.inf if band.to is None else band.to.value_in(unit)
            start = before.end if before else -math.inf
            if band.start is not None:
                start = band.start.value_in(unit)
        except QuantityError as error:
            findings.error("wrong-unit", here, f"band {name}: {error.message}", valid=error.valid)
            continue
        if band.to is None and name != names[-1] and not findings.mentions((*here, "to")):
            message = f"band {name} has no end, and is not the last"
            findings.error("band-order", here, message, at_key=True, remedy="add 'to: …'")
            continue
        if start >= end:
            low, high = format_value(start, unit), format_value(end, unit)
            message = f"band {name} begins at {low} and ends at {high}"
            findings.error("band-order", here, message, at_key=True, valid=f"to: above {low}")
            continue
        if before is not None:
            _check_seam(before, name, start, unit, here, findings)
        if end - start <= hysteresis:
            message = f"band {name} is no wider than the hysteresis: from above it is never shown"
            findings.warning("band-narrow", here, message, at_key=True)
        parts.append(BandPart(name, start, end, band.text or name, band.color or ""))
    return Bands(tuple(parts), hysteresis)


def _check_seam(
    before: BandPart, name: str, start: float, unit: Unit, here: KeyPath, findings: Findings
) -> None:
    at, end = format_value(start, unit), format_value(before.end, unit)
    if start < before.end:
        message = f"band {name} begins at {at}, before {before.name} ends at {end}"
        findings.error("band-overlap", (*here, "start"), message, valid=f"{end}, or no 'start'")
    elif start > before.end:
        findings.warning(
            "band-gap",
            (*here, "start"),
            f"between {end} and {at} lies no band",
            remedy="if that is meant, put a band of the colour grey there; else remove 'start'",
        )


def _hysteresis(typed: Quantity | None, unit: Unit, path: KeyPath, findings: Findings) -> float:
    if typed is None:
        return 0.0
    try:
        found = typed.value
        if typed.unit is not None:
            found = convert_difference(found, typed.unit, unit)
    except QuantityError as error:
        findings.error("wrong-unit", (*path, "band_hysteresis"), error.message, valid=error.valid)
        return 0.0
    if found < 0:
        message = f"a hysteresis of {typed} is negative"
        findings.error("bad-value", (*path, "band_hysteresis"), message, valid="0 or more")
        return 0.0
    return found


def check_band_count(
    channels: Sequence[tuple[str, Bands]], datasheet: Datasheet, findings: Findings
) -> None:
    """Whether the device takes as many bands as the first of these channels has."""
    family = datasheet.family(BAND_END)
    if family is None or not channels:
        return
    (name, bands), most = channels[0], len(family.indices)
    if len(bands.parts) > most:
        findings.error(
            "too-many-bands",
            ("channels", name, "bands"),
            f"{datasheet.model} takes {most} bands, this channel has {len(bands.parts)}",
            at_key=True,
            valid=f"at most {most} bands",
        )
