"""Simulated services: a gateway for text messages (HTTP), and a mail server (SMTP).

The gateway takes ``POST /messages`` with ``{"id", "to", "text"}`` and answers 202; a message of an
identifier that it has already is not delivered twice. ``GET /messages`` lists what was delivered,
``POST /received`` simulates a received one, ``GET /received?after=N`` gives what came in.
"""

from __future__ import annotations

import json
import threading
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

_LONGEST = 65_536  # bytes of a request
_MOST = 10_000  # messages that are kept
_HOST = "127.0.0.1"


class Gateway:
    """A gateway for text messages, and a place for web calls, on a free port.

    ``down_for`` lets it refuse the first requests, ``token`` is what callers must know.
    """

    def __init__(
        self,
        *,
        port: int = 0,
        token: str = "",
        down_for: int = 0,
        on_message: Callable[[str], None] = lambda line: None,
    ) -> None:
        self.token, self.down_for, self.on_message = token, down_for, on_message
        self.messages: list[dict[str, Any]] = []
        self.received: list[dict[str, Any]] = []
        self._lock = threading.Lock()
        gateway = self

        class Handler(_Handler):
            service = gateway

        self._server = ThreadingHTTPServer((_HOST, port), Handler)
        self._server.daemon_threads = True

    @property
    def address(self) -> str:
        """Where messages are taken."""
        return f"http://{_HOST}:{self._server.server_address[1]}/messages"

    def serve(self) -> None:
        """Serve until ``stop``."""
        self._server.serve_forever(poll_interval=0.05)

    def start(self) -> None:
        """Serve in a thread."""
        threading.Thread(target=self.serve, daemon=True).start()

    def stop(self) -> None:
        """End serving."""
        self._server.shutdown()
        self._server.server_close()

    # ------------------------------------------------------------------ what it answers

    def post(self, path: str, token: str, content: dict[str, Any]) -> tuple[int, Any]:
        """The status and the answer to a POST."""
        with self._lock:
            if self.down_for > 0:
                self.down_for -= 1
                return 503, {"error": "down for a while"}
            if path == "/received":
                entry = {"number": len(self.received) + 1, **content}
                self.received.append(entry)
                return 201, entry
            if self.token and token != f"Bearer {self.token}":
                return 401, {"error": "who is there?"}
            if path == "/messages" and not all(
                isinstance(content.get(key), str) and content[key] for key in ("id", "to", "text")
            ):
                return 400, {"error": "id, to and text are texts"}
            if any(content.get("id") == message.get("id") for message in self.messages):
                return 202, {"status": "known"}
            if len(self.messages) >= _MOST:
                return 507, {"error": "full"}
            self.messages.append({"path": path, **content})
        self.on_message(f"{path} to {content.get('to', '')}: {content.get('text', '')}")
        return 202, {"status": "taken"}

    def get(self, path: str, query: dict[str, list[str]]) -> tuple[int, Any]:
        """The status and the answer to a GET."""
        with self._lock:
            if path == "/messages":
                return 200, list(self.messages)
            if path == "/received":
                after = query.get("after", ["0"])[0]
                first = int(after) if after.isdecimal() else 0
                return 200, self.received[first:]
        return 404, {"error": "nothing here"}


class _Handler(BaseHTTPRequestHandler):
    service: Gateway
    protocol_version = "HTTP/1.1"
    timeout = 10.0

    def do_POST(self) -> None:
        length = self.headers.get("Content-Length", "")
        if not length.isdecimal() or int(length) > _LONGEST:
            self._answer(413, {"error": "too long"})
            return
        try:
            content = json.loads(self.rfile.read(int(length)))
        except (ValueError, RecursionError):
            content = None
        if not isinstance(content, dict):
            self._answer(400, {"error": "no JSON object"})
            return
        token = self.headers.get("Authorization", "")
        self._answer(*self.service.post(urlsplit(self.path).path, token, content))

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        self._answer(*self.service.get(parts.path, parse_qs(parts.query)))

    def _answer(self, status: int, content: Any) -> None:
        body = json.dumps(content, ensure_ascii=False).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: Any) -> None:  # noqa: A002 - the base class names it so
        """Log nothing: deliveries are reported by ``on_message``."""


class MailServer:
    """A mail server that keeps what it is given, on a free port.

    ``options`` are those of the package's controller: an ``ssl_context``, an ``authenticator``.
    """

    def __init__(
        self,
        *,
        port: int = 0,
        down_for: int = 0,
        on_message: Callable[[str], None] = lambda line: None,
        **options: Any,
    ) -> None:
        from aiosmtpd.controller import Controller  # noqa: PLC0415 - only who runs one needs it

        self.mails: list[dict[str, Any]] = []
        self.down_for, self.on_message = down_for, on_message
        # The package cannot bind a free port and report it; so one is looked for.
        self._controller = Controller(self, hostname=_HOST, port=port or _free_port(), **options)

    @property
    def address(self) -> str:
        """Where mails are taken."""
        return f"smtp://{_HOST}:{self._controller.port}"

    def start(self) -> None:
        """Serve in a thread."""
        self._controller.start()

    def stop(self) -> None:
        """End serving."""
        self._controller.stop()

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:  # noqa: N802
        """Take a mail; the package calls this."""
        del server, session
        if self.down_for > 0:
            self.down_for -= 1
            return "451 down for a while"
        text = envelope.content.decode("utf-8", "replace")
        self.mails.append({"from": envelope.mail_from, "to": envelope.rcpt_tos, "content": text})
        self.on_message(f"mail to {', '.join(envelope.rcpt_tos)}")
        return "250 taken"


def _free_port() -> int:
    import socket  # noqa: PLC0415 - used once

    with socket.socket() as one:
        one.bind((_HOST, 0))
        port: int = one.getsockname()[1]
        return port
