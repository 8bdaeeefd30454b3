"""What is known of values over time beside the values: whose they are, and by which setup."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from pydantic import Field

from leitwerk.analysis.series import Column
from leitwerk.check.channels import CheckedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.errors import FileProblem
from leitwerk.identity import Identity
from leitwerk.parsing.durations import duration_text
from leitwerk.project.files import content_hash
from leitwerk.project.kept_json import KeptFile, KeptIdentity

Source = Literal["recording", "samples", "import", "correction"]


class AboutColumn(KeptFile):
    """One column. ``statistic`` is what each value is of its interval, empty for a reading of the moment."""

    label: str = ""
    unit: str = ""
    statistic: str = ""
    calibration: str = ""


class About(KeptFile):
    """Of which device and setup the values are.

    Attributes
    ----------
    device : KeptIdentity, optional
        None where it is not known.
    title, setup, setup_hash : str
        Of the setup; empty without one.
    zone : str
        The zone of the place, by its name; the times themselves are in UTC.
    columns : mapping from name to AboutColumn
    source : str
        ``recording``, ``samples``, ``import`` or ``correction``.
    run : str
        Which run of the device, or which file.
    clock_off_s : float, optional
        How far the clock of the device was ahead when they were fetched, in s.
    notes : list of str
        What was done with them since.
    replaces : list of str
        The files beside it whose rows are in this one, too.

    """

    device: KeptIdentity | None = None
    title: str = ""
    setup: str = ""
    setup_hash: str = ""
    zone: str = "UTC"
    columns: dict[str, AboutColumn] = Field(default_factory=dict)
    source: Source = "samples"
    run: str = ""
    clock_off_s: float | None = None
    notes: list[str] = Field(default_factory=list)
    replaces: list[str] = Field(default_factory=list)

    def to_json(self) -> str:
        """As the text that files hold."""
        return self.model_dump_json(indent=1) + "\n"


NO_QUALITY = "quality not recorded: the device does not store what a value is worth"
_CLOSE_S = 2.0  # a clock shows whole seconds, and one is lost on the way


def clock_words(off_s: float | None) -> str:
    """What is known of the clock that stamped rows, in words; empty where it was right, or not known."""
    if off_s is None or abs(off_s) <= _CLOSE_S:
        return ""
    which = "fast" if off_s > 0.0 else "slow"
    off = duration_text(round(abs(off_s)))
    return f"{off} {which} when the rows were fetched; their times are as stamped"


def read_about(text: str, where: str) -> About:
    """What a file says of its values; empty where it says nothing.

    Raises
    ------
    FileProblem
        It says something else.

    """
    if not text.strip():
        return About()
    try:
        return About.model_validate_json(text)
    except ValueError as error:
        raise FileProblem(
            f"{where} says something else of its values: {str(error).splitlines()[0]}",
            remedy="a file that Leitwerk wrote",
        ) from None


def about_setup(
    setup: CheckedSetup | None,
    identity: Identity | None,
    columns: Sequence[Column],
    *,
    source: Source,
    run: str = "",
    clock_off_s: float | None = None,
) -> About:
    """What is known of columns that were read with a setup, or without one."""
    known = {} if setup is None else {channel.name: channel for channel in setup.channels}
    found = {c.name: _column(c, known.get(c.name)) for c in columns}
    device = None if identity is None else KeptIdentity(**identity.to_dict())
    plain = About(device=device, columns=found, source=source, run=run, clock_off_s=clock_off_s)
    if setup is None:
        return plain
    text = setup.setup
    return plain.model_copy(
        update={
            "title": text.title,
            "setup": text.source.file,
            "setup_hash": content_hash(text.source.content),
            "zone": text.zone.key,
            "columns": {
                c.name: found[c.name].model_copy(
                    update={"calibration": _calibration(setup, c.name)}
                )
                for c in columns
            },
        }
    )


def _column(column: Column, channel: CheckedChannel | None) -> AboutColumn:
    label = "" if channel is None else channel.label
    return AboutColumn(label=label, unit=column.unit)


def _calibration(setup: CheckedSetup, name: str) -> str:
    """The state of a channel's calibration, in words; empty where it has none."""
    channel = setup.setup.channels.get(name)
    if channel is None or channel.calibration is None:
        return ""
    held = channel.calibration
    return f"{held.correct}, {held.date}, due {held.due}, with {held.reference}"
