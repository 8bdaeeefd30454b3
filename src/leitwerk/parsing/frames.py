"""To and from pandas, for those who have it: nothing here loads it before it is asked for."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, TypeVar

if TYPE_CHECKING:
    import pandas as pd

V = TypeVar("V")


def like(source: object, values: V) -> V:
    """Values as what they were made of: with the index of a Series, if the source is one.

    The annotation does not say so: who gives an array gets an array, and a Series is used like one.
    """
    pandas = sys.modules.get("pandas")
    if pandas is None or not isinstance(source, pandas.Series):
        return values
    series: V = pandas.Series(values, index=source.index, name=source.name)
    return series


def dataframe(columns: Mapping[str, Any], units: Mapping[str, str], index: str) -> pd.DataFrame:
    """A table of columns, one of which becomes its index; ``attrs["units"]`` has their units.

    Raises
    ------
    ImportError
        pandas is not installed.

    """
    try:
        import pandas as pd  # noqa: PLC0415 - half a second, and only where tables are wanted
    except ImportError:
        raise ImportError("to_dataframe needs pandas: pip install pandas") from None
    frame = pd.DataFrame(dict(columns)).set_index(index)
    frame.attrs["units"] = {name: unit for name, unit in units.items() if unit}
    return frame


def utc_index(times: Any) -> Any:
    """Times of ``datetime64`` as an index of pandas in UTC; as they are where there is no pandas."""
    try:
        import pandas as pd  # noqa: PLC0415 - as above
    except ImportError:
        return times
    return pd.DatetimeIndex(times, tz="UTC")
