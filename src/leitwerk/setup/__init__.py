"""The setup file: all that one device is to be set to, and all that is expected of it."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
