"""An application asked without a network: a transport that calls it, for tests in which the wire does not matter."""

from __future__ import annotations

import asyncio
import gzip
import zlib
from collections.abc import Mapping
from typing import Any
from urllib.parse import unquote, urlsplit

from checkpost.wire.exchange import Answer

_DECODED = {b"gzip": gzip.decompress, b"deflate": zlib.decompress}


class Direct:
    """Calls an ASGI application with each request, and lets others go on between."""

    def __init__(self, app: Any) -> None:
        self.app = app

    async def __call__(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
        parts = urlsplit(url)
        sent = {name.lower(): value for name, value in headers.items()}
        sent.setdefault("host", parts.netloc)
        sent.setdefault("accept", "*/*")
        if body is not None:
            sent.setdefault("content-type", "application/octet-stream")
        if body or method in {"POST", "PUT", "PATCH"}:
            sent.setdefault("content-length", str(len(body or b"")))
        scope = {
            "type": "http",
            "asgi": {"version": "3.0", "spec_version": "2.3"},
            "http_version": "1.1",
            "method": method,
            "scheme": parts.scheme,
            "path": unquote(parts.path),
            "raw_path": parts.path.encode("latin-1"),
            "query_string": parts.query.encode("latin-1"),
            "root_path": "",
            "headers": [(name.encode("latin-1"), value.encode("latin-1")) for name, value in sent.items()],
            "client": ("127.0.0.1", 1),
            "server": (parts.hostname, parts.port or 80),
            "state": {},
        }
        answered: dict[str, Any] = {"status": 0, "headers": [], "body": b""}
        read = False

        async def receive() -> dict[str, Any]:
            nonlocal read
            if read:
                await asyncio.sleep(3600)
            read = True
            return {"type": "http.request", "body": body or b"", "more_body": False}

        async def send(message: dict[str, Any]) -> None:
            if message["type"] == "http.response.start":
                answered.update(status=message["status"], headers=message.get("headers", []))
            elif message["type"] == "http.response.body" and method != "HEAD":
                answered["body"] += message.get("body", b"")

        await asyncio.sleep(0)
        try:
            await self.app(scope, receive, send)
        except Exception:
            if not answered["status"]:  # as a server would have it
                answered.update(status=500, headers=[(b"content-type", b"text/plain")], body=b"Internal Server Error")
        await asyncio.sleep(0)
        coded = dict(answered["headers"]).get(b"content-encoding")
        content = _DECODED[coded](answered["body"]) if coded in _DECODED and answered["body"] else answered["body"]
        named = tuple((name.decode("latin-1"), value.decode("latin-1")) for name, value in answered["headers"])
        return Answer(answered["status"], named, content)
