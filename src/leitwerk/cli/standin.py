"""leitwerk standin: the program itself is in the package of the stand-ins."""

from leitwerk.standins.__main__ import main as standin

__all__ = ["standin"]
