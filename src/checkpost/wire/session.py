"""Sending requests concurrently over kept-alive connections, within limits of time, size and pace."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from types import TracebackType
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlencode, urljoin, urlsplit

from checkpost import __version__
from checkpost.contract.pointer import walk
from checkpost.errors import NotCompleted
from checkpost.profile.credentials import Role
from checkpost.wire.exchange import Answer, Exchange, Request

if TYPE_CHECKING:
    import aiohttp

_SAFE = {"GET", "HEAD", "OPTIONS"}
LARGEST_ANSWER = 20 * 1024 * 1024
LONGEST_WAIT = 30.0
_MOST_RETRIES = 2
_MOST_WAITS = 3
_MOST_RENEWALS = 2


@dataclass(frozen=True)
class Limits:
    """``timeout`` in seconds for a whole exchange; ``concurrency`` requests at once; a list of more ``rows``
    than this is not read to its end."""

    timeout: float = 10.0
    concurrency: int = 16
    rows: int = 2000


class Session:
    """Sends requests for roles. ``on_exchange`` is told of every exchange, in the order of their ends."""

    def __init__(
        self,
        roles: Mapping[str, Role],
        environment: Mapping[str, str],
        limits: Limits,
        on_exchange: Callable[[Exchange], None] = lambda exchange: None,
        base_url: str = "",
    ) -> None:
        self._base_url = base_url.rstrip("/") + "/"
        #: The tokens that log-ins have given, by the name that stands for them in templates.
        self.tokens: dict[str, str] = {}
        #: What rows have shown of their types and of those that they refer to, by resource.
        self.kinds: dict[str, dict[str, str]] = {}
        self._logging_in: dict[str, asyncio.Lock] = {}
        self._roles, self._environment, self.limits = roles, environment, limits
        self._on_exchange = on_exchange
        self._slots = asyncio.Semaphore(limits.concurrency)
        self._client: aiohttp.ClientSession | None = None
        self._sent = 0

    async def __aenter__(self) -> Session:
        import aiohttp

        # A short keep-alive, so that a server which closes idle connections seldom does so under a request.
        connector = aiohttp.TCPConnector(limit=self.limits.concurrency, keepalive_timeout=1.5)
        self._client = aiohttp.ClientSession(
            connector=connector,
            cookie_jar=aiohttp.DummyCookieJar(),
            trust_env=False,
            timeout=aiohttp.ClientTimeout(total=self.limits.timeout),
            headers={"User-Agent": f"checkpost/{__version__}", "Accept-Encoding": "gzip, deflate"},
        )
        # It would send PUT and DELETE again on its own; there is no public switch for it.
        self._client._retry_connection = False
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._client is not None:
            await self._client.close()

    async def send(self, request: Request, check: str = "") -> Exchange:
        """Send a request and wait for its answer; what goes wrong on the way is in the answer.

        Redirects are not followed. Connection errors of safe methods (RFC 9110, 9.2.1) are retried,
        ``Retry-After`` (10.2.3) of a 429 or 503 is honoured; no other request is sent twice.
        """
        retries = waits = 0
        renewals = 0
        self._sent += 1
        number = self._sent
        role = self._roles.get(request.role)
        own_token = role is not None and role.login is not None and not request.token
        login = role if own_token and request.credentials not in {"none", "expired"} else None
        while True:
            used = await self._token(login) if login is not None else ""
            async with self._slots:
                started = time.perf_counter()
                answer = await self._attempt(request)
                seconds = time.perf_counter() - started
            right = login is not None and request.credentials == "right"
            if login is not None and right and answer.status == 401 and renewals < _MOST_RENEWALS:
                renewals += 1  # the token may have expired; one that is new decides
                if self.tokens.get(login.token_variable) == used:
                    self.tokens.pop(login.token_variable)
                continue
            pause = _pause(answer)
            if pause is not None and waits < _MOST_WAITS:
                waits += 1
                await asyncio.sleep(pause)
                continue
            broken = answer.failure in {"unreachable", "closed", "truncated"}
            if broken and request.method in _SAFE and retries < _MOST_RETRIES:
                retries += 1
                continue
            exchange = Exchange(number, check, request, answer, seconds, 1 + retries + waits)
            self._on_exchange(exchange)
            return exchange

    async def log_in(self, role: Role) -> tuple[str, str]:
        """The token that a role's log-in gives, or "" and why it gives none."""
        assert role.login is not None and self._client is not None
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
        import aiohttp
        from yarl import URL

        assert self._client is not None
        url, headers = self._prepared(request)
        headers.setdefault("Accept", "application/json, application/problem+json, */*;q=0.5")
        status, raw = 0, ()
        try:
            async with self._client.request(
                request.method, URL(url, encoded=True), data=request.body, headers=headers, allow_redirects=False
            ) as response:
                status = response.status
                raw = tuple((k.decode("latin-1"), v.decode("latin-1")) for k, v in response.raw_headers)  # type: ignore[assignment]
                body = await _limited(response)
                if body is None:
                    return Answer(status, raw, b"", "too-large", f"the body is over {LARGEST_ANSWER // 2**20} MB")
                return Answer(status, raw, body)
        except TimeoutError:
            return Answer(status, raw, b"", "timeout", f"no whole answer within {self.limits.timeout:g} s")
        except aiohttp.ClientPayloadError:
            return Answer(status, raw, b"", "truncated", "the connection ended before the body did")
        except aiohttp.ServerDisconnectedError:
            return Answer(0, (), b"", "closed", "the connection was closed without an answer")
        except (aiohttp.ClientConnectorError, aiohttp.ServerConnectionError) as error:
            return Answer(0, (), b"", "unreachable", _why(error))
        except aiohttp.InvalidURL:
            return Answer(0, (), b"", "unreachable", "the URL is not valid")
        except (aiohttp.ClientResponseError, aiohttp.ClientOSError) as error:
            if isinstance(error, aiohttp.ClientOSError):
                return Answer(0, (), b"", "closed", _why(error))
            said = error.message.splitlines()[0].strip(" :")[:80] if error.message else ""
            if said.startswith("Data after"):
                return Answer(0, (), b"", "not-http", "the body is longer than its Content-Length says")
            return Answer(0, (), b"", "not-http", f"the answer is not HTTP ({said})")
        except aiohttp.ClientError as error:
            return Answer(0, (), b"", "not-http", _why(error))


async def _limited(response: Any) -> bytes | None:
    parts, size = [], 0
    async for part in response.content.iter_any():
        size += len(part)
        if size > LARGEST_ANSWER:
            return None
        parts.append(part)
    return b"".join(parts)


def _why(error: Exception) -> str:
    cause = getattr(error, "os_error", None)
    text = getattr(cause, "strerror", None) or str(error) or type(error).__name__
    return str(text).splitlines()[0][:160]


def _pause(answer: Answer) -> float | None:
    """How long a 429 or 503 asks to wait, in seconds; None if it does not ask, or asks too much."""
    stated = answer.header("retry-after") if answer.status in {429, 503} else None
    if stated is None:
        return None
    try:
        pause = float(stated)
    except ValueError:
        try:
            pause = parsedate_to_datetime(stated).timestamp() - time.time()
        except ValueError:
            return None
    return max(0.0, pause) if pause <= LONGEST_WAIT else None
