"""All functions of formulas: a closed list. The guide's tables are written from it."""

from __future__ import annotations

from leitwerk.derived.function import Function
from leitwerk.derived.functions_of_the_moment import MOMENT
from leitwerk.derived.functions_of_time import OF_TIME
from leitwerk.derived.ready_made import READY_MADE

FUNCTIONS: dict[str, Function] = {**MOMENT, **OF_TIME, **READY_MADE}
