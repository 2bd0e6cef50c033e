"""One resource over HTTP: its URLs, its requests, and the rows in its answers. Judges nothing."""

from __future__ import annotations

import json
import uuid
from collections.abc import Callable, Mapping, Sequence
from typing import Any
from urllib.parse import quote, unquote, urlsplit

from checkpost.contract.contract import Operation
from checkpost.contract.pointer import tokens, walk
from checkpost.model.paths import PARAMETER
from checkpost.model.resource import Constants, Purpose, Resource, is_json_type
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.listing import EVERYTHING, Asked, Key, Listing, Row, read_list
from checkpost.wire.session import Session

#: A query's parameters: by name, or as pairs where a name may stand twice.
Query = Mapping[str, Any] | Sequence[tuple[str, Any]]
#: Told of every answer to a documented operation: what was asked, the exchange, the situation in words.
Observer = Callable[[Operation, Exchange, str], None]

_IN_URLS = "%:/?#[]@!$&'()*+,;=-._~"


def wrap(record: Any, pointer: str) -> Any:
    """A record inside the objects that a JSON Pointer names."""
    for name in reversed(tokens(pointer)):
        record = {name: record}
    return record


def request_media_type(operation: Operation) -> str:
    """The JSON media type to send: a merge patch (RFC 7396) where offered, else the first JSON type."""
    offered = [each.name for each in operation.body.content] if operation.body else []
    if operation.method == "PATCH" and "application/merge-patch+json" in offered:
        return "application/merge-patch+json"
    usable = [name for name in offered if is_json_type(name) and "json-patch" not in name]
    return next((name for name in usable if "*" not in name), "application/json")


def pairs_of(query: Query) -> list[tuple[str, Any]]:
    return list(query.items() if isinstance(query, Mapping) else query)


def _part(text: Any) -> str:
    """A name or value as it stands in a query (RFC 3986, 3.4); a space never as ``+``."""
    return quote(str(text), safe="!$'()*,:@/?", errors="surrogatepass")


