"""Sending requests concurrently over kept-alive connections, within limits of time, size and pace."""

from __future__ import annotations

import asyncio
import contextlib
import json
import time
from collections import deque
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from types import TracebackType
from urllib.parse import quote, urlencode, urljoin, urlsplit

from checkpost.contract.pointer import walk
from checkpost.errors import NotCompleted
from checkpost.model.purpose import Purpose
from checkpost.profile.credentials import Role
from checkpost.wire.coded import Coded, told_by
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.pace import Pace
from checkpost.wire.throttle import TOO_MANY, Throttle
from checkpost.wire.transport import Connections, Transport

LONGEST_WAIT = 30.0
_MOST_RETRIES = 2
_MOST_WAITS = 3
#: Seconds between two looks whether other writes are done.
_MOMENT = 0.005
#: Writes that are answered as fast go one at a time: it costs little, and a table that is kept in a file may not bear
#: two at once.
_SHORT = 0.02
_LATELY, _ENOUGH = 20, 5
#: What part of the time limit an answer may take that is far from it.
_FAR = 8


#: A request's turn, which may have to be waited for.
Turn = contextlib.AbstractAsyncContextManager[None]

#: How long an API that took connections before may take none, in seconds, and how often it is called meanwhile.
LONGEST_OUTAGE, _BETWEEN_CALLS = 15.0, 0.25


@dataclass(frozen=True)
class Limits:
    """``timeout`` in seconds for a whole exchange; ``concurrency`` requests at once, and ``rate`` in a second, if there
    is a limit; a list of more ``rows`` than this is not read to its end."""

    timeout: float = 10.0
    concurrency: int = 16
    rows: int = 2000
    rate: float | None = None


