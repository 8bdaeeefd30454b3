"""Passwords by role: from the environment, the system's key store, or a question. Never kept here."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any

from leitwerk.errors import DeviceRefused, FileProblem
from leitwerk.identity import folded_number
from leitwerk.parsing.address import LinkAddress
from leitwerk.setup.fields import secret_variable

_SERVICE = "leitwerk"


class Passwords(dict[str, str]):
    """The passwords of one device by role, found when they are asked for.

    Parameters
    ----------
    model, serial : str
        The device, for the key store.
    ask : callable, optional
        Called with a role when nothing else has its password; None when it is not asked for.

    """

    def __init__(
        self, model: str, serial: str, ask: Callable[[str], str | None] = lambda role: None
    ) -> None:
        super().__init__()
        self._device = (model, serial)
        self._ask = ask

    def __missing__(self, role: str) -> str:
        variable = f"LEITWERK_PASSWORD_{role.upper()}"
        found = self._found(role, variable)
        if found is None:
            found = self._ask(role)
        if found is None:
            raise self._missing(f"the device wants the password of the {role}", variable)
        return found

    def _found(self, name: str, variable: str) -> str | None:
        """From the environment or the key store, without a question."""
        found = os.environ.get(variable)
        return stored_password(name, *self._device) if found is None else found

    def _missing(self, what: str, variable: str) -> DeviceRefused:
        return DeviceRefused(
            what,
            remedy=f"set {variable}, keep it in the key store with 'leitwerk password', or run "
            "this in a terminal to be asked",
        )


class SecretValues(Passwords):
    """The values of secrets by their names; ``get`` does not ask for one."""

    def get(self, name: str, default: Any = None) -> Any:
        """The value, if the environment or the key store has it."""
        found = self._found(name, secret_variable(name))
        return default if found is None else found

    def __missing__(self, name: str) -> str:
        found = self.get(name)
        if found is None:
            found = self._ask(name)
        if found is None:
            what = f"the secret {name} has no value yet, and none was given"
            raise self._missing(what, secret_variable(name))
        return str(found)


def stored_password(role: str, model: str, serial: str) -> str | None:
    """The password that the key store has; None without one, or without a key store."""
    store = _store()
    if store is None:
        return None
    try:
        password: str | None = store.get_password(_SERVICE, _entry(role, model, serial))
    except store.errors.KeyringError:
        return None  # locked, or broken: there are other ways
    return password


def keep_password(role: str, model: str, serial: str, password: str) -> None:
    """Keep a password in the system's key store.

    Raises
    ------
    FileProblem
        There is no key store, or it does not take it.

    """
    store = _need_store()
    try:
        store.set_password(_SERVICE, _entry(role, model, serial), password)
    except store.errors.KeyringError as error:
        raise _failed(error) from error


def forget_password(role: str, model: str, serial: str) -> bool:
    """Take a password out of the key store; whether there was one.

    Raises
    ------
    FileProblem
        There is no key store, or it does not do that.

    """
    store = _need_store()
    entry = _entry(role, model, serial)
    try:
        if store.get_password(_SERVICE, entry) is None:
            return False
        store.delete_password(_SERVICE, entry)
    except store.errors.KeyringError as error:
        raise _failed(error) from error
    return True


def _entry(role: str, model: str, serial: str) -> str:
    return f"{role} of {model} {folded_number(serial)}"


def _store() -> Any:
    try:
        import keyring  # noqa: PLC0415 - an optional package, and slow to load
        import keyring.errors  # noqa: PLC0415
    except ImportError:
        return None
    return keyring


def _need_store() -> Any:
    store = _store()
    if store is None:
        raise FileProblem(
            "the package that speaks to the key store is not installed",
            remedy="install it with: pip install 'leitwerk[keystore]'",
        )
    return store


def _failed(error: Exception) -> FileProblem:
    return FileProblem(
        f"the key store does not do this: {error or type(error).__name__}",
        remedy="is there one on this system, and is it unlocked?",
    )


def broker_password(address: LinkAddress) -> str:
    """The password of the user in the address of a broker."""
    return Passwords("broker", f"{address.user} {address.host}")["broker"]
