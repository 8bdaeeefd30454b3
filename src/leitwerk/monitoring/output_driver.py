"""The outputs of a device, as Leitwerk reads and drives them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime

from leitwerk.check.outputs import CheckedOutput, RelayOutput
from leitwerk.datasheet.vocabulary import DRIVE_RELAY, RELAY_STATE
from leitwerk.devices.device import Device
from leitwerk.devices.driving import drive
from leitwerk.errors import DeviceRefused, LeitwerkError, LinkError, OutputNotSafe, WrongDevice
from leitwerk.monitoring.events import Done, Event, EventKind
from leitwerk.project.claims import Claim
from leitwerk.project.clock import Clock
from leitwerk.rules.switches import Switches

_ATTEMPTS = 3  # to make outputs safe


class OutputDriver:
    """Switches relays when it is time, and says what they are.

    What goes wrong with an output is reported once for as long as it is the same.

    Parameters
    ----------
    with_rights : callable
        Does something after a login, where the device wants one.
    emit : callable
        Called with every event.

    """

    def __init__(
        self,
        device: Device,
        outputs: Sequence[CheckedOutput],
        clock: Clock,
        with_rights: Callable[[Callable[[], None]], None],
        emit: Callable[[Event], None],
    ) -> None:
        relays = [o for o in outputs if isinstance(o, RelayOutput)]
        free = [o.switch for o in relays if not o.follows]
        self.switches = Switches(free, clock.monotonic())
        self._device, self._clock = device, clock
        self._with_rights, self._emit = with_rights, emit
        self._slots = {o.name: o.terminal.slot for o in relays}
        state = device.datasheet.family(RELAY_STATE)
        self._states = {name: state.point(slot) for name, slot in self._slots.items() if state}
        self._troubles: dict[str, str] = {}
        self.note: Claim | None = None

    def read(self) -> dict[str, str]:
        """What the outputs are, as the device says; what it does not say is as it was asked."""
        found = dict(self.switches.states)
        if self._states:
            try:
                shown = self._device.read_points(list(self._states.values()))
            except (LinkError, DeviceRefused, WrongDevice):
                return found
            found |= {name: str(shown[point.name]) for name, point in self._states.items()}
        return found

    def switch_due(self, now: datetime) -> None:
        """Switch what is due."""
        for name, state in self.switches.due(self._clock.monotonic()):
            self._drive(name, state, now)

    def make_safe(self, now: datetime) -> None:
        """Bring every output that was switched here to its safe state.

        In several attempts: a link that was interrupted is made anew by the next one.

        Raises
        ------
        OutputNotSafe
            Some of them could not be brought there.

        """
        for _ in range(_ATTEMPTS):
            for name, state in self.switches.unsafe():
                self._drive(name, state, now)
            unsafe = [name for name, _ in self.switches.unsafe()]
            if not unsafe:
                return
        raise OutputNotSafe(unsafe, self._device.address, self._troubles.get(unsafe[0], ""))

    def _drive(self, name: str, state: str, now: datetime) -> None:
        family = self._device.datasheet.family(DRIVE_RELAY)
        assert family is not None, "the check refuses rules that switch what cannot be driven"
        slot, safe = self._slots[name], self.switches.switches[name].safe
        point = family.point(slot)
        if self.note is not None and state != safe:
            self.note.driven(name, DRIVE_RELAY.name, slot, safe)
        try:
            self._with_rights(lambda: drive(self._device, point, state, name))
        except (LinkError, WrongDevice, OutputNotSafe) as error:
            self.switches.failed(name)
            self._report(name, state, error, now)
        except (KeyboardInterrupt, SystemExit):
            self.switches.failed(name)  # it may have been switched
            raise
        except LeitwerkError as error:
            self.switches.refused(name)
            self._report(name, state, error, now)
        else:
            self._troubles.pop(name, None)
            self.switches.switched(name, state, self._clock.monotonic())
            if self.note is not None and state == safe:
                self.note.released(name)
            self._emit(Event(now, EventKind.OUTPUT, name, state, state=state))

    def _report(self, name: str, state: str, error: LeitwerkError, now: datetime) -> None:
        text = f"was not switched {state}: {error.message}"
        if self._troubles.get(name) != text:
            self._troubles[name] = text
            self._emit(Event(now, EventKind.TROUBLE, name, text, Done.FAILED))
