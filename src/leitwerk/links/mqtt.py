"""A station that sleeps, by the broker that keeps its messages."""

from __future__ import annotations

import threading
import time
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote
from uuid import uuid4

import paho.mqtt.client as paho
from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion

from leitwerk.errors import LinkError, LinkTimeout, NotReached
from leitwerk.links.options import USUAL, LinkOptions
from leitwerk.links.trace import note
from leitwerk.parsing.address import LinkAddress, is_this_machine
from leitwerk.protocols.station import (
    MAX_BYTES,
    Desired,
    Kept,
    State,
    StationRows,
    Topics,
    build,
    is_overdue,
    parse_desired,
    parse_rows,
    parse_senml,
    parse_state,
)

_ANY = "+"  # MQTT 3.1.1, 4.7.1: any one level
_SETTLED_S = 0.15  # after the first message, the others that are kept follow at once
_KEEP_ALIVE_S = 60
_MOST_TOPICS = (
    3000  # of a thousand stations; a broker that sends more is not listened to any longer
)
_KINDS = ("desired", "readings", "rows", "state")
_OTHER_VERSION = "protocol version"  # what a broker says to a version that it does not speak


def utc_now() -> datetime:
    """The time, in whole seconds as messages have it."""
    return datetime.now(UTC).replace(microsecond=0)


def publish_once(address: LinkAddress, topic: str, text: str, options: LinkOptions) -> None:
    """Publish one message to a topic, at least once, and wait until the broker has taken it.

    Raises
    ------
    LinkError
        The broker is not there, refuses the connection, or did not confirm.

    """
    client = _new_client(address, options, MQTTProtocolVersion.MQTTv311)
    try:
        client.connect(address.host, address.port, _KEEP_ALIVE_S)
        client.loop_start()
        info = client.publish(topic, text.encode(), qos=1)
        info.wait_for_publish(options.timeout_s)
        if not info.is_published():
            raise LinkTimeout(f"{address}: the broker did not confirm the message in time")
    except (OSError, ValueError, RuntimeError) as error:
        raise NotReached(f"{address}: the broker did not take the message ({error})") from error
    finally:
        client.disconnect()
        client.loop_stop()


def _new_client(
    address: LinkAddress, options: LinkOptions, version: MQTTProtocolVersion
) -> paho.Client:
    # Brokers may refuse a client without a name, or take two of them for one. Left to itself, the
    # package would go back to version 3.1 where 3.1.1 is refused.
    client = paho.Client(
        CallbackAPIVersion.VERSION2,
        client_id=f"leitwerk-{uuid4().hex[:12]}",
        protocol=version,
        reconnect_on_failure=False,
    )
    if address.scheme == "mqtt+tls":
        client.tls_set()  # the system's authorities; host names are checked
    if address.user:
        password = options.password(address) if options.password else None
        is_open = address.scheme == "mqtt+tcp" and not is_this_machine(address.host)
        if password and is_open and not address.in_clear:
            raise LinkError(
                f"{address}: the password of {address.user} would go unencrypted over the network",
                remedy="use mqtt+tls://, or add ?in_clear=yes to the address if the network is trusted",
            )
        client.username_pw_set(address.user, password)
    return client


