"""An API that answers nothing any more: seen early, told once, and asked no further; and one that does not keep up with
what it is asked, and is asked more slowly."""

from __future__ import annotations

import asyncio
import itertools
import time
from collections import Counter
from collections.abc import Callable
from urllib.parse import urlsplit

from checkpost.checks.world import World
from checkpost.engine.budget import LEFT_OUT
from checkpost.findings import Finding
from checkpost.wire.exchange import Exchange
from checkpost.wire.session import Session
from checkpost.wire.throttle import TOO_MANY

#: After how many requests in a row that fail, or have no answer at all, it is asked what was answered before.
MOST_IN_A_ROW, MOST_SILENT = 24, 8
#: How many different things that were answered before are asked again at the most, and how long is waited behind each
#: answer that fails, in seconds: an API that holds back for a while what comes too fast is given that while.
_MOST = 6
#: After how many failures of what was answered before it is asked in quiet, and for how long nothing is asked if it is
#: answered then, in seconds: it fails for what else was on its way. And how often that is tried.
_RELAPSES, _REST, _MOST_RESTS = 3, 1.0, 8
PAUSES = (0.5, 1.0, 2.0, 4.0, 8.0, 16.0)


class Breakdown:
    """Watches every answer of a run. ``over`` is set once the API fails whatever it is asked: the rest of the run would
    wait for each answer in vain, and take each for a departure of its own."""

    def __init__(self, session: Session, harmless: Callable[[], bool]) -> None:
        """``harmless`` tells whether no read is known to harm rows."""
        self.over = asyncio.Event()
        self._session, self._harmless = session, harmless
        #: What was answered, the last of each path.
        self._good: dict[str, Exchange] = {}
        self._failed: list[Exchange] = []
        self._answered: set[str] = set()
        self._relapses = self._rests = 0
        self._asking: asyncio.Task[None] | None = None

    def note(self, exchange: Exchange) -> None:
        """Take an answer into account; to be called as answers come."""
        if self.over.is_set():
            return
        if not _fails(exchange):
            if exchange.request.safe and exchange.answer.ok:
                path = urlsplit(exchange.request.url).path
                self._good.pop(path, None)
                self._good[path] = exchange
                self._answered.add(exchange.request.url)
            self._failed.clear()
            return
        self._failed.append(exchange)
        known = exchange.request.safe and exchange.request.url in self._answered
        relapse = known and exchange.answer.status != TOO_MANY
        self._relapses += relapse
        if self._asking is not None or not self._good:
            return
        silent = sum(1 for each in self._failed if each.answer.failure or each.answer.status == TOO_MANY)
        many = len(self._failed) >= MOST_IN_A_ROW or silent >= MOST_SILENT
        relapsed = relapse and self._relapses >= _RELAPSES and self._rests <= _MOST_RESTS
        if (many or relapsed) and self._harmless():
            self._asking = asyncio.ensure_future(self._ask_again() if many else self._rest(exchange))

    async def settled(self) -> str:
        """Wait until it is known whether the API still answers, where that is in doubt; see ``why``."""
        if self._asking is not None:
            await asyncio.wait([self._asking])
        return self.why

    async def recovered(self) -> None:
        """Wait until the API answers something that it answered before, with nothing else on its way. Where it does not
        for a while, it is broken down."""
        if self._good and self._harmless() and not self.over.is_set():
            self._asking = self._asking or asyncio.ensure_future(self._ask_again())
            await asyncio.wait([self._asking])

    async def _rest(self, failed: Exchange) -> None:
        """Ask in quiet for what failed though it was answered before; leave more time between requests if it is
        answered again. What was tried often was tried in vain."""
        if self._rests == _MOST_RESTS:
            self._session.throttle.in_vain()
            self._rests, self._asking = self._rests + 1, None
            return
        try:
            for pause in (0.0, _REST):
                await asyncio.sleep(pause)
                if not _fails(await self._session.in_quiet(failed.request)):
                    self._session.throttle.refused(time.time() - failed.started, _REST, for_good=True)
                    break
        finally:
            self._relapses, self._rests, self._asking = 0, self._rests + 1, None

    async def _ask_again(self) -> None:
        try:
            if await self._answers():
                self._failed.clear()
            else:
                self.over.set()
        finally:
            self._asking = None

    async def _answers(self) -> bool:
        """Whether something that was answered before is answered again, in a while."""
        known = [each.request for each in self._good.values()][: -_MOST - 1 : -1]
        for asked, request in enumerate(itertools.islice(itertools.cycle(known), len(PAUSES))):
            if not _fails(await self._session.in_quiet(request)):
                if asked:
                    self._session.pace.slower()
                return True
            await asyncio.sleep(PAUSES[asked])
        return False

    @property
    def why(self) -> str:
        """Why the rest is not asked; empty while the API answers."""
        return f"{LEFT_OUT}the API {self._what}" if self.over.is_set() else ""

    @property
    def _what(self) -> str:
        """What the API does, in words."""
        return "takes no more requests" if self._is_quota else "answers nothing any more"

    @property
    def _is_quota(self) -> bool:
        """Whether the API says itself that it was asked too much."""
        return 2 * sum(each.answer.status == TOO_MANY for each in self._failed) > len(self._failed)

    def tell(self, world: World) -> None:
        """One finding in place of those that came of it."""
        if not self.over.is_set():
            return
        first, failed = self._failed[0], {each.number for each in self._failed}
        # what was on its way with it may have been answered in another order
        near = range(first.number - 2 * self._session.limits.concurrency, first.number)
        failed |= {number for number in near if number in world.exchanges and _fails(world.exchanges[number])}
        for key, each in list(world.findings.by_key.items()):
            if failed & set(each.exchanges):
                del world.findings.by_key[key]
        good = list(self._good.values())[-1]
        kinds = Counter(each.answer.detail or str(each.answer.status) for each in self._failed)
        told = ", ".join(f"{count} with {kind}" for kind, count in kinds.most_common())
        at_once = self._session.limits.concurrency
        many = f"; up to {at_once} were sent at once, and --concurrency 1 sends one at a time" if at_once > 1 else ""
        observed = (
            f"{len(self._failed)} requests in a row failed ({told}), among them {good.request.method} "
            f"{good.request.url} and others that were answered before{many}"
        )
        if self._is_quota:
            until = next(filter(None, (each.answer.header("retry-after") for each in self._failed)), "")
            again = f", Retry-After: {until}" if until else ""
            observed = f"{TOO_MANY} since request {first.number}{again}; --rate and --max-requests ask less"
        world.findings.add(
            [
                Finding(
                    check="shape.answer",
                    family="shape",
                    resource=None,
                    role=world.role.name,
                    severity="note" if self._is_quota else "error",
                    basis="expectation",
                    title=f"The API {self._what}",
                    expected="answers, also after many requests; the run has ended here",
                    observed=observed,
                    cause="everywhere:breakdown",
                    exchanges=(good.number, first.number, self._failed[-1].number),
                    count=len(self._failed),
                    source="shape.answer",
                )
            ]
        )


def _fails(exchange: Exchange) -> bool:
    """Whether a request had no answer, or one by which the server says that it failed, or takes no more."""
    return bool(exchange.answer.failure) or exchange.answer.status >= 500 or exchange.answer.status == TOO_MANY
