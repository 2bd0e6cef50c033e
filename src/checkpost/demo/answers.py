"""What every part of the stand-in answers with: JSON, and refusals as problem documents (RFC 9457)."""

from __future__ import annotations

import gzip
import json
import zlib
from collections.abc import Mapping, Sequence
from typing import Any

from starlette.requests import Request
from starlette.responses import Response


class Refusal(Exception):
    """A request that is refused, as the problem document (RFC 9457) that says so."""

    def __init__(
        self,
        status: int,
        title: str,
        detail: str,
        errors: Sequence[Mapping[str, str]] = (),
        headers: Mapping[str, str] | None = None,
    ) -> None:
        super().__init__(detail)
        self.status, self.title, self.detail, self.errors = status, title, detail, list(errors)
        self.headers = dict(headers or {})

    def answer(self) -> Response:
        body: dict[str, Any] = {
            "type": "about:blank",
            "title": self.title,
            "status": self.status,
            "detail": self.detail,
        }
        if self.status == 422:
            body["errors"] = self.errors
        headers = {"WWW-Authenticate": "Bearer"} if self.status == 401 else self.headers
        return json_answer(body, self.status, headers, "application/problem+json")


def json_answer(
    body: Any, status: int = 200, headers: Mapping[str, str] | None = None, media_type: str = "application/json"
) -> Response:
    text = json.dumps(body, ensure_ascii=False)
    return Response(text.encode("utf-8", "surrogatepass"), status, dict(headers or {}), media_type)


def compressed(request: Request, answer: Response) -> Response:
    """An answer to a read in the one encoding that is asked for; of several, as it is."""
    asked = request.headers.get("accept-encoding", "").strip().lower()
    if request.method != "GET" or not answer.body:
        return answer
    answer.headers.setdefault("Vary", "Accept-Encoding")
    if asked in {"gzip", "deflate"} and "content-encoding" not in answer.headers:
        body = bytes(answer.body)
        answer.body = gzip.compress(body) if asked == "gzip" else zlib.compress(body)
        answer.headers["Content-Encoding"] = asked
        answer.headers["Content-Length"] = str(len(answer.body))
    return answer