class StationLink:
    """The messages of one station. Connects when first used; nothing of it wakes the station.

    ``serial`` narrows the topics down to one station; without it, the only one of its model that
    the broker knows is meant.
    """

    def __init__(
        self,
        address: LinkAddress,
        model: str,
        *,
        serial: str = "",
        options: LinkOptions = USUAL,
    ) -> None:
        self.address = address
        self.options = options
        self.requests = 0
        self.model = model
        self.serial = serial
        self._client: paho.Client | None = None
        self._messages: dict[str, bytes] = {}
        self._arrived = threading.Condition()
        self._refusal = ""
        self._connected = threading.Event()

    def state(self) -> State:
        """What the station said when it was last awake.

        Raises
        ------
        NotReached, LinkTimeout, LinkError
            The broker does not answer, keeps nothing of this station, or something odd.

        """
        return parse_state(self._message("state"))

    def desired(self) -> Desired | None:
        """What is asked of the station, None when nothing is."""
        self._message("state")
        found = self._find("desired")
        return None if found is None else parse_desired(self._messages[found])

    def request(self, desired: Desired) -> None:
        """Ask for settings: kept by the broker until the station wakes.

        Raises
        ------
        LinkError
            The broker did not confirm that it keeps them.

        """
        state = self.state()
        topic = Topics.of(state.model, state.serial).desired
        self._publish(topic, build(desired))
        # What is read from now on is what was asked for now, also before the broker sends it back.
        with self._arrived:
            self._messages[topic] = build(desired)

    def latest(self) -> dict[str, Mapping[str, Any]]:
        """The last messages, each as values by name: ``state``, ``settings``, ``status``, ``readings``."""
        state = self.state()
        if is_overdue(state, utc_now()):
            raise LinkError(
                f"{self.address}: the station has missed its report twice; its last one is of "
                f"{state.at.isoformat()}",
                remedy="look after its battery, its antenna and its network; 'leitwerk station' "
                "shows what it said last",
            )
        found = self._find("readings")
        now_s = time.time()
        records = parse_senml(self._messages[found], now_s) if found else []
        own = {name: getattr(state, name) for name in ("maker", "model", "serial", "firmware")}
        clock = state.at.astimezone(UTC).strftime("%Y-%m-%d %H:%M:%S")
        return {
            "state": {**own, "at": clock},
            "settings": state.settings,
            "status": state.status,
            "readings": {record.name.rpartition("/")[2]: record.value for record in records},
        }

    def rows(self, after: int = -1, wait_s: float = 0.0) -> StationRows | None:
        """The rows that the station has sent last; None where the broker keeps none.

        Rows before number ``after`` are not meant: newer ones are waited for.
        """
        self._message("state")
        deadline = time.monotonic() + wait_s
        with self._arrived:
            while True:
                found = self._find("rows")
                payload = b"" if found is None else self._messages[found]
                rows = parse_rows(payload) if payload else None
                if rows is not None and rows.first + len(rows.times_s) > after:
                    return rows
                left = deadline - time.monotonic()
                if left <= 0 or not self._arrived.wait(left):
                    return None

    def confirm(self, before: int) -> None:
        """Tell the station that its rows before a number are kept: it may give them up when it wakes.

        Raises
        ------
        LinkError
            The broker did not confirm that it keeps this.

        """
        state = self.state()
        topic = Topics.of(state.model, state.serial).kept
        self._publish(topic, build(Kept(before=before, at=utc_now())))

    def close(self) -> None:
        """End the connection to the broker."""
        if self._client is not None:
            self._client.disconnect()
            self._client.loop_stop()
            self._client = None

    # ------------------------------------------------------------------ messages

    def _message(self, kind: str) -> bytes:
        self._connect()
        deadline = time.monotonic() + self.options.timeout_s
        with self._arrived:
            while (found := self._find(kind)) is None:
                left = deadline - time.monotonic()
                if left <= 0 or not self._arrived.wait(left):
                    raise LinkTimeout(
                        f"{self.address}: the broker keeps no {kind} of a {self.model} {self.serial}",
                        remedy="has the station ever reported to this broker? Is its serial number "
                        "right?",
                    )
            return self._messages[found]

    def _find(self, kind: str) -> str | None:
        with self._arrived:
            topics = [topic for topic in self._messages if topic.endswith(f"/{kind}")]
        stations = {topic.split("/")[3] for topic in topics}
        if len(stations) > 1:
            raise LinkError(
                f"{self.address}: the broker knows {len(stations)} stations {self.model}: "
                f"{', '.join(sorted(stations)[:8])}",
                remedy="name the one that is meant, by a setup with its serial number",
            )
        return topics[0] if topics else None

    def _publish(self, topic: str, payload: bytes) -> None:
        assert self._client is not None
        self.requests += 1
        note(self.options.tracer, self.address, payload, topic, sent=True)
        info = self._client.publish(topic, payload, qos=1, retain=True)
        try:
            info.wait_for_publish(self.options.timeout_s)
        except (RuntimeError, ValueError) as error:
            raise LinkError(
                f"{self.address}: the broker did not take the request ({error})",
                remedy="may this user write to the station's topics?",
            ) from error
        if not info.is_published():
            raise LinkTimeout(
                f"{self.address}: the broker did not confirm the request in time",
                remedy="try again; the last request counts",
            )

    # ------------------------------------------------------------------ connection

    def _connect(self) -> None:
        if self._client is not None and self._client.is_connected():
            return
        self.close()
        # The older version is spoken by every broker; what wants the newer one says so.
        for version in (MQTTProtocolVersion.MQTTv311, MQTTProtocolVersion.MQTTv5):
            self._open(version)
            if not self._refusal:
                break
            self.close()
            if _OTHER_VERSION not in self._refusal.casefold():
                break
        if self._refusal:
            raise NotReached(
                f"{self.address}: the broker refused the connection: {self._refusal}",
                remedy="set LEITWERK_PASSWORD_BROKER for the user in the address; is the user right?",
            )
        # The messages that are kept come one after the other; the state may not be the last.
        time.sleep(_SETTLED_S)

    def _open(self, version: MQTTProtocolVersion) -> None:
        """Connect and subscribe; ``_refusal`` says why not."""
        self._refusal = ""
        self._connected.clear()
        self._messages.clear()
        client = _new_client(self.address, self.options, version)
        client.on_connect = self._on_connect
        client.on_message = self._on_message
        client.on_disconnect = self._on_disconnect
        client.on_subscribe = lambda *_: self._connected.set()
        try:
            client.connect(self.address.host, self.address.port, _KEEP_ALIVE_S)
        except (OSError, ValueError) as error:
            raise NotReached(
                f"{self.address}: no broker answers there ({error})",
                remedy="is the address right, does the network reach it, does its certificate hold?",
            ) from error
        client.loop_start()
        self._client = client
        if not self._connected.wait(self.options.timeout_s) and not self._refusal:
            self._refusal = "it did not answer in time"

    def _on_connect(self, client: paho.Client, *args: Any) -> None:
        reason = args[2]
        if reason.is_failure:
            self._refusal = str(reason)
            self._connected.set()
            return
        serial = self._topic_of_serial or _ANY
        for kind in _KINDS:
            client.subscribe(f"leitwerk/1/{self.model}/{serial}/{kind}", 1)

    @property
    def _topic_of_serial(self) -> str:
        return quote(self.serial, safe=" .-_") if self.serial else ""

    def _is_asked_for(self, topic: str) -> bool:
        """Whether a topic is one that was subscribed to; a broker may send others."""
        parts = topic.split("/")
        return (
            len(parts) == 5
            and parts[:3] == ["leitwerk", "1", self.model]
            and parts[3] == (self._topic_of_serial or parts[3])
            and parts[4] in _KINDS
        )

    def _on_disconnect(self, client: paho.Client, *args: Any) -> None:
        del client
        if not self._connected.is_set():
            # Ended before it began: what refuses a version says no more than that.
            self._refusal = self._refusal or f"{_OTHER_VERSION} refused ({args[2]})"
            self._connected.set()

    def _on_message(self, client: paho.Client, userdata: Any, message: paho.MQTTMessage) -> None:
        del client, userdata
        try:
            topic = message.topic
        except UnicodeDecodeError:
            return  # no topic of a station is like that
        if len(message.payload) > MAX_BYTES or not self._is_asked_for(topic):
            return
        with self._arrived:
            if topic not in self._messages and len(self._messages) >= _MOST_TOPICS:
                return
            self._messages[topic] = bytes(message.payload)
            self._arrived.notify_all()
        note(self.options.tracer, self.address, bytes(message.payload), topic, sent=False)
