"""The check of the section 'sound', and what follows: evaluations, and the verdict of a calibrator."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from leitwerk.check.settings import Wanted, cleared_parts
from leitwerk.check.standard_channels import with_channels
from leitwerk.check.timing import clock_text
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import (
    AUDIO_LENGTH,
    BAND_LEVEL,
    BANDS_EVALUATION,
    BANDS_FILTER,
    ERASE_BACK_LENGTH,
    EVALUATION_NAME,
    EVALUATION_PEAK,
    EVALUATION_STORES,
    EVALUATION_TIME,
    EVALUATION_WEIGHTING,
    INTEGRATION_TIME,
    OF_EVALUATION,
    RANGE_LOWER,
    RANGE_UPPER,
    START_LEVEL,
    START_MODE,
    START_TIME,
)
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import Quantity, parse_quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.results import Outcome
from leitwerk.setup.model import Setup
from leitwerk.setup.sound import CalibratorEntry, EvaluationEntry, Sound
from leitwerk.sound.evaluation import Evaluation, require_correction
from leitwerk.sound.mid_frequencies import bands_between

_TIMES = {"fast": "F", "slow": "S", "impulse": "I", "none": ""}
_DB, _HZ = "dB", parse_unit("Hz")
BANDS_OF_DEVICES = (25.0, 20_000.0)  # mid frequencies of the lowest and the highest, in Hz


@dataclass(frozen=True)
class Calibrated:
    """What a calibrator showed before and after: whether the measurement between can be trusted."""

    outcome: Outcome
    reasons: tuple[str, ...]

    def __str__(self) -> str:
        return f"calibrator {self.outcome}" + "".join(f": {reason}" for reason in self.reasons)


def check_sound(setup: Setup, findings: Findings) -> None:
    """Whether the evaluations of a setup can be worked."""
    sound = setup.sound
    if sound is None:
        return
    path = ("sound",)
    if not sound.evaluations:
        findings.error("no-evaluation", (*path, "evaluations"), "nothing is evaluated",
                       valid="main: {weighting: A, time: fast}")  # fmt: skip
    for name, entry in sound.evaluations.items():
        _check_evaluation(name, entry, (*path, "evaluations", name), findings)
    if not 0.01 <= sound.integration.seconds <= 3600.0:
        findings.error("intervals-do-not-fit", (*path, "integration"),
                       f"{sound.integration} is no integration time", valid="10 ms to 1 h")  # fmt: skip
    if sound.range is not None and str(sound.range.unit) != _DB:
        findings.error("wrong-unit", (*path, "range"), f"{sound.range} is no range of levels",
                       valid="30..120 dB")  # fmt: skip
    for name in sound.corrections:
        try:
            require_correction(correction_of(sound, name))
        except QuantityError as error:
            findings.error("bad-value", (*path, "corrections", name), error.message, at_key=True,
                           valid=error.valid)  # fmt: skip
    if sound.calibrator is not None:
        _check_calibrator(sound.calibrator, (*path, "calibrator"), findings)


def with_sound(setup: Setup, datasheet: Datasheet, findings: Findings) -> Setup:
    """The setup with the channels of its evaluations; what its file says of them counts."""
    sound = setup.sound
    places = _places(datasheet)
    if sound is None or not places:
        return setup
    if len(sound.evaluations) > len(places):
        name = [*sound.evaluations][len(places)]
        findings.error(
            "too-many-evaluations", ("sound", "evaluations", name),
            f"{datasheet.model} has {len(places)} evaluations, this setup has {len(sound.evaluations)}",
            at_key=True, valid=f"at most {len(places)}",
        )  # fmt: skip
        return setup
    standard = {}
    for k, (name, entry) in zip(places, sound.evaluations.items(), strict=False):
        has = {"equivalent": True, "peak": entry.peak == "yes"}
        has |= dict.fromkeys(("maximum", "minimum"), entry.time != "none")
        for what, known in OF_EVALUATION.items():
            if has[what] and datasheet.has(known):
                standard[f"{name}_{what}"] = known.at(k), f"{name}, {what} level"
    banded = _banded(sound, datasheet)
    if banded is not None:
        name, _, entry = banded
        every = bands_between(entry.bands, *BANDS_OF_DEVICES)
        wanted = bands_between(entry.bands, *_ends(entry))
        if outside := [band.nominal_hz for band in wanted if band not in every]:
            findings.error(
                "bad-value", ("sound", "evaluations", name, "lowest" if outside[0] < 1e3 else "highest"),
                f"{datasheet.model} has no band of {outside[0]:g} Hz of a {entry.bands}",
                valid=f"{every[0].nominal_hz:g} Hz to {every[-1].nominal_hz:g} Hz",
            )  # fmt: skip
        for band in (band for band in wanted if band in every):
            number, hertz = every.index(band) + 1, f"{band.nominal_hz:g}"
            channel = f"{name}_band_{hertz.replace('.', '_')}_Hz"
            standard[channel] = BAND_LEVEL.at(number), f"{name}, band of {hertz} Hz"
    return with_channels(setup, standard)


def _banded(sound: Sound, datasheet: Datasheet) -> tuple[str, int, EvaluationEntry] | None:
    """The evaluation whose bands the device has: the first one, as it has one filter."""
    if not datasheet.has(BANDS_FILTER):
        return None
    places = zip(_places(datasheet), sound.evaluations.items(), strict=False)
    found = next(((name, k, e) for k, (name, e) in places if e.bands != "none"), None)
    try:
        return found if found and bands_between(found[2].bands, *_ends(found[2])) else None
    except QuantityError:
        return None  # the check of the section has said so


def sound_settings(setup: Setup, datasheet: Datasheet, findings: Findings) -> Iterator[Wanted]:
    """The settings of the device that the evaluations ask for."""
    sound, places = setup.sound, _places(datasheet)
    if sound is None or not places:
        return
    if datasheet.has(INTEGRATION_TIME):
        yield Wanted(
            INTEGRATION_TIME, None, sound.integration.seconds, ("sound", "integration"), "s"
        )
    if sound.range is not None:
        low, high = sorted((sound.range.low, sound.range.high))
        for known, end in ((RANGE_LOWER, low), (RANGE_UPPER, high)):
            yield Wanted(known, None, end, ("sound", "range"), _DB)
    used = list(zip(places, sound.evaluations.items(), strict=False))
    for k, (name, entry) in used:
        path = ("sound", "evaluations", name)
        yield Wanted(EVALUATION_NAME, k, name, path)
        yield Wanted(EVALUATION_WEIGHTING, k, entry.weighting, (*path, "weighting"))
        yield Wanted(EVALUATION_TIME, k, entry.time, (*path, "time"))
        if entry.peak == "yes" or datasheet.has(EVALUATION_PEAK):
            yield Wanted(EVALUATION_PEAK, k, entry.peak, (*path, "peak"))
        typed = "stores" in entry.model_fields_set
        if typed or datasheet.has(EVALUATION_STORES):
            yield Wanted(EVALUATION_STORES, k, entry.stores, (*path, "stores") if typed else ())
    yield from cleared_parts(EVALUATION_WEIGHTING, places[len(used) :], datasheet)
    yield from _of_bands(sound, datasheet)
    yield from _of_recording(setup, sound, datasheet, findings)


def _of_bands(sound: Sound, datasheet: Datasheet) -> Iterator[Wanted]:
    banded = _banded(sound, datasheet)
    if banded is not None:
        name, k, entry = banded
        path = ("sound", "evaluations", name, "bands")
        yield Wanted(BANDS_FILTER, None, entry.bands, path)
        yield Wanted(BANDS_EVALUATION, None, float(k), path)
    elif datasheet.has(BANDS_FILTER):
        yield Wanted(BANDS_FILTER, None, str(BANDS_FILTER.cleared), ())


def _of_recording(
    setup: Setup, sound: Sound, datasheet: Datasheet, findings: Findings
) -> Iterator[Wanted]:
    """When a recording begins, and what it keeps besides levels; what is not typed is set as well."""
    start, path = sound.start, ("sound", "start") if "start" in sound.model_fields_set else ()
    at_once, at_time, above = START_MODE.choices
    if path or datasheet.has(START_MODE):
        mode = at_time if start.at else above if start.above_db is not None else at_once
        yield Wanted(START_MODE, None, mode, path)
    begins = start.at and clock_text(start.at, setup, datasheet, path, findings)
    if begins:
        yield Wanted(START_TIME, None, begins, path)
    if start.above_db is not None:
        yield Wanted(START_LEVEL, None, start.above_db, path, _DB)
    for key, known, length in (
        ("audio", AUDIO_LENGTH, sound.audio),
        ("erase_back", ERASE_BACK_LENGTH, sound.erase_back),
    ):
        if length is not None:
            yield Wanted(known, None, length.seconds, ("sound", key), "s")
    if sound.audio is None and datasheet.has(AUDIO_LENGTH):
        yield Wanted(AUDIO_LENGTH, None, 0.0, ())


def _places(datasheet: Datasheet) -> tuple[int, ...]:
    """The numbers of the evaluations that a model has."""
    family = datasheet.family(EVALUATION_WEIGHTING)
    return () if family is None else tuple(family.indices)


def _check_evaluation(name: str, entry: EvaluationEntry, path: KeyPath, findings: Findings) -> None:
    for number, text in enumerate(entry.percentiles):
        if _percent(text) is None:
            findings.error("bad-value", (*path, "percentiles", str(number)),
                           f"{text[:20]!r} is no part of the time", valid="1 to 99")  # fmt: skip
    for key in ("lowest", "highest"):
        quantity = getattr(entry, key)
        if quantity.unit is None or quantity.unit.dimension != "frequency":
            findings.error("wrong-unit", (*path, key), f"{quantity} is no frequency",
                           valid="63 Hz, 8 kHz")  # fmt: skip
            return
    try:
        evaluation_of(name, entry)
        if entry.bands != "none":
            bands_between(entry.bands, *_ends(entry))
    except QuantityError as error:
        findings.error("bad-value", path, error.message, at_key=True, valid=error.valid)


def _check_calibrator(entry: CalibratorEntry, path: KeyPath, findings: Findings) -> None:
    for key in ("level", "correction", "before", "after", "drift"):
        quantity = getattr(entry, key)
        if quantity is not None and str(quantity.unit) != _DB:
            findings.error("wrong-unit", (*path, key), f"{key}: {quantity} is no level",
                           valid="a number of dB")  # fmt: skip


def correction_of(sound: Sound, name: str) -> dict[float, float]:
    """A correction of a setup: the level in dB that is added at each frequency in Hz.

    Raises
    ------
    QuantityError
        A frequency or a level is none.

    """
    found = {}
    for text, level in sound.corrections[name].items():
        if str(level.unit) != _DB:
            raise QuantityError(f"{level} is no level", valid="{4 kHz: 0.3 dB}")
        found[parse_quantity(text).value_in(_HZ)] = float(level.value)
    return found


def _percent(text: str) -> float | None:
    try:
        found = parse_quantity(text)
    except QuantityError:
        return None
    is_share = str(found.unit or "%") == "%" and 1.0 <= found.value <= 99.0
    return found.value if is_share else None


def _ends(entry: EvaluationEntry) -> tuple[float, float]:
    return entry.lowest.value_in(_HZ), entry.highest.value_in(_HZ)


def evaluation_of(name: str, entry: EvaluationEntry) -> Evaluation:
    """An evaluation of a setup, as the meter works it."""
    low, high = _ends(entry)
    return Evaluation(
        name,
        entry.weighting,
        _TIMES[entry.time],
        tuple(p for text in entry.percentiles if (p := _percent(text)) is not None),
        entry.peak == "yes",
        "" if entry.bands == "none" else entry.bands,
        low,
        high,
    )


def judge_calibrator(sound: Sound) -> Calibrated:
    """Whether the meter showed the level of the calibrator before and after, and the same both times.

    Without it, or with one reading only, that is unknown: levels stand as they are, and are marked.

    References
    ----------
    IEC 61672-1:2013, 5.2 (calibration check frequency); ISO 9612:2009, 12.2: 0.5 dB between both.

    """
    entry = sound.calibrator
    if entry is None:
        return Calibrated(Outcome.UNKNOWN, ("no calibrator: the levels were not verified",))
    nominal, drift = _level(entry.level) + _level(entry.correction), _level(entry.drift)
    missing = [key for key in ("before", "after") if getattr(entry, key) is None]
    reasons = [f"what it showed {key} is missing" for key in missing]
    wrong = []
    for key in ("before", "after"):
        shown = getattr(entry, key)
        if shown is not None and abs(_level(shown) - nominal) > drift + 1e-9:
            wrong.append(f"{key}: {shown} where {nominal:.2f} dB are right, ± {entry.drift}")
    if entry.before is not None and entry.after is not None:
        moved = _level(entry.after) - _level(entry.before)
        if abs(moved) > drift + 1e-9:
            wrong.append(f"it moved by {moved:+.2f} dB, at most {entry.drift} are allowed")
    if wrong:
        return Calibrated(Outcome.FAILED, tuple(wrong))
    return Calibrated(Outcome.UNKNOWN if reasons else Outcome.PASSED, tuple(reasons))


def _level(quantity: Quantity) -> float:
    return float(quantity.value)
