"""The live check: readings as they come, against what they should be."""

from leitwerk.live.check import Sample, verify
from leitwerk.live.report import LiveReport

__all__ = ["LiveReport", "Sample", "verify"]
