"""The setup for the other end of an exchange: what the device says becomes channels there."""

from __future__ import annotations

from typing import Any

from leitwerk.check.channels import CheckedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.exchanges import CheckedExchange
from leitwerk.exchange.characters import name_characters
from leitwerk.exchange.definition import Direction, Form, LineForm, Part
from leitwerk.exchange.terms import Kind, Manner, Spaces
from leitwerk.parsing.yaml_text import Map

_WAY = Direction()
_FORM = Form(Kind.NUMBER)
# What of a channel is as true at the other end as at this one.
_CARRIED = ("label", "expect", "alarms", "bands", "band_hysteresis")


def mirror_setup(
    checked: CheckedSetup, found: CheckedExchange, at: str, model: str
) -> dict[str, Any]:
    """A setup for the other end, as plain groups of keys.

    Parameters
    ----------
    checked : CheckedSetup
        The setup of the device.
    found : CheckedExchange
        One of its exchanges.
    at : str
        The address at which the other end hears the device: ``talk+serial:///dev/ttyUSB0``.
    model : str
        The model of devices that are known by what they say.

    """
    exchange = found.exchange
    manner = Manner.MACHINES if exchange.manner is Manner.PEOPLE else exchange.manner
    lines = exchange.understands.lines
    asked = {x.answer.message: x.name for x in lines if not x.parts and x.answer.message}
    entry: dict[str, Any] = {"partner": checked.setup.title, "manner": manner.value}
    if exchange.address:
        entry["address"] = exchange.address
    messages = {line.name: _message(line, asked) for line in exchange.understands.lines}
    keywords = {line.name: _keyword(line) for line in exchange.says.lines}
    entry["says"] = {**_direction(exchange.understands), "messages": messages}
    entry["understands"] = {**_direction(exchange.says), "keywords": keywords}
    return {
        "leitwerk": "1",
        "title": f"{checked.setup.title}, from {exchange.partner}",
        "device": {"model": model, "at": at, "serial": _serial(checked, exchange.says)},
        "channels": _channels(checked, exchange.says),
        "exchanges": {found.name: entry},
    }


def _serial(checked: CheckedSetup, says: Direction) -> str:
    """The serial number, where the device says it; else there is nothing to compare it with."""
    said = any(part.of == "device serial" for line in says.lines for part in line.parts)
    return str(checked.setup.device.serial) if said else "none"


def _channels(checked: CheckedSetup, says: Direction) -> dict[str, Any]:
    channels: dict[str, Any] = {}
    known = {c.name: c for c in checked.channels}
    root: Any = checked.setup.source.root or {}
    for line in says.lines:
        for part in line.values:
            what, _, name = part.of.partition(" ")
            if what != "channel" or name in channels:
                continue
            written: Any = root["channels"][name]
            own = {key: _plain(written[key]) for key in _CARRIED if key in written}
            own.setdefault("label", known[name].label)
            channels[name] = {"reading": f"{line.name}.{part.name}", **_unit_of(known[name]), **own}
    return channels


def _unit_of(channel: CheckedChannel) -> dict[str, Any]:
    return {"unit": channel.symbol} if channel.symbol else {}


def _plain(content: object) -> Any:
    if isinstance(content, Map):
        return {key: _plain(value) for key, value in content.items()}
    return [_plain(c) for c in content] if isinstance(content, list) else str(content)


def _direction(way: Direction) -> dict[str, Any]:
    marks = {"separator": way.separator, "end": way.end, "start": way.start, "quotes": way.quotes}
    usual = {
        "separator": "",
        "end": "",
        "start": "",
        "quotes": "",
    }  # separator and end always stand there
    found: dict[str, Any] = {
        key: text if key == "quotes" else name_characters(text)
        for key, text in marks.items()
        if text != usual[key]
    }
    for key, name in (
        ("encoding", "encoding"),
        ("decimal", "decimal_sign"),
        ("confirms", "confirms"),
        ("refuses", "refuses"),
    ):
        if getattr(way, key) != getattr(_WAY, key):
            found[name] = getattr(way, key)
    if way.longest != _WAY.longest:
        found["longest"] = str(way.longest)
    if way.spaces is Spaces.KEEP:
        found["spaces"] = "keep"
    if way.one_value:
        found["values"] = "one"
    return found


def _form(form: Form) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for key in ("decimals", "digits"):
        if getattr(form, key) is not None:
            found[key] = str(getattr(form, key))
    if form.exponent:
        found["exponent"] = "yes"
    if form.width:
        found["width"] = str(form.width)
    if form.pad == "0":
        found["pad"] = "zeros"
    if form.unit:
        found["unit"] = "yes"
    for key in ("before", "after", "bad"):
        if getattr(form, key) != getattr(_FORM, key):
            found[key] = getattr(form, key)
    if form.states:
        found["states"] = dict(form.states)
    return found


def _times(part: Part) -> dict[str, Any]:
    if (part.least, part.most) == (1, 1):
        return {}
    return {"times": f"{part.least}..{part.most}"}


def _message(line: LineForm, asked: dict[str, str]) -> dict[str, Any]:
    """What the device understands, the other end says: its values are given at that moment."""
    message: dict[str, Any] = {"keyword": line.keyword} if line.keyword else {}
    answered = next((name for name, asking in asked.items() if asking == line.name), None)
    if answered is not None:
        message["asks"] = answered
    fields = []
    for part in line.parts:
        form = part.form
        if part.is_constant:
            fields.append({"text": form.text})
            continue
        field: dict[str, Any] = {
            "given": form.kind.value,
            "name": part.name,
            **_form(form),
            **_times(part),
        }
        if form.kind is Kind.TEXT:
            field["longest"] = str(form.longest)
        if form.kind is Kind.TIME:
            field["layout"] = form.layout.value
        fields.append(field)
    if fields:
        message["fields"] = fields
    return message


def _keyword(line: LineForm) -> dict[str, Any]:
    """What the device says, the other end understands, and answers nothing."""
    keyword: dict[str, Any] = {"keyword": line.keyword} if line.keyword else {}
    values = []
    for part in line.parts:
        form = part.form
        kind = "integer" if form.kind is Kind.COUNTER else form.kind.value
        value: dict[str, Any] = {kind: "yes"}
        if part.is_constant:
            values.append({"constant": form.text})
            continue
        if form.kind is Kind.NUMBER:
            value = {"number": part.unit or "1"}
        elif form.kind is Kind.TEXT:
            value = {"text": str(form.longest)}
        elif form.kind is Kind.TIME:
            value = {"time": form.layout.value}
        values.append({**value, "name": part.name, **_form(form), **_times(part)})
    if values:
        keyword["values"] = values
    return {**keyword, "answer": "nothing", "errors": "no"}
