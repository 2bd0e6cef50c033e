"""Orders and selections of fields that are not kept."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from tests.hunt.api import Refused, SoundApi
from tests.hunt.faults.fault import Pairs, around, columns, compares, fault, filters, pages
from tests.hunt.habits import Column, Table
from tests.hunt.query import Row


def on_order(name: str, change: Callable[[list[tuple[Column, bool]]], list[tuple[Column, bool]]], **more: Any) -> None:
    @fault(name, more.get("fits", filters))
    def install(api: SoundApi) -> None:
        def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
            found = method(table, pairs)
            found.order = change(found.order)
            return found

        around(api, "_wanted", wanted)


on_order("descending is ascending", lambda order: [(column, False) for column, _ in order])
on_order("the second key of an order is passed over", lambda order: order[:1], fits=compares)
on_order(
    "the second key of an order is turned round",
    lambda order: [(column, down != bool(place)) for place, (column, down) in enumerate(order)],
    fits=compares,
)
on_order(
    "an order by a date is passed over",
    lambda order: [each for each in order if each[0].kind != "date"],
    fits=lambda h: filters(h) and bool(columns(h, "date")),
)


@fault("numbers are ordered as texts", lambda h: filters(h) and bool(columns(h, "integer", "number")))
def _as_texts(api: SoundApi) -> None:
    def ordered(method: Any, table: Table, rows: list[Row], wanted: Any) -> list[Row]:
        rows = method(table, rows, wanted)
        if len(wanted.order) == 1 and wanted.order[0][0].kind in {"integer", "number"}:
            (column, down), *_ = wanted.order
            rows = sorted(rows, key=lambda row: str(row[column.name]), reverse=down)
        return rows

    around(api, "_ordered", ordered)


@fault("a page is ordered, and not the list", lambda h: pages(h) and filters(h))
def _page_ordered(api: SoundApi) -> None:
    def ordered(method: Any, table: Table, rows: list[Row], wanted: Any) -> list[Row]:
        if not wanted.order:
            return method(table, rows, wanted)  # type: ignore[no-any-return]
        rows = method(table, rows, replace(wanted, order=[]))
        page = method(table, rows[wanted.start : wanted.start + wanted.size], wanted)
        return [*rows[: wanted.start], *page, *rows[wanted.start + wanted.size :]]

    around(api, "_ordered", ordered)


@fault("an order by an unknown field is passed over", filters)
def _no_order(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        try:
            return method(table, pairs)
        except Refused:
            return method(table, [(n, t) for n, t in pairs if n not in {"sort", "order_by", "$orderby", "direction"}])

    around(api, "_wanted", wanted)


def on_fields(name: str, change: Callable[[list[str]], list[str]]) -> None:
    @fault(name, lambda habits: habits.selects)
    def install(api: SoundApi) -> None:
        def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
            found = method(table, pairs)
            found.fields = change(found.fields)
            return found

        around(api, "_wanted", wanted)


on_fields("a selection is passed over", lambda names: [])
on_fields("the last field of a selection is left out", lambda names: names[:-1] if len(names) > 1 else names)


@fault("an unknown field in a selection is passed over", lambda h: h.selects)
def _unknown_field(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        known = {table.key_name, *(each.name for each in table.columns)}

        def cut(name: str, text: str) -> str:
            return ",".join(each for each in text.split(",") if each in known) or table.key_name

        return method(table, [(n, cut(n, t) if n == "fields" else t) for n, t in pairs])

    around(api, "_wanted", wanted)
