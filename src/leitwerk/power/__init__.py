"""Electrical power: phasors, wiring, definitions of power, and what is computed from sampled waveforms."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
