"""A small broker from the standard (MQTT 3.1.1), which keeps what a station up the valley has said."""

from __future__ import annotations

import json
import socket
import struct
from datetime import UTC, datetime, timedelta

from plain import PlainServer


class Broker(PlainServer):
    """``kept`` are the messages by topic, ``writes`` the topics to which clients published."""

    def __init__(self, serial: str = "BS-0031", level: float = 1.42) -> None:
        now = datetime.now(UTC).replace(microsecond=0)
        base = f"leitwerk/1/laerche/{serial}"
        settings = {
            "name": "laerche",
            "sample.interval": 60,
            "report.interval": 3600,
            "recording": "stopped",
        }
        settings |= {"sensor.depth": level, "position.latitude": 0, "position.longitude": 0}
        settings |= {"barometer": "on", "alarm.high": 9.0, "alarm.low": 0.1}
        settings |= {f"contact.{k}.{part}": "" for k in range(1, 5) for part in ("name", "number")}
        status = {
            "battery.voltage": 3.6,
            "signal.strength": -87,
            "memory.used": 4.2,
            "alarm": "normal",
            "recording": "stopped",
        }
        settings |= {"recording.from": "", "recording.until": ""}
        state = {"state": 1, "maker": "Tannried Instrumente", "model": "laerche", "serial": serial,
                 "firmware": "1.0", "at": now.isoformat(), "next": (now + timedelta(hours=1)).isoformat(),
                 "interval_s": 3600, "settings": settings, "status": status}  # fmt: skip
        values = {"level": level, "pressure": 973.3, "barometer": 951.3, "temperature": 5.4}
        readings: list[dict[str, object]] = [
            {"bn": f"urn:dev:leitwerk:laerche:{serial}/", "bt": now.timestamp()}
        ]
        readings += [{"n": name, "v": value} for name, value in values.items()]
        kept = {"state": state, "readings": readings}
        self.kept = {
            f"{base}/{kind}": json.dumps(content).encode() for kind, content in kept.items()
        }
        self.writes: list[str] = []
        super().__init__()

    @property
    def asked(self) -> str:
        """The name that is asked of the station, empty when none is."""
        found = [p for topic, p in self.kept.items() if topic.endswith("/desired")]
        return json.loads(found[0])["settings"].get("name", "") if found and found[0] else ""

    def serve(self, connection: socket.socket) -> None:
        is_connected = False
        while head := connection.recv(1):
            body = self._body(connection)
            kind = head[0] >> 4
            is_connected |= kind == 1
            if not is_connected:  # 3.1: the first packet is CONNECT
                return
            if kind == 1:  # CONNECT, 3.1
                connection.sendall(b"\x20\x02\x00\x00")
            elif kind == 8:  # SUBSCRIBE, 3.8
                self._subscribe(connection, body)
            elif kind == 3:  # PUBLISH, 3.3
                self._publish(connection, head[0], body)
            elif kind == 12:  # PINGREQ, 3.12
                connection.sendall(b"\xd0\x00")
            elif kind == 14:  # DISCONNECT, 3.14
                return

    @staticmethod
    def _body(connection: socket.socket) -> bytes:
        length, shift = 0, 0
        while True:  # 2.2.3
            digit = connection.recv(1)[0]
            length |= (digit & 0x7F) << shift
            shift += 7
            if not digit & 0x80:
                return connection.recv(length, socket.MSG_WAITALL) if length else b""

    def _subscribe(self, connection: socket.socket, body: bytes) -> None:
        connection.sendall(b"\x90\x03" + body[:2] + b"\x01")
        (length,) = struct.unpack(">H", body[2:4])
        wanted = body[4 : 4 + length].decode().split("/")
        for topic, payload in self.kept.items():
            parts = topic.split("/")
            if all(w in {"+", p} for w, p in zip(wanted, parts, strict=True)) and payload:
                connection.sendall(packet(topic.encode(), payload))

    def _publish(self, connection: socket.socket, flags: int, body: bytes) -> None:
        (length,) = struct.unpack(">H", body[:2])
        topic, rest = body[2 : 2 + length].decode(), body[2 + length :]
        if flags & 0x06:
            connection.sendall(b"\x40\x02" + rest[:2])
            rest = rest[2:]
        self.kept[topic] = rest
        self.writes.append(topic)


def packet(topic: bytes, payload: bytes) -> bytes:
    """A PUBLISH that was kept, without a confirmation (3.3)."""
    body = struct.pack(">H", len(topic)) + topic + payload
    length, left = b"", len(body)
    while True:
        left, digit = divmod(left, 128)
        length += bytes([digit | (0x80 if left else 0)])
        if not left:
            return b"\x31" + length + body
