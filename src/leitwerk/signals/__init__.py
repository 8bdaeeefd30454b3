"""From signal to value and back: pure functions on arrays, to the published standards.

Scales are plain values with one interface (``scale.py``); a sensor's curve is a scale as well. Arrays
of any shape and real type go in, float64 arrays of the same shape come out. NaN, and what lies
outside a scale's domain, gives NaN; ``convert`` gives the reason beside it.
"""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
