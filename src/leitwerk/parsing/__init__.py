"""From text to values: YAML with places, quantities, units, durations, local times, addresses, tables."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
