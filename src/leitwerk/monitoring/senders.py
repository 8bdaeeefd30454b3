"""Sending messages: text messages and web calls over HTTP, mails, MQTT. Passwords from outside."""

from __future__ import annotations

import json
import smtplib
import ssl
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from email.message import EmailMessage
from email.utils import format_datetime
from urllib.parse import urlsplit, urlunsplit

from pydantic import Field, RootModel, ValidationError

from leitwerk.errors import LeitwerkError
from leitwerk.monitoring.deadline import Deadline
from leitwerk.monitoring.outbox import Message, SendFailed
from leitwerk.monitoring.web_calls import TIMEOUT_S, CallFailed, call, host_of, secret_of
from leitwerk.parsing.address import is_this_machine
from leitwerk.project.kept_json import KeptFile, first_problem
from leitwerk.setup.contacts import Services

_MAIL_S = 60.0  # for all that is said to a mail server
_MOST_RECEIVED = 100  # messages that are taken in at once


@dataclass(frozen=True, slots=True)
class ReceivedMessage:
    """A message that a gateway has taken in; its texts are unchanged."""

    number: int
    sender: str
    text: str


def sender(services: Services | None) -> Callable[[Message], None]:
    """Something that sends a message by its way, or raises SendFailed."""
    known = services or Services()
    ways: dict[str, Callable[[Message], None]] = {
        "text_message": lambda m: _text_message(m, known),
        "mail": lambda m: _mail(m, known),
        "web": lambda m: _post(m.to, _content(m), "web"),
        "topic": lambda m: _publish(m, known),
    }

    def send(message: Message) -> None:
        ways[message.way](message)

    return send


def _content(message: Message) -> dict[str, str]:
    return {"id": message.id, "to": message.to, "subject": message.subject, "text": message.text}


def _text_message(message: Message, services: Services) -> None:
    if services.text_messages is None:
        raise SendFailed("no gateway for text messages is named")
    _post(services.text_messages, _content(message), "gateway")


def _post(url: str, content: dict[str, str], service: str) -> None:
    try:
        answer = call(url, service, content)
    except CallFailed as error:
        raise SendFailed(error.message) from None
    if not answer.is_success:
        raise SendFailed(f"{host_of(url)} answers {answer.status} {answer.reason[:80]}")


def _mail(message: Message, services: Services) -> None:
    if services.mail is None or services.mail_from is None:
        raise SendFailed("no mail server is named")
    parts = urlsplit(services.mail)
    host = parts.hostname or ""
    try:
        mail = _written(message, services.mail_from)
        with (
            Deadline(_MAIL_S) as deadline,
            _mail_server(parts.scheme, host, parts.port, deadline) as server,
        ):
            if parts.username:
                server.login(parts.username, secret_of("mail") or "")
            server.send_message(mail)
    except (OSError, ValueError, smtplib.SMTPException) as error:
        raise SendFailed(f"{host} did not take the mail: {error or type(error).__name__}") from None


def _written(message: Message, sender_address: str) -> EmailMessage:
    mail = EmailMessage()
    mail["From"], mail["To"], mail["Subject"] = sender_address, message.to, message.subject
    mail["Date"] = format_datetime(datetime.fromtimestamp(message.created_s, UTC))
    mail["Message-ID"] = f"<{message.id}@{sender_address.partition('@')[2]}>"
    mail.set_content(message.text)
    return mail


def _mail_server(scheme: str, host: str, port: int | None, deadline: Deadline) -> smtplib.SMTP:
    """A conversation with a mail server that ends in time, however slowly it answers."""

    class Watched(smtplib.SMTP_SSL if scheme == "smtps" else smtplib.SMTP):  # type: ignore[misc]
        def getreply(self) -> tuple[int, bytes]:
            deadline.watch(self.sock)
            reply: tuple[int, bytes] = super().getreply()
            return reply

    if scheme == "smtps":
        return Watched(host, port or 465, timeout=TIMEOUT_S, context=ssl.create_default_context())
    server = Watched(host, port or 25, timeout=TIMEOUT_S)
    if not is_this_machine(host):
        server.starttls(context=ssl.create_default_context())  # nothing in the clear over a network
    return server


def _publish(message: Message, services: Services) -> None:
    from leitwerk.links.mqtt import publish_once  # noqa: PLC0415
    from leitwerk.links.options import LinkOptions  # noqa: PLC0415 - seldom used, and paho is slow
    from leitwerk.parsing.address import parse_address  # noqa: PLC0415
    from leitwerk.project.passwords import broker_password  # noqa: PLC0415

    if services.broker is None:
        raise SendFailed("no broker is named")
    try:
        address = parse_address(services.broker)
        options = LinkOptions(TIMEOUT_S, password=broker_password)
        publish_once(
            address, message.to, json.dumps(_content(message), ensure_ascii=False), options
        )
    except LeitwerkError as error:
        raise SendFailed(error.message) from None


class _Received(KeptFile):
    number: int = Field(ge=0, lt=2**63)
    sender: str = Field("", alias="from")
    text: str = ""


class _ReceivedAnswer(RootModel[list[_Received]]):
    """What the gateway answers."""


def received(services: Services | None, after: int) -> list[ReceivedMessage]:
    """Messages that the gateway has taken in after a number, in its order; at most 100 at once.

    Raises
    ------
    CallFailed
        The gateway is not there, or its answer holds no messages.

    """
    if services is None or services.text_messages is None:
        return []
    parts = urlsplit(services.text_messages)
    url = urlunsplit((parts.scheme, parts.netloc, "/received", f"after={after}", ""))
    answer = call(url, "gateway")
    if answer.status == 404:
        return []  # it receives none
    if not answer.is_success:
        raise CallFailed(f"{host_of(url)} answers {answer.status} {answer.reason[:80]}")
    try:
        entries = _ReceivedAnswer.model_validate_json(answer.body).root
    except ValidationError as error:
        where = first_problem(error)
        raise CallFailed(f"{host_of(url)} answers no list of messages: {where}") from None
    return [ReceivedMessage(e.number, e.sender, e.text) for e in entries[:_MOST_RECEIVED]]
