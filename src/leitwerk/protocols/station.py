"""Messages of stations that sleep, over MQTT: what is asked of one, and what it says. No socket.

=================================================  ========  ==================================
topic                                              retained  holds
=================================================  ========  ==================================
``leitwerk/1/MODEL/SERIAL/desired``                yes       the settings that are asked for
``leitwerk/1/MODEL/SERIAL/state``                  yes       what is in force, and the last answer
``leitwerk/1/MODEL/SERIAL/readings``               yes       readings as SenML (RFC 8428)
``leitwerk/1/MODEL/SERIAL/rows``                   yes       stored rows that nobody has kept, as SenML
``leitwerk/1/MODEL/SERIAL/kept``                   yes       up to where rows are kept elsewhere
=================================================  ========  ==================================

Times are ISO 8601 in UTC. The JSON Schema of both messages is in ``schemas/station.schema.json``.
"""

from __future__ import annotations

import enum
import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Annotated, Any, Literal, TypeVar

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field, ValidationError

from leitwerk.errors import LinkError
from leitwerk.results import Outcome, overall

VERSION = 1
MAX_BYTES = 262_144  # of a message; more sends no station
# RFC 8428, 4.5.3: a smaller time is relative to now.
_ABSOLUTE_FROM = 268_435_456.0
_RECORDS_AT_MOST = 10_000
_ROW = "row"  # the name under which a pack says the number of its first row

Value = Annotated[float, Field(allow_inf_nan=False)] | Annotated[str, Field(max_length=256)]


