"""Wireless transmitters at the places of a receiver, as a setup file says it."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from leitwerk.parsing.models import Model
from leitwerk.setup.fields import Line, text_schema

NumberText = Annotated[Line, text_schema("A number", "3", "00 4074-4252", numbers=True)]


class PlaceEntry(Model):
    """One place: the transmitter that is bound to it, and the channel that it feeds."""

    id: NumberText | None = Field(
        None,
        description="Its number, as it stands on its label; left out while the place waits for one",
    )
    kind: Line | None = Field(
        None, description="What it is: calliper, switch, …, as the datasheet names it"
    )
    label: Line | None = Field(None, description="What people call it")
    channel: Line | None = Field(None, description="The channel that it feeds")


class RadioEntry(Model):
    """What all transmitters of a receiver share; an upload does not change it by mistake."""

    group: NumberText | None = Field(None, description="The group that it receives")
    band: Line | None = Field(None, description="The band in which it receives")
    role: Line | None = Field(None, description="Whether it is a receiver, or a relay")