class Session:
    """Sends requests for roles. ``on_exchange`` is told of every exchange, in the order of their ends."""

    def __init__(
        self,
        roles: Mapping[str, Role],
        environment: Mapping[str, str],
        limits: Limits,
        on_exchange: Callable[[Exchange], None] = lambda exchange: None,
        base_url: str = "",
        transport: Transport | None = None,
    ) -> None:
        """``transport`` takes the place of connections over the network."""
        self._base_url = base_url.rstrip("/") + "/"
        #: The tokens that log-ins have given, by the name that stands for them in templates.
        self.tokens: dict[str, str] = {}
        #: What rows have shown of their types and of those that they refer to, by resource.
        self.kinds: dict[str, dict[str, str]] = {}
        #: After how many rows lists were seen to end though there are more, and nothing says so, by resource.
        self.cut: dict[str, int] = {}
        #: Why no rows of a table but the run's own are read by their keys.
        self.harmful: dict[str, str] = {}
        #: Where rows of lists were found (a JSON Pointer) that the contract has elsewhere, by resource.
        self.rows_at: dict[str, str] = {}
        #: The resources whose creates were seen to be answered with other keys than rows have, and by which check.
        self.wrong_keys: dict[str, str] = {}
        #: Tables whose list was seen to take what looks like a page's size for something else.
        self.unsized: set[str] = set()
        #: Tables whose list was seen to say how many rows a page has, or all of them, where its word may mean either.
        self.page_counts: set[str] = set()
        self.whole_counts: set[str] = set()
        #: What records are wrapped in though the contract does not say so (a JSON Pointer), by resource and purpose.
        self.wrappers: dict[tuple[str, Purpose], str] = {}
        #: How bodies say what came of a request, where the API answers all with one status.
        self.coded: Coded | None = None
        self._logging_in: dict[str, asyncio.Lock] = {}
        self._roles, self._environment, self.limits = roles, environment, limits
        self._on_exchange = on_exchange
        self.pace, self.throttle = Pace(limits.concurrency), Throttle(limits.rate)
        #: Whether requests that may change rows are sent one at a time, since several at once fail.
        self.gentle = False
        self._writing, self._under_way = asyncio.Lock(), 0
        #: How long the last writes took, in seconds.
        self._lately: deque[float] = deque(maxlen=_LATELY)
        self._connections = Connections(limits.timeout, limits.concurrency) if transport is None else None
        self._transport = transport or self._connections
        self._sent = 0
        #: Whether the API took the last connection.
        self._answers = False
        #: Tokens that were taken before, and those with which requests were turned away.
        self._worked: set[str] = set()
        self._turned_away: dict[int, str] = {}
        #: Log-ins that were made anew for a token that had not worked yet.
        self._in_vain: set[str] = set()

    async def __aenter__(self) -> Session:
        if self._connections is not None:
            await self._connections.__aenter__()
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._connections is not None:
            await self._connections.__aexit__(kind, error, trace)

    async def renew(self) -> None:
        """Go on with new connections; nothing may be under way."""
        if self._connections is not None:
            await self._connections.renew()

    async def send(self, request: Request, check: str = "", turn: Turn | None = None) -> Exchange:
        """Send a request that asks for no change, and wait for its answer; what goes wrong is in the answer. ``turn``
        takes the place of its turn among the others.

        Redirects are not followed. Connection errors are retried, ``Retry-After`` (RFC 9110, 10.2.3) of a 429 or 503
        is honoured. Raises ValueError for a request that may change something: those go through the ledger.
        """
        if not request.safe:
            raise ValueError(f"{request.method} {request.url} may change rows, and is not sent from here")
        retries = waits = 0
        while True:
            exchange = await self._one(request, check, retries + waits, turn)
            pause = self.put_off(exchange) if waits < _MOST_WAITS else None
            if pause is not None:
                waits += 1
                await asyncio.sleep(pause)
                continue
            broken = exchange.answer.failure in {"unreachable", "closed", "dropped", "truncated"}
            if broken and retries < _MOST_RETRIES:
                retries += 1
                continue
            self._on_exchange(exchange)
            return exchange

    async def in_quiet(self, request: Request) -> Exchange:
        """Send a request that asks for no change while no other is on its way."""
        async with self.pace.quiet():
            return await self.send(request, turn=contextlib.nullcontext())

    async def transmit(self, request: Request, check: str = "") -> Exchange:
        """Send a request that may change rows, once. Only the ledger does so (``checkpost.rows.ledger``)."""
        async with self._turn():
            exchange = await self._one(request, check, 0)
        self._lately.append(exchange.seconds)
        self._on_exchange(exchange)
        return exchange

    @contextlib.asynccontextmanager
    async def _turn(self) -> AsyncIterator[None]:
        """The turn of a request that may change rows: at once, or behind all others of its kind."""
        if self._behind_others:
            async with self._writing:
                # while it was waited for the turn, writes may have turned out to be slow
                alone = self._behind_others
                while alone and self._under_way:
                    await asyncio.sleep(_MOMENT)
                if alone:
                    yield
                    return
        self._under_way += 1
        try:
            yield
        finally:
            self._under_way -= 1

    @property
    def _behind_others(self) -> bool:
        return self.gentle or not (self.pace.side_by_side or self._slow)

    @property
    def _slow(self) -> bool:
        """Whether writes take so long that one at a time would leave the line idle. The quickest tells: others have
        waited for what was before them."""
        return len(self._lately) >= _ENOUGH and min(self._lately) > _SHORT

    @property
    def steady(self) -> bool:
        """Whether answers come so far within the time limit that no request is near it for others that are under
        way."""
        return self.pace.keeps_within(self.limits.timeout / _FAR)

    @contextlib.contextmanager
    def gently(self) -> Iterator[None]:
        """Send writes one at a time meanwhile."""
        before, self.gentle = self.gentle, True
        try:
            yield
        finally:
            self.gentle = before

    async def sign_off(self, request: Request, check: str = "") -> Exchange:
        """Send a log-out: it ends a token, and touches no row."""
        return await self.transmit(request, check)

    async def _one(self, request: Request, check: str, before: int, turn: Turn | None = None) -> Exchange:
        login = self._login_of(request)
        token = await self._token(login) if login is not None else ""
        async with turn or self.pace:
            await self.throttle.turn()
            self._sent += 1
            number, started, moment = self._sent, time.perf_counter(), time.time()
            answer = await self._reached(request)
            seconds = time.perf_counter() - started
        self.pace.note(answer.failure, started)
        if (pause := _pause(answer, 1 + before)) is not None:
            self.throttle.refused(seconds, pause)
        else:
            self.throttle.took()
        if self.coded is not None:
            answer = told_by(self.coded, answer)
        if token and answer.status == 401:
            self._turned_away[number] = token
        elif token and login is not None and answer.ok:
            self._worked.add(token)
            self._in_vain.discard(login.token_variable)
        return Exchange(number, check, request, answer, seconds, 1 + before, moment)

    async def _reached(self, request: Request) -> Answer:
        """The answer to a request. One that found nobody to take it was not sent: where the API has answered before, it
        is sent as soon as there is somebody again, as after a new start."""
        answer = await self._attempt(request)
        until = time.monotonic() + LONGEST_OUTAGE
        while answer.failure == "unreachable" and self._answers and time.monotonic() < until:
            await asyncio.sleep(_BETWEEN_CALLS)
            answer = await self._attempt(request)
        # an API that did not come back once is not waited for again, until it does
        self._answers = answer.failure != "unreachable"
        return answer

    def _login_of(self, request: Request) -> Role | None:
        """The role whose log-in gives the token that a request carries."""
        role = self._roles.get(request.role)
        own_token = role is not None and role.login is not None and not request.token
        return role if own_token and request.credentials not in {"none", "expired"} else None

    def put_off(self, exchange: Exchange) -> float | None:
        """How long to wait, in seconds, before a request may be sent again that was not taken now: the API says so,
        or its token may have run out (which is then fetched anew); None where it is final."""
        login, used = self._login_of(exchange.request), self._turned_away.pop(exchange.number, "")
        if login is not None and used and exchange.request.credentials == "right":
            variable = login.token_variable
            if self.tokens.get(variable) == used and (used in self._worked or variable not in self._in_vain):
                self._in_vain.add(variable)
                self.tokens.pop(variable)
            return 0.0 if self.tokens.get(login.token_variable) != used else None
        return _pause(exchange.answer, exchange.attempts)

    def usable(self, name: str) -> bool:
        """Whether there is a role of a name, and every variable that its credentials need has a value."""
        role = self._roles.get(name)
        return role is not None and all(self._environment.get(each) or self.tokens.get(each) for each in role.variables)

    async def log_in(self, role: Role) -> tuple[str, str]:
        """The token that a role's log-in gives, or "" and why it gives none."""
        assert role.login is not None
        login, url = role.login, urljoin(self._base_url, role.login.url)
        fields = login.filled(self._environment)
        body = urlencode(fields) if login.form else json.dumps(fields)
        kind = "application/x-www-form-urlencoded" if login.form else "application/json"
        sent = Request(login.method, url, "", {"Content-Type": kind}, body.encode(), "none")
        answer = await self._attempt(sent)
        if not answer.ok:
            return "", f"{login.method} {url} answers {answer.status or answer.detail}"
        try:
            token = walk(answer.json, login.token)
        except LookupError:
            return "", f"the answer of {login.method} {url} holds no token at {login.token}"
        return (token, "") if isinstance(token, str) and token else ("", f"the token of {url} is no text")

    async def _token(self, role: Role) -> str:
        """A role's token, by a log-in if there is none yet. Raises NotCompleted."""
        async with self._logging_in.setdefault(role.name, asyncio.Lock()):
            if role.token_variable not in self.tokens:
                token, why = await self.log_in(role)
                if not token:
                    raise NotCompleted(f"The role {role.name!r} cannot log in: {why}.")
                self.tokens[role.token_variable] = token
            return self.tokens[role.token_variable]

    def _prepared(self, request: Request) -> tuple[str, dict[str, str]]:
        """The URL and headers as sent, credentials included."""
        url, headers = request.url, dict(request.headers)
        role = self._roles.get(request.role)
        known = {**self._environment, **self.tokens}
        for credential in role.presented(request.credentials, request.token) if role else ():
            value = credential.value(known, wrong=request.credentials == "wrong")
            if credential.where == "header":
                headers[credential.name] = value
            elif credential.where == "cookie":
                headers["Cookie"] = "; ".join(filter(None, (headers.get("Cookie"), f"{credential.name}={value}")))
            else:
                separator = "&" if urlsplit(url).query else "?"
                url = f"{url}{separator}{quote(credential.name, safe='')}={quote(value, safe='')}"
        return url, headers

    async def _attempt(self, request: Request) -> Answer:
        url, headers = self._prepared(request)
        headers.setdefault("Accept", "application/json, application/problem+json, */*;q=0.5")
        assert self._transport is not None
        return await self._transport(request.method, url, headers, request.body)


def _pause(answer: Answer, attempts: int) -> float | None:
    """How long a 429 or 503 asks to wait, in seconds, and a 429 that does not say after so many ``attempts``; None if
    it asks for no pause, or for too long a one."""
    stated = answer.header("retry-after") if answer.status in {TOO_MANY, 503} else None
    if stated is None:
        return float(2 ** (attempts - 1)) if answer.status == TOO_MANY else None
    try:
        pause = float(stated)
    except ValueError:
        try:
            pause = parsedate_to_datetime(stated).timestamp() - time.time()
        except ValueError:
            return None
    return max(0.0, pause) if pause <= LONGEST_WAIT else None
