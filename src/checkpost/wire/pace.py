"""How many requests are on their way at once: fewer, once an API does not keep up with them."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections import deque
from collections.abc import AsyncIterator
from contextvars import ContextVar

#: Whether what goes on here is sent alone, or is to be under way at the same moment.
_ALONE: ContextVar[bool] = ContextVar("_ALONE", default=False)
_TOGETHER: ContextVar[bool] = ContextVar("_TOGETHER", default=False)
#: After how many requests in a row without an answer in time fewer are sent at once.
_SIGN = 3
#: How many of the last requests tell how fast an API is.
_ENOUGH = 64


class Pace:
    """Gives each request its turn: ``async with pace: …``, as many at once as ``at_once`` says."""

    def __init__(self, most: int) -> None:
        """``most`` requests at once to begin with."""
        self.at_once = most
        self._under_way, self._together, self._one_turn, self._no_turn = 0, 0, False, False
        self._waiting: deque[asyncio.Future[None]] = deque()
        self._ended = asyncio.Event()
        self._alone, self._quiet = asyncio.Lock(), asyncio.Lock()
        self._silent, self._changed = 0, 0.0
        #: How long the last requests took, in seconds.
        self._lately: deque[float] = deque(maxlen=_ENOUGH)

    async def __aenter__(self) -> None:
        if not self._waiting and self._under_way < self._most:
            self._under_way += 1
            return
        turn: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        # whoever has others sent one at a time is not kept behind all that wait for him
        (self._waiting.appendleft if _ALONE.get() else self._waiting.append)(turn)
        try:
            await turn
        except asyncio.CancelledError:
            if not turn.cancelled():  # it was given in the same moment
                self._end()
            raise

    async def __aexit__(self, *_: object) -> None:
        self._end()

    def note(self, failure: str, started: float) -> None:
        """Take into account what went wrong with a request (``Answer.failure``), sent at ``started``
        (``time.perf_counter``), or that nothing did: whether it was answered in time, above all."""
        self._lately.append(float("inf") if failure else time.perf_counter() - started)
        if failure != "timeout":
            self._silent = 0
        elif started >= self._changed:
            self._silent += 1
            if self._silent >= min(_SIGN, self.at_once):
                self.slower()

    def keeps_within(self, seconds: float) -> bool:
        """Whether all of the last requests were answered within so many seconds, and they are enough to tell."""
        return len(self._lately) == _ENOUGH and max(self._lately) <= seconds

    def slower(self) -> None:
        """Send half as many at once from now on; one at least."""
        self.at_once = max(1, self.at_once // 2)
        self._silent, self._changed = 0, time.perf_counter()

    @contextlib.asynccontextmanager
    async def alone(self) -> AsyncIterator[None]:
        """One request at a time meanwhile, whoever sends it; not while some have to be under way together."""
        if _ALONE.get():
            yield
            return
        async with self._alone:
            while self._together:
                self._ended.clear()
                await self._ended.wait()
            self._one_turn = True
            token = _ALONE.set(True)
            try:
                await self._until(1)
                yield
            finally:
                _ALONE.reset(token)
                self._one_turn = False
                self._next()

    @contextlib.asynccontextmanager
    async def by_itself(self) -> AsyncIterator[None]:
        """One request at a time meanwhile, unless that is so already, or several are to be sent together here."""
        if self._one_turn or _TOGETHER.get():
            yield
            return
        async with self.alone():
            yield

    @contextlib.asynccontextmanager
    async def together(self) -> AsyncIterator[None]:
        """What is sent in here is under way at the same moment: nobody has his requests sent alone meanwhile, unless it
        is the one who asks."""
        if _ALONE.get():
            yield
            return
        async with self._alone:  # whoever has comes to his end first
            self._together += 1
        token = _TOGETHER.set(True)
        try:
            yield
        finally:
            _TOGETHER.reset(token)
            self._together -= 1
            self._ended.set()

    @contextlib.asynccontextmanager
    async def quiet(self) -> AsyncIterator[None]:
        """No request has its turn meanwhile."""
        async with self._quiet:
            self._no_turn = True
            try:
                await self._until(0)
                yield
            finally:
                self._no_turn = False
                self._next()

    @property
    def side_by_side(self) -> bool:
        """Whether what is sent here is to be under way at the same moment as others."""
        return _TOGETHER.get()

    @property
    def _most(self) -> int:
        """How many requests may be on their way now."""
        return 0 if self._no_turn else (1 if self._one_turn else self.at_once)

    async def _until(self, most: int) -> None:
        """Wait until no more than ``most`` requests are on their way."""
        while self._under_way > most:
            self._ended.clear()
            await self._ended.wait()

    def _end(self) -> None:
        self._under_way -= 1
        self._ended.set()
        self._next()

    def _next(self) -> None:
        """Give turns to those that wait, in the order in which they came."""
        while self._waiting and self._under_way < self._most:
            turn = self._waiting.popleft()
            if not turn.done():
                self._under_way += 1
                turn.set_result(None)
