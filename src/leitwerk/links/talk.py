"""A device that is known only by what it says: its readings are what it said last."""

from __future__ import annotations

import math
import secrets
import time
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.text_points import HeardPoint, TextPoint, texts
from leitwerk.errors import DeviceRefused, LinkError, LinkTimeout
from leitwerk.exchange.characters import visible
from leitwerk.exchange.definition import Carried, Exchange
from leitwerk.exchange.end import CONFIRMED, REFUSED, End
from leitwerk.exchange.hearing import Heard, Why
from leitwerk.exchange.saying import require_exact
from leitwerk.links.byte_link import ByteLink
from leitwerk.links.options import LinkOptions
from leitwerk.links.reconnects import Reconnects
from leitwerk.links.register_session import Session
from leitwerk.links.trace import note
from leitwerk.parsing.address import LinkAddress

if TYPE_CHECKING:
    from numpy.typing import NDArray

FRESH_S = 30.0  # how long what was said counts, where it cannot be asked for
_TURN_S = 0.05
_NOT_SAID = "none"  # in place of a serial number that the device never says


class TalkLink:
    """One end of an exchange, without threads: it hears when it is asked for something.

    Lines that nothing understands are passed over: a device may say more than the exchange holds.
    """

    def __init__(self, address: LinkAddress, exchange: Exchange, *, options: LinkOptions) -> None:
        self.address, self.options, self.exchange = address, options, exchange
        self.reconnects = Reconnects()
        self.requests = 0
        self.heard: dict[str, tuple[float, Heard]] = {}
        self._link = ByteLink(address, exchange.wire.flow)
        self._end = End(exchange, session=secrets.randbelow(1 << 16))
        self._refused = ""
        self._confirmed: Heard | None = None

    def latest(self, line: str) -> Heard:
        """A line as the device said it last: asked for where the exchange can, or waited for.

        Raises
        ------
        LinkTimeout
            It was not said in time.
        DeviceRefused
            The device refused to say it.

        """
        asking = next((x.name for x in self.exchange.says.lines if x.asks == line), None)
        began = time.monotonic()
        self._refused = ""
        if asking is not None:
            self._end.say(asking, (), began)
            self.requests += 1
        else:
            self._turn(0.0)
        since = began if asking is not None else began - FRESH_S
        while not self._is_answer(found := self.heard.get(line), since, asked=asking is not None):
            left = began + self.options.timeout_s - time.monotonic()
            if left <= 0.0:
                how = "did not answer with" if asking else "did not say"
                raise LinkTimeout(
                    f"{self.address}: the device {how} '{line}' within {self.options.timeout_s:g} s",
                    remedy="'leitwerk exchange diagnose' says what arrives there",
                )
            self._turn(min(left, _TURN_S))
            if asking and self._refused:
                said, self._refused = self._refused, ""
                raise DeviceRefused(f"{self.address}: the device refused: {said}")
        assert found is not None
        return found[1]

    def _is_answer(self, found: tuple[float, Heard] | None, since: float, *, asked: bool) -> bool:
        """Whether a line was said late enough, and, where it says that, as the answer to what was asked."""
        if found is None or found[0] < since:
            return False
        return not asked or found[1].answers in {"", self._end.asked}

    def say(self, message: str, values: Sequence[Carried]) -> Heard | None:
        """Say a message; the line that confirms it, or None when nothing comes in time.

        Values are said exactly, or not at all; None stands for no value.

        Raises
        ------
        CannotSay
            The device would not understand it, or understand another value.
        DeviceRefused
            It was refused.

        """
        line = next((one for one in self.exchange.says.lines if one.name == message), None)
        if line is not None:
            require_exact(line, self.exchange.says, values)
        self._turn(0.0)
        self._refused, self._confirmed = "", None
        began = time.monotonic()
        self._end.say(message, values, began)
        self.requests += 1
        while (left := began + self.options.timeout_s - time.monotonic()) > 0.0:
            self._turn(min(left, _TURN_S))
            if self._refused:
                raise DeviceRefused(f"{self.address}: the device refused: {self._refused}")
            if self._confirmed is not None:
                break
        return self._confirmed

    def close(self) -> None:
        """End the connection."""
        self._link.close()

    def _turn(self, wait_s: float) -> None:
        """Say what is to be said, and take what comes within a time."""
        what, timeout_s = self.exchange.name, self.options.timeout_s
        self.reconnects.notice(self._link.open(timeout_s, what))
        out = self._end.output()
        if out:
            note(self.options.tracer, self.address, out, sent=True, meaning=what)
            self._link.write(out, timeout_s, what)
        data = self._link.read_some(wait_s, timeout_s, what)
        if data:
            note(self.options.tracer, self.address, data, sent=False, meaning=what)
        now_s = time.monotonic()
        lines = self._end.receive(data, now_s) if data else self._end.look(now_s)
        if troubles := self._end.troubles():
            raise DeviceRefused(
                f"{self.address}: {troubles[0]}", remedy="does the device hold this exchange?"
            )
        for heard in lines:
            if heard.name in {REFUSED, CONFIRMED} and heard.answers != self._end.asked:
                continue  # the answer to another line, that came late
            if heard.name == REFUSED:
                self._refused = _reason(heard)
            elif heard.name == CONFIRMED:
                self._confirmed = heard
            elif heard.name:
                self.heard[heard.name] = (now_s, heard)


