"""Wireless transmitters at a receiver: numbers, what is heard, which one is in the hand."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
