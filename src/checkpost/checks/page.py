"""Paging: pages of any size join to the same list, and odd sizes and positions are answered as documented."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Sequence
from typing import Any

from checkpost.checks.asking import once
from checkpost.checks.case import Case
from checkpost.checks.filtering import rows_in_words
from checkpost.checks.readback import rows_left_out
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.together import all_of
from checkpost.findings import Basis, Finding
from checkpost.model.shape import shape_of
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Asked, Key, Listing, Row, counted, key_text, next_url, position_of
from checkpost.wire.numbering import said

_MOST_PAGES = 12
#: Sizes and positions that no list has.
_NEGATIVE = -1
#: Sizes of pages that nobody asked for are multiples of this.
_ROUND = 5
_BELOW, _TOO_LOW = "below its minimum", "a refusal: it is below the documented minimum"
_BEHIND = 2**31
_FAR = (_NEGATIVE, _BEHIND, 10**22)
#: A range that the list does not have (RFC 9110, 15.5.17): as good as an empty page.
_NOT_THERE = 416


def known_list(case: Case) -> Listing:
    """The list as it was read whole before. Raises Skipped or Blocked where it does not serve."""
    before = case.state.before
    if before is None or before.problem:
        raise Blocked(case.state.unusable or "its list was not read")
    if case.state.ghosts:
        raise Blocked(case.state.ghosts)
    if not before.complete or before.repeated:
        raise Skipped("the list could not be read whole to compare with")
    if len(before.by_key) < 3 or len(before.by_key) != len(before.rows):
        raise Skipped("the list has too few rows, or rows whose keys are not known")
    return before


#: What default sizes are multiples of, and how many rows a list may lack for that to be no page of another size.
_USUAL_SIZES, _ROWS_OVER = (5, 6, 8), 2


async def ask_page(case: Case, asked: Asked, situation: str) -> tuple[Exchange, list[Row] | None]:
    """A page, unless it is known already since no write lies between."""
    known = ("page", asked.pairs, tuple(asked.headers.items()), case.state.writes)
    return await once(case.state, known, lambda: page_once_more(case, asked, situation))


async def page_once_more(case: Case, asked: Asked, situation: str) -> tuple[Exchange, list[Row] | None]:
    asked = counted(case.client, asked)
    exchange = await case.send("list", situation, query=asked.pairs, headers=asked.headers)
    if exchange.answer.status == _NOT_THERE:
        return exchange, []
    return exchange, case.client.rows_in(exchange.answer.json) if exchange.answer.ok else None


def needs_positions(case: Case) -> None:
    paging = case.resource.paging
    positioned = paging.limit is not None and paging.position is not None
    if paging.style != "range" and not (paging.style in {"offset", "page"} and positioned):
        raise Skipped("the contract describes no parameters for size and position")


def _page_of(case: Case, size: int, number: int) -> Asked:
    """What asks for a page of a size, ``number`` from 0: for the first page where the list goes on by what its answer
    gives. Raises Skipped where it takes no size."""
    if _goes_on(case):
        return Asked(((str(case.resource.paging.limit), size),))
    needs_positions(case)
    return position_of(case.client, number, size)


def _goes_on(case: Case) -> bool:
    """Whether a list takes a size, and goes on by what its answer gives."""
    paging = case.resource.paging
    return paging.style in {"cursor", "next", "link"} and paging.limit is not None


def third_of(case: Case, rows: int) -> int:
    """A size of which a list has at least three pages."""
    return max(1, min(rows, case.resource.paging.largest or 30) // 3)


def sizes_of(case: Case, rows: int) -> list[int]:
    """Two sizes that do not divide the list evenly, of few enough pages."""
    largest = case.resource.paging.largest or rows
    wanted = [max(2, rows // 3), max(2, rows // 5 + 1)]
    least = -(-rows // _MOST_PAGES)
    return sorted({min(max(size, least), largest) for size in wanted})


@check("page.joined", needs=("list",), cost=lambda resource: 10)
async def pages_join(case: Case) -> AsyncIterator[Finding]:
    """Do pages of any size join to the whole list, each row once?"""
    needs_positions(case)
    begun = _begins_again(case, case.state.before)
    if begun is not None:
        case.state.pages_broken = "a later page is the first one again"
        yield begun
        return
    repeated = _across_pages(case, case.state.before)
    if repeated:
        again = await case.listing()
        if repeated & _across_pages(case, again):
            case.state.pages_broken = "pages do not join to the whole list"
            yield _not_joined(
                case,
                len(case.client.rows_in(again.exchanges[0].answer.json) or ()),
                set(),
                repeated,
                list(again.exchanges),
            )
            return
    before = known_list(case)
    for size in sizes_of(case, len(before.rows)):
        count = -(-len(before.rows) // size)
        if count > _MOST_PAGES:
            raise Skipped(f"the list has over {_MOST_PAGES} pages of the largest size")
        pages = await all_of(
            ask_page(case, position_of(case.client, number, size), "a page") for number in range(count)
        )
        exchanges = [exchange for exchange, _ in pages]
        if any(rows is None for _, rows in pages):
            return  # why is told of the answer itself
        lengths = [len(rows or ()) for _, rows in pages]
        if max(lengths) > size:
            case.state.pages_broken = "pages hold more rows than are asked for"
            yield case.finding(
                "error",
                "contract",
                "A page holds more rows than were asked for",
                f"{size} rows at the most, as {_size_words(case, size)} asks",
                rows_in_words(max(lengths)),
                cause="any:page too long",
                purpose="list",
                place=place_of(case, case.resource.paging.limit),
                evidence=[exchanges[lengths.index(max(lengths))]],
            )
            return
        if any(length < size for length in lengths[:-1]) and case.resource.paging.largest is None:
            short = await _too_short(case, max(lengths[:-1]), before)
            if short is None:
                raise Skipped("pages are capped at a size that the contract does not state")
            case.state.pages_broken = "pages hold fewer rows than are asked for"
            yield short
            return
        keys = [case.client.key_of(row) for _, rows in pages for row in rows or ()]
        lost, twice = missing_and_repeated(keys, before)
        if lost or twice:
            again = await case.listing()
            lost = {key for key in lost if key in again.by_key}
            if again.complete and (lost or twice) and len(again.rows) == len(before.rows):
                case.state.pages_broken = "pages do not join to the whole list"
                yield _not_joined(case, size, lost, twice, exchanges)
                return


async def _too_short(case: Case, most: int, before: Listing) -> Finding | None:
    """The finding that pages are short of the rows that they are asked for; None where ``most`` rows, which came for a
    larger size, come for that size too: pages are cut off there, and hold no fewer."""
    asked = position_of(case.client, 0, most)
    for ask in (ask_page, page_once_more):
        exchange, rows = await ask(case, asked, "a page of as many rows as came")
        if not most or rows is None or len(rows) >= most:
            return None
    if len((await case.listing()).rows) != len(before.rows):
        return None
    return case.finding(
        "error",
        "contract",
        "A page holds fewer rows than were asked for",
        f"{most} of {len(before.rows)} rows, as {_size_words(case, most)} asks",
        rows_in_words(len(rows or ())),
        cause="any:page too short",
        purpose="list",
        place=place_of(case, case.resource.paging.limit),
        evidence=[exchange],
    )


def _begins_again(case: Case, before: Listing | None) -> Finding | None:
    """The finding that the pages of a list that was not read whole do not go on: the last that was read is the first
    one, and so would every further one be."""
    if before is None or before.problem or before.complete or len(before.exchanges) < 2:
        return None
    first, last = (case.client.rows_in(each.answer.json) for each in (before.exchanges[0], before.exchanges[-1]))
    if not first or first != last:
        return None
    number = len(before.exchanges)
    return case.finding(
        "error",
        "expectation",
        "A later page is the first one again",
        f"other rows than those of the first on page {number}, or none",
        f"the same {len(first)} rows, of which the first is {key_text(case.client.key_of(first[0]) or ())}",
        cause="begins again",
        purpose="list",
        place=place_of(case, case.resource.paging.position),
        evidence=[before.exchanges[0], before.exchanges[-1]],
    )


def _across_pages(case: Case, listing: Listing | None) -> set[Key]:
    """The keys that stand on more than one page of a list that was read whole."""
    if listing is None or not listing.complete or listing.repeated or len(listing.rows) == len(listing.by_key):
        return set()
    return missing_and_repeated([case.client.key_of(row) for row in listing.rows], listing)[1]


def missing_and_repeated(keys: list[Key | None], before: Listing) -> tuple[set[Key], set[Key]]:
    seen = [key for key in keys if key is not None]
    return set(before.by_key) - set(seen), {key for key in seen if seen.count(key) > 1}


def _not_joined(case: Case, size: int, lost: set[Key], twice: set[Key], exchanges: list[Exchange]) -> Finding:
    def names(keys: set[Key]) -> str:
        return ", ".join(key_text(key) for key in sorted(keys, key=str)[:3])

    seen = "; ".join(
        words
        for words in (f"missing: {names(lost)}" if lost else "", f"twice: {names(twice)}" if twice else "")
        if words
    )
    return case.finding(
        "error",
        "expectation",
        "Pages do not join to the whole list",
        f"each row once in the pages of {size}",
        seen,
        cause="pages do not join",
        purpose="list",
        evidence=exchanges[:2],
    )


def _size_words(case: Case, size: int) -> str:
    return f"{case.resource.paging.limit}={size}" if case.resource.paging.limit else f"a range of {size}"


def _words(asked: Asked) -> str:
    return ", ".join(f"{name}={value}" for name, value in [*asked.pairs, *asked.headers.items()])


def place_of(case: Case, name: str | None) -> Any:
    parameter = case.operation("list").query_parameter(name)
    return parameter.place if parameter else None


@check("page.past-end", needs=("list",), cost=lambda resource: 1)
async def past_the_end(case: Case) -> AsyncIterator[Finding]:
    """Is there nothing behind the last page?"""
    needs_positions(case)
    before = known_list(case)
    beyond = len(before.rows) + 1000
    number = beyond if case.resource.paging.style == "page" else beyond // 10
    asked = position_of(case.client, number, 10)
    exchange, rows = await ask_page(case, asked, "a page past the end")
    if rows:
        # page numbers that are too high are often taken for the last one on purpose
        last, final = await ask_page(case, position_of(case.client, (len(before.rows) - 1) // 10, 10), "the last page")
        clamped = case.resource.paging.style == "page" and final == rows and len(before.rows) > 10
        yield case.finding(
            "note" if clamped else "error",
            "expectation",
            "A page past the end repeats the last one" if clamped else "A page past the end holds rows",
            "no rows",
            f"{len(rows)} rows at {_words(asked)}",
            cause="past the end",
            purpose="list",
            place=place_of(case, case.resource.paging.position),
            evidence=[last, exchange] if clamped else [exchange],
        )


@check("page.default-size", needs=("list",), cost=lambda resource: 1)
async def default_size(case: Case) -> AsyncIterator[Finding]:
    """Does a list without a size have as many rows as the documented default says, or as a page usually has?"""
    limit = case.operation("list").query_parameter(case.resource.paging.limit)
    default = shape_of(limit.schema).keywords.get("default") if limit else None
    if limit is None:
        raise Skipped("the list takes no size")
    before = known_list(case)
    if not isinstance(default, int) or default <= 0:
        async for finding in _as_usual(case, before):
            yield finding
        return
    exchange, rows = await ask_page(case, Asked(), "a page of the default size")
    expected = min(default, len(before.rows))
    if rows is not None and len(rows) != expected:
        # others may add and remove rows meanwhile, of which a list of some pages shows nothing on the first
        first = await case.listing()
        exchange, rows = await page_once_more(case, Asked(), "a page of the default size")
        expected = min(default, len(first.rows))
        if rows is None or len(rows) == expected or len((await case.listing()).rows) != len(first.rows):
            return
        yield case.finding(
            "error",
            "contract",
            "A page does not have the documented default size",
            f"{expected} rows, since the default of {limit.name} is {default}",
            rows_in_words(len(rows)),
            cause="default size",
            purpose="list",
            place=limit.place,
            evidence=[exchange],
        )


async def _as_usual(case: Case, before: Listing) -> AsyncIterator[Finding]:
    """A list as it is, without a size: as long as it says that a page is, or else as one usually is."""
    exchange, rows = await ask_page(case, Asked(), "the list as it is")
    sizes: set[int] = {value for (kind, _), value in said(exchange.answer).items() if kind == "size" and value > 0}
    if len(sizes) == 1 and rows is not None and len(rows) != min(*sizes, len(before.rows)):
        found = await _not_as_it_says(case, before, min(sizes))
    else:
        found = await _nearly_whole(case, before, exchange, rows or [])
    if found is not None:
        yield found


async def _not_as_it_says(case: Case, before: Listing, size: int) -> Finding | None:
    """The finding that a page holds not as many rows as it says, where that is so once more."""
    again, rows = await page_once_more(case, Asked(), "the list as it is")
    count = len((await case.listing()).rows)
    if rows is None or len(rows) == min(size, count) or count != len(before.rows):
        return None
    return case.finding(
        "warning",
        "expectation",
        "A page does not hold as many rows as it says",
        rows_in_words(min(size, count)),
        rows_in_words(len(rows)),
        cause="any:page says size",
        purpose="list",
        evidence=[again],
    )


async def _nearly_whole(case: Case, before: Listing, exchange: Exchange, rows: Sequence[Row]) -> Finding | None:
    """The finding that a list lacks a row or two of those that it has with a size, and is no page of a usual one."""
    number, lost = len(rows), before.by_key.keys() - {case.client.key_of(row) for row in rows}
    if not rows or not 0 < len(lost) <= _ROWS_OVER or any(number % each == 0 for each in _USUAL_SIZES):
        return None
    if next_url(case.client, exchange) is not None:
        return None  # that is another question
    again, seen = await page_once_more(case, Asked(), "the list as it is")
    shown = {case.client.key_of(row) for row in seen or ()}
    there = (await case.listing()).by_key
    if not any(key in there and key not in shown for key in lost):
        return None
    return case.finding(
        "warning",
        "expectation",
        "A list leaves out rows where no size is asked for",
        f"{len(before.rows)} rows, or a page of a usual size",
        rows_in_words(number),
        cause="any:lacks rows without a size",
        purpose="list",
        evidence=[exchange, again],
    )


@check("page.alone", needs=("list",), cost=lambda resource: 2)
async def size_and_position_alone(case: Case) -> AsyncIterator[Finding]:
    """Does a size hold without a position, and a position without a size?"""
    before, paging = known_list(case), case.resource.paging
    if case.state.pages_broken:
        raise Blocked(case.state.pages_broken)
    together = _page_of(case, 2, 1).pairs
    asked = [case.operation("list").query_parameter(name) for name, _ in together]
    if not together or any(each is None or each.required for each in asked):
        raise Skipped("the list takes size and position together")
    for name, value in together:
        exchange, rows = await ask_page(case, Asked(((name, value),)), f"{name} alone")
        if rows is None:
            continue
        size = name == paging.limit
        keys = [case.client.key_of(row) for row in rows]
        # a position that is ignored gives the list from its first row, and whole at that
        ignored = len(rows) > value if size else len(rows) >= len(before.rows) and set(before.by_key) <= set(keys)
        if ignored:
            yield case.finding(
                "warning",
                "expectation",
                f"The {'page size' if size else 'position'} is ignored where it is asked for alone",
                f"{value} rows at the most" if size else "fewer rows than the whole list",
                f"{len(rows)} rows for {name}={value}",
                cause="alone",
                purpose="list",
                place=place_of(case, name),
                subjects=[name],
                evidence=[exchange],
            )


@check("page.described", needs=("list",), cost=lambda resource: 1)
async def described(case: Case) -> AsyncIterator[Finding]:
    """Is every row of a list within reach of what the contract describes?"""
    paging, before = case.resource.paging, case.state.before
    if before is None or before.problem:
        raise Blocked(case.state.unusable or "its list was not read")
    if not paging.untold and (paging.style != "none" or paging.limit):
        raise Skipped("the contract describes how the list is read on")
    exchange, rows = await ask_page(case, Asked(), "the list as it is")
    total = case.client.total_of(exchange.answer)
    count = max(total or 0, len(before.rows) if before.complete else 0)
    if rows is None or len(rows) >= count or next_url(case.client, exchange) is not None:
        return
    if not paging.untold and (len(rows) % _ROUND or count - len(rows) < 2):
        return  # its total may as well be wrong, which is another question
    rest = f"; {paging.limit} and {paging.position} give the rest" if paging.untold else ""
    yield rows_left_out(case, f"{len(rows)} of {count} rows{rest}", exchange)


@check("page.odd-sizes", needs=("list",), cost=lambda resource: 4)
async def odd_sizes(case: Case) -> AsyncIterator[Finding]:
    """Are sizes and positions that the contract rules out refused, or brought within its limits?"""
    before = known_list(case)
    paging = case.resource.paging
    tries: list[tuple[str, int, str]] = []
    for name in (paging.limit, paging.position):
        parameter = case.operation("list").query_parameter(name)
        limits = shape_of(parameter.schema).keywords if parameter else {}
        if isinstance(limits.get("minimum"), int):
            tries.append((str(name), limits["minimum"] - 1, _BELOW))
        if isinstance(limits.get("maximum"), int):
            tries.append((str(name), limits["maximum"] + 1, "above its maximum"))
    far = [name for name in (paging.limit, paging.position) if case.operation("list").query_parameter(name) is not None]
    beside = (
        position_of(case.client, 0, min(5, paging.largest or 5)).pairs if paging.style in {"offset", "page"} else ()
    )
    for name in far:  # beyond 32 and 64 bits: that an API fails for them is told of every answer
        other = tuple(pair for pair in beside if pair[0] != name)
        pages = await all_of(ask_page(case, Asked(((str(name), value), *other)), f"{name} = {value}") for value in _FAR)
        exchange, rows = pages[_FAR.index(_NEGATIVE)]
        below = [value for each, value, words in tries if each == name and words == _BELOW]
        if rows and await _passed_over(case, str(name), other, rows):
            continue  # as every value of it is, which is told elsewhere
        if below and rows and _NEGATIVE not in below:
            yield _negative_taken(case, str(name), _NEGATIVE, exchange, len(rows), "contract", _TOO_LOW)
        elif rows and not below and not _says_negative(case, str(name)):
            why = "a refusal, such as 400"
            yield _negative_taken(case, str(name), _NEGATIVE, exchange, len(rows), "expectation", why)
    if not tries:
        if far:
            return
        raise Skipped("the contract has no limits for size or position")
    for name, value, words in tries:
        exchange, rows = await ask_page(case, Asked(((name, value),)), f"{name} {words}")
        if rows is None:
            continue
        largest = paging.largest
        served = largest is not None and name == paging.limit and len(rows) > largest
        if served or len(rows) > len(before.rows) + 2:
            yield case.finding(
                "error",
                "contract",
                "A page is larger than the contract allows",
                f"a refusal, or {largest} rows at the most",
                f"{len(rows)} rows for {name}={value}",
                cause="over the maximum",
                purpose="list",
                place=place_of(case, name),
                subjects=[f"{name} {words}"],
                evidence=[exchange],
            )
        elif value < 0 and rows:
            yield _negative_taken(case, name, value, exchange, len(rows), "contract", _TOO_LOW)


async def _passed_over(case: Case, name: str, beside: Sequence[tuple[str, Any]], rows: Sequence[Row]) -> bool:
    """Whether a list is answered with the same rows whatever a size or position is: a size of one, or a position far
    behind."""
    value = 1 if name == case.resource.paging.limit else _BEHIND
    _, others = await ask_page(case, Asked(((name, value), *beside)), f"{name} = {value}")
    return others == list(rows) and (name != case.resource.paging.limit or len(rows) > 1)


def _says_negative(case: Case, name: str) -> bool:
    """Whether words give a negative value a meaning."""
    parameter = case.operation("list").query_parameter(name)
    said = f"{parameter.description} {shape_of(parameter.schema).keywords}" if parameter is not None else ""
    return bool(re.search(r"(?<![\w.])-\d|\bnegative\b|\bunlimited\b|\bno limit\b", said, re.I))


def _negative_taken(
    case: Case, name: str, value: int, exchange: Exchange, rows: int, basis: Basis, expected: str
) -> Finding:
    return case.finding(
        "warning",
        basis,
        "A negative size or position is accepted",
        expected,
        f"{exchange.answer.status} with {rows} rows for {name}={value}",
        cause="negative taken",
        purpose="list",
        place=place_of(case, name),
        subjects=[name],
        evidence=[exchange],
    )


@check("page.total", needs=("list",), cost=lambda resource: 2)
async def total_on_every_page(case: Case) -> AsyncIterator[Finding]:
    """Is the total the same on every page?"""
    before = known_list(case)
    if before.total is None:
        raise Skipped("the list gives no total")
    size = third_of(case, len(before.rows))
    for number in (0,) if _goes_on(case) else (0, 1):
        page = _page_of(case, size, number)
        exchange, rows = await ask_page(case, page, "a page")
        total = case.client.total_of(exchange.answer) if rows is not None else None
        if total is None or total == before.total:
            continue
        if case.resource.envelope.may_count_a_page and total == len(rows or ()):
            case.world.session.page_counts.add(case.resource.name)
            raise Skipped("what may be a total is the number of rows in the answer")
        # others may be adding and removing rows: the list is looked at before the page and behind it, three times,
        # and the page more often each time, so that no beat of theirs explains it
        for times in (1, 2, 3):
            first = (await case.listing()).total
            totals = set()
            for _ in range(times):
                exchange, rows = await page_once_more(case, page, "a page once more")
                totals.add(case.client.total_of(exchange.answer) if rows is not None else None)
            total = next(iter(totals))
            if len(totals) > 1 or total in (None, first) or first != (await case.listing()).total:
                break
        else:
            yield case.finding(
                "error",
                "contract",
                "The total depends on the page",
                f"{before.total} on every page",
                f"{total} on page {number + 1} of size {size}",
                cause="total by page",
                purpose="list",
                evidence=[exchange],
            )
            return
