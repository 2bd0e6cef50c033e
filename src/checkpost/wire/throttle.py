"""How far apart requests leave, where an API takes only so many in a time."""

from __future__ import annotations

import asyncio
import time
from collections import deque

#: The status of a request that was one too many (RFC 6585, 4).
TOO_MANY = 429
#: How far apart requests are at the most, in seconds, and by how much they are further apart after each sign.
_MOST_APART, _FURTHER = 0.5, 1.5
#: After how many requests that were taken they leave closer together again, and by how much.
_CLOSER_AFTER, _CLOSER = 40, 0.8
#: The time in which requests are counted, in seconds, and how many leave in it in haste: where fewer did, a failure has
#: another reason.
_WINDOW, _HASTE = 1.0, 10


class Throttle:
    """Lets requests leave one after the other, ``apart`` seconds at the least; further apart each time the API says
    that it takes no more."""

    def __init__(self, rate: float | None = None) -> None:
        """``rate`` is how many may leave in a second at the most; None for no limit."""
        self._asked_for = self._least = 1 / rate if rate else 0.0
        self.apart = self._least
        self._next = self._open = 0.0
        self._taken = 0
        self._left: deque[float] = deque(maxlen=256)

    async def turn(self) -> None:
        """Wait for the moment at which the next request may leave."""
        now = time.monotonic()
        moment = max(now, self._next, self._open)
        self._next = moment + self.apart
        if moment > now:
            await asyncio.sleep(moment - now)
        self._left.append(time.monotonic())

    def refused(self, ago: float, pause: float, for_good: bool = False) -> None:
        """Take into account that a request, which left ``ago`` seconds before, was one too many: none leaves for
        ``pause`` seconds. What left before the last such sign says nothing new. ``for_good`` has them no closer
        together again; it is for failures that may be such a sign, and passes over those that met no haste."""
        now = time.monotonic()
        left = now - ago
        if left < self._open:
            return
        lately = sum(1 for moment in self._left if left - _WINDOW < moment <= left) / _WINDOW
        if for_good and lately < _HASTE:
            return
        further = min(_MOST_APART, max(self.apart, 1 / max(lately, 1.0)) * _FURTHER)
        self.apart = max(self._least, further)  # never faster than was asked for
        self._least = self.apart if for_good else self._least
        self._open, self._taken = now + pause, 0
        self._next = max(self._next, self._open)

    def in_vain(self) -> None:
        """Take back what was for good: the API fails as often, however far apart requests leave."""
        self.apart = self._least = self._asked_for

    def took(self) -> None:
        """Take into account that a request was taken."""
        self._taken += 1
        if self._taken >= _CLOSER_AFTER:
            self._taken = 0
            closer = self.apart * _CLOSER
            self.apart = max(self._least, closer if closer > 0.001 else 0.0)
