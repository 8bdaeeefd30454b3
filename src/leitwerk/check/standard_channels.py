"""Channels that follow from another section of a setup, and need not be typed."""

from __future__ import annotations

from collections.abc import Mapping

from leitwerk.setup.model import Channel, Setup


def with_channels(setup: Setup, standard: Mapping[str, tuple[str, str]]) -> Setup:
    """The setup with further channels, by name: the reading of each, and its label.

    A channel of that name in the file adds to it: what it says itself counts.
    """
    channels = dict(setup.channels)
    for name, (reading, label) in standard.items():
        typed = channels.get(name)
        if typed is None:
            channels[name] = Channel(reading=reading, label=label)
        elif typed.reading is None and typed.terminal is None and typed.computed is None:
            more = {"reading": reading, "label": typed.label or label}
            channels[name] = typed.model_copy(update=more)
    made = setup.model_copy(update={"channels": channels})
    made._source = setup.source  # noqa: SLF001 - the same file
    return made
