"""Rules of bodies that are not kept."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from tests.hunt.api import SoundApi
from tests.hunt.faults.fault import around, columns, fault, refers
from tests.hunt.habits import Column, Habits, Table
from tests.hunt.query import Row
from tests.hunt.rules import wrong


def takes(
    name: str, repaired: Callable[[Column, Any], Any], fits: Callable[[Habits], bool], when: str = "both"
) -> None:
    """A fault by which values that break a rule are taken; ``repaired`` gives the value that the check sees."""

    @fault(name, fits)
    def install(api: SoundApi) -> None:
        def values(method: Any, table: Table, record: Any, partial: bool, change: bool) -> Row:
            if not isinstance(record, dict) or (when == "change" and not change) or (when == "create" and change):
                return method(table, record, partial, change=change)  # type: ignore[no-any-return]
            named = {each.name: each for each in table.columns}
            seen = {
                name: repaired(named[name], value) if name in named and wrong(named[name], value) else value
                for name, value in record.items()
            }
            found: Row = method(table, seen, partial, change=change)
            return {name: record.get(name, value) for name, value in found.items()}

        around(api, "_values", values)


def _longest(column: Column, value: Any) -> Any:
    return value[: column.most] if isinstance(value, str) and column.kind == "text" and column.most else value


def _shortest(column: Column, value: Any) -> Any:
    return value.ljust(column.least or 0, "x") if isinstance(value, str) and column.kind == "text" else value


def _within(column: Column, value: Any, least: bool) -> Any:
    number = isinstance(value, int | float) and not isinstance(value, bool)
    bound = column.least if least else column.most
    if column.kind not in {"integer", "number"} or not number or bound is None:
        return value
    return max(value, bound) if least else min(value, bound)


def _something(column: Column, value: Any) -> Any:
    usual = {"text": "xx", "choice": "seed", "boolean": True, "date": "2020-01-01", "moment": "2020-01-01T00:00:00Z"}
    return usual.get(column.kind, column.least or 5 if column.kind in {"integer", "number"} else value)


def _of(kinds: set[str], sent: Any, value: Any) -> Callable[[Column, Any], Any]:
    """A repair of values of a type, sent for columns of some kinds."""
    return lambda column, found: value if column.kind in kinds and isinstance(found, sent) else found


def _has(which: str, *kinds: str) -> Callable[[Habits], bool]:
    return lambda habits: any(getattr(each, which) is not None for each in columns(habits, *kinds))


def _any_of(*kinds: str) -> Callable[[Habits], bool]:
    return lambda habits: bool(columns(habits, *kinds))


_RULES: tuple[tuple[str, Callable[[Column, Any], Any], Callable[[Habits], bool]], ...] = (
    ("texts that are too long", _longest, _has("most", "text")),
    ("texts that are too short", _shortest, _has("least", "text")),
    ("numbers under the minimum", lambda c, v: _within(c, v, True), _has("least", "integer", "number")),
    ("numbers over the maximum", lambda c, v: _within(c, v, False), _has("most", "integer", "number")),
    ("other choices", _of({"choice"}, str, "seed"), _any_of("choice")),
    ("days that are no dates", _of({"date"}, str, "2020-01-01"), _any_of("date")),
    ("texts that are no addresses", _of({"email"}, str, "a@b.org"), _any_of("email")),
    ("numbers in place of texts", _of({"text"}, int | float, "xxx"), _any_of("text")),
    ("texts in place of booleans", _of({"boolean"}, str, True), _any_of("boolean")),
    ("numbers in place of booleans", _of({"boolean"}, int | float, True), _any_of("boolean")),
    (
        "texts in place of numbers",
        lambda c, v: _something(c, v) if c.kind in {"integer", "number"} and isinstance(v, str) else v,
        _any_of("integer", "number"),
    ),
    (
        "fractions in place of whole numbers",
        lambda c, v: _something(c, v) if c.kind == "integer" and isinstance(v, float) else v,
        _any_of("integer"),
    ),
    (
        "null where it is ruled out",
        lambda c, v: _something(c, v) if v is None else v,
        lambda h: any(not c.nullable and c.kind not in {"uuid", "email", "reference"} for c in columns(h)),
    ),
)
for _what, _repaired, _fits in _RULES:
    for _when in ("both", "change", "create"):
        takes(f"{_what}, taken by {_when}", _repaired, _fits, _when)


@fault("a record without what is required is taken", lambda h: any(c.required for c in columns(h)))
def _not_required(api: SoundApi) -> None:
    around(
        api,
        "_values",
        lambda method, table, record, partial, change: {
            **({c.name: None for c in table.columns} if not partial else {}),
            **method(table, record, True, change=change),
        },
    )


@fault("unknown members are taken", lambda h: h.closed)
def _open(api: SoundApi) -> None:
    around(
        api,
        "_values",
        lambda method, table, record, partial, change: method(
            table,
            {n: v for n, v in record.items() if n in {c.name for c in table.columns}}
            if isinstance(record, dict)
            else record,
            partial,
            change=change,
        ),
    )


def takes_twice(name: str, on_create: bool, on_change: bool) -> None:
    @fault(name, lambda habits: any(each.unique for each in columns(habits)))
    def install(api: SoundApi) -> None:
        around(
            api,
            "_taken",
            lambda method, table, row, key: (
                False if (on_create and key is None) or (on_change and key is not None) else method(table, row, key)
            ),
        )


takes_twice("unique values are taken twice", True, True)
takes_twice("unique values are taken twice by changes", False, True)


def dangles(name: str, on_create: bool, on_change: bool) -> None:
    @fault(name, refers)
    def install(api: SoundApi) -> None:
        _dangle(api, on_create, on_change)


def _dangle(api: SoundApi, on_create: bool, on_change: bool) -> None:
    def values(method: Any, table: Table, record: Any, partial: bool, change: bool) -> Row:
        if not isinstance(record, dict) or not (on_change if change else on_create):
            return method(table, record, partial, change=change)  # type: ignore[no-any-return]
        to = {c.name: c.refers for c in table.columns if c.refers}
        loose = {n for n, v in record.items() if n in to and isinstance(v, int | str) and not isinstance(v, bool)}
        seen = {n: next(iter(api.rows[to[n]])) if n in loose and api.rows[to[n]] else v for n, v in record.items()}
        found: Row = method(table, seen, partial, change=change)
        return {name: record.get(name, value) for name, value in found.items()}

    around(api, "_values", values)


dangles("references to nothing are taken", True, True)
dangles("references to nothing are taken by changes", False, True)
