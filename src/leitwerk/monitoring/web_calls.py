"""Calls over HTTP to services: with a limit for the size of the answer, and for the time of all of it."""

from __future__ import annotations

import os
import ssl
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from leitwerk.errors import LeitwerkError
from leitwerk.monitoring.deadline import Deadline
from leitwerk.parsing.address import is_this_machine
from leitwerk.project.passwords import stored_password

TIMEOUT_S = 10.0  # for one step
_ALL_S = 30.0  # for all of them
_LONGEST_ANSWER = 100_000  # bytes


@dataclass(frozen=True, slots=True)
class Answer:
    """The status of an answer, its reason, and what it holds."""

    status: int
    reason: str
    body: bytes

    @property
    def is_success(self) -> bool:
        """Whether the service took the call."""
        return 200 <= self.status < 300


class CallFailed(LeitwerkError):
    """A service was not reached, or its answer is too long, too slow, or compressed."""


def secret_of(service: str) -> str | None:
    """The password or token of a service: from the environment, or the system's key store."""
    found = os.environ.get(f"LEITWERK_PASSWORD_{service.upper()}")
    return found if found is not None else stored_password("user", "service", service)


def call(url: str, service: str, content: dict[str, str] | None = None) -> Answer:
    """Get what is at an address, or post ``content`` to it. No redirect is followed.

    Proxies of the environment are used for services elsewhere, never for those on this machine.

    Raises
    ------
    CallFailed
        There is no answer that can be used.

    """
    import httpx  # noqa: PLC0415 - a tenth of a second, spent when a message is sent

    host, deadline = host_of(url), Deadline(_ALL_S)
    try:
        # What is compressed may be a thousand times as long when it is unpacked.
        headers = {"Accept-Encoding": "identity", **_rights(url, service)}
        with (
            deadline,
            httpx.Client(
                timeout=TIMEOUT_S,
                verify=ssl.create_default_context(),  # the system's authorities, as for mail
                trust_env=not is_this_machine(host),
            ) as client,
            client.stream(
                "GET" if content is None else "POST",
                url,
                json=content,
                headers=headers,
                extensions={"trace": _Watching(deadline)},
            ) as answer,
        ):
            return Answer(answer.status_code, answer.reason_phrase, _body(answer))
    except (httpx.HTTPError, httpx.InvalidURL, ValueError, OSError) as error:
        why = (
            f"no answer within {_ALL_S:g} s" if deadline.is_over else error or type(error).__name__
        )
        raise CallFailed(f"{host}: {why}") from None


def host_of(url: str) -> str:
    """The host of a service, for messages."""
    return urlsplit(url).hostname or "the service"


class _Watching:
    """Gives the connection of a call to its deadline; the HTTP package reports each step."""

    def __init__(self, deadline: Deadline) -> None:
        self._deadline = deadline

    def __call__(self, name: str, info: dict[str, Any]) -> None:
        if name in {"connection.connect_tcp.complete", "connection.start_tls.complete"}:
            self._deadline.watch(info["return_value"].get_extra_info("socket"))


def _body(answer: Any) -> bytes:
    if answer.headers.get("Content-Encoding", "identity") != "identity":
        raise ValueError("its answer is compressed, which was not asked for")
    body = b""
    for piece in answer.iter_raw():
        body += piece
        if len(body) > _LONGEST_ANSWER:
            raise ValueError(f"its answer is longer than {_LONGEST_ANSWER} bytes")
    return body


def _rights(url: str, service: str) -> dict[str, str]:
    """The header that says who is asking."""
    token = secret_of(service)
    if not token:
        return {}
    if urlsplit(url).scheme != "https" and not is_this_machine(host_of(url)):
        raise ValueError("its token is not sent unencrypted over a network: use https")
    return {"Authorization": f"Bearer {token}"}
