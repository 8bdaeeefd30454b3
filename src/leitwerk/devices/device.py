"""A device: its datasheet and its link, and what can be asked of it."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import timedelta
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.check.checked import CheckedSetup
from leitwerk.datasheet.decided import conversion, deciding_settings, in_own_unit
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.settings import DeviceSettings, show_setting
from leitwerk.datasheet.vocabulary import (
    CLOCK_DATE,
    CLOCK_TIME,
    DEVICE_CLOCK,
    LOG_OUT,
    LOGGED_IN,
    LOGIN,
    RECORDING,
    RECORDINGS,
    SET_CLOCK,
    SET_DATE,
    SET_TIME,
    UNCOMMITTED,
    UNFETCHED,
    UPTIME,
    KnownPoint,
)
from leitwerk.devices.clock import CLOCK_FORM, ClockReading, ClockZone, read_clock
from leitwerk.errors import (
    DeviceRefused,
    DeviceSwapped,
    LinkError,
    PasswordRefused,
    QuantityError,
    WrongDevice,
)
from leitwerk.identity import Identity, same_number
from leitwerk.links.kinds import find_kind
from leitwerk.links.options import USUAL, LinkOptions
from leitwerk.links.register_session import Session
from leitwerk.links.talk import HeardSession, Latest
from leitwerk.parsing.address import LinkAddress
from leitwerk.parsing.units import convert, parse_unit
from leitwerk.project.inventory import resolve_address
from leitwerk.project.passwords import broker_password

if TYPE_CHECKING:
    from numpy.typing import NDArray


SET, NOT_SET, NOT_KNOWN = "set", "not set", "not known"  # what is known of a secret
RESTART_S = 60.0  # how long a device may take to come back
_RESTART_PAUSE_S = 0.2


@dataclass(frozen=True, slots=True)
class Status:
    """What a device is doing. ``uncommitted`` counts registers written but not yet in force."""

    recording: bool
    recordings: int
    unfetched: int
    uncommitted: int


class Device:
    """A device of a known model behind a link. Use it in a ``with`` block, or close it."""

    def __init__(self, datasheet: Datasheet, link: Any, zone: ZoneInfo | None = None) -> None:
        self.datasheet = datasheet
        self.link = link
        self.clock_zone = ClockZone(datasheet, zone)
        kind = find_kind(datasheet.link)
        self.sleeps = kind.sleeps
        self._session: Session = kind.session(link, datasheet)
        self._heard: HeardSession | None = None
        if datasheet.heard:
            self._session = self._heard = HeardSession(self._session, datasheet, link.options)
        self._login: _Login | None = None
        self._identity: Identity | None = None
        self.expected: tuple[str, str] | None = (
            None  # model and serial number, if only one is accepted
        )
        # Behind a connection that was made anew, another device may answer.
        if (reconnects := getattr(link, "reconnects", None)) is not None:
            reconnects.verify = self._verify_same

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def __repr__(self) -> str:
        return f"Device({self.datasheet.model!r} at {self.address})"

    @property
    def address(self) -> LinkAddress:
        """Where it is reached."""
        address: LinkAddress = self.link.address
        return address

    def close(self) -> None:
        """End the connection."""
        self.link.close()
        if self._heard is not None:
            self._heard.close()

    def hear_from(self, sources: Mapping[str, Latest]) -> None:
        """Take what other ends say from elsewhere, by the name of the exchange; their ports stay closed."""
        if self._heard is not None:
            self._heard.sources.update(sources)

    def identify(self) -> Identity:
        """Ask the device what it is. It must stay the one that it was when it was asked first.

        Raises
        ------
        WrongDevice
            Another device answers now.

        """
        found = self._read_group("identity")
        sheet = self.datasheet
        # What a device does not say of itself, its datasheet may know.
        known = {"maker": sheet.maker, "model": "", "serial": "", "firmware": ""}
        identity = Identity(**{name: _text(found.get(name, text)) for name, text in known.items()})
        first = self._identity
        if first is None:
            if self.expected is not None:
                self._require(identity, *self.expected)
            self._identity = identity
        elif first.model != identity.model or not same_number(first.serial, identity.serial):
            raise WrongDevice(
                f"at {self.address}, {identity} answers now; it was {first} before",
                remedy="were two devices swapped, or does another one have the same address?",
            )
        return identity

    @contextmanager
    def staying_the_same(self) -> Iterator[Identity]:
        """A ``with`` block for what must meet one device: identified before it, and after it.

        Raises
        ------
        WrongDevice
            Another device answers before it: nothing was done.
        DeviceSwapped
            Another one answers after it.

        """
        yield self.identify()
        try:
            self.identify()
        except WrongDevice as error:
            message = f"{error.message}; what was written or read may be in either of them"
            raise DeviceSwapped(message, remedy=error.remedy) from error

    def _verify_same(self) -> None:
        """After a reconnect: the same device answers, if it was identified before."""
        if self._identity is not None:
            self.identify()

    def require(self, model: str, serial: str) -> Identity:
        """Identify, and insist on a device, such as the one that a setup names.

        Raises
        ------
        WrongDevice
            Model or serial number is another.

        """
        identity = self.identify()
        self._require(identity, model, serial)
        return identity

    def _require(self, identity: Identity, model: str, serial: str) -> None:
        for what, found, meant in (
            ("a model", identity.model, model),
            ("the serial number", identity.serial, serial),
        ):
            if found != meant and not (what.endswith("number") and same_number(found, meant)):
                raise WrongDevice(
                    f"the device at {self.address} has {what} {found!r}, this is for {meant!r}",
                    remedy="is it the right device, the right address, the right setup? Nothing "
                    "was written.",
                )

    def readings(self) -> dict[str, Stored]:
        """All that it measures, as its datasheet names it."""
        return self._read_group("readings")

    def clock(self) -> ClockReading | None:
        """What its clock shows beside the true time; None when it has no clock.

        Raises
        ------
        LinkError
            What it shows is not a time.

        """
        points = [self.datasheet.point(known) for known in self._clock_points()]
        if not points:
            return None
        shown = self.read_points(points)
        if (
            len(points) > 1
            and self.read_points(points[:1])[points[0].name] != shown[points[0].name]
        ):
            shown = self.read_points(points)  # midnight has passed between date and time
        text = " ".join(str(shown[point.name]) for point in points)
        return read_clock(text, self.clock_zone, self.clock_zone.now())

    def _clock_points(self) -> tuple[KnownPoint, ...]:
        """The points of its clock: one, or date and time."""
        if self.datasheet.has(DEVICE_CLOCK):
            return (DEVICE_CLOCK,)
        both = (CLOCK_DATE, CLOCK_TIME)
        return both if all(map(self.datasheet.has, both)) else ()

    @property
    def has_clock(self) -> bool:
        """Whether it has a clock that can be read."""
        return bool(self._clock_points())

    def set_clock(self) -> None:
        """Set its clock to the true time in ``clock_zone``. A device may want a login first.

        The way there takes time, and such clocks know whole seconds only: the next full second is
        sent earlier, by half the time of a request.

        Raises
        ------
        DeviceRefused
            Its clock cannot be set, or not now.

        """
        both = (SET_DATE, SET_TIME)
        known = both if all(map(self.datasheet.has, both)) else (SET_CLOCK,)
        if not self.datasheet.has(known[0]):
            raise DeviceRefused(
                f"the clock of {self.datasheet.model} cannot be set",
                remedy="look into its manual: does it set itself, or has it keys for that?",
            )
        began = time.monotonic()
        self.identify()
        delay_s = (time.monotonic() - began) / 2.0
        ahead = self.clock_zone.now() + timedelta(seconds=delay_s)
        rest_s = 1.0 - ahead.microsecond / 1e6
        time.sleep(rest_s)
        full = (ahead + timedelta(seconds=rest_s)).replace(microsecond=0)
        parts = full.strftime(CLOCK_FORM).split(" ", len(known) - 1)
        for each, part in zip(known, parts, strict=True):
            self._write_one(self.datasheet.point(each), part)
        self.identify()

    def status_points(self) -> dict[str, Stored]:
        """All that it says of its own state, as its datasheet names it."""
        return self._read_group("status")

    def status(self) -> Status:
        """Ask what the device is doing."""
        found = self._read_group("status")
        return Status(
            recording=found.get(RECORDING.name) in RECORDING.choices,
            recordings=_whole(found.get(RECORDINGS.name, 0.0)),
            unfetched=_whole(found.get(UNFETCHED.name, 0.0)),
            uncommitted=_whole(found.get(UNCOMMITTED.name, 0.0)),
        )

    def uptime_s(self, status: Mapping[str, Stored]) -> float | None:
        """How long it has been running, in s, by its status; None where it does not say it."""
        shown = status.get(UPTIME.name)
        if not isinstance(shown, int | float):
            return None
        unit = parse_unit(self.datasheet.point(UPTIME).unit or "s")
        return convert(float(shown), unit, parse_unit("s"))

    @property
    def commits(self) -> bool:
        """Whether settings come into force together, by a command, and not one by one."""
        return "commit" in self.datasheet.commands

    def read_settings(self) -> DeviceSettings:
        """All settings that the device stores."""
        return DeviceSettings(self.datasheet.model, self._read_group("settings"))

    def write_settings(
        self,
        values: Mapping[str, Stored],
        progress: Callable[[int, int], None] = lambda done, total: None,
        *,
        backwards: bool = False,
    ) -> int:
        """Write settings in as few requests as possible; returns how many it took.

        They are not in force before ``command("commit")``. ``progress`` is called after each
        request with the number done and the number in all. ``backwards`` undoes: the last request
        of the same settings comes first.
        """
        settings = self.datasheet.settings
        points = {settings[name]: value for name, value in values.items()}
        with self._explained():
            return self._session.write(
                points, progress, backwards=backwards, before=self._stay_logged_in
            )

    def write_secrets(self, values: Mapping[str, str]) -> int:
        """Write secrets, as texts by name; returns the number of requests.

        They appear in no trace and no error.

        Raises
        ------
        QuantityError
            The device cannot store the value of one; it is named, and the value is not.

        """
        points = self.datasheet.secrets
        stored = {points[name]: _secret(points[name], text) for name, text in values.items()}
        with self._explained():
            return self._session.write(stored, secret=True, before=self._stay_logged_in)

    def secret_states(self) -> dict[str, str]:
        """Whether each secret is set, in the words of the datasheet; ``not known`` where it is not shown."""
        shown = self.status_points() if any(p.set_shown_by for p in self._secrets()) else {}
        return {p.name: str(shown.get(p.set_shown_by, NOT_KNOWN)) for p in self._secrets()}

    def _secrets(self) -> tuple[Point, ...]:
        return self.datasheet.points("secrets")

    def require_state(self, points: Iterable[Point], what: str) -> None:
        """Insist that the status is as points require it before they are written.

        Raises
        ------
        DeviceRefused
            It is not; each point of the status is named, with what it says and what it must say.

        """
        needed = dict.fromkeys(pair for point in points for pair in point.requires)
        if not needed:
            return
        status = self.status_points()
        wrong = [
            f"{name} is {show_setting(status.get(name), '')}, and must be {must}"
            for name, must in needed
            if show_setting(status.get(name), "") != must
        ]
        if wrong:
            raise DeviceRefused(
                f"the device cannot {what} now: {'; '.join(wrong)}",
                remedy="bring it into that state, then try again",
            )

    def count_writes(self, values: Mapping[str, Stored]) -> int:
        """How many requests it would take to write settings."""
        settings = self.datasheet.settings
        return self._session.count_writes({settings[name]: v for name, v in values.items()})

    @property
    def drops(self) -> bool:
        """Whether what was written can be dropped before it is in force, by a command."""
        return "drop" in self.datasheet.commands

    @property
    def restarts(self) -> bool:
        """Whether it has a command to restart."""
        return "restart" in self.datasheet.commands

    def restart(self, wait_s: float = RESTART_S) -> None:
        """Restart the device, and wait until it answers again.

        Raises
        ------
        LinkError
            It does not answer within ``wait_s``.
        WrongDevice
            Another device answers afterwards.

        """
        self.identify()
        # It may be gone before it has confirmed.
        with suppress(LinkError):
            self.command("restart")
        deadline = time.monotonic() + wait_s
        while True:
            time.sleep(_RESTART_PAUSE_S)
            try:
                self.identify()  # another device than before is an error of its own
            except (LinkError, DeviceRefused):  # it may refuse while it starts
                if time.monotonic() > deadline:
                    raise
            else:
                return

    def command(self, name: str) -> None:
        """Have a command carried out, by its name in the vocabulary."""
        point = self.datasheet.command_point(name)
        self.require_state([point], name)
        value = name if point.choice_names else 1.0
        self._write_one(point, value)

    def log_in(self, role: str, password: str) -> None:
        """Log in with the password of a role.

        Raises
        ------
        DeviceRefused
            The password is not the one.

        """
        remedy = f"give the {role}'s password"
        try:
            self._send_login(password)
        except (DeviceRefused, QuantityError) as error:
            code = getattr(error, "code", None)
            message = f"the device refuses the password given for the {role}"
            raise PasswordRefused(message, code=code, remedy=remedy) from None
        logged_in = str(self._read_group("status").get(LOGGED_IN.name, role))
        if not self.datasheet.may_act_as(logged_in, role):
            message = f"the password given is not the {role}'s"
            raise PasswordRefused(message, remedy=remedy)

    def _send_login(self, password: str) -> None:
        point = self.datasheet.point(LOGIN)
        with self._explained():
            self._session.write({point: _password(password, point)}, secret=True)
        terms = self.datasheet.writing
        if terms.login_lasts_s or terms.login_writes:
            self._login = _Login(password, time.monotonic())

    def log_in_with(self, role: str, passwords: Mapping[str, str]) -> None:
        """Log in with the password of a role, out of several passwords.

        Raises
        ------
        DeviceRefused
            There is no password for the role, or it is wrong.

        """
        try:
            password = passwords[role]
        except KeyError:
            raise PasswordRefused(
                f"the device wants the password of the {role}", remedy="give it and try again"
            ) from None
        self.log_in(role, password)

    @contextmanager
    def logged_in(self, role: str, passwords: Mapping[str, str]) -> Iterator[None]:
        """The rights of a role inside a ``with`` block; without a role, nothing is done.

        It may not answer here any more when the block ends: a login ends by itself.
        """
        if not role:
            yield
            return
        self.log_in_with(role, passwords)
        try:
            yield
        finally:
            with suppress(LinkError, DeviceRefused):
                self.log_out()

    def log_out(self) -> None:
        """Give up the rights of a login, where the device has a way to do that."""
        self._login = None
        if self.datasheet.has(LOG_OUT):
            point = self.datasheet.point(LOG_OUT)
            self._write_one(point, point.choice_names[0] if point.choice_names else 1.0)
        elif self.datasheet.writing.log_out is not None:
            point = self.datasheet.point(LOGIN)
            self._write_one(point, _password(self.datasheet.writing.log_out, point))

    def _stay_logged_in(self) -> None:
        """Before a write: log in again where a login lapses by time or by the number of writes."""
        if self._login is None:
            return
        terms = self.datasheet.writing
        self._login.writes += 1
        age_s = time.monotonic() - self._login.at_s
        by_time = terms.login_lasts_s > 0 and age_s > terms.login_lasts_s / 2.0
        by_count = 0 < terms.login_writes < self._login.writes
        if by_time or by_count:
            self._send_login(self._login.password)
            self._login.writes = 1  # the one that is about to be sent

    def read_points(self, points: Sequence[Point]) -> dict[str, Stored]:
        """The values of some points of the datasheet, by name."""
        deciding = deciding_settings(points, self.datasheet)
        with self._explained():
            found = self._session.read(list(dict.fromkeys([*points, *deciding])))
        if not deciding:
            return found
        return {point.name: in_own_unit(found[point.name], point, found) for point in points}

    def conversions(self, points: Sequence[Point]) -> NDArray[np.float64]:
        """Gain and offset of each point, shape (n_points, 2): from a number read to its own unit."""
        deciding = deciding_settings(points, self.datasheet)
        found = self.read_points(deciding) if deciding else {}
        return np.array([conversion(point, found) for point in points]).reshape(len(points), 2)

    def reader(self, points: Sequence[Point]) -> Callable[[], NDArray[np.float64]]:
        """Something that reads the same points again and again, as numbers of shape (n_points,).

        They are as the device sends them; ``conversions`` has what leads to their own units.
        """
        return self._session.reader(points)

    def block_reader(self, points: Sequence[Point]) -> Callable[[], bytes]:
        """Something that reads a piece of a file, as the device has it in these points."""
        return self._session.block_reader(points)

    def _read_group(self, group: str) -> dict[str, Stored]:
        points = self.datasheet.points(group)
        if not points:
            return {}
        return self.read_points(points)

    def write_point(self, point: Point, value: Stored) -> None:
        """Write one point, such as an address or a window; settings go by ``write_settings``.

        Raises
        ------
        QuantityError
            The device does not accept this value.

        """
        self.require_state([point], f"take {point.name}")
        self._write_one(point, point.storable(value))

    def _write_one(self, point: Point, value: Stored) -> None:
        with self._explained():
            self._session.write({point: value}, before=self._stay_logged_in)

    @contextmanager
    def _explained(self) -> Iterator[None]:
        """Refusals in the words of the model's datasheet."""
        try:
            yield
        except DeviceRefused as error:
            meaning = self.datasheet.refusals.get(error.code or 0)
            if meaning is None:
                raise
            message = f"{error.message}: {meaning}"
            raise DeviceRefused(message, code=error.code, remedy=error.remedy) from error


