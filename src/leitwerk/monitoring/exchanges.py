"""The exchanges of an attended device: values for what is said, and where heard values go."""

from __future__ import annotations

import secrets
from collections.abc import Callable

from leitwerk.check.checked import CheckedSetup
from leitwerk.datasheet.points import Stored
from leitwerk.errors import LeitwerkError
from leitwerk.evaluation.situation import Situation
from leitwerk.exchange.definition import Carried, Part
from leitwerk.exchange.hearing import Heard
from leitwerk.exchange.terms import Layout
from leitwerk.identity import Identity
from leitwerk.monitoring.exchange_runner import ExchangeRunner, Told
from leitwerk.project.clock import Clock


class Exchanges:
    """All exchanges in which Leitwerk is an end. ``step`` stores what has been heard since the last.

    Parameters
    ----------
    tell : callable
        Called with everything that happens, from any thread.
    happen : callable
        Called with events for rules, from any thread.
    change, switch : callable
        Give a setting of the device another value; switch an output. Both raise a LeitwerkError when
        that is not possible. Called by ``step`` only.

    """

    def __init__(
        self,
        setup: CheckedSetup,
        situation: Situation,
        clock: Clock,
        *,
        tell: Callable[[Told], None],
        happen: Callable[[str], None],
        change: Callable[[str, str], None],
        switch: Callable[[str, str], None],
    ) -> None:
        self.changed: dict[str, Stored] = {}  # settings, since the setup was uploaded
        self._checked, self._situation, self._clock = setup, situation, clock
        self._tell, self._change, self._switch = tell, change, switch
        self._identity: Identity | None = None
        self.runners = {
            c.name: ExchangeRunner(
                c,
                value=self._value,
                tell=tell,
                happen=happen,
                clock=clock,
                session=secrets.randbelow(1 << 16),
            )
            for c in setup.exchanges
            if c.at is not None
        }

    def start(self, identity: Identity) -> None:
        """Begin to hear and to say for a device."""
        self._identity = identity
        for runner in self.runners.values():
            runner.start()

    def close(self) -> None:
        """End all of them."""
        for runner in self.runners.values():
            runner.close()

    def step(self) -> None:
        """Store what has been heard for the device, and answer."""
        for runner in self.runners.values():
            for heard in runner.take():
                self._store(runner, heard)

    def say(self, message: str) -> None:
        """Say a message by its full name, ``office.temperatures``."""
        runner, line = self._end_of(message)
        runner.say(line)

    def switch(self, line: str, *, on: bool) -> None:
        """Switch a message or keyword on or off, by its full name."""
        runner, name = self._end_of(line)
        runner.switch(name, on=on)

    def is_off(self, message: str) -> bool:
        """Whether a message is switched off."""
        runner, line = self._end_of(message)
        return runner.is_off(line)

    def _end_of(self, full: str) -> tuple[ExchangeRunner, str]:
        exchange, _, line = full.partition(".")
        runner = self.runners.get(exchange)
        if runner is None:
            raise LeitwerkError(
                f"the device itself is the end of {exchange}", remedy="add 'at' to it"
            )
        return runner, line

    def _store(self, runner: ExchangeRunner, heard: Heard) -> None:
        """Put the values of a line where they go; the other end learns whether that was possible."""
        refused = ""
        for part, value in zip(
            runner.exchange.understands.line(heard.name).values, heard.values, strict=False
        ):
            if value is None or not part.of:
                continue
            try:
                self._put(part, value)
            except LeitwerkError as error:
                refused = error.message
                subject = f"{runner.exchange.name}.{heard.name}"
                self._tell(Told(subject, f"{part.of}: {refused}", failed=True))
                break
        runner.answer(heard, refused)

    def _put(self, part: Part, value: Carried) -> None:
        what, _, name = part.of.partition(" ")
        (self._change if what == "setting" else self._switch)(name, str(value))

    def _value(self, part: Part) -> Carried:
        """What a part of a message carries at this moment."""
        what, _, name = part.of.partition(" ")
        if what == "channel":
            value = self._situation.value(name)
            states = self._checked.channel(name).states
            return value if states is None or value is None else states.name(value)
        if what == "setting":
            return self.changed.get(name, self._checked.settings.values.get(name))
        if what == "state":
            return self._state(name)
        if what == "device":
            return None if self._identity is None else str(getattr(self._identity, name))
        return self._moment(part)

    def _state(self, name: str) -> Carried:
        if name in self._situation.outputs:
            return self._situation.outputs[name]
        found = self._situation.states(name)
        return None if found is None else "active" if "active" in found else "not active"

    def _moment(self, part: Part) -> Carried:
        now = self._clock.now()
        if part.form.layout is not Layout.TIME_OF_DAY:
            return now.timestamp()
        local = now.astimezone(self._checked.setup.zone)
        return local.hour * 3600 + local.minute * 60 + local.second
