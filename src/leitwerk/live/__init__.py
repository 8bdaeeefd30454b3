"""The live check: readings as they come, against what they should be."""

from leitwerk.live.check import Sample, verify
from leitwerk.live.report import LiveReport
from leitwerk.live.window import read_once, read_untared

__all__ = ["LiveReport", "Sample", "read_once", "read_untared", "verify"]