class _Message(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore", allow_inf_nan=False)


class Desired(_Message):
    """Settings that are asked for. ``id`` identifies the change.

    With ``self_test`` the station tests itself first, and takes them only if it passes.
    """

    desired: Literal[1] = 1
    id: Annotated[str, Field(pattern=r"^[0-9a-f]{8,64}$")]
    by: Annotated[str, Field(max_length=100)]
    at: AwareDatetime
    expires: AwareDatetime | None = None
    self_test: bool = False
    settings: dict[Annotated[str, Field(max_length=100)], Value]


class Answer(_Message):
    """What a station has made of a change, when it woke."""

    id: Annotated[str, Field(max_length=64)]
    result: Literal["in force", "refused"]
    reason: Annotated[str, Field(max_length=500)] = ""
    at: AwareDatetime


class SelfTest(_Message):
    """What a station has found when it tested itself: "ok", or what is wrong, for each part."""

    at: AwareDatetime
    results: dict[str, Annotated[str, Field(max_length=200)]]

    @property
    def outcome(self) -> Outcome:
        """Passed when every part is well; unknown when none was tested."""
        parts = self.results.values()
        return overall(Outcome.PASSED if part == "ok" else Outcome.FAILED for part in parts)

    @property
    def reasons(self) -> tuple[str, ...]:
        """What is wrong, part by part."""
        return tuple(f"{name}: {text}" for name, text in self.results.items() if text != "ok")


class State(_Message):
    """What a station is, what is in force, when it reports again."""

    state: Literal[1] = 1
    maker: str = ""
    model: str
    serial: str
    firmware: str = ""
    at: AwareDatetime
    next: AwareDatetime
    interval_s: Annotated[float, Field(gt=0, le=31_536_000)]
    settings: dict[str, Value]
    status: dict[str, Value] = Field(default_factory=dict)
    answer: Answer | None = None
    self_test: SelfTest | None = None


class Kept(_Message):
    """Rows before number ``before`` are kept elsewhere: the station may give them up."""

    kept: Literal[1] = 1
    before: Annotated[int, Field(ge=0)]
    at: AwareDatetime


@dataclass(frozen=True)
class StationRows:
    """Rows that a station has stored, the oldest first. ``first`` is the number of the first of them.

    ``names`` and ``units`` are those of the columns; ``values`` has a sequence for each row, None where it
    has no value.
    """

    first: int
    names: tuple[str, ...]
    units: tuple[str, ...]
    times_s: tuple[float, ...]
    values: tuple[tuple[float | None, ...], ...]

    def since(self, number: int) -> StationRows:
        """The rows from a number on."""
        known = max(0, number - self.first)
        return replace(
            self, first=self.first + known, times_s=self.times_s[known:], values=self.values[known:]
        )


class RequestStatus(enum.StrEnum):
    """How a change stands."""

    NONE = "nothing was asked for"
    REQUESTED = "requested; waiting for the station to wake up"
    IN_FORCE = "in force"
    REFUSED = "refused"
    EXPIRED = "expired; the station did not wake in time"


@dataclass(frozen=True, slots=True)
class Topics:
    """The topics of one station."""

    desired: str
    state: str
    readings: str
    rows: str
    kept: str

    @classmethod
    def of(cls, model: str, serial: str) -> Topics:
        """The topics for a model and a serial number.

        Raises
        ------
        LinkError
            One of them holds what a topic cannot.

        """
        for text in (model, serial):
            # MQTT 3.1.1, 4.7.1: these part levels, or stand for many of them.
            if not text or any(c in text for c in "/+#\0"):
                raise LinkError(f"{text!r} cannot be part of a topic", remedy="look at the setup")
        base = f"leitwerk/{VERSION}/{model}/{serial}"
        return cls(*(f"{base}/{kind}" for kind in ("desired", "state", "readings", "rows", "kept")))


@dataclass(frozen=True, slots=True)
class Record:
    """One reading of SenML: full name, unit, time as a Unix time in s, and value."""

    name: str
    unit: str
    time_s: float
    value: float | str


M = TypeVar("M", bound=_Message)


def parse_desired(payload: bytes) -> Desired | None:
    """What is asked for; None for an empty message, which takes it back.

    Raises
    ------
    LinkError
        The message is not valid.

    """
    return _parse(Desired, payload) if payload else None


def parse_kept(payload: bytes) -> Kept:
    """Up to where the rows of a station are kept.

    Raises
    ------
    LinkError
        The message is not valid.

    """
    return _parse(Kept, payload)


def parse_state(payload: bytes) -> State:
    """What a station says.

    Raises
    ------
    LinkError
        The message is not valid.

    """
    return _parse(State, payload)


def build(message: _Message) -> bytes:
    """A message as it is sent."""
    return message.model_dump_json(exclude_none=True).encode("utf-8")


def judge(desired: Desired | None, state: State | None, now: datetime) -> RequestStatus:
    """How the change that is asked for stands.

    What the station has answered counts, also when the time is over by now.
    """
    if desired is None:
        return RequestStatus.NONE
    answer = state.answer if state is not None else None
    if answer is not None and answer.id == desired.id:
        return RequestStatus.IN_FORCE if answer.result == "in force" else RequestStatus.REFUSED
    if desired.expires is not None and now >= desired.expires:
        return RequestStatus.EXPIRED
    return RequestStatus.REQUESTED


def is_overdue(state: State, now: datetime) -> bool:
    """Whether a station has missed its report twice."""
    return (now - state.next).total_seconds() > state.interval_s


def parse_senml(payload: bytes, now_s: float) -> list[Record]:
    """The records of a SenML pack, resolved (RFC 8428, 4.6).

    Raises
    ------
    LinkError
        The pack is not valid.

    """
    pack = _load(payload)
    if not isinstance(pack, list) or len(pack) > _RECORDS_AT_MOST:
        raise LinkError("a SenML pack is a list of records")
    base: dict[str, Any] = {}
    records = []
    for entry in pack:
        if not isinstance(entry, dict):
            raise LinkError(f"{entry!r:.60} is not a record of SenML")
        unknown = [key for key in entry if isinstance(key, str) and key.endswith("_")]
        if unknown:
            # 4.4: a field that must be understood.
            raise LinkError(f"the field {unknown[0]!r:.40} of SenML is not known here")
        base |= {key: entry[key] for key in ("bn", "bt", "bu", "bv") if key in entry}
        record = _record(entry, base, now_s)
        if record is not None:
            records.append(record)
    return records


def build_senml(base: str, at_s: float, values: Mapping[str, tuple[float, str]]) -> bytes:
    """A SenML pack of readings taken at one time, each with its unit."""
    pack: list[dict[str, Any]] = []
    for name, (value, unit) in values.items():
        record: dict[str, Any] = {"n": name, "v": value}
        if unit:
            record["u"] = unit
        pack.append(record)
    if pack:
        pack[0] = {"bn": f"{base}/", "bt": at_s, **pack[0]}
    return json.dumps(pack, ensure_ascii=False).encode("utf-8")


def build_rows(base: str, rows: StationRows) -> bytes:
    """Stored rows as a SenML pack: the number of the first as ``row``, then the values of each time."""
    begin = rows.times_s[0] if rows.times_s else 0.0
    pack: list[dict[str, Any]] = [{"bn": f"{base}/", "bt": begin, "n": _ROW, "v": rows.first}]
    for time_s, row in zip(rows.times_s, rows.values, strict=True):
        for name, unit, value in zip(rows.names, rows.units, row, strict=True):
            if value is not None:
                own = {"u": unit} if unit else {}
                pack.append({"n": name, "t": time_s - begin, "v": value, **own})
    return json.dumps(pack, ensure_ascii=False, separators=(",", ":")).encode("utf-8")


def parse_rows(payload: bytes) -> StationRows:
    """The rows of a SenML pack.

    Raises
    ------
    LinkError
        The pack is not valid, or its rows are not in the order of time.

    """
    records = parse_senml(payload, 0.0)
    first, names, times = -1, dict[str, str](), dict[float, dict[str, float]]()
    for record in records:
        name = record.name.rpartition("/")[2]
        if isinstance(record.value, str):
            raise LinkError(f"the row value {record.value!r:.40} of a station is not a number")
        if name == _ROW and first < 0:
            first = int(record.value)
        elif names.setdefault(name, record.unit) != record.unit:
            raise LinkError(f"{name:.40} has two units in the rows of a station")
        else:
            times.setdefault(record.time_s, {})[name] = record.value
    if first < 0:
        raise LinkError(
            "the rows of a station do not say which they are", remedy="is it another version?"
        )
    stamps = tuple(times)
    if stamps and (list(stamps) != sorted(stamps) or stamps[0] < _ABSOLUTE_FROM):
        raise LinkError("the rows of a station are not in the order of time")
    values = tuple(tuple(row.get(name) for name in names) for row in times.values())
    return StationRows(first, tuple(names), tuple(names.values()), stamps, values)


def _record(entry: Mapping[str, Any], base: Mapping[str, Any], now_s: float) -> Record | None:
    value = entry.get("v", entry.get("vs"))
    if value is None and "bv" in base:
        value = 0.0
    if value is None:
        return None  # a record of base values only, or of a kind that no station here sends
    if not isinstance(value, str):
        value = _finite(value) + _finite(base.get("bv", 0.0))
    time_s = _finite(base.get("bt", 0.0)) + _finite(entry.get("t", 0.0))
    if time_s < _ABSOLUTE_FROM:
        time_s += now_s
    name = f"{base.get('bn', '')}{entry.get('n', '')}"
    return Record(name[:200], str(entry.get("u", base.get("bu", "")))[:24], time_s, value)


def _finite(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise LinkError(f"{value!r:.40} is not a number of SenML")
    try:
        number = float(value)
    except OverflowError:
        number = math.inf
    if not math.isfinite(number):
        raise LinkError(f"{value!r:.40} is not a finite number")
    return number


def _parse(kind: type[M], payload: bytes) -> M:
    if len(payload) > MAX_BYTES:
        raise LinkError(f"a message of {len(payload)} bytes is too long for a station")
    try:
        return kind.model_validate_json(payload)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"])) or "the message"
        raise LinkError(
            f"this is not a message of a station: {where}: {first['msg']}",
            remedy="does something else write to its topics?",
        ) from None


def _load(payload: bytes) -> Any:
    if len(payload) > MAX_BYTES:
        raise LinkError(f"a message of {len(payload)} bytes is too long for a station")
    try:
        return json.loads(payload)
    except (ValueError, RecursionError) as error:
        raise LinkError(f"this is no JSON: {error}") from None


def station_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of the messages, by the last word of their topics."""
    models: Sequence[tuple[str, type[BaseModel]]] = (
        ("desired", Desired),
        ("state", State),
        ("kept", Kept),
    )
    known: dict[str, Any] = {}
    for name, model in models:
        schema = model.model_json_schema(ref_template="#/$defs/{model}")
        known |= schema.pop("$defs", {})
        known[name] = schema
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Messages of a Leitwerk station",
        "oneOf": [{"$ref": f"#/$defs/{name}"} for name, _ in models],
        "$defs": known,
    }
