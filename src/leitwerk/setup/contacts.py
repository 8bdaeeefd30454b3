"""Contacts and services as a setup file or a contact list holds them."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Annotated, TypeAlias
from urllib.parse import urlsplit

from pydantic import Field

from leitwerk.errors import FileProblem, QuantityError, SetupError
from leitwerk.findings import Findings
from leitwerk.parsing.models import Model, YesNo, read_named, reader, text_of
from leitwerk.parsing.yaml_text import Map, parse_yaml
from leitwerk.setup.fields import Line, text_schema


class Contact(Model):
    """A person or a service that a rule may notify, in one or several ways."""

    text_message: PhoneField | None = None
    mail: MailField | None = None
    web: WebField | None = None
    topic: Line | None = Field(None, description="A topic of MQTT")
    outside: YesNo = Field("no", description="Whether this is outside the organisation")


class Services(Model):
    """What carries messages. Passwords are never written here."""

    text_messages: WebField | None = Field(None, description="The gateway for text messages")
    mail: SmtpField | None = Field(None, description="The mail server")
    mail_from: MailField | None = Field(None, description="Who mails come from")
    broker: Line | None = Field(None, description="The MQTT broker: mqtt+tcp://host:1883")


FindContacts: TypeAlias = Callable[[str], Mapping[str, Contact]]


def parse_contacts(text: str | bytes, *, file: str = "contacts") -> dict[str, Contact]:
    """The contacts that a file of its own holds, by name.

    Raises
    ------
    SetupError
        The text holds none; ``findings`` says what is wrong and where.

    """
    findings = Findings(file)
    root = parse_yaml(text, findings)
    contacts: dict[str, Contact] = {}
    if root is not None:
        if root.get("contact list") != "1":
            valid = "contact list: 1"
            findings.error("missing-key", (), "this is not a contact list", valid=valid)
        people = root.get("contacts")
        if not isinstance(people, Map):
            findings.error("missing-key", (), "the key 'contacts' is missing")
        else:
            contacts = read_named(people, Contact, ("contacts",), findings)
    if findings.has_errors:
        raise SetupError(file, findings.sorted())
    return contacts


def shared_contacts(name: str, find: FindContacts, findings: Findings) -> Mapping[str, Contact]:
    """The contacts of a list that several setups share; what is wrong with it is a finding."""
    place = ("contact_list",)
    try:
        return find(name)
    except FileProblem as error:
        findings.error("bad-contacts", place, error.message, remedy=error.remedy)
    except SetupError as error:
        findings.error("bad-contacts", place, f"the contact list has mistakes: {error}")
    return {}


_NUMBER = re.compile(r"\+?[0-9][0-9 ()/-]{3,24}")


_MAIL = re.compile(r"[^@\s<>,;\"\\]{1,64}@[A-Za-z0-9.-]{1,190}")


def _phone(value: object) -> str:
    text = text_of(value, "a telephone number").strip()
    if not _NUMBER.fullmatch(text):
        raise QuantityError(f"{text[:40]!r} is not a telephone number", valid="+49 170 0000000")
    return "".join(c for c in text if c.isdigit() or c == "+")


def _mail(value: object) -> str:
    text = text_of(value, "a mail address").strip()
    if not _MAIL.fullmatch(text) or ".." in text:
        raise QuantityError(
            f"{text[:40]!r} is not a mail address", valid="foreman@tannried.example"
        )
    return text


def _url(*schemes: str) -> Callable[[object], str]:
    def parse(value: object) -> str:
        text = text_of(value, "an address").strip()
        try:
            parts = urlsplit(text)
            port_is_fine = parts.port is None or parts.port > 0
        except ValueError:
            parts, port_is_fine = urlsplit(""), False
        if parts.scheme not in schemes or not parts.hostname or not port_is_fine:
            valid = " or ".join(f"{scheme}://host/…" for scheme in schemes)
            raise QuantityError(f"{text[:60]!r} is not an address of that kind", valid=valid)
        if parts.password is not None:
            raise QuantityError(
                "an address in a setup holds no password",
                remedy="remove it; it is taken from the environment or the key store",
            )
        return text

    return parse


PhoneField = Annotated[
    str, reader((), _phone), text_schema("A number for text messages", "+49 170 0000000")
]


MailField = Annotated[
    str, reader((), _mail), text_schema("A mail address", "foreman@tannried.example")
]


WebField = Annotated[
    str,
    reader((), _url("http", "https")),
    text_schema("A web address", "https://tannried.example/alarm"),
]


SmtpField = Annotated[
    str,
    reader((), _url("smtp", "smtps")),
    text_schema("A mail server", "smtp://127.0.0.1:2525", "smtps://kiln@mail.tannried.example"),
]
