"""A simulated device with services around it, whose sensor warms by itself: to prove an alarm on."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

from leitwerk.check.checked import CheckedSetup
from leitwerk.errors import LeitwerkError, QuantityError
from leitwerk.parsing.address import LinkAddress
from leitwerk.setup.contacts import Services
from leitwerk.standins.plant import SPOTS
from leitwerk.standins.process import start_standin
from leitwerk.standins.profile import find_profile
from leitwerk.standins.services import Gateway, MailServer


@dataclass(frozen=True)
class Simulated:
    """A setup whose device and services are simulated, and what was delivered to them."""

    checked: CheckedSetup
    folder: Path
    gateway: Gateway
    mail: MailServer | None


@contextmanager
def simulated(checked: CheckedSetup, terminal: str, course: str) -> Iterator[Simulated]:
    """Run a stand-in of a setup's model, with a course at one terminal, and its services.

    Raises
    ------
    LeitwerkError
        There is no stand-in of that model, or nothing of the plant is wired to that terminal.

    """
    profile = find_profile(checked.setup.device.model)
    spot = profile.wiring.get(terminal, "")
    if spot not in SPOTS:
        wired = ", ".join(f"{name}: {spot}" for name, spot in profile.wiring.items())
        message = f"the stand-in of {profile.model} has nothing to warm at terminal {terminal!r}"
        raise QuantityError(message, valid=wired or "a model whose stand-in has a plant")
    gateway = Gateway()
    gateway.start()
    mail = _mail_server()
    try:
        with (
            tempfile.TemporaryDirectory(prefix="leitwerk-") as folder,
            start_standin(profile.model, "--course", f"{spot}: {course}") as device,
        ):
            yield Simulated(
                _with(checked, device.address, gateway, mail), Path(folder), gateway, mail
            )
    finally:
        gateway.stop()
        if mail is not None:
            mail.stop()


def _mail_server() -> MailServer | None:
    try:
        server = MailServer()
    except ImportError:
        return None  # the package is optional; mails then stay in the outbox
    server.start()
    return server


def _with(
    checked: CheckedSetup, address: LinkAddress, gateway: Gateway, mail: MailServer | None
) -> CheckedSetup:
    """The same setup with its device and services where the simulated ones are."""
    setup = checked.setup
    known = setup.services or Services()
    services = known.model_copy(
        update={
            "text_messages": gateway.address if known.text_messages else None,
            "mail": mail.address if mail and known.mail else known.mail,
        }
    )
    device = setup.device.model_copy(update={"at": address})
    moved = setup.model_copy(update={"device": device, "services": services})
    return replace(checked, setup=moved)


def passwords_of(model: str) -> dict[str, str]:
    """The factory passwords of the stand-in of a model, empty where there is no stand-in."""
    try:
        return dict(find_profile(model).passwords)
    except LeitwerkError:
        return {}
