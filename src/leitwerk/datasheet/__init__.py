"""The datasheet: what a device model is capable of, and where each point lives."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
