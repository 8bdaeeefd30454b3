"""Sound: weightings, detectors, bands, levels, dose; of sampled pressure in Pa."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
