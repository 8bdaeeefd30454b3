"""The checked setup: a setup held against the datasheet of its device, with all that follows from it."""

from __future__ import annotations

import difflib
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any, Self

from leitwerk.check.account import Account, take_account
from leitwerk.check.channels import CheckedChannel, MeasuredChannel, measured
from leitwerk.check.outputs import CheckedOutput
from leitwerk.check.settings import Wanted
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.errors import QuantityError, SetupError
from leitwerk.findings import Finding, count_findings
from leitwerk.rules.definition import Rule
from leitwerk.rules.schedule import RunPlan
from leitwerk.setup.model import Setup

if TYPE_CHECKING:
    from leitwerk.check.exchanges import CheckedExchange


@dataclass(frozen=True)
class CheckedSetup:
    """A setup on one device model. Everything above takes this; nothing checks twice.

    Where ``findings`` hold an error, the rest lacks what is wrong, and the setup cannot be used.
    ``settings`` are what the device will hold of it, ``wanted`` the same with the keys that ask for it.
    """

    setup: Setup
    datasheet: Datasheet
    channels: tuple[CheckedChannel, ...]
    outputs: tuple[CheckedOutput, ...]
    exchanges: tuple[CheckedExchange, ...]
    rules: tuple[Rule, ...]
    runs: tuple[RunPlan, ...]
    settings: DeviceSettings
    findings: tuple[Finding, ...]
    wanted: tuple[Wanted, ...] = field(repr=False, default=())

    @property
    def ok(self) -> bool:
        """Whether the setup can be used: no finding is an error."""
        return not any(finding.is_error for finding in self.findings)

    @cached_property
    def account(self) -> Account:
        """Where each entry of the setup ends."""
        return take_account(
            self.setup, self.datasheet, self.channels, self.outputs, self.wanted, self.findings
        )

    def require(self) -> Self:
        """The same, if it can be used.

        Raises
        ------
        SetupError
            It has errors; ``findings`` says what is wrong and where.

        """
        if not self.ok:
            raise SetupError(self.setup.source.file, self.findings)
        return self

    def channel(self, name: str) -> CheckedChannel:
        """A channel by its name.

        Raises
        ------
        QuantityError
            The setup has no such channel; the nearest is named.

        """
        for channel in self.channels:
            if channel.name == name:
                return channel
        near = difflib.get_close_matches(name[:60], list(self.setup.channels), n=1)
        raise QuantityError(
            f"there is no channel {name[:60]!r} in {self.setup.source.file}",
            valid=", ".join(self.setup.channels),
            remedy=f"did you mean {near[0]!r}?" if near else "",
        )

    def measured(self, name: str) -> MeasuredChannel:
        """A channel whose value the device shows, by its name.

        Raises
        ------
        QuantityError
            The setup has no such channel, or it is computed from others.

        """
        channel = self.channel(name)
        if not isinstance(channel, MeasuredChannel):
            raise QuantityError(
                f"channel {name} is {channel.where}; the device does not measure it",
                valid=", ".join(c.name for c in measured(self.channels)),
            )
        return channel

    def to_dict(self) -> dict[str, Any]:
        """The findings and the account as plain data for JSON."""
        return {
            "file": self.setup.source.file,
            "ok": self.ok,
            "counts": count_findings(self.findings),
            "findings": [finding.to_dict() for finding in self.findings],
            "account": self.account.to_dict(),
        }

    def __repr__(self) -> str:
        counts = count_findings(self.findings)
        return (
            f"<CheckedSetup {self.setup.title!r} on {self.datasheet.model}: "
            f"{len(self.channels)} channels, {counts['error']} errors, {counts['warning']} warnings>"
        )
