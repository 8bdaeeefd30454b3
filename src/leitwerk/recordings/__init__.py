"""Recordings: fetched from devices into files or a store, corrected, condensed, read from other programs."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
