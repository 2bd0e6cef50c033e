"""One resource over HTTP: its URLs, its requests, and the rows in its answers. Judges nothing."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import quote, unquote, urlencode, urljoin, urlsplit

from checkpost.contract.contract import Operation
from checkpost.contract.pointer import tokens, walk
from checkpost.model.paths import PARAMETER
from checkpost.model.resource import Constants, Purpose, Resource, is_json_type
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.session import Session

Key = tuple[Any, ...]
Row = dict[str, Any]
#: Told of every answer to a documented operation: what was asked, the exchange, the situation in words.
Observer = Callable[[Operation, Exchange, str], None]

USUAL_PAGE = 100
_IN_URLS = "%:/?#[]@!$&'()*+,;=-._~"
MOST_PAGES = 500


@dataclass(frozen=True)
class Listing:
    """The rows of a list. ``complete`` says whether all of them were read, ``partial`` why not, ``problem``
    why there are none at all. ``repeated`` holds keys that stood twice in one answer."""

    rows: tuple[Row, ...]
    by_key: Mapping[Key, Row]
    complete: bool
    total: int | None = None
    problem: str = ""
    repeated: tuple[Key, ...] = ()
    exchanges: tuple[Exchange, ...] = ()
    partial: str = ""


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


class Client:
    """Requests on one resource as one role."""

    def __init__(
        self, session: Session, base_url: str, resource: Resource, role: str, observe: Observer | None = None
    ) -> None:
        self.session, self.resource, self.role = session, resource, role
        self._base, self._observe = base_url.rstrip("/"), observe

    # -- addresses ---------------------------------------------------------------------------------

    def url(self, operation: Operation, key: Key | None = None, query: Mapping[str, Any] | None = None) -> str:
        """The URL of an operation; path parameters are filled with the key, in order."""
        parts = iter(key or ())
        path = PARAMETER.sub(lambda match: quote(str(next(parts, match[0])), safe=""), operation.path)
        return self._base + path + (f"?{urlencode(query)}" if query else "")

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
        key: Key | None = None,
        query: Mapping[str, Any] | None = None,
        record: Any = None,
        raw: bytes | None = None,
        media_type: str | None = None,
        credentials: str = "right",
        check: str = "",
        situation: str = "",
    ) -> Exchange:
        """Send the resource's operation for a purpose. ``record`` is wrapped as its bodies are; ``raw``
        takes the place of the whole body."""
        operation = self.resource.operations[purpose]
        constants = self.resource.constants.get(purpose, Constants())
        headers, body = dict(constants.headers), raw
        query = {**constants.query, **(query or {})}
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
        )
        exchange = await self.session.send(request, check)
        if self._observe is not None:
            self._observe(operation, exchange, situation)
        return exchange

    async def follow(self, url: str, check: str = "") -> Exchange:
        """GET a link of this API. What may not stand in a URL is escaped, as browsers do."""
        return await self.session.send(Request("GET", quote(url, safe=_IN_URLS), self.role), check)

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

    async def whole_list(self, most: int, check: str = "", situation: str = "the whole list") -> Listing:
        """Read the list page by page. A list of over ``most`` rows is not read to its end."""
        paging = self.resource.paging
        size = min(paging.largest or USUAL_PAGE, 1000)
        query: dict[str, Any] = {paging.limit: size} if paging.limit and paging.style != "none" else {}
        if paging.style == "none" and paging.limit:
            query = {paging.limit: min(paging.largest or most, most)}
        first = await self.send("list", query=query, check=check, situation=situation)
        rows = self.rows_in(first.answer.json) if first.answer.ok else None
        if rows is None:
            return Listing((), {}, False, problem=_problem(first.answer), exchanges=(first,))
        total = self.total_in(first.answer.json)
        pages, exchanges, complete = [rows], [first], True
        step = len(rows)
        if total is not None and total > most:
            complete = False
        elif total is not None and paging.largest is not None and size >= total and paging.limit:
            pass  # by what the contract says of the limit, one page was to hold them all
        elif paging.style in {"offset", "page"} and paging.position and rows and (total is None or total > step):
            complete = await self._further(query, step, total, most, pages, exchanges, check, situation)
        elif paging.style == "next":
            complete = await self._linked(first, most, pages, exchanges, check)
        elif paging.style == "none":
            complete = total == step if total is not None else not query or step < next(iter(query.values()))
        listing = self._listing(pages, exchanges, complete, total)
        if not complete and (total is None or total <= most) and len(listing.rows) <= most:
            return replace(listing, partial="its pages do not join to a whole list")
        return replace(listing, partial="" if complete else f"it has over {most} rows")

    async def _further(
        self,
        query: Mapping[str, Any],
        step: int,
        total: int | None,
        most: int,
        pages: list[list[Row]],
        exchanges: list[Exchange],
        check: str,
        situation: str,
    ) -> bool:
        paging = self.resource.paging
        assert paging.position is not None

        async def page(number: int) -> Exchange:
            position = number * step if paging.style == "offset" else paging.start + number
            asked = {**query, str(paging.position): position}
            return await self.send("list", query=asked, check=check, situation=situation)

        if total is not None:
            answers = await asyncio.gather(*(page(n) for n in range(1, min(MOST_PAGES, -(-total // step)))))
        else:
            answers = []
            while len(answers) < MOST_PAGES and step * len(answers) < most:
                answers.append(await page(len(answers) + 1))
                found = self.rows_in(answers[-1].answer.json)
                if not found or found == pages[0]:
                    break
            else:
                return False
        exchanges.extend(answers)
        for exchange in answers:
            rows = self.rows_in(exchange.answer.json) if exchange.answer.ok else None
            if rows is None or (rows and rows == pages[0]):
                return False
            pages.append(rows)
        # a page that is not full before the last one: the parameters do not mean what was taken for granted
        return all(len(rows) == step for rows in pages[:-1]) or total is None or sum(map(len, pages)) >= total

    async def _linked(
        self, first: Exchange, most: int, pages: list[list[Row]], exchanges: list[Exchange], check: str
    ) -> bool:
        current = first
        for _ in range(MOST_PAGES):
            url = self.next_url(current)
            if url is None:
                return True
            if urlsplit(url)[:2] != urlsplit(current.request.url)[:2] or sum(map(len, pages)) > most:
                return False
            current = await self.follow(url, check)
            if self._observe is not None:
                self._observe(self.resource.operations["list"], current, "a linked page")
            rows = self.rows_in(current.answer.json) if current.answer.ok else None
            if rows is None:
                return False
            pages.append(rows)
            exchanges.append(current)
        return False

    def next_url(self, page: Exchange) -> str | None:
        """The absolute URL that a page links to as the next one; None where it links to none."""
        try:
            link = walk(page.answer.json, self.resource.envelope.next or "")
        except LookupError:
            return None
        return urljoin(page.request.url, link) if isinstance(link, str) and link else None

    def total_in(self, body: Any) -> int | None:
        """The number of all rows that a list's body gives; None where it gives none."""
        if self.resource.envelope.total is None:
            return None
        try:
            total = walk(body, self.resource.envelope.total)
        except LookupError:
            return None
        return int(total) if isinstance(total, int | str) and str(total).isdigit() else None

    def _listing(
        self, pages: Sequence[list[Row]], exchanges: Sequence[Exchange], complete: bool, total: int | None
    ) -> Listing:
        repeated: list[Key] = []
        by_key: dict[Key, Row] = {}
        for rows in pages:
            seen: set[Key] = set()
            for row in rows:
                key = self.key_of(row)
                if key is None:
                    continue
                if key in seen:
                    repeated.append(key)
                seen.add(key)
                by_key[key] = row
        rows = [row for page in pages for row in page]
        return Listing(tuple(rows), by_key, complete, total, "", tuple(repeated), tuple(exchanges))


def _first_rows(value: Any, depth: int) -> list[Row] | None:
    if isinstance(value, list) and all(isinstance(each, dict) for each in value):
        return value
    if isinstance(value, dict) and depth:
        for each in value.values():
            rows = _first_rows(each, depth - 1)
            if rows is not None:
                return rows
    return None


def _problem(answer: Answer) -> str:
    if answer.failure:
        return answer.detail
    if not answer.ok:
        return f"it answers {answer.status}"
    if not answer.parsed[0]:
        kind = answer.media_type or "no media type"
        return f"its answer ({kind}) is not JSON"
    return "its answer holds no rows where the contract has them"
