"""Pages, sizes, positions and totals that are not as asked."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable
from typing import Any

from tests.hunt.api import SoundApi
from tests.hunt.faults.fault import Pairs, around, fault, filters, misread, pages
from tests.hunt.habits import Habits, Table
from tests.hunt.query import Row


def on_page(name: str, change: Callable[[list[Row], list[Row], int, int], list[Row]], **more: Any) -> None:
    """A fault of what stands on a page: of all rows, the page, where it begins and how long it is to be."""

    @fault(name, more.get("fits", pages))
    def install(api: SoundApi) -> None:
        def ordered(method: Any, table: Table, rows: list[Row], wanted: Any) -> list[Row]:
            rows = method(table, rows, wanted)
            page = rows[wanted.start : wanted.start + wanted.size]
            other = change(rows, page, wanted.start, wanted.size)
            return [*rows[: wanted.start], *other, *rows[wanted.start + wanted.size :]] if other != page else rows

        around(api, "_ordered", ordered)


on_page("a later page lacks its last row", lambda rows, page, start, size: page[:-1] if start else page)
on_page(
    "the last page lacks its last row",
    lambda rows, page, start, size: page[:-1] if start and start + size >= len(rows) else page,
)
on_page(
    "a later page begins with the last row of the one before",
    lambda rows, page, start, size: [rows[start - 1], *page[:-1]] if 0 < start < len(rows) else page,
)
on_page(
    "each page is turned round",
    lambda rows, page, start, size: page[::-1] if len(rows) > size else page,
    fits=lambda h: pages(h) and filters(h) and h.paging != "cursor",
)


misread(
    "past the end stands the first page",
    lambda h: h.paging in {"offset", "page"},
    lambda api, table, asked: {"start": asked.start if asked.start < len(api.rows[table.name]) else 0},
)
misread("a page is one row longer than asked", pages, lambda api, table, asked: {"size": asked.size + 1})
misread(
    "positions are passed over",
    lambda h: pages(h) and h.paging in {"offset", "page"},
    lambda api, table, asked: {"start": 0},
)
misread("sizes are passed over", pages, lambda api, table, asked: {"size": api.habits.usual})


@fault("sizes over the maximum are taken", lambda h: pages(h) and max(each.rows for each in h.tables) > h.largest)
def _over(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        sizes = {"limit", "per_page", "$top"}
        over = next((int(text) for name, text in pairs if name in sizes and re.fullmatch(r"\d{1,9}", text)), 0)
        over = over if over > api.habits.largest else 0
        found = method(table, [(n, str(api.habits.largest) if over and n in sizes else t) for n, t in pairs])
        found.size = over or found.size
        return found

    around(api, "_wanted", wanted)


@fault("sizes and positions that are no numbers are passed over", lambda h: h.paging in {"offset", "page"})
def _no_numbers(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        names = {"limit", "per_page", "$top", "page", "offset", "$skip"}
        return method(table, [(n, text) for n, text in pairs if n not in names or text.isdigit()])

    around(api, "_wanted", wanted)


@fault("the usual size is another than stated", pages)
def _usual(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        found = method(table, pairs)
        found.size += not {"limit", "per_page", "$top"} & {name for name, _ in pairs}
        return found

    around(api, "_wanted", wanted)


@fault("rows without an order come in another one each time", pages)
def _shuffled(api: SoundApi) -> None:
    def ordered(method: Any, table: Table, rows: list[Row], wanted: Any) -> list[Row]:
        rows = method(table, rows, wanted)
        return rows if wanted.order else api.random.sample(rows, len(rows))

    around(api, "_ordered", ordered)


@fault("ties come in another order each time", lambda h: pages(h) and filters(h) and h.paging != "cursor")
def _ties(api: SoundApi) -> None:
    def ordered(method: Any, table: Table, rows: list[Row], wanted: Any) -> list[Row]:
        rows = method(table, rows, wanted)
        if len(wanted.order) == 1:
            name = wanted.order[0][0].name
            ties = [list(group) for _, group in itertools.groupby(rows, lambda row: row[name])]
            rows = [row for group in ties for row in api.random.sample(group, len(group))]
        return rows

    around(api, "_ordered", ordered)


def on_total(name: str, change: Callable[[int, int, bool, int], int], fits: Callable[[Habits], bool]) -> None:
    """A fault of the total: of the true one, the number of rows shown, whether conditions were asked, all rows."""

    @fault(name, lambda habits: bool(habits.total) and fits(habits))
    def install(api: SoundApi) -> None:
        def listed(method: Any, table: Table, pairs: Pairs) -> Any:
            status, told, headers = method(table, pairs)
            rows = told if isinstance(told, list) else told[api.habits.envelope]
            asked = bool(api._wanted(table, pairs).tests)
            true = int(headers.get("X-Total-Count") or told["total"])
            other = change(true, len(rows), asked, len(api.rows[table.name]))
            if "X-Total-Count" in headers:
                return status, told, {**headers, "X-Total-Count": str(other)}
            return status, {**told, "total": other}, headers

        around(api, "_list", listed)


on_total("the total is the number of rows shown", lambda true, shown, asked, every: shown, pages)
on_total("the total leaves conditions out", lambda true, shown, asked, every: every, filters)
on_total("the total of conditions is one too many", lambda true, shown, asked, every: true + asked, filters)
on_total("the total is one too few", lambda true, shown, asked, every: max(0, true - 1), lambda habits: True)


@fault("a list of none has no total", lambda h: h.total == "header" and filters(h))
def _no_total(api: SoundApi) -> None:
    def listed(method: Any, table: Table, pairs: Pairs) -> Any:
        status, told, headers = method(table, pairs)
        return status, told, headers if headers.get("X-Total-Count") != "0" else {}

    around(api, "_list", listed)
