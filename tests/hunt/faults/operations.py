"""What is done with one row, and answered to it."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from tests.hunt.api import Refused, SoundApi
from tests.hunt.faults.fault import around, columns, fault, instead_of, path_of, places, refers
from tests.hunt.habits import Habits, Table
from tests.hunt.query import Row


def answers(name: str, change: Callable[..., Any], fits: Callable[[Habits], bool] = lambda habits: True) -> None:
    """A fault of whole answers: given the API, the method, whether a row is asked, the status, body and headers."""

    @fault(name, fits)
    def install(api: SoundApi) -> None:
        def handled(method: Any, verb: str, url: str, headers: Any, body: Any) -> Any:
            path = path_of(url)
            status, told, more = method(verb, url, headers, body)
            return change(verb, len(path) > 1 and path[1] != "bulk", status, told, more)

        around(api, "_handle", handled)


answers("a create answers 200", lambda verb, one, status, told, more: (200 if status == 201 else status, told, more))
answers(
    "a Location leads to another row",
    lambda verb, one, status, told, more: (
        status,
        told,
        {**more, "Location": more["Location"] + "0"} if "Location" in more else more,
    ),
    places,
)
answers(
    "a create has no Location",
    lambda verb, one, status, told, more: (status, told, {n: v for n, v in more.items() if n != "Location"}),
    places,
)
answers(
    "a row lacks a field when it is read by its key",
    lambda verb, one, status, told, more: (
        status,
        _less(told) if verb == "GET" and one and status == 200 else told,
        more,
    ),
)
answers(
    "a row has a field more when it is read by its key",
    lambda verb, one, status, told, more: (
        status,
        {**told, "_version": 3} if verb == "GET" and one and status == 200 else told,
        more,
    ),
    lambda h: h.closed and h.created != "data",
)
answers(
    "tags of rows are missing",
    lambda verb, one, status, told, more: (status, told, {n: v for n, v in more.items() if n != "ETag"}),
    lambda h: h.tags,
)
answers(
    "a removal answers 200 with nothing",
    lambda verb, one, status, told, more: (200, None, more) if verb == "DELETE" else (status, told, more),
    lambda h: h.removed == "204",
)


def _less(told: Any) -> Any:
    row = told["data"] if set(told) == {"data"} else told
    less = dict(list(row.items())[:-1])
    return {"data": less} if set(told) == {"data"} else less


def on_row(name: str, change: Callable[..., Any], fits: Callable[[Habits], bool] = lambda habits: True) -> None:
    """A fault of what is done with one row: given the API and the method that does it, and what that is given."""

    @fault(name, fits)
    def install(api: SoundApi) -> None:
        around(api, "_on_row", lambda method, *given: change(api, method, *given))


def _others_cleared(api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, *rest: Any) -> Any:
    answer = method(table, key, row, verb, *rest)
    if verb == "PATCH" and api.rows[table.name].get(key) is not row:
        sent = api._record(*rest)
        for column in table.columns:
            if column.name not in sent and column.nullable and row[column.name] is not None:
                api.rows[table.name][key][column.name] = None
    return answer


on_row(
    "a change clears what was not sent",
    _others_cleared,
    lambda h: "PATCH" in h.update and any(c.nullable for c in columns(h)),
)


def _passed_over(which: Callable[[Any], bool]) -> Callable[..., Any]:
    """What passes over changes to some values."""

    def change(api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, *rest: Any) -> Any:
        answer = method(table, key, row, verb, *rest)
        if verb in {"PATCH", "PUT"}:
            now = api.rows[table.name][key]
            now |= {each.name: row[each.name] for each in table.columns if which(now[each.name])}
        return answer

    return change


on_row(
    "a change to null is passed over",
    _passed_over(lambda value: value is None),
    lambda h: any(c.nullable for c in columns(h)),
)
on_row(
    "a change to false or zero is passed over",
    _passed_over(lambda value: value in (False, 0)),
    lambda h: bool(columns(h, "boolean")),
)


def _kept(api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, headers: Any, body: Any) -> Any:
    answer = method(table, key, row, verb, headers, body)
    if verb == "PUT":
        sent, now = api._record(headers, body), api.rows[table.name][key]
        for column in table.columns:
            if column.name not in sent:
                now[column.name] = row[column.name]
    return answer


on_row(
    "a replace keeps what was left out",
    _kept,
    lambda h: h.update == "PATCH and PUT" and any(not c.required for c in columns(h)),
)


def _not_stored(api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, *rest: Any) -> Any:
    answer = method(table, key, row, verb, *rest)
    if verb in {"PATCH", "PUT"}:
        api.rows[table.name][key] = row
    return answer


on_row("a change is answered and not stored", _not_stored)


def _old_shown(api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, *rest: Any) -> Any:
    status, told, more = method(table, key, row, verb, *rest)
    return status, api._shown(row) if verb in {"PATCH", "PUT"} else told, more


on_row("a change answers with the row as it was", _old_shown)


def _stays(api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, *rest: Any) -> Any:
    answer = method(table, key, row, verb, *rest)
    if verb == "DELETE":
        api.rows[table.name][key] = row
    return answer


on_row("a removal is answered and not done", _stays)


def _stale_guard(
    api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, headers: Any, body: Any
) -> Any:
    return method(table, key, row, verb, {n: v for n, v in headers.items() if n != "if-match"}, body)


on_row("a change with an old tag is applied", _stale_guard, lambda h: h.tags)


def on_absent(name: str, asked: str, answer: Callable[[Habits], tuple[int, Any]]) -> None:
    """A fault of what is answered where a row is asked for, by one method, that is not there."""

    @fault(name)
    def install(api: SoundApi) -> None:
        def handled(method: Any, verb: str, *rest: Any) -> Any:
            try:
                return method(verb, *rest)
            except Refused as refused:
                if verb != asked or refused.said != "no such row":
                    raise
                return *answer(api.habits), {}

        around(api, "_handle", handled)


on_absent(
    "removing a row that is not there succeeds",
    "DELETE",
    lambda h: (200, {"title": "removed"}) if h.removed == "200" else (204, None),
)
on_absent(
    "reading a row that is not there answers 200 with null",
    "GET",
    lambda h: (200, {"data": None} if h.created == "data" else {"title": "none"}),
)


@fault("a malformed key fails", lambda h: any(t.key != "client" for t in h.tables))
def _bad_key(api: SoundApi) -> None:
    def key(method: Any, table: Table, text: str) -> Any:
        if table.key in {"number", "large number"} and not re.fullmatch(r"-?\d{1,18}", text):
            raise Refused(500, "failed")
        if table.key == "uuid" and not re.fullmatch(r"[0-9a-f-]{36}", text.lower()):
            raise Refused(500, "failed")
        return method(table, text)

    around(api, "_key", key)


@fault("a key is read as far as it is a number", lambda h: any(t.key == "number" for t in h.tables))
def _as_far(api: SoundApi) -> None:
    around(
        api,
        "_key",
        lambda method, table, text: method(
            table, (re.match(r"-?\d{1,18}", text) or [text])[0] if table.key == "number" else text
        ),
    )


@fault("rows that others refer to are removed", refers)
def _orphans(api: SoundApi) -> None:
    around(api, "_referred", lambda method, table, key: False)


@fault(
    "a conflict fails",
    lambda h: (
        (refers(h) and h.referred == "409")
        or any(c.unique for c in columns(h))
        or any(t.key == "client" for t in h.tables)
    ),
)
def _conflict(api: SoundApi) -> None:
    instead_of(api, "_handle", 409, lambda: Refused(500, "failed"))


@fault("a key that is taken overwrites its row", lambda h: any(t.key == "client" for t in h.tables))
def _overwrites(api: SoundApi) -> None:
    def new(method: Any, table: Table, record: Any) -> Row:
        if table.key == "client" and isinstance(record, dict) and record.get(table.key_name) in api.rows[table.name]:
            key = record[table.key_name]
            if key not in api.foreign[table.name]:
                del api.rows[table.name][key]
        return method(table, record)  # type: ignore[no-any-return]

    around(api, "_new_row", new)


@fault("a refused create is stored all the same", lambda h: any(t.key != "client" for t in h.tables))
def _stored_all_the_same(api: SoundApi) -> None:
    def create(method: Any, table: Table, record: Any) -> Any:
        try:
            return method(table, record)
        except Refused:
            if isinstance(record, dict) and table.key != "client":
                key = api._new_key(table, record)
                named = {each.name: record.get(each.name) for each in table.columns}
                api.rows[table.name][key] = {table.key_name: key, **named}
            raise

    around(api, "_create", create)


@fault("a body that is no JSON fails")
def _no_json(api: SoundApi) -> None:
    def record(method: Any, headers: Any, body: Any) -> Any:
        try:
            return method(headers, body)
        except Refused as refused:
            raise Refused(500 if refused.status == 400 else refused.status, "failed") from None

    around(api, "_record", record)


@fault("any media type is taken")
def _any_type(api: SoundApi) -> None:
    around(api, "_record", lambda method, headers, body: method({**headers, "content-type": "application/json"}, body))
