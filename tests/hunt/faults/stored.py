"""Values that are stored as others than were sent."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime, timedelta
from typing import Any

from tests.hunt.api import SoundApi
from tests.hunt.faults.fault import around, columns, fault
from tests.hunt.habits import Table
from tests.hunt.query import Row


def stores(name: str, change: Callable[[Any], Any], *kinds: str, told: bool = False, fits: Any = None) -> None:
    """A fault of the values that are stored, of columns of some kinds; ``told`` where answers to writes show them as
    they were sent all the same."""

    @fault(name, lambda habits: bool(columns(habits, *kinds)) and (fits is None or fits(habits)))
    def install(api: SoundApi) -> None:
        mine = {table.name: [c.name for c in table.columns if c.kind in kinds] for table in api.habits.tables}

        def store(method: Any, table: Table, key: Any, row: Row) -> None:
            found = {**row}
            for column in mine[table.name]:
                found[column] = change(row[column]) if row[column] is not None else None
            if told:
                method(table, key, found)
            else:
                row |= found
                method(table, key, row)

        around(api, "_store", store)


stores("texts are trimmed", lambda text: text.strip(), "text", told=True)
stores("texts are in capitals", lambda text: text.upper(), "text")
stores("texts are cut at 20 signs", lambda text: text[:20], "text")
stores("texts are cut at 25 signs, answers show them whole", lambda text: text[:25], "text", told=True)
stores("markup in texts is escaped", lambda text: text.replace("<", "&lt;"), "text")
stores("signs beyond Latin are lost", lambda text: text.encode("latin-1", "replace").decode("latin-1"), "text")
stores("line ends are blanks", lambda text: text.replace("\n", " "), "text")
stores(
    "an empty text is nothing",
    lambda text: text or None,
    "text",
    fits=lambda h: any(each.nullable and not each.least for each in columns(h, "text")),
)
stores("numbers are whole", lambda number: int(number), "number")
stores("numbers have one decimal place", lambda number: round(number, 1), "number")
stores("numbers are of single precision", lambda number: float(f"{number:.7g}"), "number")
stores(
    "whole numbers end at 32767",
    lambda number: min(number, 32767),
    "integer",
    fits=lambda h: any(each.most is None for each in columns(h, "integer")),
)
stores("a date is the day before", lambda day: str(date.fromisoformat(day) - timedelta(1)), "date")
stores("a moment loses its zone", lambda moment: moment[:19] + "Z", "moment")
stores("a moment loses its seconds", lambda moment: moment[:17] + "00" + moment[19:], "moment")
stores("true is false", lambda value: False, "boolean")
stores("true is false, and answers say true", lambda value: False, "boolean", told=True)
stores("an address loses its case", lambda text: text.lower(), "email")


@fault(
    "zero becomes the default",
    lambda h: any(c.default and c.kind == "integer" and not (c.least or 0) > 0 for c in columns(h)),
)
def _falsy(api: SoundApi) -> None:
    def values(method: Any, table: Table, record: Any, partial: bool, change: bool) -> Row:
        found: Row = method(table, record, partial, change=change)
        defaults = {each.name: each.default for each in table.columns if each.default is not None}
        return {name: value or defaults.get(name, value) for name, value in found.items()}

    around(api, "_values", values)


@fault("defaults are not applied", lambda h: any(c.default is not None for c in columns(h)))
def _no_defaults(api: SoundApi) -> None:
    def values(method: Any, table: Table, record: Any, partial: bool, change: bool) -> Row:
        found: Row = method(table, record, partial, change=change)
        return {name: value if name in record else None for name, value in found.items()}

    around(api, "_values", values)


@fault("one column is never stored", lambda h: any(c.nullable for c in columns(h)))
def _one_lost(api: SoundApi) -> None:
    lost = {t.name: next((c.name for c in t.columns if c.nullable), "") for t in api.habits.tables}

    def store(method: Any, table: Table, key: Any, row: Row) -> None:
        row |= {lost[table.name]: None} if lost[table.name] else {}
        method(table, key, row)

    around(api, "_store", store)


def stamps(name: str, change: Callable[[Row, Row | None], Row]) -> None:
    """A fault of the moments that rows show: given a row and the one before, what is stored."""

    @fault(name, lambda habits: habits.tables[0].stamps)
    def install(api: SoundApi) -> None:
        def store(method: Any, table: Table, key: Any, row: Row) -> None:
            row |= change(row, api.rows[table.name].get(key))
            method(table, key, row)

        around(api, "_store", store)


stamps(
    "a change leaves its moment as it was", lambda row, before: {"updated_at": before["updated_at"]} if before else {}
)
stamps("a change moves when its row was made", lambda row, before: {"created_at": row["updated_at"]})
stamps("rows are made two hours ago", lambda row, before: {} if before else {"created_at": _earlier(row["created_at"])})


def _earlier(moment: str) -> str:
    return (datetime.fromisoformat(moment) - timedelta(hours=2)).isoformat().replace("+00:00", "Z")
