"""How a link is used: how long it waits, how often it asks again, who sees the frames."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from leitwerk.errors import LinkError, NotReached
from leitwerk.links.trace import Tracer
from leitwerk.parsing.address import LinkAddress

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class LinkOptions:
    """How a link is used.

    Attributes
    ----------
    timeout_s : float, in s
        How long to wait for each answer.
    retries : int
        Number of retries for read requests. A write is never repeated: it is not known whether it
        was carried out.
    back_off_s : float, in s
        The pause before the first retry; it doubles before each further one.
    tracer : callable, optional
        Called with a ``TraceEntry`` for every frame; passwords are masked in it.
    password : callable, optional
        Gives the password of the user in an address, for a broker that asks for one.

    """

    timeout_s: float = 2.0
    retries: int = 2
    back_off_s: float = 0.05
    tracer: Tracer | None = None
    password: Callable[[LinkAddress], str] | None = None

    def call(self, request: Callable[[], T], is_final: Callable[[LinkError], bool]) -> T:
        """What ``request`` returns, retried unless an error is final; its last error otherwise."""
        first: LinkError | None = None
        for attempt in range(self.retries + 1):
            try:
                return request()
            except NotReached as error:
                # An address where nothing answers will not answer in a moment either; an earlier
                # error on a connection that did work says more.
                raise first or error from None
            except LinkError as error:
                first = first or error
                if attempt == self.retries or is_final(error):
                    raise
                time.sleep(self.back_off_s * 2**attempt)
        raise AssertionError


USUAL = LinkOptions()
