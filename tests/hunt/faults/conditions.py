"""Conditions that leave other rows than they should."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any

from tests.hunt.api import Refused, SoundApi
from tests.hunt.faults.fault import Pairs, around, columns, compares, fault, filters, instead_of, misread
from tests.hunt.habits import Column, Habits, Table


def rewritten(pairs: Pairs, old: str, new: str) -> Pairs:
    """Conditions with one operator in place of another, however they are spelled."""
    found = []
    for name, text in pairs:
        if name == "$filter":
            text = re.sub(rf" {old} ", f" {new} ", text)
        name = re.sub(rf"\[{old}\]$", f"[{new}]", name)
        name = re.sub(rf"__{old}$", f"__{new}" if new != "eq" else "", name)
        found.append((name, text))
    return found


def conditions(table: Table, pairs: Pairs) -> Iterator[tuple[int, str, str, str]]:
    """The conditions of a query, as places in it, columns, operators and values."""
    names = {table.key_name, *(each.name for each in table.columns)}
    for place, (name, text) in enumerate(pairs):
        if name == "$filter":
            for column, word, value in re.findall(r"(\w+) (eq|ne|lt|le|gt|ge) ('(?:[^']|'')*'|[^\s()]+)", text):
                yield place, column, word, value.strip("'").replace("''", "'")
            continue
        bracket = re.fullmatch(r"(\w+)\[(\w+)\]", name)
        column, _, word = (bracket[1], "", bracket[2]) if bracket else name.partition("__")
        if column in names:
            yield place, column, word or "eq", text


for _old, _new in (("gt", "ge"), ("ge", "gt"), ("lt", "le"), ("le", "lt"), ("ne", "eq"), ("lt", "gt")):

    @fault(f"{_old} is read as {_new}", compares)
    def _operator(api: SoundApi, old: str = _old, new: str = _new) -> None:
        around(api, "_wanted", lambda method, table, pairs: method(table, rewritten(pairs, old, new)))


def leaves_out(name: str, which: Callable[[Column, str, str], bool], fits: Callable[[Habits], bool]) -> None:
    """A fault by which some conditions are passed over, told by column, operator and value."""

    @fault(name, lambda habits: filters(habits) and habits.spelling != "odata" and fits(habits))
    def install(api: SoundApi) -> None:
        def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
            method(table, pairs)  # what cannot be read is refused as before
            named = {each.name: each for each in table.columns}
            out = {
                place
                for place, column, word, text in conditions(table, pairs)
                if column in named and which(named[column], word, text)
            }
            return method(table, [pair for place, pair in enumerate(pairs) if place not in out])

        around(api, "_wanted", wanted)


leaves_out(
    "a condition of false is passed over", lambda c, op, text: text == "false", lambda h: bool(columns(h, "boolean"))
)
leaves_out(
    "a condition of zero is passed over",
    lambda c, op, text: text == "0",
    lambda h: any(each.least in {None, 0, -50} for each in columns(h, "integer", "number")),
)
for _kind in ("integer", "number", "boolean", "date", "moment", "uuid", "choice", "reference", "email"):
    leaves_out(
        f"conditions on a {_kind} are passed over",
        lambda c, op, text, kind=_kind: c.kind == kind,  # type: ignore[misc]
        lambda h, kind=_kind: bool(columns(h, kind)),
    )  # type: ignore[misc]


misread(
    "the last condition alone holds",
    lambda h: compares(h) and h.spelling != "odata",
    lambda api, table, asked: {"tests": asked.tests[-1:]},
)
misread(
    "conditions are any and not all",
    lambda h: filters(h) and h.spelling != "odata",
    lambda api, table, asked: {"tests": [lambda row: any(test(row) for test in asked.tests)] if asked.tests else []},
)


@fault("or is read as and", lambda h: h.spelling == "odata")
def _or(api: SoundApi) -> None:
    around(
        api, "_wanted", lambda method, table, pairs: method(table, [(n, t.replace(" or ", " and ")) for n, t in pairs])
    )


@fault("and binds no closer than or", lambda h: h.spelling == "odata")
def _precedence(api: SoundApi) -> None:
    def grouped(text: str) -> str:
        parts = re.split(r" (and|or) ", text)
        if len(parts) < 5 or "(" in text or "not " in text:
            return text
        whole = parts[0]
        for word, part in zip(parts[1::2], parts[2::2], strict=True):
            whole = f"({whole} {word} {part})"
        return whole

    around(api, "_wanted", lambda method, table, pairs: method(table, [(n, grouped(t)) for n, t in pairs]))


@fault("equal is read as begins with", lambda h: filters(h) and bool(columns(h, "text")))
def _begins(api: SoundApi) -> None:
    _by_texts(api, lambda value, text: value.lower().startswith(text.lower()))


@fault("equal is read as contains", lambda h: filters(h) and bool(columns(h, "text")))
def _contains(api: SoundApi) -> None:
    _by_texts(api, lambda value, text: text.lower() in value.lower())


@fault("a per cent sign in a condition stands for anything", lambda h: filters(h) and bool(columns(h, "text")))
def _wildcards(api: SoundApi) -> None:
    def like(value: str, text: str) -> bool:
        pattern = "".join({"%": ".*", "_": "."}.get(sign, re.escape(sign)) for sign in text)
        return re.fullmatch(pattern, value, re.I | re.S) is not None

    _by_texts(api, like)


def _by_texts(api: SoundApi, holds: Callable[[str, str], bool]) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        found = method(table, pairs)
        texts = {each.name for each in table.columns if each.kind == "text"}
        asked = [(c, text) for _, c, word, text in conditions(table, pairs) if c in texts and word == "eq"]
        if len(asked) == len(found.tests) == 1:
            [(name, text)] = asked
            found.tests = [lambda row: row[name] is not None and holds(row[name], text)]
        return found

    around(api, "_wanted", wanted)


@fault("a quote in a condition fails", filters)
def _quote(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        found = method(table, pairs)
        if any("'" in text for _, _, _, text in conditions(table, pairs)):
            raise Refused(500, "failed")
        return found

    around(api, "_wanted", wanted)


@fault("a condition that cannot be read fails", filters)
def _unreadable(api: SoundApi) -> None:
    instead_of(api, "_wanted", 400, lambda: Refused(500, "failed"))


@fault("a condition that cannot be read leaves every row", filters)
def _unread(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        try:
            return method(table, pairs)
        except Refused:
            places = {place for place, *_ in conditions(table, pairs)}
            return method(table, [pair for place, pair in enumerate(pairs) if place not in places])

    around(api, "_wanted", wanted)
