"""How long a link waits, how often it asks again, and how long it pauses before."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from leitwerk.errors import LinkError, NotReached

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Patience:
    """The same for every kind of link.

    Attributes
    ----------
    timeout_s : float, in s
        How long to wait for each answer.
    retries : int
        How often a read is asked again. A write never is: nobody knows whether it was carried out.
    back_off_s : float, in s
        The pause before the first repetition; twice as long before each further one.

    """

    timeout_s: float = 2.0
    retries: int = 2
    back_off_s: float = 0.05

    def keep_asking(self, ask: Callable[[], T], hopeless: Callable[[LinkError], bool]) -> T:
        """What ``ask`` returns, tried again where that can help; its last error otherwise."""
        first: LinkError | None = None
        for attempt in range(self.retries + 1):
            try:
                return ask()
            except NotReached as error:
                # Whoever is not there now will not be in a moment. What broke before tells more.
                raise first or error from None
            except LinkError as error:
                first = first or error
                if attempt == self.retries or hopeless(error):
                    raise
                time.sleep(self.back_off_s * 2**attempt)
        raise AssertionError


USUAL = Patience()
