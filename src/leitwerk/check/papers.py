"""Checking what reports are to judge: every alarm of a group has to be there, and in one group only."""

from __future__ import annotations

from collections.abc import Sequence

from leitwerk.check.channels import CheckedChannel
from leitwerk.findings import Findings
from leitwerk.setup.model import Setup


def check_papers(setup: Setup, channels: Sequence[CheckedChannel], findings: Findings) -> None:
    """Findings for alarms that a judged group names, and the setup does not have."""
    if setup.papers is None:
        return
    known = [name for channel in channels for name, _ in channel.named_alarms()]
    taken: dict[str, str] = {}
    for group, judged in setup.papers.judged.items():
        path = ("papers", "judged", group, "alarms")
        if not judged.alarms:
            findings.error(
                "no-alarm", path, f"group {group} judges no alarm", valid=", ".join(known)
            )
        for number, name in enumerate(judged.alarms):
            place = (*path, str(number))
            if name not in known:
                valid = ", ".join(known) or "no alarm; this setup has none"
                message = f"there is no alarm {name[:60]!r} to judge"
                findings.error("no-alarm", place, message, valid=valid)
            elif name in taken:
                message = f"{name} is judged twice: by {taken[name]} and by {group}"
                findings.error("judged-twice", place, message, valid="one group for each alarm")
            taken.setdefault(name, group)
