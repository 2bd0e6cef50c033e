"""What pages say of themselves: how many there are, which one each is, and whether others follow."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.page import ask_page, known_list, needs_positions, page_once_more, third_of
from checkpost.checks.registry import Skipped, check
from checkpost.findings import Finding
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import position_of
from checkpost.wire.numbering import Kind, said


@dataclass(frozen=True)
class _Statement:
    """What the pages that were asked say of one thing: ``values`` has None for one that says nothing of it."""

    kind: Kind
    place: str
    values: tuple[Any, ...]


@dataclass(frozen=True)
class _Wrong:
    """A statement that is not true, of the page at a place among those that were asked."""

    kind: Kind
    title: str
    expected: str
    observed: str
    at: int


@check("page.says", needs=("list",), cost=lambda resource: 4)
async def pages_say_what_they_are(case: Case) -> AsyncIterator[Finding]:
    """Are a page's number, the number of pages and whether others follow as the page says?"""
    needs_positions(case)
    if case.resource.envelope.keyed:
        raise Skipped("its rows are the members of an object, as what pages say would be")
    before = known_list(case)
    rows = len(before.rows)
    size = third_of(case, rows)
    count = -(-rows // size)
    numbers = tuple(sorted({0, 1, count - 2, count - 1}))
    pages = [await ask_page(case, position_of(case.client, number, size), "a page") for number in numbers]
    if [len(shown or ()) for _, shown in pages] != [min(size, rows - size * number) for number in numbers]:
        raise Skipped("pages of that size do not hold the rows that they should")
    exchanges = [exchange for exchange, _ in pages]
    if not _statements(exchanges):
        raise Skipped("its pages say nothing of themselves")
    wrong = {each.title: each for each in _wrong(case, exchanges, numbers, size, rows)}
    if not wrong:
        return
    # others may be adding and removing rows meanwhile
    exchanges = [
        (await page_once_more(case, position_of(case.client, number, size), "a page once more"))[0]
        for number in numbers
    ]
    if len((await case.listing()).rows) != rows:
        raise Skipped("others add and remove rows meanwhile")
    for each in _wrong(case, exchanges, numbers, size, rows):
        if each.title in wrong:
            yield case.finding(
                "warning" if each.kind in {"number", "offset", "total"} else "error",
                "expectation",
                each.title,
                each.expected,
                each.observed,
                cause=f"page says {each.kind}",
                purpose="list",
                evidence=[exchanges[each.at]],
            )


def _statements(exchanges: Sequence[Exchange]) -> list[_Statement]:
    stated = [said(exchange.answer) for exchange in exchanges]
    places = dict.fromkeys(place for each in stated for place in each)
    return [_Statement(kind, place, tuple(each.get((kind, place)) for each in stated)) for kind, place in places]


def _wrong(
    case: Case, exchanges: Sequence[Exchange], numbers: tuple[int, ...], size: int, rows: int
) -> Iterator[_Wrong]:
    """What is not true of the first and the last pages of a size, by their numbers from 0."""
    paging, count = case.resource.paging, numbers[-1] + 1
    start = paging.start if paging.style == "page" else 1
    for each in _statements(exchanges):
        kind, values = each.kind, each.values
        if kind in _TRUTHS:
            title, true = _TRUTHS[kind]
            holds = [true(number, count) for number in numbers]
            at = _first(value is not None and value != holds[n] for n, value in enumerate(values))
            if at is not None:
                expected = f"{holds[at]} on page {numbers[at] + 1} of {count}".lower()
                yield _Wrong(kind, title, expected, _shown(each, at), at)
        elif kind == "pages":
            # the last page's number begins at 0 where the first one's does
            right = {count, count - 1} if start == 0 and "last" in each.place.lower() else {count}
            at = _first(value is not None and value not in right for value in values)
            if at is not None:
                expected = f"{count}: {rows} rows in pages of {size}"
                yield _Wrong(kind, "The number of pages is wrong", expected, _shown(each, at), at)
        elif None in values[:-1] or (kind != "next" and None in values):
            continue
        elif kind == "total" and not (case.resource.envelope.total or case.resource.envelope.total_header):
            # a total that is described is looked at by itself; some mean what the page holds
            told = [{rows, min(size, rows - size * number)} for number in numbers]
            at = _first(value not in told[n] for n, value in enumerate(values))
            if at is not None:
                yield _Wrong(kind, "The total is not the number of rows", str(rows), _shown(each, at), at)
        elif kind in {"number", "next"}:
            yield from _shifted(each, numbers, count)
        elif kind == "offset" and paging.style == "offset":
            asked = [number * size for number in numbers]
            at = _first(value != asked[n] for n, value in enumerate(values))
            if at is not None:
                title = "A page says another offset than was asked for"
                yield _Wrong(kind, title, str(asked[at]), _shown(each, at), at)


def _first(wrong: Iterable[bool]) -> int | None:
    """The place of the first page of which something is wrong; None where nothing is."""
    return next((at for at, is_wrong in enumerate(wrong) if is_wrong), None)


#: What is true of a page, by its number from 0 and the number of pages.
_TRUTHS: dict[Kind, tuple[str, Callable[[int, int], bool]]] = {
    "more": ("A page says wrongly whether others follow", lambda number, count: number < count - 1),
    "last": ("A page says wrongly whether it is the last", lambda number, count: number == count - 1),
    "before": ("A page says wrongly whether there are pages before it", lambda number, count: number > 0),
    "first": ("A page says wrongly whether it is the first", lambda number, count: number == 0),
}


def _shifted(each: _Statement, numbers: tuple[int, ...], count: int) -> Iterator[_Wrong]:
    """Numbers that do not go up with the pages; they may begin at 0 or at 1."""
    ahead = 1 if each.kind == "next" else 0
    shift = each.values[0] - ahead if each.values[0] - ahead in {0, 1} else 1
    for at, (number, value) in enumerate(zip(numbers, each.values, strict=True)):
        if ahead and number == count - 1:
            if value is not None and value > number + shift:
                title = "The last page names a next one"
                yield _Wrong(each.kind, title, f"none on page {count} of {count}", _shown(each, at), at)
        elif value != number + shift + ahead:
            title = "A page names another page as the next one" if ahead else "A page says another number than its own"
            expected = f"{number + shift + ahead} on page {number + 1} of {count}"
            yield _Wrong(each.kind, title, expected, _shown(each, at), at)
            return


def _shown(each: _Statement, number: int) -> str:
    return f"{each.place}: {str(each.values[number]).lower()}"
