"""Gateways, mail servers and brokers that do harm: plain sockets, and an authority of our own."""

import contextlib
import json
import socket
import ssl
import struct
import threading
import time
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace

import pytest
import trustme
from broker import packet
from plain import PlainServer

import leitwerk as lw
from leitwerk.links.mqtt import StationLink, publish_once
from leitwerk.links.options import LinkOptions
from leitwerk.monitoring import messenger, senders, web_calls
from leitwerk.monitoring.messenger import Messenger
from leitwerk.monitoring.outbox import Message, SendFailed
from leitwerk.parsing.address import parse_address
from leitwerk.setup.contacts import Services

SURROGATE = b'[{"number": 1, "from": "+491", "text": "\\ud800"}]'
HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n"
ODD_ANSWERS = {
    "too deep": HEAD + b"\r\n" + b"[" * 50_000,
    "surrogates": HEAD + b"Content-Length: %d\r\n\r\n" % len(SURROGATE) + SURROGATE,
    "no list": HEAD + b'Content-Length: 9\r\n\r\n{"a": [1]}',
    "compressed": HEAD + b"Content-Encoding: gzip\r\nContent-Length: 4\r\n\r\n\x1f\x8b\x08\x00",
    "huge numbers": HEAD + b'\r\n[{"number": ' + b"9" * 5000 + b', "from": "", "text": ""}]',
    "long header": HEAD + b"X: " + b"x" * 1_000_000 + b"\r\n\r\n[]",
    "no HTTP": b"SSH-2.0-whatever\r\n",
    "nothing": b"",
}
MESSAGE = Message("m1", "text_message", "+49 170 0000001", "foreman", "Kiln", "hot", 0.0)


class Says(PlainServer):
    """Reads a little, says something, and ends; with ``drip``, a byte now and then, for ever."""

    def __init__(self, says: bytes, *, drip: bool = False, endless: bool = False) -> None:
        self.says, self.drip, self.endless = says, drip, endless
        super().__init__()

    def serve(self, connection: socket.socket) -> None:
        if not self.says.startswith(b"220"):
            connection.recv(4096)
        if self.drip:
            while True:
                for byte in self.says:
                    connection.sendall(bytes([byte]))
                    time.sleep(0.02)
        connection.sendall(self.says)
        while self.endless:
            connection.sendall(self.says)


def services(port):
    return Services(
        text_messages=f"http://127.0.0.1:{port}/messages",
        mail=f"smtp://127.0.0.1:{port}",
        mail_from="kiln2@tannried.example",
    )


@pytest.mark.parametrize("name", ODD_ANSWERS)
def test_what_a_gateway_answers_is_read_or_refused(name):
    with Says(ODD_ANSWERS[name]) as server, pytest.raises(web_calls.CallFailed):
        senders.received(services(server.port), 0)


@pytest.mark.parametrize("says", [HEAD, HEAD + b"\r\n[" + b" " * 100])
def test_a_gateway_that_drips_or_never_ends_is_left_in_time(monkeypatch, says):
    monkeypatch.setattr(web_calls, "_ALL_S", 0.3)
    for server in (Says(says, drip=True), Says(says + b"\r\n", endless=True)):
        began = time.monotonic()
        with server, pytest.raises(web_calls.CallFailed):
            senders.received(services(server.port), 0)
        assert time.monotonic() - began < 3


@pytest.mark.parametrize(
    "server", [Says(b"220 x\r\n250-", drip=True), Says(b"220-slow\r\n", endless=True)]
)
def test_a_mail_server_that_never_ends_is_left_in_time(monkeypatch, server):
    monkeypatch.setattr(senders, "_MAIL_S", 0.3)
    mail = Message("m1", "mail", "foreman@tannried.example", "foreman", "Kiln", "hot", 0.0)
    began = time.monotonic()
    with server, pytest.raises(SendFailed):
        senders.sender(services(server.port))(mail)
    assert time.monotonic() - began < 3


def test_sending_goes_on_whatever_is_received(tmp_path, monkeypatch):
    monkeypatch.setattr(messenger, "_RECEIVE_S", 0.01)
    sent, events = threading.Event(), []

    def post(url, service, content=None):
        del url, service
        if content is None:
            raise RecursionError("anything")
        sent.set()
        return web_calls.Answer(202, "taken", b"")

    monkeypatch.setattr(senders, "call", post)
    setup = SimpleNamespace(services=services(9), contacts={})
    one = Messenger(
        setup, tmp_path, lambda: datetime.now(UTC), events.append, lambda happening: None
    )
    one.start()
    while not events:
        time.sleep(0.005)
    one.outbox.put(
        way="text_message", to="+491", contact="foreman", subject="Kiln", text="hot", now_s=1.0
    )
    assert sent.wait(5)
    one.end()
    assert sum("RecursionError" in event.text for event in events) == 1


def test_a_secret_never_goes_unencrypted_to_another_machine(monkeypatch):
    monkeypatch.setenv("LEITWERK_PASSWORD_GATEWAY", "1834")
    with pytest.raises(SendFailed, match="use https"):
        senders.sender(Services(text_messages="http://gateway.example/messages"))(MESSAGE)
    options = LinkOptions(0.3, password=lambda address: "1834")
    broker = parse_address("mqtt+tcp://kiln@broker.example:1883")
    with pytest.raises(lw.LinkError, match="would go unencrypted"):
        publish_once(broker, "a", "b", options)
    with pytest.raises(lw.LinkError, match="would go unencrypted"):
        StationLink(broker, "laerche", options=options).state()
    said = parse_address("mqtt+tcp://kiln@broker.example:1883?in_clear=yes")
    assert parse_address(str(said)) == said
    assert said.in_clear


