"""Many rows at once, and lists that show rows late."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from tests.hunt.api import Refused, SoundApi
from tests.hunt.faults.fault import Pairs, around, columns, fault, path_of
from tests.hunt.habits import Table
from tests.hunt.query import Row


def one_by_one(name: str, new_row: Callable[[SoundApi, Table, Any], Row | None]) -> None:
    """A fault of many records that are each stored by itself; those of which ``new_row`` makes none are left out."""

    @fault(name, lambda h: h.bulk)
    def install(api: SoundApi) -> None:
        def many(method: Any, table: Table, records: Any) -> Any:
            stored = []
            for record in records if isinstance(records, list) else ():
                row = new_row(api, table, record)
                if row is not None:
                    api._store(table, row[table.key_name], row)
                    stored.append(row)
            return 201, stored, {}

        around(api, "_create_many", many)


def _good_alone(api: SoundApi, table: Table, record: Any) -> Row | None:
    try:
        return api._new_row(table, record)
    except Refused:
        return None


def _lax(api: SoundApi, table: Table, record: Any) -> Row:
    if not isinstance(record, dict) or (table.key == "client" and not isinstance(record.get("code"), str)):
        raise Refused(api.habits.refusal, "no record")
    if table.key == "client" and record["code"] in api.rows[table.name]:
        raise Refused(409, "the key is taken")
    named = {each.name: record.get(each.name, each.default) for each in table.columns}
    return {table.key_name: api._new_key(table, record), **named}


one_by_one("one bad record among many is left out", _good_alone)
one_by_one("records before a bad one stay", lambda api, table, record: api._new_row(table, record))
one_by_one("rules are not kept where many are stored", _lax)


@fault("many are answered in another order", lambda h: h.bulk)
def _other_order(api: SoundApi) -> None:
    def many(method: Any, table: Table, records: Any) -> Any:
        status, stored, more = method(table, records)
        return status, stored[::-1], more

    around(api, "_create_many", many)


@fault("the last of many is not stored", lambda h: h.bulk)
def _last_lost(api: SoundApi) -> None:
    def many(method: Any, table: Table, records: Any) -> Any:
        status, stored, more = method(table, records)
        if len(stored) > 1:
            del api.rows[table.name][stored[-1][table.key_name]]
        return status, stored, more

    around(api, "_create_many", many)


def lists_late(name: str, verbs: set[str]) -> None:
    """A fault by which lists show rows as they were before the last write of some kinds."""

    @fault(name)
    def install(api: SoundApi) -> None:
        old: dict[str, dict[Any, Row]] = {}

        def handled(method: Any, verb: str, url: str, *rest: Any) -> Any:
            name = path_of(url)[0]
            before = dict(api.rows.get(name, {}))
            answer = method(verb, url, *rest)
            if verb in {"POST", "PATCH", "PUT", "DELETE"}:
                old.pop(name, None)
                if verb in verbs:
                    old[name] = before
            return answer

        around(api, "_handle", handled)
        around(
            api, "_stored", lambda method, table: list(old[table.name].values()) if table.name in old else method(table)
        )


lists_late("lists show a new row late", {"POST"})
lists_late("lists show a change late", {"PATCH", "PUT"})
lists_late("lists show a removed row on", {"DELETE"})


@fault("a deleted key is given out again", lambda h: any(t.key == "number" for t in h.tables))
def _again(api: SoundApi) -> None:
    def new_key(method: Any, table: Table, record: Any) -> Any:
        if table.key != "number":
            return method(table, record)
        return max(api.rows[table.name], default=0) + 1

    around(api, "_new_key", new_key)


@fault("a number in the list is another than by its key", lambda h: bool(columns(h, "number", "integer")))
def _list_differs(api: SoundApi) -> None:
    def listed(method: Any, table: Table, pairs: Pairs) -> Any:
        status, told, more = method(table, pairs)
        numbers = {c.name for c in table.columns if c.kind in {"number", "integer"}}
        rows = told if isinstance(told, list) else told[api.habits.envelope]
        other = [{n: v + 1 if n in numbers and v is not None else v for n, v in row.items()} for row in rows]
        return status, other if isinstance(told, list) else {**told, api.habits.envelope: other}, more

    around(api, "_list", listed)
