"""One request over the network, by a kept-alive connection; what goes wrong on the way is in the answer."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Mapping
from types import TracebackType
from typing import TYPE_CHECKING, Any

from checkpost import __version__
from checkpost.wire.exchange import SAFE, Answer

if TYPE_CHECKING:
    import aiohttp

LARGEST_ANSWER = 20 * 1024 * 1024
#: How long a server may take to close a connection behind a failure, in seconds.
_AFTER_FAILURE = 0.02
#: How long behind a failure connections that were kept may end, in seconds.
_BEHIND_FAILURE = 1.0
#: Sends a method, a URL as written, headers and a body.
Transport = Callable[[str, str, Mapping[str, str], bytes | None], Awaitable[Answer]]


class Connections:
    """A transport over HTTP/1.1. ``timeout`` is in seconds, for a whole exchange."""

    def __init__(self, timeout: float, concurrency: int) -> None:
        self._timeout, self._concurrency = timeout, concurrency
        self._client: aiohttp.ClientSession | None = None
        #: When the server has failed last on the connections that are open, and how many requests are on their way.
        self._failed, self._under_way = float("-inf"), 0
        #: For requests that change something, once a connection was closed under one: each has its own from then on,
        #: so that an end is the request's, and none of a connection that was kept too long.
        self._lone: aiohttp.ClientSession | None = None

    async def __aenter__(self) -> Connections:
        self._client = self._opened()
        return self

    def _opened(self, kept: bool = True) -> aiohttp.ClientSession:
        import aiohttp

        # A short keep-alive, so that a server which closes idle connections seldom does so under a request.
        how: dict[str, Any] = {"keepalive_timeout": 1.5} if kept else {"force_close": True}
        connector = aiohttp.TCPConnector(limit=self._concurrency, **how)
        client = aiohttp.ClientSession(
            connector=connector,
            cookie_jar=aiohttp.DummyCookieJar(),
            trust_env=False,
            timeout=aiohttp.ClientTimeout(total=self._timeout),
            headers={"User-Agent": f"checkpost/{__version__}", "Accept-Encoding": "gzip, deflate"},
        )
        # It would send PUT and DELETE again on its own; there is no public switch for it.
        client._retry_connection = False
        return client

    async def renew(self) -> None:
        """Leave the connections that are open, where nothing is under way on them: a server may be about to close one
        that it was late to look after."""
        if self._client is not None:
            old, self._client, self._failed = self._client, self._opened(), float("-inf")
            await old.close()

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for client in filter(None, (self._client, self._lone)):
            await client.close()

    def _closed(self, why: str) -> Answer:
        """No answer, since the connection has ended."""
        return Answer(0, (), b"", "dropped" if self._behind else "closed", why)

    @property
    def _behind(self) -> bool:
        """Whether the server has just failed, and connections that were kept may end."""
        return time.monotonic() - self._failed < _BEHIND_FAILURE

    async def __call__(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
        if method not in SAFE and self._behind and not self._under_way:
            # sent on a connection of its own, so that its end is the request's
            await self.renew()
        self._under_way += 1
        client = self._client if method in SAFE or self._lone is None else self._lone
        assert client is not None
        try:
            answer = await self._sent(client, method, url, headers, body)
        finally:
            self._under_way -= 1
        if answer.failure in {"closed", "dropped"} and method not in SAFE and self._lone is None:
            self._lone = self._opened(kept=False)
        return answer

    async def _sent(
        self, client: aiohttp.ClientSession, method: str, url: str, headers: Mapping[str, str], body: bytes | None
    ) -> Answer:
        import aiohttp
        from yarl import URL

        status, raw = 0, ()
        try:
            async with client.request(
                method, URL(url, encoded=True), data=body, headers=headers, allow_redirects=False
            ) as response:
                status = response.status
                raw = tuple((k.decode("latin-1"), v.decode("latin-1")) for k, v in response.raw_headers)  # type: ignore[assignment]
                content = await _limited(response)
                if content is None:
                    return Answer(status, raw, b"", "too-large", f"the body is over {LARGEST_ANSWER // 2**20} MB")
            if status >= 500:
                # many servers close the connection behind a failure without a word: it must not be used meanwhile
                self._failed = time.monotonic()
                await asyncio.sleep(_AFTER_FAILURE)
            return Answer(status, raw, content)
        except TimeoutError:
            return Answer(status, raw, b"", "timeout", f"no whole answer within {self._timeout:g} s")
        except aiohttp.ClientPayloadError:
            return Answer(status, raw, b"", "truncated", "the connection ended before the body did")
        except aiohttp.ServerDisconnectedError:
            return self._closed("the connection was closed without an answer")
        except (aiohttp.ClientConnectorError, aiohttp.ServerConnectionError) as error:
            return Answer(0, (), b"", "unreachable", _why(error))
        except aiohttp.InvalidURL:
            return Answer(0, (), b"", "not-http", "the URL is not valid")
        except (aiohttp.ClientResponseError, aiohttp.ClientOSError) as error:
            if isinstance(error, aiohttp.ClientOSError):
                return self._closed(_why(error))
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