def test_proxies_of_the_environment_are_not_used_for_this_machine(monkeypatch):
    with Says(HEAD + b"Content-Length: 2\r\n\r\n[]") as server:
        monkeypatch.setenv("HTTP_PROXY", "http://127.0.0.1:9")
        monkeypatch.setenv("ALL_PROXY", "http://127.0.0.1:9")
        assert senders.received(services(server.port), 0) == []


NOW = datetime.now(UTC)
CERTIFICATES = {
    "right": ({}, "localhost"), "wrong name": ({}, "broker.example"),
    "expired": ({"not_before": NOW - timedelta(days=9), "not_after": NOW - timedelta(days=2)}, "localhost"),
    "unknown authority": (None, "localhost"),
}  # fmt: skip


class Tls(Says):
    """The same behind TLS, with a certificate of our own authority, or of another one."""

    def __init__(self, says, authority, kind) -> None:
        options, name = CERTIFICATES[kind]
        issuer = trustme.CA() if options is None else authority
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        issuer.issue_cert(name, **options or {}).configure_cert(self.context)
        self.secrets = b""
        super().__init__(says)

    def serve(self, connection: socket.socket) -> None:
        with self.context.wrap_socket(connection, server_side=True) as inside:
            super().serve(inside)
            while data := inside.recv(4096):
                self.secrets += data


# The client package leaves a socket behind whose handshake has failed.
@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
@pytest.mark.parametrize("kind", CERTIFICATES)
@pytest.mark.parametrize("way", ["web", "mail", "broker"])
def test_a_certificate_that_does_not_hold_is_refused(tmp_path, monkeypatch, way, kind):
    authority = trustme.CA()
    authority.cert_pem.write_to_path(tmp_path / "authority.pem")
    monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "authority.pem"))
    monkeypatch.setenv("LEITWERK_PASSWORD_GATEWAY", "1834")
    says = {
        "web": HEAD + b"Content-Length: 2\r\n\r\n[]",
        "mail": b"220 x\r\n250 x\r\n250 x\r\n250 x\r\n354 x\r\n250 x\r\n221 x\r\n",
        "broker": b"\x20\x02\x00\x00\x90\x03\x00\x01\x01",
    }[way]
    with Tls(says, authority, kind) as server:
        at = f"localhost:{server.port}"
        acts = {
            "web": lambda: senders.received(Services(text_messages=f"https://{at}/messages"), 0),
            "mail": lambda: senders.sender(
                Services(mail=f"smtps://{at}", mail_from="kiln2@tannried.example")
            )(replace(MESSAGE, way="mail", to="foreman@tannried.example")),
            "broker": lambda: StationLink(
                parse_address(f"mqtt+tls://{at}"), "laerche", options=LinkOptions(0.5)
            ).state(),
        }
        if kind == "right":
            # The broker keeps no state; but the connection was taken.
            with pytest.raises(lw.LinkTimeout) if way == "broker" else contextlib.nullcontext():
                acts[way]()
        else:
            with pytest.raises(lw.LeitwerkError, match=r"(?i)certificate"):
                acts[way]()
            assert server.secrets == b""


class OddBroker(PlainServer):
    """Takes a connection and a subscription (MQTT 3.1.1, 3.2 and 3.9), and sends what it likes."""

    def __init__(self, sends) -> None:
        self.sends = sends
        super().__init__()

    def serve(self, connection: socket.socket) -> None:
        connection.recv(4096)
        connection.sendall(b"\x20\x02\x00\x00")
        connection.recv(4096)
        for number in (1, 2, 3):
            connection.sendall(b"\x90\x03" + struct.pack(">H", number) + b"\x01")
        for sent in self.sends:
            connection.sendall(sent)
        time.sleep(1)


STATE = {
    "format": "leitwerk state 1", "maker": "Tannried", "model": "laerche", "serial": "BS-0031",
}  # fmt: skip
ODD_MESSAGES = {
    "not UTF-8": [packet(b"leitwerk/1/laerche/\xff\xfe/state", b"{}")],
    "other topics": [packet(b"x/state", b"{}"), packet(b"/state", b"{}"), packet(b"", b"")],
    "huge": [packet(b"leitwerk/1/laerche/BS-0031/state", b"[" * 3_000_000)],
    "endless topics": [packet(b"leitwerk/1/laerche/S%d/state" % k, b"{}") for k in range(20_000)],
    "deep": [packet(b"leitwerk/1/laerche/BS-0031/state", b"[" * 60_000)],
    "surrogates": [packet(b"leitwerk/1/laerche/BS-0031/state", b'{"maker": "\\ud800"}')],
    "numbers": [packet(b"leitwerk/1/laerche/BS-0031/state", json.dumps(STATE).encode()[:-1]
                        + b', "at": 1e999, "interval_s": -1}')],
    "no MQTT": [b"\xff" * 5000],
}  # fmt: skip


@pytest.mark.parametrize("name", ODD_MESSAGES)
def test_what_a_broker_sends_is_read_or_refused(name):
    with OddBroker(ODD_MESSAGES[name]) as broker:
        link = StationLink(
            parse_address(f"mqtt+tcp://127.0.0.1:{broker.port}"),
            "laerche",
            options=LinkOptions(0.5),
        )
        began = time.monotonic()
        with pytest.raises(lw.LinkError):
            link.state()
        link.close()
        assert time.monotonic() - began < 5
        assert len(link._messages) <= 3000
