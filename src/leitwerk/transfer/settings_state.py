"""What the settings of a device are when a transaction ends, in words for people."""

from __future__ import annotations

import enum


class SettingsState(enum.StrEnum):
    """What the device's settings are if the transaction ends at this moment."""

    UNTOUCHED = "unchanged: no setting was written"
    UNDONE = "it works with its old settings; what was written has been undone and verified"
    STAGED = (
        "it works with its old settings; what was written is uncommitted, has no effect, "
        "and is dropped by the next upload"
    )
    WAITING = (
        "it works with its old settings; what was written waits for a commit, and the device has no "
        "way to drop it; 'leitwerk recover' finishes or undoes it"
    )
    PARTLY = (
        "some of its settings are new and some are old, as it has no commit; the journal has the "
        "old ones, and 'leitwerk recover' finishes or undoes it"
    )
    COMMITTING = (
        "unknown: the new settings were written and the commit sent, but not confirmed; it works "
        "either with all of the old or with all of the new settings"
    )
    UNVERIFIED = "it works with the new settings, but they have not been verified"
    DIFFERENT = "it works with settings that are not those that were asked for"
    SWAPPED = (
        "not known: another device answers than the one that was identified; what was written may be in "
        "either of them; compare both with the backup, and 'leitwerk recover' with the right one"
    )
    VERIFIED = "it works with the new settings, and they have been verified"


NOTHING_TO_RECOVER = {
    SettingsState.UNTOUCHED,
    SettingsState.UNDONE,
    SettingsState.STAGED,
    SettingsState.VERIFIED,
}


AS_BEFORE = {SettingsState.UNTOUCHED, SettingsState.STAGED}
