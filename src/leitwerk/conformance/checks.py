"""What the conformance suite tries: names, each with a function that raises where something is wrong."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from functools import partial
from pathlib import Path

from leitwerk.check.compile import check_setup
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.devices.device import Device, open_device
from leitwerk.errors import FileProblem, LeitwerkError, LinkError, NoDeviceBehind
from leitwerk.links.options import LinkOptions
from leitwerk.parsing.address import LinkAddress, parse_address
from leitwerk.project.files import read_bytes
from leitwerk.project.library import find_datasheet, known_models, read_datasheet
from leitwerk.project.setups import parse_setup
from leitwerk.setup.limits import parse_limits
from leitwerk.setup.own_sensors import OwnSensor, parse_own_sensor
from leitwerk.setup.template import Template, TemplateParameter, parse_template
from leitwerk.setup.template_text import fill_in, renew_text

Check = Callable[[], object]
Checks = Iterator[tuple[str, Check]]
# For each protocol, an address that no device needs to answer.
_ADDRESSES = {
    "modbus": "modbus+tcp://127.0.0.1:502?unit=1", "scpi": "scpi+tcp://127.0.0.1:5025",
    "drive": "drive:///media/X", "mqtt": "mqtt+tcp://127.0.0.1:1883/x",
    "sdi12": "sdi12+serial:///dev/ttyUSB0?unit=0", "text": "text+serial:///dev/ttyUSB0",
}  # fmt: skip
_ANSWER_S = 0.5


def datasheet_checks(path: Path) -> Checks:
    """The checks of a datasheet: that it is read, and each setting with the values that it may hold."""
    yield "is read without errors", partial(read_datasheet, path)
    try:
        sheet = read_datasheet(path)
    except LeitwerkError:
        return
    for name, point in sheet.settings.items():
        if not point.read_only and not point.is_time:
            yield f"setting {name} keeps what it may hold", partial(_keeps, point)


def _keeps(point: Point) -> None:
    values = trial_values(point)
    _require(values, f"{point.name} has no value that could be tried")
    for value in values:
        held = point.storable(value)
        same = point.storable(held) == held
        _require(same, f"{point.name}: {value!r} is held as {held!r}, and not kept so")
        if isinstance(value, str):
            _require(held == value, f"{point.name}: {value!r} is held as {held!r}")
        elif isinstance(held, int | float):
            most = max(point.resolution, 1e-6 * abs(value), 1e-12)
            text = f"{point.name}: {value!r} is held as {held!r}, its step is {point.resolution}"
            _require(abs(held - value) <= most, text)


def _require(holds: object, message: str) -> None:
    """Fail with a message that says it all, where something does not hold."""
    if not holds:
        raise AssertionError(message)


def trial_values(point: Point) -> list[Stored]:
    """Values that a setting must be able to hold: each choice; a text; both ends of its span, the middle."""
    if point.choice_names:
        return list(point.choice_names)
    if point.is_text:
        return ["A", "A1"]
    low, high = point.limits or point.span()
    if not (math.isfinite(low) and math.isfinite(high)):
        low, high = max(low, -1e6), min(high, 1e6)
    tried = [low, high, low + (high - low) / 2.0]
    return [value for value in tried if not point.special_name(value)]


def limit_checks(path: Path) -> Checks:
    """The check of a limit set: reading it tries it with each choice and both ends of each span."""
    yield (
        "expands with all of its parameters",
        lambda: parse_limits(read_bytes(path), file=str(path)),
    )


def sensor_checks(path: Path) -> Checks:
    """The checks of a sensor: that it is read, and fits a device with each of its serial numbers."""
    yield "is read without errors", partial(_sensor, path)
    try:
        own = _sensor(path)
    except LeitwerkError:
        return
    yield "makes a channel without errors on some model", partial(_fits, own, "")
    for serial in own.pieces:
        yield f"serial number {serial} makes a channel without errors", partial(_fits, own, serial)


def _sensor(path: Path) -> OwnSensor:
    return parse_own_sensor(read_bytes(path), file=str(path))


def _fits(own: OwnSensor, serial: str) -> None:
    """On some model with terminals, a channel with the sensor has no errors."""
    said: list[str] = []
    for model in known_models(Path(own.file).parent):
        sheet = find_datasheet(model, Path(own.file).parent)
        for terminal in dict.fromkeys(t.name for t in list(sheet.terminals.values())[:12]):
            more = f"\n    sensor_serial: {serial}" if serial else ""
            text = (
                f"leitwerk: 1\ntitle: trial\ndevice: {{model: {model}, at: '{_address(sheet)}', serial: X}}\n"
                f"sample: every 10 s\nchannels:\n  trial:\n    terminal: {terminal}\n"
                f"    sensor: {own.name}{more}\n"
            )
            setup = parse_setup(text, folder=Path(own.file).parent)
            errors = [
                f for f in check_setup(setup, sheet).findings if f.is_error and f.channel == "trial"
            ]
            if not errors:
                return
            said.append(f"{model}, terminal {terminal}: {errors[0].message}")
    raise AssertionError("no model can measure it: " + "; ".join(said[:6]))


def _address(sheet: Datasheet) -> str:
    return _ADDRESSES.get(sheet.link, f"{sheet.link}+tcp://127.0.0.1:1")


def template_checks(path: Path) -> Checks:
    """The checks of a template: filled in with each choice, the ends of each span, each number of repeats."""
    yield "is read without errors", partial(_template, path)
    try:
        template = _template(path)
    except LeitwerkError:
        return
    for model in template.entry.fits:
        yield f"{model}: with its defaults", partial(_fills, template, model, {})
        for name, parameter in template.entry.parameters.items():
            for value in _values(parameter):
                yield f"{model}: {name} = {value}", partial(_fills, template, model, {name: value})


def _template(path: Path) -> Template:
    return parse_template(read_bytes(path), file=str(path))


def _values(parameter: TemplateParameter) -> list[str]:
    if parameter.choices:
        return list(parameter.choices)
    if parameter.text is not None:
        return [
            text[: parameter.text].strip()
            for text in ("a", "7: 'north' #2, [new] \"x\" {y} %z " * 7)
        ]
    span = parameter.span or parameter.repeats
    assert span is not None
    if parameter.repeats is not None:
        return [str(number) for number in range(int(span.low), int(span.high) + 1)]
    unit = f" {span.unit.symbol}" if span.unit is not None else ""
    return [f"{end:.12g}{unit}" for end in (span.low, span.high)]


def _fills(template: Template, model: str, values: Mapping[str, str]) -> None:
    folder = Path(template.file).parent
    sheet = find_datasheet(model, folder)
    device = {"model": model, "at": _address(sheet), "serial": "X"}
    made = fill_in(template, values, device)
    setup = parse_setup(made.text, file=template.file, folder=folder)
    errors = [finding for finding in check_setup(setup, sheet).findings if finding.is_error]
    _require(not errors, "\n".join(map(str, errors[:5])))
    again, changes = renew_text(made.text, made.text, made.text)
    _require((again, changes) == (made.text, []), "filled in anew, it changes something")


def link_checks(address: str, model: str) -> Checks:
    """The checks of a link to a device that is there; nothing is written."""
    yield (
        "the device says twice alike who it is",
        partial(_twice, address, model, lambda d: d.identify()),
    )
    yield (
        "its settings are read twice alike",
        partial(_twice, address, model, lambda d: d.read_settings()),
    )
    yield (
        "its readings are read twice",
        partial(_twice, address, model, lambda d: len(d.readings())),
    )
    if (other := _other(parse_address(address))) is not None:
        what = f"{other}, where nothing is to answer, ends in an error in time"
        yield what, partial(_in_time, other, model)


def _other(address: LinkAddress) -> LinkAddress | None:
    """An address beside one where no device is to answer: another unit, or another port of the host."""
    if isinstance(address.unit, int):
        return replace(address, unit=address.unit % 200 + 41)
    return replace(address, port=9) if address.host else None


def _opened(address: LinkAddress, model: str, timeout_s: float = 2.0) -> Device:
    return open_device(find_datasheet(model), address, link=LinkOptions(timeout_s, 0))


def _twice(address: str, model: str, read: Callable[[Device], object]) -> None:
    found = []
    for _ in range(2):
        with _opened(parse_address(address), model) as device:
            found.append(read(device))
    _require(found[0] == found[1], f"read twice, it is {found[0]!r} and {found[1]!r}")


def _in_time(other: LinkAddress, model: str) -> None:
    begun = time.monotonic()
    try:
        with _opened(other, model, _ANSWER_S) as device:
            device.identify()
    except LeitwerkError as error:
        took = time.monotonic() - begun
        named = isinstance(error, LinkError | NoDeviceBehind)
        _require(
            named, f"it ends in {type(error).__name__}, which does not say that it was not reached"
        )
        _require(took < 10 * _ANSWER_S, f"it took {took:.1f} s, with {_ANSWER_S} s for each answer")
    else:
        raise AssertionError(f"something answers at {other}")


def kind_of(path: Path) -> Callable[[Path], Checks] | None:
    """The checks that a file is for; None for a file of another kind."""
    try:
        lines = read_bytes(path).decode("utf-8", "replace").splitlines()[:60]
    except FileProblem:
        return None
    for first, checks in _KINDS.items():
        if any(line.startswith(first) for line in lines):
            return checks
    return None


_KINDS: dict[str, Callable[[Path], Checks]] = {
    "datasheet: 1": datasheet_checks,
    "limits: 1": limit_checks,
    "sensor: 1": sensor_checks,
    "template: 1": template_checks,
}
