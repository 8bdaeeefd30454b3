"""Sessions with devices that are queried and written in texts: SCPI, SDI-12, plain lines."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.text_points import TextPoint, texts
from leitwerk.errors import DeviceRefused, LinkError
from leitwerk.protocols.lines import split_fields
from leitwerk.protocols.scpi import ASK_ERROR, ERRORS_AT_MOST, NO_ERROR, parse_error
from leitwerk.protocols.sdi12 import parse_measure, parse_readdress

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from leitwerk.links.lines import LineLink
    from leitwerk.links.mqtt import StationLink
    from leitwerk.links.sdi12 import Sdi12Link
    from leitwerk.parsing.address import LinkAddress


class QuerySession(ABC):
    """What all of them have in common: one query for all fields of its answer."""

    def __init__(self, address: LinkAddress, datasheet: Datasheet) -> None:
        self._address = address
        self._replies = datasheet.replies

    @abstractmethod
    def query(self, text: str) -> str | list[str]:
        """The answer to a query: a line, or the values of a measurement."""

    @abstractmethod
    def send(self, message: str, *, public: str | None = None) -> None:
        """Send something, and make sure that the device has taken it.

        ``public`` is what may be shown of it, in errors and traces; None when all may be.
        """

    def read(self, points: Sequence[Point]) -> dict[str, Stored]:
        """The values of points, by name."""
        asked = texts(points)
        answers = self._answers(asked)
        return {p.name: p.decode(self._part(p, answers[p.query])) for p in asked}

    def reader(self, points: Sequence[Point]) -> Callable[[], NDArray[np.float64]]:
        """Something that reads the same points as numbers again and again, shape (n_points,)."""
        asked = texts(points)

        def numbers() -> NDArray[np.float64]:
            answers = self._answers(asked)
            return np.array([p.number(self._part(p, answers[p.query])) for p in asked])

        return numbers

    def block_reader(self, points: Sequence[Point]) -> Callable[[], bytes]:
        """Only SCPI has blocks of bytes.

        Raises
        ------
        LinkError
            Always, over another link.

        """
        names = ", ".join(point.name for point in points)
        raise LinkError(f"{self._address}: {names} cannot be read over this link")

    def write(
        self,
        values: Mapping[Point, Stored],
        progress: Callable[[int, int], None] = lambda done, total: None,
        *,
        secret: bool = False,
        backwards: bool = False,
        before: Callable[[], None] = lambda: None,
    ) -> int:
        """One after the other; what is refused ends it."""
        every = list(zip(texts(values), values.values(), strict=True))
        for done, (point, value) in enumerate(every[::-1] if backwards else every, start=1):
            head = point.write.partition("{}")[0]
            message = point.write.replace("{}", point.encode(value))
            before()
            self.send(message, public=head if secret else None)
            progress(done, len(values))
        return len(values)

    def count_writes(self, values: Mapping[Point, Stored]) -> int:
        """One for each."""
        return len(values)

    def _answers(self, points: Sequence[TextPoint]) -> dict[str, str | list[str]]:
        return {query: self.query(query) for query in dict.fromkeys(p.query for p in points)}

    def _part(self, point: TextPoint, answer: str | list[str]) -> str:
        """The part of an answer that a point is: a field, a span of columns, or all of it."""
        if point.columns is not None and isinstance(answer, str):
            low, high = point.columns
            return answer[low - 1 : high]
        if not point.field:
            return answer if isinstance(answer, str) else ",".join(answer)
        separator = self._replies.separator
        fields = _fields(answer, separator) if isinstance(answer, str) else answer
        if len(fields) < point.field:
            raise LinkError(
                f"{self._address}: the answer to '{point.query}' has {len(fields)} fields, "
                f"{point.name} is number {point.field}",
                remedy="does the datasheet fit this device?",
            )
        return fields[point.field - 1]

    def _checked(self, what: str, answer: str, public: str | None = None) -> str:
        """An answer, unless it is the device's way to say no. Of one to a secret, nothing is shown."""
        code = self._replies.refusal(answer)
        if code is None:
            return answer
        said = "" if public is not None else f" with '{answer[:60]}'"
        message = f"{self._address}: the device refused '{what}'{said}"
        raise DeviceRefused(message, code=code)


@lru_cache(maxsize=8)  # all points of an answer look at it, one after the other
def _fields(answer: str, separator: str) -> list[str]:
    return split_fields(answer, separator)


