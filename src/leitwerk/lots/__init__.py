"""Lots of units that are tested one after the other: measures, limits, shorts, capability."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
