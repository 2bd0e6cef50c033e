"""Orders and selections of fields that are not kept."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from tests.hunt.api import Refused, SoundApi
from tests.hunt.faults.fault import Pairs, around, columns, compares, fault, filters, misread, pages
from tests.hunt.habits import Table
from tests.hunt.query import Row

misread(
    "descending is ascending",
    filters,
    lambda api, table, asked: {"order": [(column, False) for column, _ in asked.order]},
)
misread("the second key of an order is passed over", compares, lambda api, table, asked: {"order": asked.order[:1]})
misread(
    "the second key of an order is turned round",
    compares,
    lambda api, table, asked: {"order": [(c, down != bool(place)) for place, (c, down) in enumerate(asked.order)]},
)
misread(
    "an order by a date is passed over",
    lambda h: filters(h) and bool(columns(h, "date")),
    lambda api, table, asked: {"order": [each for each in asked.order if each[0].kind != "date"]},
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


misread("a selection is passed over", lambda h: h.selects, lambda api, table, asked: {"fields": []})
misread(
    "the last field of a selection is left out",
    lambda h: h.selects,
    lambda api, table, asked: {"fields": asked.fields[:-1] if len(asked.fields) > 1 else asked.fields},
)


@fault("an unknown field in a selection is passed over", lambda h: h.selects)
def _unknown_field(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        known = {table.key_name, *(each.name for each in table.columns)}

        def cut(name: str, text: str) -> str:
            return ",".join(each for each in text.split(",") if each in known) or table.key_name

        return method(table, [(n, cut(n, t) if n == "fields" else t) for n, t in pairs])

    around(api, "_wanted", wanted)
