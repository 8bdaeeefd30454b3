"""The settings: the settings that a setup comes to on one datasheet, as the device will store them."""

from __future__ import annotations

from leitwerk.check.compile import check_into
from leitwerk.check.settings import read_settings, wanted_settings
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.errors import SetupError
from leitwerk.findings import Finding, Findings
from leitwerk.setup.model import Setup


def encode_setup(setup: Setup, datasheet: Datasheet) -> DeviceSettings:
    """The settings that a setup comes to, rounded as the device will round them.

    Raises
    ------
    SetupError
        The setup has errors on this datasheet.

    """
    return encode_with_findings(setup, datasheet)[0]


def encode_with_findings(
    setup: Setup, datasheet: Datasheet
) -> tuple[DeviceSettings, list[Finding]]:
    """As ``encode_setup``, with all that checking has to say.

    Raises
    ------
    SetupError
        The setup has errors on this datasheet.

    """
    findings = Findings(setup.source.file, setup.source.root)
    assignments = check_into(setup, datasheet, findings)
    if findings.has_errors:
        raise SetupError(findings.file, findings.sorted())
    settings: dict[str, Stored] = {}
    further = read_settings(setup, datasheet, assignments, findings)
    for wanted in [*wanted_settings(setup, datasheet, assignments), *further]:
        family = datasheet.family("settings", wanted.family)
        if family is not None:
            point = family.point(wanted.slot)
            settings[point.name] = point.storable(wanted.value)
    return DeviceSettings(datasheet.model, settings), findings.sorted()