class TalkSession:
    """Readings are the values of lines: ``query`` is the line, ``field`` the value in it."""

    def __init__(self, link: TalkLink, datasheet: Datasheet) -> None:
        self._link = link
        self._model = datasheet.model

    def read(self, points: Sequence[Point]) -> dict[str, Stored]:
        """The values of points, by name; NaN where the device has no good value."""
        found: dict[str, Stored] = {}
        lines: dict[str, Heard] = {}
        for point in texts(points):
            if not point.field:
                found[point.name] = self._model if point.name == "model" else self._serial()
                continue
            if point.query not in lines:
                lines[point.query] = self._link.latest(point.query)
            value = _value(lines[point.query], point)
            found[point.name] = math.nan if value is None else value
        return found

    def reader(self, points: Sequence[Point]) -> Callable[[], NDArray[np.float64]]:
        """Something that reads the same points as numbers again and again, shape (n_points,)."""
        asked = texts(points)
        lines = list(dict.fromkeys(point.query for point in asked))

        def numbers() -> NDArray[np.float64]:
            heard = {line: self._link.latest(line) for line in lines}
            return np.array([_number(point, _value(heard[point.query], point)) for point in asked])

        return numbers

    def block_reader(self, points: Sequence[Point]) -> Callable[[], bytes]:
        """Such a device holds no files.

        Raises
        ------
        DeviceRefused
            Always.

        """
        del points
        raise DeviceRefused(f"{self._link.address}: a device that only talks holds no files")

    def write(
        self,
        values: Mapping[Point, Stored],
        progress: Callable[[int, int], None] = lambda done, total: None,
        *,
        secret: bool = False,
        backwards: bool = False,
        before: Callable[[], None] = lambda: None,
    ) -> int:
        """Such a device has no settings that are read back.

        Raises
        ------
        DeviceRefused
            Always.

        """
        del values, progress, secret, backwards, before
        raise DeviceRefused(f"{self._link.address}: a device that only talks has no settings")

    def count_writes(self, values: Mapping[Point, Stored]) -> int:
        """One for each."""
        return len(values)

    def _serial(self) -> str:
        """The serial number, where the device says it."""
        place = self._link.exchange.serial_place
        if place is None:
            return _NOT_SAID
        heard = self._link.latest(place[0])
        value = None if heard.trouble is not None else heard.values[place[1]]
        if value is None:
            why = heard.trouble.message if heard.trouble else "it says no serial number"
            shown = visible(heard.text[:60])
            raise LinkError(
                f"{self._link.address}: who the device is cannot be read from '{shown}': {why}"
            )
        return str(value)


