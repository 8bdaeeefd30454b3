"""The simulated battery station up the valley: it sleeps, wakes, reports, and takes what is asked."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import math
import socket
import threading
from collections.abc import AsyncIterator, Callable, Iterator
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import uuid4

import numpy as np
import paho.mqtt.client as paho
from paho.mqtt.enums import CallbackAPIVersion

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Stored
from leitwerk.errors import LinkError, QuantityError
from leitwerk.protocols.station import (
    Answer,
    Desired,
    Kept,
    SelfTest,
    State,
    StationRows,
    Topics,
    build,
    build_rows,
    build_senml,
    parse_desired,
    parse_kept,
)
from leitwerk.standins.faults import Troubles
from leitwerk.standins.firmware import Profile, factory_value

_ROWS_AT_ONCE = 500  # of a message
_MEMORY_ROWS = 20_000
_FLOOD_M, _FLOOD_D, _FLOOD_LASTS_D = (
    0.6,
    15.0,
    2.0,
)  # snow melts, so many days after it was switched on
_AT_SENSOR_HPA = 22.0  # of water above the sensor's own depth, at level 0
_HPA_PER_M = 98.0665
_USUAL_HPA = 1013.25  # of the air, where it is not measured
_LISTENS_S = 0.3  # how long it waits for requests
_PLAUSIBLE = {
    "pressure": (500.0, 2000.0),
    "barometer": (800.0, 1100.0),
    "temperature": (-5.0, 40.0),
}
_UNITS = {"pressure": "hPa", "barometer": "hPa", "level": "m", "temperature": "Cel"}


class Station:
    """A station in factory condition. ``wake`` gives what it says when it wakes."""

    def __init__(
        self,
        datasheet: Datasheet,
        profile: Profile,
        troubles: Troubles | None = None,
        *,
        sensor_missing: bool = False,
        seed: int = 12,
    ) -> None:
        self.datasheet = datasheet
        self.profile = profile
        self.troubles = troubles or Troubles()
        self.topics = Topics.of(profile.model, profile.serial)
        self.settings: dict[str, Stored] = {}
        self.answer: Answer | None = None
        self.self_test: SelfTest | None = None
        self.sensor_missing = sensor_missing
        self._noise = np.random.default_rng(seed)
        for name, text in profile.factory.items():
            self.settings[name] = factory_value(datasheet.settings[name], text)
        self._rows: list[tuple[int, float, tuple[float, ...]]] = []  # number, time, values
        self._next_row, self._stored_s = 0, -math.inf
        self._on_since_s: float | None = None

    def store(self, now: datetime, time_factor: float) -> None:
        """Store the rows that have fallen due since it was awake last; the oldest make room."""
        began = self._on_since_s = self._on_since_s or now.timestamp()
        its_s = began + (now.timestamp() - began) * time_factor
        interval = float(self.settings["sample.interval"])
        if not self._is_recording(now):
            self._stored_s = its_s
            return
        at = began if self._stored_s == -math.inf else self._stored_s + interval
        while at <= its_s:
            values = tuple(round(v, 3) for v in self._measure((at - began) / 86_400.0).values())
            self._rows.append((self._next_row, at, values))
            self._next_row, self._stored_s = self._next_row + 1, at
            at += interval
        del self._rows[:-_MEMORY_ROWS]

    def give_up(self, kept: Kept) -> None:
        """Give up rows that are kept elsewhere."""
        self._rows = [row for row in self._rows if row[0] >= kept.before]

    def rows(self) -> bytes:
        """The oldest rows that nobody has kept, as SenML."""
        sent = self._rows[:_ROWS_AT_ONCE]
        return build_rows(
            self._base,
            StationRows(
                sent[0][0] if sent else self._next_row, tuple(_UNITS), tuple(_UNITS.values()),
                tuple(at for _, at, _ in sent), tuple(values for *_, values in sent),
            ),
        )  # fmt: skip

    @property
    def _base(self) -> str:
        return f"urn:dev:leitwerk:{self.profile.model}:{self.profile.serial}"

    def take(self, desired: Desired, now: datetime) -> None:
        """Take all settings of a change, or none of them and say why."""
        if self.answer is not None and self.answer.id == desired.id:
            return
        reason = self._why_not(desired, now)
        if not reason:
            self.settings.update(desired.settings)
        self.answer = Answer(
            id=desired.id, result="refused" if reason else "in force", reason=reason, at=now
        )

    def _why_not(self, desired: Desired, now: datetime) -> str:
        if desired.expires is not None and now >= desired.expires:
            return "it had expired before I woke"
        if desired.self_test:
            self.self_test = self._test(now)
            bad = [
                f"{part}: {text}" for part, text in self.self_test.results.items() if text != "ok"
            ]
            if bad:
                return f"the self-test failed: {'; '.join(bad)}"
        if self.troubles.flat_battery:
            return "my battery is flat"
        for name, value in desired.settings.items():
            point = self.datasheet.settings.get(name)
            if point is None:
                return f"I have no setting {name}"
            try:
                point.storable(value)
            except QuantityError as error:
                return f"{name}: {error.message}"
        return ""

    def _test(self, now: datetime) -> SelfTest:
        values = self._measure()
        checks = {
            "battery": not self.troubles.flat_battery or "3.02 V, at least 3.2 V is needed",
            "memory": not self.troubles.full_memory or "full",
            "signal": True,
            **{
                name: low <= values[name] <= high or f"{values[name]:g} is not plausible"
                for name, (low, high) in _PLAUSIBLE.items()
                if name != "barometer" or self.settings["barometer"] == "on"
            },
        }
        return SelfTest(
            at=now, results={k: "ok" if v is True else str(v) for k, v in checks.items()}
        )

    def _is_recording(self, now: datetime) -> bool:
        """Switched on, and within its times where some are given."""
        begin, end = (
            _moment(str(self.settings.get(f"recording.{k}", ""))) for k in ("from", "until")
        )
        inside = (begin is None or begin <= now) and (end is None or now < end)
        return self.settings["recording"] == "running" and inside

    def state(self, now: datetime, time_factor: float) -> State:
        """What it says of itself."""
        interval = float(self.settings["report.interval"])
        return State(
            maker=self.datasheet.maker,
            model=self.profile.model,
            serial=self.profile.serial,
            firmware=self.profile.firmware,
            at=now,
            next=now + timedelta(seconds=interval / time_factor),
            interval_s=interval / time_factor,
            settings=self.settings,
            status={
                "battery.voltage": 3.02 if self.troubles.flat_battery else 3.61,
                "signal.strength": -87.0,
                "memory.used": 100.0 if self.troubles.full_memory else 4.2,
                "recording": "running" if self._is_recording(now) else "stopped",
                "alarm": self._alarm(),
            },
            answer=self.answer,
            self_test=self.self_test,
        )

    def _alarm(self) -> str:
        """How its level stands to the alarm points that were asked for."""
        level = self._measure()["level"]
        if level > float(self.settings["alarm.high"]):
            return "high"
        return "low" if level < float(self.settings["alarm.low"]) else "normal"

    def readings(self, now: datetime) -> bytes:
        """Its readings as SenML: the pressure of the water and of the air, and what that makes."""
        rounded = {name: (round(v, 3), _UNITS[name]) for name, v in self._measure().items()}
        return build_senml(self._base, now.timestamp(), rounded)

    def _measure(self, days: float = 0.0) -> dict[str, float]:
        """What it measures, so many days after it was switched on."""
        wander = float(self._noise.standard_normal())
        flood_m = _FLOOD_M * math.exp(-(((days - _FLOOD_D) / _FLOOD_LASTS_D) ** 2))
        barometer = 951.3 + 0.1 * wander + 9.0 * math.sin(2.0 * math.pi * days / 6.3)
        pressure = barometer + _AT_SENSOR_HPA + 0.02 * wander + _HPA_PER_M * flood_m
        has_barometer = self.settings["barometer"] == "on"
        air = barometer if has_barometer else _USUAL_HPA
        level = (pressure - air) / _HPA_PER_M + float(self.settings["sensor.depth"])
        return {
            "pressure": 0.0 if self.sensor_missing else pressure,
            "barometer": barometer if has_barometer else 0.0,
            "level": level,
            "temperature": 5.4 + 0.02 * wander + 0.8 * math.sin(2.0 * math.pi * days),
        }


async def run_station(
    station: Station,
    *,
    broker: tuple[str, int] | None,
    time_factor: float,
    ready: Callable[[str, int], None],
) -> None:
    """Let a station wake again and again until cancelled; with a small broker of its own, if none is given.

    ``ready`` is called with the broker once the station has reported for the first time.
    """
    async with contextlib.AsyncExitStack() as stack:
        host, port = broker if broker else await stack.enter_async_context(_own_broker())
        first = True
        while True:
            try:
                await asyncio.to_thread(_wake, station, (host, port), time_factor)
            except (OSError, RuntimeError, ValueError):
                if first:
                    raise
                # The broker was not reached this time, or did not take it: it sleeps, and tries again.
            if first:
                ready(host, port)
                first = False
            await asyncio.sleep(float(station.settings["report.interval"]) / time_factor)


def _wake(station: Station, broker: tuple[str, int], time_factor: float) -> None:
    """Connect, see what is asked, take it, report, and sleep again."""
    asked: list[bytes] = []
    kept: list[bytes] = []
    heard, subscribed = threading.Event(), threading.Event()
    # Brokers may refuse a client without a name, or take two of them for one.
    name = f"station-{station.profile.serial}-{uuid4().hex[:8]}"
    client = paho.Client(CallbackAPIVersion.VERSION2, client_id=name)

    def on_message(*args: Any) -> None:
        message = args[2]
        if message.topic == station.topics.desired:
            asked.append(message.payload)
            heard.set()
        elif message.topic == station.topics.kept:
            kept.append(message.payload)

    def on_connect(*args: Any) -> None:
        del args
        client.subscribe([(station.topics.kept, 1), (station.topics.desired, 1)])

    client.on_message = on_message
    client.on_connect = on_connect
    client.on_subscribe = lambda *_: subscribed.set()
    client.connect(*broker)
    client.loop_start()
    try:
        subscribed.wait(5.0)
        heard.wait(_LISTENS_S)
        now = datetime.now(UTC)
        for payload in asked[-1:]:
            with contextlib.suppress(LinkError):  # other payloads are ignored
                desired = parse_desired(payload)
                if desired is not None:
                    station.take(desired, now)
        for payload in kept[-1:]:
            with contextlib.suppress(LinkError):
                station.give_up(parse_kept(payload))
        station.store(now, time_factor)
        for topic, content in (
            (station.topics.readings, station.readings(now)),
            (station.topics.rows, station.rows()),
            (station.topics.state, build(station.state(now, time_factor))),
        ):
            client.publish(topic, content, qos=1, retain=True).wait_for_publish(5.0)
    finally:
        client.disconnect()
        client.loop_stop()


@contextlib.asynccontextmanager
async def _own_broker() -> AsyncIterator[tuple[str, int]]:
    """A small broker on a free port of the loopback address, for trying things out."""
    try:
        from amqtt.broker import Broker  # noqa: PLC0415 - an optional package
    except ImportError:
        raise LinkError(
            "there is no broker here", remedy="pip install 'leitwerk[broker]', or give --broker"
        ) from None
    logging.getLogger("amqtt").setLevel(logging.CRITICAL)
    logging.getLogger("transitions").setLevel(logging.CRITICAL)
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port = probe.getsockname()[1]
    config = {
        "listeners": {"default": {"type": "tcp", "bind": f"127.0.0.1:{port}"}},
        "plugins": {"amqtt.plugins.authentication.AnonymousAuthPlugin": {"allow_anonymous": True}},
    }
    broker = Broker(config)
    # It goes through them while it waits, and others subscribe meanwhile.
    broker._subscriptions = _Snapshots()  # noqa: SLF001 - it has no other way
    await broker.start()
    try:
        yield "127.0.0.1", port
    finally:
        await broker.shutdown()


class _Snapshots(dict[str, Any]):
    """A mapping that may change while somebody goes through it."""

    def __iter__(self) -> Iterator[str]:
        return iter(list(super().keys()))

    def items(self) -> Any:
        """The pairs as they are now."""
        return list(super().items())


def _moment(text: str) -> datetime | None:
    """A time, None when none is given; without a zone it is in UTC."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)
