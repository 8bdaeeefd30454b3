"""Rows for the tests of recordings: values that a time always has, so that a copy is a copy."""

from datetime import UTC, datetime

import numpy as np

from leitwerk.analysis.series import Column, Series
from leitwerk.project.kept_json import KeptIdentity
from leitwerk.recordings.about import About

BEGIN = datetime(2026, 2, 27, tzinfo=UTC).timestamp()
KILN = About(device=KeptIdentity(maker="m", model="fichte-8", serial="K2-00417", firmware="1.4"),
             source="recording", run="first")  # fmt: skip
AIR = (Column("air_top", "°C"), Column("humidity", "%"))


def rows(seconds, *, columns=AIR, seed=1):
    """Rows at so many seconds from ``BEGIN``."""
    times = BEGIN + np.asarray(seconds, float)
    values = np.column_stack([np.sin(times * (k + seed)) for k in range(len(columns))])
    return Series(tuple(columns), times, values, np.zeros(values.shape, np.uint8))