@dataclass(slots=True)
class _Login:
    """A login that lapses: its password, when it was sent, and how many writes came since."""

    password: str = field(repr=False)
    at_s: float
    writes: int = 0


def _password(text: str, point: Point) -> Stored:
    """A password as its point takes it: a number where the device has numbers."""
    return float(text) if text.isdecimal() and not point.is_text else text


def _secret(point: Point, text: str) -> Stored:
    """A secret as its point stores it; an error says what is wrong without the value."""
    try:
        return point.storable(point.value_of(text))
    except QuantityError as error:
        message = f"the value given for the secret {point.name} cannot be stored by the device"
        raise QuantityError(message, valid=error.valid or "a text that fits") from None


def _text(value: Stored) -> str:
    if isinstance(value, float):
        return f"{value:.15g}"
    return str(value)


def _whole(value: Stored) -> int:
    return 0 if isinstance(value, str) else int(value)


def connect(setup: CheckedSetup, *, link: LinkOptions = USUAL) -> Device:
    """The device that a setup names, reached as the setup says. The first request connects.

    Parameters
    ----------
    setup : CheckedSetup
    link : LinkOptions
        How long to wait for each answer, how often to ask again, who sees the frames.

    Raises
    ------
    QuantityError
        The setup names a device that has not been seen.

    """
    address = resolve_address(setup.setup.device.at)
    return open_device(setup.datasheet, address, zone=setup.setup.zone, link=link)


def open_device(
    datasheet: Datasheet,
    address: LinkAddress,
    *,
    zone: ZoneInfo | None = None,
    link: LinkOptions = USUAL,
) -> Device:
    """Open the device at an address as a given model, without checking its serial number.

    The first request connects. ``zone`` is that of a clock that shows local time; see ``ClockZone``.

    Raises
    ------
    QuantityError
        The model speaks another protocol than the address says.

    """
    if address.protocol != datasheet.link:
        raise QuantityError(
            f"{datasheet.model} speaks {datasheet.link}, the address {address} is one of "
            f"{address.protocol}",
            valid=f"an address that begins with {datasheet.link}",
        )
    options = replace(link, password=link.password or broker_password)
    return Device(datasheet, find_kind(datasheet.link).link(address, datasheet, options), zone)
