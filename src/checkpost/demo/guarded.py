"""Changes at the same time: tags of rows, versions, and creates that are sent again."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal
from checkpost.demo.core import Caller, Key
from checkpost.demo.database import Row
from checkpost.demo.related import RelatedRows


class GuardedRows(RelatedRows):
    """Rows with entity tags (RFC 9110, 8.8.3) and conditional requests (13)."""

    def __init__(self, *known: Any) -> None:
        super().__init__(*known)
        #: What creates with an idempotency key have answered: the body sent, and the answer.
        self.answered: dict[tuple[str | None, str], tuple[bytes, Response]] = {}

    def tag(self, row: Row) -> str:
        text = json.dumps({name: row[name] for name in sorted(row)}, default=str)
        return f'"{hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:20]}"'

    def row_answer(self, row: Row, status: int = 200, headers: Mapping[str, str] | None = None) -> Response:
        return super().row_answer(row, status, {**(headers or {}), "ETag": self.tag(row)})

    def one(self, request: Request, caller: Caller, row: Row) -> Response:
        answer = super().one(request, caller, row)
        known = _tags(request.headers.get("if-none-match"))
        if answer.headers.get("etag") and self.unchanged(known, answer.headers["etag"]):
            return Response(status_code=304, headers={"ETag": answer.headers["etag"]})
        return answer

    def unchanged(self, known: list[str], tag: str) -> bool:
        return tag in known or "*" in known

    def guard(self, request: Request, caller: Caller, key: Key, body: Any) -> None:
        row = self.existing(caller, key)
        known = _tags(request.headers.get("if-match"))
        if known and "*" not in known and not self.current(known, row):
            raise Refusal(412, "Changed meanwhile", "The row is no longer the one with this tag.")
        version = self.table.version
        if version and isinstance(body, dict) and version in body and body[version] != row[version]:
            raise Refusal(409, "Changed meanwhile", f"The row has the version {row[version]}.")

    def current(self, known: list[str], row: Row) -> bool:
        return self.tag(row) in known

    def accepted(self, body: Row) -> Row:
        values = super().accepted(body)
        return {name: value for name, value in values.items() if name != self.table.version}

    def change(self, key: Key, values: Row) -> None:
        version = self.table.version
        row = self.fetch(key) if version else None
        super().change(key, {**values, version: self.next_version(row[version])} if version and row else values)

    def next_version(self, version: int) -> int:
        return version + 1

    def server_values(self, caller: Caller) -> Row:
        values = super().server_values(caller)
        return {**values, self.table.version: 1} if self.table.version else values

    def create(self, request: Request, caller: Caller, body: Any) -> Response:
        name = request.headers.get("idempotency-key")
        if name is None:
            return super().create(request, caller, body)
        sent = json.dumps([request.url.path, body], sort_keys=True).encode("utf-8", "surrogatepass")
        known = self.answered.get((caller.user, name))
        if known is not None and known[0] != sent:
            raise Refusal(422, "Not valid", "The key was used for another record.", [_USED])
        if known is None:
            known = sent, super().create(request, caller, body)
            self.answered[caller.user, name] = known
        first = known[1]
        again = Response(first.body, first.status_code, media_type=first.media_type)
        again.raw_headers = list(first.raw_headers)
        return again


_USED = {"field": "Idempotency-Key", "rule": "unique", "detail": "It was sent with another record before."}


def _tags(header: str | None) -> list[str]:
    return [each.strip().removeprefix("W/") for each in header.split(",")] if header else []
