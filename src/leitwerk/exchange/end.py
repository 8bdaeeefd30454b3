"""One end of an exchange, in all three manners: bytes in, lines understood; lines to say, bytes out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from leitwerk.errors import QuantityError
from leitwerk.exchange import guarded
from leitwerk.exchange.definition import Carried, Exchange
from leitwerk.exchange.guarded import GuardedEnd
from leitwerk.exchange.hearing import Heard, Listener, Trouble, Why
from leitwerk.exchange.lines import LineCutter, RawLine
from leitwerk.exchange.person import CLEAR, HELP, KEEP, MOST_OUT, LineEditor, help_lines
from leitwerk.exchange.saying import Say, packed, speaker
from leitwerk.exchange.terms import Manner, Spaces

CONFIRMED, REFUSED = "(confirmed)", "(refused)"  # names of lines by which the other end answers
_ANSWERS = {"%2B": CONFIRMED, "%2D": REFUSED}  # as keywords of the guarded manner


class End:
    """One end of an exchange. It knows no port and no clock: bytes and moments are given to it.

    Parameters
    ----------
    exchange : Exchange
        As this end sees it.
    session : int
        For the guarded manner: any number, another at each start.

    """

    def __init__(self, exchange: Exchange, *, session: int = 0) -> None:
        self.exchange = exchange
        self.counts: Counter[str] = Counter()
        self.off: set[str] = set()
        way = exchange.understands
        self.listener = Listener(way, manner=exchange.manner, address=exchange.address)
        self._says: dict[str, Say] = {
            line.name: speaker(line, exchange.says) for line in exchange.says.lines
        }
        self._by_keyword = {guarded.escape(line.keyword): line for line in way.lines}
        self._out = bytearray()
        # Where spaces divide, one at the end of a line stands before an empty value.
        self._keeps_spaces = way.spaces is Spaces.KEEP or not way.separator.strip(" ")
        self._other_told = ""
        self.guard = self.editor = None
        if exchange.manner is Manner.PEOPLE:
            self.editor = LineEditor(way.encoding, way.longest)
        elif exchange.manner is Manner.GUARDED:
            address = exchange.address.encode(exchange.says.encoding)
            self.guard = GuardedEnd(exchange.fingerprint, session % 65_536, address)
        is_guarded = self.guard is not None
        self._cutter = LineCutter(
            guarded.END if is_guarded else way.end_bytes,
            (guarded.MOST_BODY + 40 if is_guarded else way.longest) + len(exchange.address),
            b"" if is_guarded else way.start.encode(way.encoding),
        )

    # ------------------------------------------------------------------ hearing

    def receive(self, data: bytes, now_s: float) -> list[Heard]:
        """The lines that have come with these bytes, with what was understood of them.

        ``now_s`` is in s, on a clock that does not go back; also below.
        """
        if self.editor is not None:
            return [h for text in self.editor.feed(data) if (h := self._entered(text)) is not None]
        return self._lines(self._cutter.feed(data, now_s), now_s)

    def look(self, now_s: float) -> list[Heard]:
        """What is due without any bytes: a line that stands still is given up, a guarded one repeated."""
        if self.guard is not None:
            self.guard.look(now_s)
        return self._lines(self._cutter.look(now_s), now_s)

    def _lines(self, lines: Sequence[RawLine], now_s: float) -> list[Heard]:
        found = []
        for line in lines:
            heard = self._guarded(line, now_s) if self.guard is not None else self._plain(line)
            if heard is not None:
                self.counts[heard.trouble.why.words if heard.trouble else "understood"] += 1
                found.append(heard)
        return found

    def _plain(self, line: RawLine) -> Heard | None:
        if line.trouble:
            return Heard("", trouble=Trouble(Why.LENGTH, line.trouble), raw=line.data)
        heard = self.listener.hear(line.data)
        if heard is not None and heard.trouble is not None and heard.trouble.why is Why.KEYWORD:
            return self._answered(heard) or heard
        return heard

    def _answered(self, heard: Heard) -> Heard | None:
        """A confirmation or refusal of the other end."""
        way = self.exchange.understands
        if way.confirms and heard.text == way.confirms:
            return heard._replace(name=CONFIRMED, trouble=None)
        if not way.refuses:
            return None
        head, tail = (
            way.refuses.replace("{why}", "{}").split("{}", 1)
            if "{" in way.refuses
            else (way.refuses, "")
        )
        if heard.text.startswith(head) and heard.text.endswith(tail):
            reason = heard.text[len(head) : len(heard.text) - len(tail)]
            return heard._replace(name=REFUSED, texts=(reason,), values=(reason,), trouble=None)
        return None

    def _guarded(self, line: RawLine, now_s: float) -> Heard | None:
        assert self.guard is not None
        address = self.guard.address
        if line.trouble or not line.data.startswith(address):
            self.counts["damaged"] += 1
            return None
        body = self.guard.hear(line.data[len(address) :], now_s)
        return None if body is None else self._body(body)._replace(id=self.guard.heard)

    def _body(self, body: str) -> Heard:
        keyword, *texts = body.split(";")
        answers = ""
        if keyword.startswith("@"):
            answers = keyword[1:]
            keyword, *texts = texts or [""]
        if keyword in _ANSWERS:
            return Heard(body, _ANSWERS[keyword], tuple(texts), tuple(texts), answers=answers)
        form = self._by_keyword.get(keyword)
        if form is None:
            return Heard(body, trouble=Trouble(Why.KEYWORD, f"there is no line {keyword[:40]!r}"))
        try:
            values = guarded.read_body(form, texts)
        except QuantityError as error:
            return Heard(body, form.name, trouble=Trouble(Why.VALUE, error.message))
        return self.listener.hold(Heard(body, form.name, tuple(texts), values, answers=answers))

    def _entered(self, text: str) -> Heard | None:
        assert self.editor is not None
        word = text.strip().casefold()
        if word in {CLEAR, KEEP}:
            self.editor.keeps_lines = word == KEEP
        elif word and word != HELP:
            heard = self.listener.understand(text if self._keeps_spaces else text.strip())
            self.counts[heard.trouble.why.words if heard.trouble else "understood"] += 1
            return heard
        self.editor.answer(help_lines(self.exchange) if word == HELP else [])
        return None

    # ------------------------------------------------------------------ saying

    def say(self, name: str, values: Sequence[Carried], now_s: float) -> None:
        """Say a line by its name, with its values in their order.

        Raises
        ------
        CannotSay
            The other end would not understand it as what it is.

        """
        if self.guard is not None:
            line = self.exchange.says.line(name)
            self.guard.send(guarded.write_body(line, values), now_s)
        else:
            self._write(self._says[name](values), is_answer=False)
        self.counts["said"] += 1

    def answer(self, name: str, values: Sequence[Carried], now_s: float, heard: Heard) -> None:
        """The same, as the answer to a line that was heard."""
        if self.editor is not None:
            self._write(self._says[name](values), is_answer=True)
        elif self.guard is not None:
            line = self.exchange.says.line(name)
            self._send_answer(heard, guarded.write_body(line, values), now_s)
        else:
            self.say(name, values, now_s)

    def confirm(self, heard: Heard, now_s: float) -> None:
        """Confirm a line that was heard."""
        if self.guard is not None:
            self._send_answer(heard, "%2B", now_s)
        else:
            self._write(self.exchange.says.confirms, is_answer=True)

    def refuse(self, heard: Heard, now_s: float, why: Why | None = None, message: str = "") -> None:
        """Refuse a line that was heard, with the reason."""
        trouble = heard.trouble or Trouble(why or Why.REFUSED, message)
        if self.guard is not None:
            self._send_answer(heard, f"%2D;{int(trouble.why)}", now_s)
            return
        text = self.exchange.says.refuses.replace("{}", str(int(trouble.why)))
        text = text.replace("{why}", trouble.why.words)
        if self.editor is not None:
            self._show(f"{text}: {trouble.message}" if trouble.message else text, is_answer=True)
        else:
            self._write(text, is_answer=True)

    def _send_answer(self, heard: Heard, body: str, now_s: float) -> None:
        assert self.guard is not None
        self.guard.send(f"@{heard.id};{body}", now_s)

    @property
    def asked(self) -> str:
        """What an answer to the line that was said last names; empty where answers name nothing."""
        return self.guard.sent if self.guard is not None else ""

    def nothing_to_say(self) -> None:
        """There is no answer to the line that was heard last; a person sees that the device waits again."""
        if self.editor is not None:
            self.editor.answer([])

    def output(self) -> bytes:
        """The bytes that are to be written now; they are taken away."""
        source = self._out
        if self.guard is not None:
            source = self.guard.out
        elif self.editor is not None:
            source = self.editor.out
        data = bytes(source)
        source.clear()
        return data

    def connected_again(self) -> None:
        """The connection is a new one: what is old is not said, and half a line is not continued."""
        self.output()
        self._cutter.forget()

    def troubles(self) -> list[str]:
        """What went wrong without a line of its own, in words; each is given once."""
        if self.guard is None:
            return []
        found = [f"not acknowledged: {body}" for body in self.guard.lost]
        self.guard.lost.clear()
        other = self.guard.other_description
        if other and other != self._other_told:
            self._other_told = other
            found.append(
                f"the other end has another description: its fingerprint is {other}, here it is "
                f"{self.exchange.fingerprint}"
            )
        return found

    def _write(self, text: str, *, is_answer: bool) -> None:
        """A line as it is; one that the encoding does not know cannot be said."""
        data = packed(text, self.exchange.says, self.exchange.address)
        if self.editor is not None:
            self._show(text, is_answer=is_answer)
        elif len(self._out) + len(data) > MOST_OUT:
            self.counts["not sent"] += 1  # the other end does not take them
        else:
            self._out += data

    def _show(self, text: str, *, is_answer: bool) -> None:
        """A line for a person; what the encoding does not know is shown as a question mark."""
        assert self.editor is not None
        if is_answer:
            self.editor.answer([text])
        else:
            self.editor.show(text)