class Client:
    """Requests on one resource as one role."""

    def __init__(
        self,
        session: Session,
        base_url: str,
        resource: Resource,
        role: str,
        observe: Observer | None = None,
        within: Key = (),
    ) -> None:
        """``within`` is the key of the row that the resource's paths stand under, if they do."""
        self.session, self.resource, self.role = session, resource, role
        self._base, self._observe, self._within = base_url.rstrip("/"), observe, within

    # -- addresses ---------------------------------------------------------------------------------

    def url(self, operation: Operation, key: Key | None = None, query: Query = ()) -> str:
        """The URL of an operation; path parameters are filled with the key, in order."""
        parts = iter((*self._within, *(key or ())))
        path = PARAMETER.sub(lambda match: quote(str(next(parts, match[0])), safe=""), operation.path)
        written = "&".join(f"{_part(name)}={_part(value)}" for name, value in pairs_of(query))
        return self._base + path + (f"?{written}" if written else "")

    def key_in_location(self, location: str) -> Key | None:
        """The key that a Location header's path holds, by the item path's template."""
        if self.resource.item is None or self.resource.key is None:
            return None
        template = [part for part in self.resource.item.split("/") if part]
        path = [part for part in urlsplit(location).path.split("/") if part][-len(template) :]
        if len(path) != len(template):
            return None
        key: list[Any] = []
        for part, text in zip(template, path, strict=True):
            if PARAMETER.fullmatch(part):
                field = self.resource.field(self.resource.key.fields[len(key)])
                value = unquote(text)
                key.append(int(value) if field and field.type == "integer" and value.isdigit() else value)
            elif part != unquote(text):
                return None
        return tuple(key)

    # -- requests ----------------------------------------------------------------------------------

    async def send(
        self,
        purpose: Purpose,
        *,
        operation: Operation | None = None,
        key: Key | None = None,
        query: Query = (),
        headers: Mapping[str, str] | None = None,
        record: Any = None,
        raw: bytes | None = None,
        media_type: str | None = None,
        credentials: str = "right",
        token: str = "",
        check: str = "",
        situation: str = "",
    ) -> Exchange:
        """Send the resource's operation for a purpose, or another one of its own. ``record`` is wrapped as its
        bodies are; ``raw`` takes the place of the whole body."""
        operation = operation or self.resource.operations[purpose]
        constants = self.resource.constants.get(purpose, Constants())
        guarding, record = await self._guarded(purpose, key, record, headers or {}, check)
        headers, body = {**constants.headers, **guarding, **(headers or {})}, raw
        asked = pairs_of(query)
        query = [*((name, each) for name, each in constants.query.items() if name not in dict(asked)), *asked]
        if record is not None:
            body = json.dumps(wrap(record, self.resource.envelope.body), ensure_ascii=False).encode(
                "utf-8", "surrogatepass"
            )
        if body is not None:
            headers["Content-Type"] = media_type or request_media_type(operation)
        request = Request(
            operation.method,
            self.url(operation, key, query),
            self.role,
            headers,
            body,
            credentials,  # type: ignore[arg-type]
            token,
        )
        exchange = await self.session.send(request, check)
        if self._observe is not None:
            self._observe(operation, exchange, situation)
        return exchange

    async def _guarded(
        self, purpose: Purpose, key: Key | None, record: Any, headers: Mapping[str, str], check: str
    ) -> tuple[dict[str, str], Any]:
        """The headers, and the record, with what the contract demands against changes at the same time: the
        tag or version of the row as it is, a key of its own for each create."""
        guards, named = self.resource.guards, {name.lower() for name in headers}
        if purpose == "create" and guards.needs_once and guards.once.lower() not in named:
            return {guards.once: str(uuid.uuid4())}, record
        tag = purpose in guards.needs_match and "if-match" not in named
        version = guards.needs_version and purpose in {"update", "replace"} and isinstance(record, dict)
        version = version and guards.version not in record
        version = version and guards.version not in record
        if not key or not (tag or version) or "read" not in self.resource.operations:
            return {}, record
        answer = (await self.send("read", key=key, check=check, situation="reading a row")).answer
        row = self.row_in(answer) if answer.ok else None
        if version and row is not None and guards.version in row:
            record = {guards.version: row[guards.version], **record}
        stated = answer.header("etag")
        return ({"If-Match": stated} if tag and stated else {}), record

    async def get(self, operation: Operation, query: Query, check: str = "", situation: str = "") -> Exchange:
        """GET another operation of this resource than its own: one that has no key in its path."""
        exchange = await self.session.send(Request("GET", self.url(operation, None, query), self.role), check)
        if self._observe is not None:
            self._observe(operation, exchange, situation)
        return exchange

    async def follow(
        self, url: str, check: str = "", situation: str = "", headers: Mapping[str, str] | None = None
    ) -> Exchange:
        """GET a link of this API. What may not stand in a URL is escaped, as browsers do."""
        exchange = await self.session.send(
            Request("GET", quote(url, safe=_IN_URLS), self.role, dict(headers or {})), check
        )
        if self._observe is not None and situation:
            self._observe(self.resource.operations["list"], exchange, situation)
        return exchange

    # -- rows in answers ---------------------------------------------------------------------------

    def key_of(self, row: Mapping[str, Any]) -> Key | None:
        """The key of a row; None if it is not (wholly) there."""
        names = self.resource.key.fields if self.resource.key else ()
        values = tuple(row.get(name) for name in names)
        return values if names and all(isinstance(value, str | int) for value in values) else None

    def rows_in(self, body: Any) -> list[Row] | None:
        """The rows of a list's body; None where there are none to be seen."""
        pointer = self.resource.envelope.rows
        if pointer is None:
            return _first_rows(body, 3)
        try:
            rows = walk(body, pointer)
        except LookupError:
            return None
        if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
            return None
        return rows

    def row_in(self, answer: Answer) -> Row | None:
        """The row that an answer shows; None where it shows none."""
        body = answer.json
        pointer = self.resource.envelope.row
        if pointer is not None:
            try:
                row = walk(body, pointer)
            except LookupError:
                row = None
            if isinstance(row, list) and len(row) == 1:
                row = row[0]
            if isinstance(row, dict) and self._looks_like_row(row):
                return row
        return self._row_within(body, 3)

    def _looks_like_row(self, value: Row) -> bool:
        names = {field.name for field in self.resource.fields}
        return len(names & set(value)) >= min(2, len(names))

    def _row_within(self, value: Any, depth: int) -> Row | None:
        if isinstance(value, list) and len(value) == 1:
            value = value[0]
        if not isinstance(value, dict) or not depth:
            return None
        if self._looks_like_row(value):
            return value
        found = (self._row_within(each, depth - 1) for each in value.values() if isinstance(each, dict | list))
        return next((row for row in found if row is not None), None)

    def new_key(self, answer: Answer, record: Mapping[str, Any]) -> Key | None:
        """The key of a row that was just created: from the answer's body, its Location, or the record."""
        row = self.row_in(answer)
        if row is not None and self.key_of(row) is not None:
            return self.key_of(row)
        body = answer.json
        if isinstance(body, dict):
            for each in (body, *(value for value in body.values() if isinstance(value, dict))):
                if self.key_of(each) is not None:
                    return self.key_of(each)
        location = answer.header("location")
        key = self.key_in_location(location) if location else None
        return key if key is not None else self.key_of(record)

    # -- whole lists -------------------------------------------------------------------------------

    async def whole_list(
        self, most: int, check: str = "", situation: str = "the whole list", asked: Asked = EVERYTHING
    ) -> Listing:
        """Read the list, or what a query leaves of it, page by page. One of over ``most`` rows is not read
        to its end."""
        return await read_list(self, most, check, situation, asked)

    def total_of(self, answer: Answer) -> int | None:
        """The number of all rows that a list's answer gives, in its body or a header; None where it does
        not."""
        envelope = self.resource.envelope
        total: Any = None
        if envelope.total is not None:
            try:
                total = walk(answer.json, envelope.total)
            except LookupError:
                total = None
        elif envelope.total_header:
            total = (answer.header(envelope.total_header) or "").rpartition("/")[2].strip()
        return int(total) if isinstance(total, int | str) and str(total).isdigit() else None


def _first_rows(value: Any, depth: int) -> list[Row] | None:
    if isinstance(value, list) and all(isinstance(each, dict) for each in value):
        return value
    if isinstance(value, dict) and depth:
        for each in value.values():
            rows = _first_rows(each, depth - 1)
            if rows is not None:
                return rows
    return None