class ScpiSession(QuerySession):
    """Over SCPI. The error queue is read after each message: an instrument confirms nothing itself."""

    def __init__(self, link: LineLink, datasheet: Datasheet) -> None:
        super().__init__(link.address, datasheet)
        self._link = link
        self._is_clear = False

    def query(self, text: str) -> str:
        """One line."""
        return self._link.query(text)

    def block_reader(self, points: Sequence[Point]) -> Callable[[], bytes]:
        """One block."""
        (point,) = texts(points)
        return lambda: self._link.query_block(point.query)

    def send(self, message: str, *, public: str | None = None) -> None:
        """One line, and a look into the error queue."""
        with self._link.lock:
            if not self._is_clear:
                # What others have left in the queue is not the answer to this.
                self._errors()
                self._is_clear = True
            self._link.send(message, public=public)
            errors = self._errors(is_secret=public is not None)
        if errors:
            code, text = errors[0]
            what, said = (
                (message.split(maxsplit=1)[0], f", {text}") if public is None else (public, "")
            )
            refusal = f"{self._address}: the device refused '{what.strip()}': {code}{said}"
            raise DeviceRefused(refusal, code=code)

    def _errors(self, *, is_secret: bool = False) -> list[tuple[int, str]]:
        errors = []
        for _ in range(ERRORS_AT_MOST):
            # An entry is gone once it was read: never query the same one twice.
            public = ASK_ERROR if is_secret else None
            code, text = parse_error(self._link.query(ASK_ERROR, again=False, public=public))
            if code == NO_ERROR:
                break
            errors.append((code, text))
        return errors


class TextSession(QuerySession):
    """In plain lines, with confirmations and refusals as the datasheet has them."""

    def __init__(self, link: LineLink, datasheet: Datasheet) -> None:
        super().__init__(link.address, datasheet)
        self._link = link

    def query(self, text: str) -> str:
        """One line."""
        return self._checked(text, self._link.query(text))

    def send(self, message: str, *, public: str | None = None) -> None:
        """One line, and its confirmation where the device gives one."""
        what = message if public is None else public
        if not self._replies.confirms:
            self._link.send(message, public=public)
            return
        # What changes something is sent once, also when its confirmation is lost.
        answer = self._checked(what, self._link.query(message, again=False, public=public), public)
        _require_confirmed(self._address, what, answer, self._replies.confirms, public)


class SensorSession(QuerySession):
    """Over SDI-12: measurements are started, waited for and fetched; all else is one command."""

    def __init__(self, link: Sdi12Link, datasheet: Datasheet) -> None:
        super().__init__(link.address, datasheet)
        self._link = link

    def query(self, text: str) -> str | list[str]:
        """The values of a measurement, or the answer to another command."""
        measure = parse_measure(text)
        if measure is not None:
            return self._link.measure(text, measure)
        return self._checked(text, self._link.command(text))

    def send(self, message: str, *, public: str | None = None) -> None:
        """One command; every sensor answers."""
        what = message if public is None else public
        # The one command of the standard that is answered from another address: the new one.
        new_unit = parse_readdress(message)
        answer = self._link.command(message, answers_as=new_unit, again=False, public=public)
        answer = self._checked(what, answer, public)
        if self._replies.confirms and not new_unit:
            _require_confirmed(self._address, what, answer, self._replies.confirms, public)


class StationSession(QuerySession):
    """With a station that sleeps: its last messages are read, and nothing can be written to it now.

    A query is the name of a message and of a value in it: ``state serial``, ``settings
    report.interval``, ``status battery.voltage``, ``readings level``.
    """

    def __init__(self, link: StationLink, datasheet: Datasheet) -> None:
        super().__init__(link.address, datasheet)
        self._link = link

    def query(self, text: str) -> str:
        """A value of the last messages."""
        message, _, name = text.partition(" ")
        value = self._link.latest().get(message, {}).get(name)
        if value is None:
            raise LinkError(
                f"{self._address}: the messages of the station have no '{text}'",
                remedy="does the datasheet fit this station?",
            )
        return value if isinstance(value, str) else f"{value:.15g}"

    def send(self, message: str, *, public: str | None = None) -> None:
        """It sleeps."""
        del message, public
        raise DeviceRefused(
            f"{self._address}: a station that sleeps takes no settings at once",
            remedy="request them with 'leitwerk request SETUP'; it takes them when it wakes",
        )


def _require_confirmed(
    address: LinkAddress, what: str, answer: str, wanted: str, public: str | None
) -> None:
    if answer != wanted:
        came = f"'{answer[:60]}'" if public is None else "something else"
        raise LinkError(
            f"{address}: {came} came after '{what}', and not '{wanted}'",
            remedy="read the setting back: it may or may not have been taken",
        )
