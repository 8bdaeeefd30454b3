"""Stand-ins: simulated devices that ship with Leitwerk, each a process of its own.

with start_standin("fichte-8") as logger:
    print(logger.address)
"""

from leitwerk.standins.process import StandIn, start_standin

__all__ = ["StandIn", "start_standin"]
