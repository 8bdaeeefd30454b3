"""Channels that are computed from channels: formulas, functions of time, ready-made kinds. No device."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
