"""Alarms: definitions as data, and two ways to follow them that agree exactly.

``follow`` goes through a whole recording, ``Board`` takes one sample of all channels at a time.
"""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
