"""leitwerk password, and how commands find the passwords of devices."""

from __future__ import annotations

import getpass
import sys
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND

if TYPE_CHECKING:
    from leitwerk.cli.progress import StepView
    from leitwerk.project.passwords import Passwords, SecretValues


@click.command()
@click.argument("setup")
@click.argument("role")
@click.option("--forget", is_flag=True, help="Take it out of the key store.")
def password(setup: str, role: str, *, forget: bool) -> int:
    """Keep the password of ROLE for the device of SETUP in the system's key store.

    ROLE may be the name of a secret, too; its value is then kept.

    It is asked for twice, or read from standard input where that is not a terminal. Commands look for
    it there after the environment (LEITWERK_PASSWORD_<ROLE>, LEITWERK_SECRET_<NAME>) and before they ask.

    Exit code 0: kept, or forgotten. 1: there was none to forget. 2: usage, or no key store.
    """
    from leitwerk.errors import QuantityError
    from leitwerk.project.passwords import forget_password, keep_password
    from leitwerk.project.setups import load_setup

    wanted = load_setup(setup).device
    if forget:
        gone = forget_password(role, wanted.model, wanted.serial)
        click.echo("forgotten" if gone else "there was none", err=True)
        return FINE if gone else FOUND
    if sys.stdin.isatty():
        typed = getpass.getpass(f"Password of the {role} of {wanted.model} {wanted.serial}: ")
        if getpass.getpass("Once more: ") != typed:
            raise QuantityError("the two are not the same", valid="the same twice")
    else:
        typed = sys.stdin.readline().rstrip("\r\n")
    if not typed:
        raise QuantityError("the password is empty", valid="the password of the role")
    keep_password(role, wanted.model, wanted.serial, typed)
    click.echo("kept in the key store", err=True)
    return FINE


def passwords_of(model: str, serial: str, steps: StepView | None = None) -> Passwords:
    """The passwords of a device, by role; asked for on a terminal."""
    from leitwerk.project.passwords import Passwords

    return Passwords(model, serial, lambda role: _ask(f"Password of the {role}: ", steps))


def secrets_of(model: str, serial: str, steps: StepView | None = None) -> SecretValues:
    """The values of a device's secrets, by name; asked for on a terminal."""
    from leitwerk.project.passwords import SecretValues

    return SecretValues(model, serial, lambda name: _ask(f"Value of {name}: ", steps))


def _ask(question: str, steps: StepView | None) -> str | None:
    if not sys.stdin.isatty():
        return None
    if steps is not None:
        steps.pause()
    return getpass.getpass(question)
