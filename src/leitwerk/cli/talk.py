"""leitwerk talk."""

from __future__ import annotations

import sys
import threading
from collections.abc import Iterator
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import DURATION

if TYPE_CHECKING:
    from leitwerk.check.exchanges import CheckedExchange
    from leitwerk.devices.talk import Talk, Traffic

_PROMPT = "> "
_TURN_S = 0.1


@click.command()
@click.argument("address")
@click.option("--setup", metavar="SETUP", help="A setup with the exchange of the device there.")
@click.option("--exchange", "name", metavar="NAME", help="The exchange in SETUP.")
@click.option("--end", "end_text", metavar="CHARACTERS", help="What ends a line, such as 'CR LF'.")
@click.option("--keep", metavar="FILE", help="Keep both directions in a file.")
@click.option("--again", metavar="FILE", help="Say again what a kept file said, at the same times.")
@click.option("--for", "duration_s", type=DURATION, default="1 s", show_default=True,
              help="How long to listen when there is nothing more to say.")  # fmt: skip
def talk(
    address: str,
    *,
    setup: str | None,
    name: str | None,
    end_text: str | None,
    keep: str | None,
    again: str | None,
    duration_s: float,
) -> int:
    """Talk to the device at ADDRESS by hand: a line that is typed is said, all that comes is shown.

    ADDRESS is text+serial:///dev/ttyUSB1?line=9600,8N1 or text+tcp://127.0.0.1:4001. Control characters
    are shown by name, and can be typed so: <STX>. With a setup, the Tab key completes keywords, and lines
    end as the device wants them. An empty input, such as Ctrl+D, ends it.

    Exit code 0: done. 1: with --again, the device answered otherwise. 2: usage. 3: not reached.
    """
    from leitwerk.devices.talk import Talk, head_line, play_again, read_talk, traffic_line
    from leitwerk.exchange.characters import parse_characters
    from leitwerk.parsing.address import parse_address

    found = _exchange(setup, name)
    way = found.exchange.understands if found else None
    end = parse_characters(end_text) if end_text else way.end if way else "\r\n"
    at = parse_address(address)
    kept = read_talk(Path(again)) if again else []
    seen: list[Traffic] = []
    with ExitStack() as stack:
        file: TextIO | None = None
        if keep:
            file = stack.enter_context(Path(keep).open("w", encoding="utf-8"))
            file.write(head_line(at, datetime.now(UTC).isoformat(timespec="seconds")))

        def take(traffic: Traffic) -> None:
            seen.append(traffic)
            _show(traffic)
            if file is not None:
                file.write(traffic_line(traffic))
                file.flush()

        heard_end = (found.exchange.says.end_bytes if found else end.encode("latin-1")) or b"\n"
        conversation = Talk(at, take, end=heard_end)
        stack.callback(conversation.close)
        if kept:
            for _ in play_again(conversation, kept):
                pass
            return _same(kept, seen)
        before = (way.start if way else "") + (found.exchange.address if found else "")
        words = [line.keyword for line in way.lines] if way else []
        _by_hand(conversation, before, end, way.encoding if way else "latin-1", words, duration_s)
    return FINE


def _by_hand(
    talk: Talk, before: str, end: str, encoding: str, words: list[str], duration_s: float
) -> None:
    """Say what is typed; what comes meanwhile is shown by a thread."""
    from leitwerk.exchange.characters import typed

    ended = threading.Event()
    trouble: list[BaseException] = []

    def listen() -> None:
        try:
            while not ended.is_set():
                talk.listen(_TURN_S)
        except Exception as error:  # noqa: BLE001 - is raised in the main thread
            trouble.append(error)

    thread = threading.Thread(target=listen, daemon=True)
    thread.start()
    try:
        for line in _typed_lines(words):
            if trouble:
                break
            talk.say((before + typed(line) + end).encode(encoding, "replace"))
        if not trouble:
            ended.wait(duration_s)
    finally:
        ended.set()
        thread.join(2 * _TURN_S + 1.0)
    if trouble:
        raise trouble[0]


def _typed_lines(words: list[str]) -> Iterator[str]:
    """The lines that a person types, or that come from a file or pipe."""
    if not sys.stdin.isatty():
        for line in sys.stdin:
            yield line.rstrip("\n")
        return
    try:
        import readline
    except ImportError:  # not on every system
        readline = None  # type: ignore[assignment]
    if readline is not None:
        readline.set_completer_delims("")
        readline.set_completer(
            lambda text, state: ([w for w in words if w.startswith(text)] + [None] * (state + 1))[
                state
            ]
        )
        readline.parse_and_bind("tab: complete")
    while True:
        try:
            yield input(_PROMPT)
        except EOFError:
            return


def _show(traffic: Traffic) -> None:
    from leitwerk.exchange.characters import visible

    mark = "→" if traffic.way == "said" else "←"
    text = f"{traffic.at_s:8.3f} {mark} {visible(traffic.data)}"
    if not sys.stdout.isatty():
        click.echo(text)
        return
    typed = ""
    if "readline" in sys.modules and traffic.way == "heard":
        typed = _PROMPT + sys.modules["readline"].get_line_buffer()
    click.echo(f"\r\x1b[K{text}\n{typed}", nl=False)


def _same(kept: list[Traffic], seen: list[Traffic]) -> int:
    """Whether the device answered as it did when the file was kept."""
    from leitwerk.exchange.characters import visible

    before = b"".join(t.data for t in kept if t.way == "heard")
    now = b"".join(t.data for t in seen if t.way == "heard")
    if before == now:
        click.echo("the device answered as before")
        return FINE
    at = next(
        (k for k, (a, b) in enumerate(zip(before, now, strict=False)) if a != b),
        min(len(before), len(now)),
    )
    click.echo(
        f"it answered otherwise from byte {at + 1} on\n"
        f"  before: {visible(before[at : at + 40])}\n  now:    {visible(now[at : at + 40])}"
    )
    return FOUND


def _exchange(setup: str | None, name: str | None) -> CheckedExchange | None:
    from leitwerk.cli.exchange import find_exchange
    from leitwerk.project.setups import read_setup

    if setup is None:
        if name is not None:
            raise click.UsageError("--exchange needs --setup")
        return None
    checked = read_setup(setup)
    if name is None and len(checked.exchanges) == 1:
        return checked.exchanges[0]
    if name is None:
        raise click.UsageError("--setup needs --exchange: the setup has several, or none")
    return find_exchange(checked, name)
