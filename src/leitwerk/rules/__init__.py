"""Rules: when this happens, and all of these hold, do these in order.

Definitions are data; ``Engine`` says what is due, and does nothing itself; ``Switches`` keeps outputs
within their times. Both know no device and no clock.
"""

from leitwerk.rules.definition import (
    Acknowledge,
    Action,
    ChangeSetting,
    Escalation,
    Happening,
    Notify,
    Pulse,
    Record,
    Rule,
    Snapshot,
    SwitchOutput,
    Trigger,
    WriteLog,
)
from leitwerk.rules.engine import Due, Engine
from leitwerk.rules.switches import Switch, Switches
from leitwerk.rules.templates import fill, message_parts, names_in

__all__ = [
    "Acknowledge",
    "Action",
    "ChangeSetting",
    "Due",
    "Engine",
    "Escalation",
    "Happening",
    "Notify",
    "Pulse",
    "Record",
    "Rule",
    "Snapshot",
    "Switch",
    "SwitchOutput",
    "Switches",
    "Trigger",
    "WriteLog",
    "fill",
    "message_parts",
    "names_in",
]
