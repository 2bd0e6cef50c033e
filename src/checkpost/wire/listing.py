"""Reading a list to its end, however it is paged, and telling when that is not possible."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any
from urllib.parse import urljoin, urlsplit, urlunsplit

from checkpost.contract.pointer import walk
from checkpost.model.envelopes import TOTAL_HEADERS
from checkpost.wire.exchange import Answer, Exchange
from checkpost.wire.numbering import Kind, next_in, said

if TYPE_CHECKING:
    from checkpost.wire.client import Client

Key = tuple[Any, ...]
Row = dict[str, Any]


def key_text(key: Key | None) -> str:
    """A key as a person reads it."""
    return "/".join(map(str, key)) if key else "of unknown key"


USUAL_PAGE = 100
MOST_PAGES = 500
_LINK = re.compile(r'<([^<>]*)>((?:\s*;\s*[\w*-]+\s*=\s*(?:"[^"]*"|[^\s";,]+))*)')
#: A status of answers that hold a part of a list, or say that there is none there (RFC 9110, 15.3.7, 15.5.17).
_NOT_THERE = 416
#: What some answer for a page past the end.
_NOT_FOUND = 404
#: Success, and nothing to show (RFC 9110, 15.3.5): some answer so where a table has no rows.
_NO_CONTENT = 204


@dataclass(frozen=True)
class Asked:
    """What a list is asked for beside its paging: query parameters and headers."""

    pairs: tuple[tuple[str, Any], ...] = ()
    headers: Mapping[str, str] = field(default_factory=dict)


EVERYTHING = Asked()


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
    broken_off: bool = False

    @property
    def torn(self) -> bool:
        """Whether its pages do not join, or hold fewer rows than the first says that there are."""
        short = len(self.exchanges) > 1 and len(self.rows) < (self.total or 0)
        return self.broken_off or (self.complete and short)

    @property
    def failed(self) -> bool:
        """Whether there are none because the API failed: a server error, no answer, or one that holds no rows."""
        return bool(self.problem) and not 400 <= self.exchanges[-1].answer.status < 500


def linked(answer: Answer, relation: str) -> str | None:
    """The target of a Link header with this relation (RFC 8288, 3); None where there is none."""
    for name, value in answer.headers:
        if name.lower() != "link":
            continue
        for target, parameters in _LINK.findall(value):
            said = re.search(r';\s*rel\s*=\s*"?([^";]*)"?', parameters, re.I)
            if said and relation in said[1].lower().split():
                return str(target)
    return None


def next_url(client: Client, page: Exchange) -> str | None:
    """The absolute URL of the page after this one, by the link in its body or header, or by the token that
    it gives; None where it gives none."""
    paging = client.resource.paging
    pointer = paging.cursor_at if paging.style == "cursor" else client.resource.envelope.next
    if pointer is None:
        link = linked(page.answer, "next")
        if link is not None:
            return urljoin(page.request.url, link)
        beside = next_in(page.answer)
        asked = urlsplit(page.request.url)
        try:
            told = urlsplit(urljoin(page.request.url, beside or ""))
        except ValueError:  # it is no address
            return None
        # nothing describes it: it has to lead to the same list, though a server may know itself by another name
        same = told.path == asked.path and told.netloc.rpartition(":")[2] == asked.netloc.rpartition(":")[2]
        return urlunsplit((*asked[:2], *told[2:])) if beside and same else None
    try:
        link = walk(page.answer.json, pointer)
    except LookupError:
        return None
    if not isinstance(link, str | int) or isinstance(link, bool) or link == "":
        return None
    is_url = re.match(r"https?://|\?|/[^?]*\?|/\w+/", str(link)) is not None
    token = paging.cursor is not None and not is_url
    return with_cursor(client, page, str(link)) if token else urljoin(page.request.url, str(link))


def with_cursor(client: Client, page: Exchange, token: str) -> str:
    """The URL of a page with another cursor."""
    from yarl import URL

    return str(URL(page.request.url, encoded=True).update_query({str(client.resource.paging.cursor): token}))


def position_of(client: Client, number: int, size: int) -> Asked:
    """What asks for page ``number`` (from 0) of a size, where a list can be asked by position."""
    paging = client.resource.paging
    if paging.style == "range":
        unit = f"{paging.unit}=" if paging.unit else ""
        headers = {"Range": f"{unit}{number * size}-{number * size + size - 1}"}
        return Asked((), headers if paging.unit else {**headers, "Range-Unit": "items"})
    position = number * size if paging.style == "offset" else paging.start + number
    named = ((paging.limit, size), (paging.position, position))
    return Asked(tuple((name, value) for name, value in named if name))


def counted(client: Client, asked: Asked) -> Asked:
    """A question that asks for the number of all rows too, where a list gives it only if asked."""
    counting = client.resource.queries.counting
    if counting is None or counting.parameter in {*dict(asked.pairs), *asked.headers}:
        return asked
    if counting.header:
        return Asked(asked.pairs, {**asked.headers, counting.parameter: counting.value})
    return Asked((*asked.pairs, (counting.parameter, counting.value)), asked.headers)


def says_more(answer: Answer, shown: int) -> bool:
    """Whether an answer that shows so many rows says beside them, or in a header that nothing describes, that there
    are more."""
    for name, value in answer.headers:
        number = re.search(r"(?:^|/)\s*(\d+)\s*$", value) if name.lower() in TOTAL_HEADERS else None
        if number is not None and int(number[1]) > shown:
            return True
    if linked(answer, "next") is not None or next_in(answer) is not None:
        return True
    stated = said(answer)
    total = _total(stated)
    pages = max((value for (kind, _), value in stated.items() if kind == "pages"), default=0)
    more = any(value for (kind, _), value in stated.items() if kind == "more")
    return (total is not None and total > shown) or pages > 1 or more


def says_all(answer: Answer, shown: int) -> bool:
    """Whether an answer that shows so many rows says, in a member that nothing describes, that there are no others."""
    return _total(said(answer)) == shown and not says_more(answer, shown)


def is_full_page(answer: Answer, shown: int) -> bool:
    """Whether an answer that shows so many rows says that it shows no more than that, though none of them all."""
    stated = said(answer)
    return shown in [value for (kind, _), value in stated.items() if kind == "size"] and _total(stated) is None


def _total(stated: Mapping[tuple[Kind, str], Any]) -> int | None:
    """What is said to be the number of all rows; None where nothing is."""
    return max((value for (kind, _), value in stated.items() if kind == "total"), default=None)


async def read_list(client: Client, most: int, check: str, situation: str, asked: Asked) -> Listing:
    """Read what ``asked`` leaves of a list, page by page. See ``Client.whole_list``."""
    paging = client.resource.paging
    size = min(paging.largest or USUAL_PAGE, 1000)
    everything, asked = asked is EVERYTHING, counted(client, asked)
    pairs, headers = list(asked.pairs), dict(asked.headers)
    name = client.resource.name
    limit = paging.limit if name not in client.session.unsized else None
    if limit:
        pairs.append((limit, size if paging.style != "none" else min(paging.largest or most, most)))
    if paging.style == "range":
        size = min(paging.largest or 1000, 1000)
        headers.update(position_of(client, 0, size).headers)
    first = await client.send("list", query=pairs, headers=headers, check=check, situation=situation)
    if first.answer.status >= 400 and limit and paging.largest is None:
        # nothing says how long a page may be: it is as long as the list makes it
        pairs.remove((limit, dict(pairs)[limit]))
        first = await client.send("list", query=pairs, headers=headers, check=check, situation=situation)
    rows = client.rows_in(first.answer.json) if first.answer.ok else None
    if rows == [] and everything and limit in dict(pairs) and not paging.position:
        # what is taken for a size may filter: no row would ever be seen
        bare = await client.send("list", headers=headers, check=check, situation=situation)
        if bare.answer.ok and client.rows_in(bare.answer.json):
            client.session.unsized.add(name)
            pairs, limit, first, rows = [], None, bare, client.rows_in(bare.answer.json)
    reader = _Reader(client, most, check, situation, pairs, headers)
    nothing_past_the_end = first.answer.status == _NOT_THERE and client.total_of(first.answer) == 0
    if rows is None and (nothing_past_the_end or first.answer.status == _NO_CONTENT):
        return Listing((), {}, True, 0, exchanges=(first,))
    if rows is None:
        return Listing((), {}, False, problem=_problem(first.answer), exchanges=(first,))
    total = client.total_of(first.answer)
    reader.pages.append(rows)
    reader.exchanges.append(first)
    step, complete = len(rows), True
    by_position = (paging.style == "range" and total is not None) or (
        paging.style in {"offset", "page"} and paging.position is not None
    )
    if total == step and by_position and step and await reader.counts_a_page(step):
        total = None
    if total is not None and total > most:
        complete = False
    elif total is not None and paging.largest is not None and size >= total and paging.limit:
        pass  # by what the contract says of the limit, one page was to hold them all
    elif by_position and rows and (total is None or total > step):
        complete = await reader.further(step, total, step < size) or says_all(first.answer, step)
    elif paging.style in {"next", "cursor", "link"}:
        complete = await reader.along() and not (len(reader.pages) == 1 and is_full_page(first.answer, step))
    elif paging.style in {"none", "range"}:
        short = not limit or step < dict(pairs).get(limit, 0)
        complete = total == step if total is not None else short and not says_more(first.answer, step)
        goes_on = paging.style == "none" and next_url(client, first) is not None
        if goes_on and (total is None or not complete):
            complete = await reader.along() and (total is None or total <= sum(map(len, reader.pages)))
    complete &= client.session.cut.get(client.resource.name) != step
    listing = reader.listing(complete, total)
    if not complete and (total is None or total <= most) and len(listing.rows) <= most:
        more = paging.style == "none" and not paging.limit
        why = "its answer says that there are more rows" if more else "its pages do not join to a whole list"
        return replace(listing, partial=why, broken_off=True)
    return replace(listing, partial="" if complete else f"it has over {most} rows")


class _Reader:
    """The pages of one list as they come in."""

    def __init__(
        self,
        client: Client,
        most: int,
        check: str,
        situation: str,
        pairs: Sequence[tuple[str, Any]],
        headers: Mapping[str, str],
    ) -> None:
        self.client, self.most, self.check, self.situation = client, most, check, situation
        self.pairs, self.headers = pairs, headers
        self.pages: list[list[Row]] = []
        self.exchanges: list[Exchange] = []

    async def counts_a_page(self, step: int) -> bool:
        """Whether what may be the number of all rows is that of the first page: there are others behind it."""
        session, name = self.client.session, self.client.resource.name
        if name in session.whole_counts or not self.client.resource.envelope.may_count_a_page:
            return False
        behind = self.behind(await self.page(1, step))
        more = bool(behind) and behind != self.pages[0]
        (session.page_counts if more else session.whole_counts).add(name)
        return more

    async def page(self, number: int, step: int) -> Exchange:
        """The page with a number, of so many rows."""
        asked = position_of(self.client, number, step)
        position = dict(asked.pairs)
        if self.client.resource.paging.limit:
            position.pop(self.client.resource.paging.limit, None)  # the size stays what it was
        return await self.client.send(
            "list",
            query=[*self.pairs, *position.items()],
            headers={**self.headers, **asked.headers},
            check=self.check,
            situation=self.situation,
        )

    async def further(self, step: int, total: int | None, short: bool) -> bool:
        """The pages behind the first, by position; side by side where the total is known. If the first was
        ``short`` of what was asked for, the total may be wrong: the second tells."""
        pages = self.pages
        if total is not None:
            answers = [await self.page(1, step)] if short else []
            if short and self.behind(answers[0]) == []:
                return True
            rest = range(1 + len(answers), min(MOST_PAGES, -(-total // step)))
            answers += await asyncio.gather(*(self.page(number, step) for number in rest))
        else:
            answers = []
            while len(answers) < MOST_PAGES and step * len(answers) < self.most:
                answers.append(await self.page(len(answers) + 1, step))
                found = self.behind(answers[-1])
                if not found or found == pages[0]:
                    break
            else:
                return False
        self.exchanges.extend(answers)
        for exchange in answers:
            rows = self.behind(exchange)
            if rows is None or (rows and rows == pages[0]):
                # past its end it begins again, where the page before was not a full one
                return rows is not None and len(pages) > 1 and len(pages[-1]) < step
            pages.append(rows)
        # a page that is not full before the last one: the parameters do not mean what was taken for granted
        return all(len(rows) == step for rows in pages[:-1]) or total is None or sum(map(len, pages)) >= total

    def behind(self, exchange: Exchange) -> list[Row] | None:
        """The rows of a page behind the first: none where it is not there; None where it cannot be read."""
        if exchange.answer.status in {_NOT_THERE, _NOT_FOUND}:
            return []
        return self.client.rows_in(exchange.answer.json) if exchange.answer.ok else None

    async def along(self) -> bool:
        """The pages behind the first, each by what the one before says of it."""
        current = self.exchanges[0]
        for _ in range(MOST_PAGES):
            url = next_url(self.client, current)
            if url is None:
                return True
            foreign = urlsplit(url)[:2] != urlsplit(current.request.url)[:2]
            if foreign or sum(map(len, self.pages)) > self.most:
                return False
            current = await self.client.follow(url, self.check, "a linked page", self.headers)
            rows = self.client.rows_in(current.answer.json) if current.answer.ok else None
            if rows is None:
                return False
            self.pages.append(rows)
            self.exchanges.append(current)
        return False

    def listing(self, complete: bool, total: int | None) -> Listing:
        repeated: list[Key] = []
        by_key: dict[Key, Row] = {}
        for rows in self.pages:
            seen: set[Key] = set()
            for row in rows:
                key = self.client.key_of(row)
                if key is None:
                    continue
                if key in seen:
                    repeated.append(key)
                seen.add(key)
                by_key[key] = row
        every = [row for page in self.pages for row in page]
        return Listing(tuple(every), by_key, complete, total, "", tuple(repeated), tuple(self.exchanges))


def _problem(answer: Answer) -> str:
    if answer.failure:
        return answer.detail
    if not answer.ok:
        return f"it answers {answer.status}"
    if not answer.parsed[0]:
        kind = answer.media_type or "no media type"
        return f"its answer ({kind}) is not JSON"
    return "its answer holds no rows where the contract has them"
