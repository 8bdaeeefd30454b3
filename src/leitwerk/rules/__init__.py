"""Rules, switched outputs, planned runs and the texts of messages: definitions, and what is due now."""

import lazy_loader as lazy

__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
