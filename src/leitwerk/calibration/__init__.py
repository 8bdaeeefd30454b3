"""Calibration: corrections from points, uncertainty to the GUM, decisions to JCGM 106."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
