"""After a reconnect another device may answer: who relies on its identity is asked first."""

from __future__ import annotations

from collections.abc import Callable


class Reconnects:
    """Notices that a connection is another one than before, and calls ``verify`` before it is used.

    The first connection is not verified here: whoever opened the link identifies the device itself.
    """

    def __init__(self) -> None:
        self.verify: Callable[[], None] | None = None
        self._number = 0
        self._verifying = False

    def notice(self, number: int) -> None:
        """The connection is open, as the ``number``-th one; verified if it is a new one.

        Raises
        ------
        WrongDevice, LinkError
            What ``verify`` raises: nothing must be sent then. It is verified again before the next request.

        """
        before = self._number
        if self._verifying or number == before:
            return
        self._number = number
        if not before or self.verify is None:
            return
        self._verifying = True
        try:
            self.verify()
        except BaseException:
            self._number = -1  # not verified yet: the next request tries again
            raise
        finally:
            self._verifying = False