Latest = Callable[[str], "Heard | None"]
"""Gives a line as it was said last, by its name; None where it was not said lately."""


class HeardSession:
    """A session with a device, whose datasheet has readings that other ends say: these come from there.

    ``sources`` gives what each exchange said last; without one, its port is opened here.
    """

    def __init__(self, own: Session, datasheet: Datasheet, options: LinkOptions) -> None:
        self._own, self._heard, self._options = own, datasheet.heard, options
        self.sources: dict[str, Latest] = {}
        self._links: dict[str, TalkLink] = {}

    def read(self, points: Sequence[Point]) -> dict[str, Stored]:
        """The values of points, by name; NaN where another end has said none."""
        own = [point for point in points if not isinstance(point, HeardPoint)]
        heard = [point for point in points if isinstance(point, HeardPoint)]
        found = self._own.read(own) if own else {}
        for point, value in zip(heard, self._values(heard), strict=True):
            found[point.name] = math.nan if value is None else value
        return {point.name: found[point.name] for point in points}

    def reader(self, points: Sequence[Point]) -> Callable[[], NDArray[np.float64]]:
        """Something that reads the same points as numbers again and again, shape (n_points,)."""
        is_heard = np.array([isinstance(point, HeardPoint) for point in points])
        heard = [point for point in points if isinstance(point, HeardPoint)]
        own = self._own.reader([p for p in points if not isinstance(p, HeardPoint)])

        def numbers() -> NDArray[np.float64]:
            found = np.empty(len(points))
            found[~is_heard] = own()
            values = zip(heard, self._values(heard), strict=True)
            found[is_heard] = [_number(point, value) for point, value in values]
            return found

        return numbers

    def block_reader(self, points: Sequence[Point]) -> Callable[[], bytes]:
        """As the session with the device."""
        return self._own.block_reader(points)

    def write(
        self,
        values: Mapping[Point, Stored],
        progress: Callable[[int, int], None] = lambda done, total: None,
        *,
        secret: bool = False,
        backwards: bool = False,
        before: Callable[[], None] = lambda: None,
    ) -> int:
        """As the session with the device."""
        return self._own.write(values, progress, secret=secret, backwards=backwards, before=before)

    def count_writes(self, values: Mapping[Point, Stored]) -> int:
        """As the session with the device."""
        return self._own.count_writes(values)

    def close(self) -> None:
        """Close the ports that were opened here."""
        for link in self._links.values():
            link.close()

    def _values(self, points: Sequence[HeardPoint]) -> list[Carried]:
        """One value for each point; a line in which several stand is asked for once."""
        lines = dict.fromkeys((point.exchange, point.query) for point in points)
        heard = {place: self._latest(*place) for place in lines}
        found = [heard[point.exchange, point.query] for point in points]
        return [
            None if line is None else _value(line, point)
            for point, line in zip(points, found, strict=True)
        ]

    def _latest(self, exchange: str, line: str) -> Heard | None:
        source = self.sources.get(exchange)
        try:
            return source(line) if source else self._link(exchange).latest(line)
        except LinkTimeout:
            return None  # the other end is silent; the device is not

    def _link(self, name: str) -> TalkLink:
        if name not in self._links:
            found = self._heard[name]
            self._links[name] = TalkLink(found.at, found.exchange, options=self._options)
        return self._links[name]


def _reason(heard: Heard) -> str:
    """Why a line was refused, in words where the other end numbers its reasons as Leitwerk does."""
    code = str(heard.values[0]) if heard.values else ""
    known = {str(int(why)): why.words for why in Why}
    return f"{known[code]} ({code})" if code in known else visible(heard.text)


def _value(heard: Heard, point: TextPoint) -> Carried:
    """The value of a point in a line; None where the line, or this value, was not understood."""
    if heard.trouble is not None or point.field > len(heard.values):
        return None
    return heard.values[point.field - 1]


def _number(point: TextPoint, value: Carried) -> float:
    if isinstance(value, str):
        return dict(point.choice_numbers).get(value, math.nan)
    return math.nan if value is None else float(value)
