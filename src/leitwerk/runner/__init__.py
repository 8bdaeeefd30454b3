"""The runner: follows alarms and rules of a device on this computer, and does what is due."""

from leitwerk.runner.attend import Attendant, Event, Means, request_act
from leitwerk.runner.outbox import Message, Outbox
from leitwerk.runner.prove import Proof, Step, prove, warming

__all__ = [
    "Attendant",
    "Event",
    "Means",
    "Message",
    "Outbox",
    "Proof",
    "Step",
    "prove",
    "request_act",
    "warming",
]
