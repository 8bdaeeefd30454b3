"""Sending messages: text messages and web calls over HTTP, mails, MQTT. Passwords from outside."""

from __future__ import annotations

import json
import os
import smtplib
import ssl
from collections.abc import Callable
from datetime import UTC, datetime
from email.message import EmailMessage
from email.utils import format_datetime
from typing import Any
from urllib.parse import urlsplit, urlunsplit

from leitwerk.errors import LeitwerkError
from leitwerk.monitoring.outbox import Message, SendFailed
from leitwerk.project.passwords import stored_password
from leitwerk.setup.contacts import Services

TIMEOUT_S = 10.0
_HERE = {"127.0.0.1", "localhost", "::1"}
_MOST_RECEIVED = 100  # messages that are taken in at once
_LONGEST_ANSWER = 100_000  # bytes


def secret_of(service: str) -> str | None:
    """The password or token of a service: from the environment, or the system's key store."""
    found = os.environ.get(f"LEITWERK_PASSWORD_{service.upper()}")
    return found if found is not None else stored_password("user", "service", service)


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
    import httpx  # noqa: PLC0415 - a tenth of a second, spent when a message is sent

    try:
        answer = httpx.post(
            url,
            json=content,
            headers=_rights(url, service),
            timeout=TIMEOUT_S,
            follow_redirects=False,
        )
    except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
        raise SendFailed(f"{_host(url)} was not reached: {error or type(error).__name__}") from None
    if not answer.is_success:
        raise SendFailed(f"{_host(url)} answers {answer.status_code} {answer.reason_phrase}")


def _mail(message: Message, services: Services) -> None:
    if services.mail is None or services.mail_from is None:
        raise SendFailed("no mail server is named")
    parts = urlsplit(services.mail)
    host = parts.hostname or ""
    try:
        mail = _written(message, services.mail_from)
        with _mail_server(parts.scheme, host, parts.port) as server:
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


def _mail_server(scheme: str, host: str, port: int | None) -> smtplib.SMTP:
    if scheme == "smtps":
        context = ssl.create_default_context()
        return smtplib.SMTP_SSL(host, port or 465, timeout=TIMEOUT_S, context=context)
    server = smtplib.SMTP(host, port or 25, timeout=TIMEOUT_S)
    if host not in _HERE:
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


def received(services: Services | None, after: int) -> tuple[list[dict[str, Any]], int]:
    """Messages that the gateway has taken in after a number, and the number of the last one.

    A gateway that is not there, or keeps none, has taken in none.
    """
    import httpx  # noqa: PLC0415

    if services is None or services.text_messages is None:
        return [], after
    parts = urlsplit(services.text_messages)
    url = urlunsplit((parts.scheme, parts.netloc, "/received", f"after={after}", ""))
    try:
        answer = httpx.get(
            url, headers=_rights(url, "gateway"), timeout=TIMEOUT_S, follow_redirects=False
        )
        found = answer.json() if answer.is_success and len(answer.content) < _LONGEST_ANSWER else []
    except (httpx.HTTPError, httpx.InvalidURL, ValueError):
        return [], after
    entries = [e for e in found if isinstance(e, dict)] if isinstance(found, list) else []
    last = after
    for entry in entries[:_MOST_RECEIVED]:
        number = entry.get("number")
        last = max(last, number) if isinstance(number, int) else last
    return entries[:_MOST_RECEIVED], last


def _rights(url: str, service: str) -> dict[str, str]:
    """The header that says who is asking; never in the clear over a network."""
    parts = urlsplit(url)
    token = secret_of(service)
    if not token or (parts.scheme != "https" and parts.hostname not in _HERE):
        return {}
    return {"Authorization": f"Bearer {token}"}


def _host(url: str) -> str:
    return urlsplit(url).hostname or "the service"
