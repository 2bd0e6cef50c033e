"""Ways in which a sound API goes wrong, as those do that were made by others: each changes one thing."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from checkpost.wire.exchange import Answer
from tests.hunt.api import Refused, SoundApi
from tests.hunt.habits import Column, Habits, Table
from tests.hunt.query import Row
from tests.hunt.rules import wrong

Install = Callable[[SoundApi], None]
Pairs = list[tuple[str, str]]


@dataclass(frozen=True)
class Fault:
    """``fits`` says of which habits it makes an API that breaks its word."""

    name: str
    fits: Callable[[Habits], bool]
    install: Install


FAULTS: dict[str, Fault] = {}


def fault(name: str, fits: Callable[[Habits], bool] = lambda habits: True) -> Callable[[Install], Install]:
    def keep(install: Install) -> Install:
        FAULTS[name] = Fault(name, fits, install)
        return install

    return keep


def around(api: SoundApi, name: str, other: Callable[..., Any]) -> None:
    """Put ``other`` in place of a method; it is given the method, and what that would be given."""
    method = getattr(api, name)
    setattr(api, name, lambda *given, **named: other(method, *given, **named))


def columns(habits: Habits, *kinds: str) -> list[Column]:
    return [each for table in habits.tables for each in table.columns if not kinds or each.kind in kinds]


def filters(habits: Habits) -> bool:
    return habits.spelling != "none"


def compares(habits: Habits) -> bool:
    return habits.spelling in {"brackets", "suffix", "odata"}


def pages(habits: Habits) -> bool:
    return habits.paging != "none" and max(each.rows for each in habits.tables) > habits.usual


def refers(habits: Habits) -> bool:
    return bool(columns(habits, "reference"))


def places(habits: Habits) -> bool:
    return habits.location or habits.created == "place"


# -- pages -----------------------------------------------------------------------------------------


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
on_page("the last page lacks its last row", lambda rows, page, start, size: (
    page[:-1] if start and start + size >= len(rows) else page))  # fmt: skip
on_page("a later page begins with the last row of the one before", lambda rows, page, start, size: (
    [rows[start - 1], *page[:-1]] if 0 < start < len(rows) else page))  # fmt: skip
on_page("each page is turned round", lambda rows, page, start, size: (
    page[::-1] if len(rows) > size else page), fits=lambda h: pages(h) and filters(h) and h.paging != "cursor")  # fmt: skip


@fault("past the end stands the first page", lambda h: h.paging in {"offset", "page"})
def _past(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        found = method(table, pairs)
        found.start = found.start if found.start < len(api.rows[table.name]) else 0
        return found

    around(api, "_wanted", wanted)


@fault("a page is one row longer than asked", pages)
def _longer(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        found = method(table, pairs)
        found.size += 1
        return found

    around(api, "_wanted", wanted)


@fault("sizes over the maximum are taken", pages)
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


# -- conditions ------------------------------------------------------------------------------------


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
leaves_out("a condition of zero is passed over", lambda c, op, text: text == "0", lambda h: any(
    each.least in {None, 0, -50} for each in columns(h, "integer", "number")))  # fmt: skip
for _kind in ("integer", "number", "boolean", "date", "moment", "uuid", "choice", "reference", "email"):
    leaves_out(f"conditions on a {_kind} are passed over", lambda c, op, text, kind=_kind: c.kind == kind,  # type: ignore[misc]
               lambda h, kind=_kind: bool(columns(h, kind)))  # type: ignore[misc]  # fmt: skip


@fault("the last condition alone holds", lambda h: compares(h) and h.spelling != "odata")
def _last_alone(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        found = method(table, pairs)
        found.tests = found.tests[-1:]
        return found

    around(api, "_wanted", wanted)


@fault("conditions are any and not all", lambda h: filters(h) and h.spelling != "odata")
def _any(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        found = method(table, pairs)
        tests = list(found.tests)
        found.tests = [lambda row: any(test(row) for test in tests)] if tests else []
        return found

    around(api, "_wanted", wanted)


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
    _instead_of(api, "_wanted", 400, lambda: Refused(500, "failed"))


@fault("a condition that cannot be read leaves every row", filters)
def _unread(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        try:
            return method(table, pairs)
        except Refused:
            places = {place for place, *_ in conditions(table, pairs)}
            return method(table, [pair for place, pair in enumerate(pairs) if place not in places])

    around(api, "_wanted", wanted)


def _instead_of(api: SoundApi, name: str, status: int, other: Callable[[], Refused]) -> None:
    def tried(method: Any, *given: Any, **named: Any) -> Any:
        try:
            return method(*given, **named)
        except Refused as refused:
            raise other() if refused.status == status else refused from None

    around(api, name, tried)


# -- order and selection ---------------------------------------------------------------------------


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
on_order("the second key of an order is turned round", lambda order: [
    (column, down != bool(place)) for place, (column, down) in enumerate(order)], fits=compares)  # fmt: skip
on_order("an order by a date is passed over", lambda order: [each for each in order if each[0].kind != "date"],
         fits=lambda h: filters(h) and bool(columns(h, "date")))  # fmt: skip


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


# -- what is stored --------------------------------------------------------------------------------


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
stores("an empty text is nothing", lambda text: text or None, "text", fits=lambda h: any(
    each.nullable and not each.least for each in columns(h, "text")))  # fmt: skip
stores("numbers are whole", lambda number: int(number), "number")
stores("numbers have one decimal place", lambda number: round(number, 1), "number")
stores("numbers are of single precision", lambda number: float(f"{number:.7g}"), "number")
stores("whole numbers end at 32767", lambda number: min(number, 32767), "integer", fits=lambda h: any(
    each.most is None for each in columns(h, "integer")))  # fmt: skip
stores("a date is the day before", lambda day: str(date.fromisoformat(day) - timedelta(1)), "date")
stores("a moment loses its zone", lambda moment: moment[:19] + "Z", "moment")
stores("a moment loses its seconds", lambda moment: moment[:17] + "00" + moment[19:], "moment")
stores("true is false", lambda value: False, "boolean")
stores("true is false, and answers say true", lambda value: False, "boolean", told=True)
stores("an address loses its case", lambda text: text.lower(), "email")


@fault("zero becomes the default", lambda h: any(
    c.default and c.kind == "integer" and not (c.least or 0) > 0 for c in columns(h)))  # fmt: skip
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


# -- rules of bodies -------------------------------------------------------------------------------


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


def _number(column: Column, value: Any) -> bool:
    return column.kind in {"integer", "number"} and isinstance(value, int | float) and not isinstance(value, bool)


def _bounded(habits: Habits, which: str) -> bool:
    return any(getattr(each, which) is not None for each in columns(habits, "integer", "number"))


def _text_rule(habits: Habits, which: str) -> bool:
    return any(getattr(each, which) for each in columns(habits, "text"))


for _when in ("both", "change", "create"):
    _on = {"both": "", "change": " by changes", "create": " by creates"}[_when]
    takes(f"texts that are too long are taken{_on}", _longest, lambda h: _text_rule(h, "most"), _when)
    takes(f"texts that are too short are taken{_on}", _shortest, lambda h: _text_rule(h, "least"), _when)
    takes(f"numbers under the minimum are taken{_on}", lambda c, v: max(v, c.least) if _number(c, v) and c.least is not None
          else v, lambda h: _bounded(h, "least"), _when)  # fmt: skip
    takes(f"numbers over the maximum are taken{_on}", lambda c, v: min(v, c.most) if _number(c, v) and c.most is not None
          else v, lambda h: _bounded(h, "most"), _when)  # fmt: skip
    takes(f"other choices are taken{_on}", lambda c, v: "seed" if c.kind == "choice" and isinstance(v, str) else v,
          lambda h: bool(columns(h, "choice")), _when)  # fmt: skip
    takes(f"null is taken{_on}", lambda c, v: {"text": "xx", "choice": "seed", "integer": 5, "number": 5, "boolean": True,
          "date": "2020-01-01", "moment": "2020-01-01T00:00:00Z"}.get(c.kind, v) if v is None else v,
          lambda h: any(not c.nullable and c.kind not in {"uuid", "email", "reference"} for c in columns(h)),
          _when)  # fmt: skip
    takes(f"days that are no dates are taken{_on}", lambda c, v: "2020-01-01" if c.kind == "date" and isinstance(v, str)
          else v, lambda h: bool(columns(h, "date")), _when)  # fmt: skip
    takes(f"texts that are no addresses are taken{_on}", lambda c, v: "a@b.org" if c.kind == "email" and
          isinstance(v, str) else v, lambda h: bool(columns(h, "email")), _when)  # fmt: skip
    takes(f"numbers are taken for texts{_on}", lambda c, v: str(v) * 3 if c.kind == "text" and isinstance(v, int | float)
          else v, lambda h: bool(columns(h, "text")), _when)  # fmt: skip
    takes(f"texts are taken for numbers{_on}", lambda c, v: c.least or 5 if c.kind in {"integer", "number"} and
          isinstance(v, str) else v, lambda h: bool(columns(h, "integer", "number")), _when)  # fmt: skip
    takes(f"fractions are taken for whole numbers{_on}", lambda c, v: c.least or 5 if c.kind == "integer" and
          isinstance(v, float) else v, lambda h: bool(columns(h, "integer")), _when)  # fmt: skip
    takes(f"anything is taken for a boolean{_on}", lambda c, v: True if c.kind == "boolean" else v,
          lambda h: bool(columns(h, "boolean")), _when)  # fmt: skip


@fault("a record without what is required is taken", lambda h: any(c.required for c in columns(h)))
def _not_required(api: SoundApi) -> None:
    around(api, "_values", lambda method, table, record, partial, change: {
        **({c.name: None for c in table.columns} if not partial else {}), **method(table, record, True, change=change)})  # fmt: skip


@fault("unknown members are taken", lambda h: h.closed)
def _open(api: SoundApi) -> None:
    around(api, "_values", lambda method, table, record, partial, change: method(
        table, {n: v for n, v in record.items() if n in {c.name for c in table.columns}}
        if isinstance(record, dict) else record, partial, change=change))  # fmt: skip


def takes_twice(name: str, on_create: bool, on_change: bool) -> None:
    @fault(name, lambda habits: any(each.unique for each in columns(habits)))
    def install(api: SoundApi) -> None:
        around(api, "_taken", lambda method, table, row, key: (
            False if (on_create and key is None) or (on_change and key is not None) else method(table, row, key)))  # fmt: skip


takes_twice("unique values are taken twice", True, True)
takes_twice("unique values are taken twice by changes", False, True)


@fault("references to nothing are taken", refers)
def _dangling(api: SoundApi) -> None:
    _dangle(api, True, True)


@fault("references to nothing are taken by changes", refers)
def _dangling_changes(api: SoundApi) -> None:
    _dangle(api, False, True)


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


# -- operations ------------------------------------------------------------------------------------


def answers(name: str, change: Callable[..., Any], fits: Callable[[Habits], bool] = lambda habits: True) -> None:
    """A fault of whole answers: given the API, the method, whether a row is asked, the status, body and headers."""

    @fault(name, fits)
    def install(api: SoundApi) -> None:
        def handled(method: Any, verb: str, url: str, headers: Any, body: Any) -> Any:
            path = url.partition("?")[0].removeprefix("http://127.0.0.1:1/api").strip("/").split("/")
            status, told, more = method(verb, url, headers, body)
            return change(verb, len(path) > 1 and path[1] != "bulk", status, told, more)

        around(api, "_handle", handled)


answers("a create answers 200", lambda verb, one, status, told, more: (200 if status == 201 else status, told, more))
answers("a Location leads to another row", lambda verb, one, status, told, more: (
    status, told, {**more, "Location": more["Location"] + "0"} if "Location" in more else more), places)  # fmt: skip
answers("a create has no Location", lambda verb, one, status, told, more: (
    status, told, {n: v for n, v in more.items() if n != "Location"}), places)  # fmt: skip
answers("a row lacks a field when it is read by its key", lambda verb, one, status, told, more: (
    status, _less(told) if verb == "GET" and one and status == 200 else told, more))  # fmt: skip
answers("a row has a field more when it is read by its key", lambda verb, one, status, told, more: (
    status, {**told, "_version": 3} if verb == "GET" and one and status == 200 else told, more),
    lambda h: h.closed and h.created != "data")  # fmt: skip
answers("tags of rows are missing", lambda verb, one, status, told, more: (
    status, told, {n: v for n, v in more.items() if n != "ETag"}), lambda h: h.tags)  # fmt: skip
answers("a removal answers 200 with nothing", lambda verb, one, status, told, more: (
    (200, None, more) if verb == "DELETE" else (status, told, more)), lambda h: h.removed == "204")  # fmt: skip


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
        before = dict(row)
        sent = api._record(*rest)
        for column in table.columns:
            if column.name not in sent and column.nullable and before[column.name] is not None:
                api.rows[table.name][key][column.name] = None
    return answer


on_row("a change clears what was not sent", _others_cleared, lambda h: "PATCH" in h.update and any(
    c.nullable for c in columns(h)))  # fmt: skip


def _no_null(api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, headers: Any, body: Any) -> Any:
    answer = method(table, key, row, verb, headers, body)
    if verb in {"PATCH", "PUT"}:
        now = api.rows[table.name][key]
        for column in table.columns:
            if now[column.name] is None:
                now[column.name] = row[column.name]
    return answer


on_row("a change to null is passed over", _no_null, lambda h: any(c.nullable for c in columns(h)))


def _no_false(api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, headers: Any, body: Any) -> Any:
    answer = method(table, key, row, verb, headers, body)
    if verb in {"PATCH", "PUT"}:
        now = api.rows[table.name][key]
        for column in table.columns:
            if now[column.name] in (False, 0) and now[column.name] is not None:
                now[column.name] = row[column.name]
    return answer


on_row("a change to false or zero is passed over", _no_false, lambda h: bool(columns(h, "boolean")))


def _kept(api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, headers: Any, body: Any) -> Any:
    answer = method(table, key, row, verb, headers, body)
    if verb == "PUT":
        sent, now = api._record(headers, body), api.rows[table.name][key]
        for column in table.columns:
            if column.name not in sent:
                now[column.name] = row[column.name]
    return answer


on_row("a replace keeps what was left out", _kept, lambda h: h.update == "PATCH and PUT" and any(
    not c.required for c in columns(h)))  # fmt: skip


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
        api.hidden = getattr(api, "hidden", set()) | {(table.name, key)}  # type: ignore[attr-defined]
    return answer


def _stale_guard(
    api: SoundApi, method: Any, table: Table, key: Any, row: Row, verb: str, headers: Any, body: Any
) -> Any:
    return method(table, key, row, verb, {n: v for n, v in headers.items() if n != "if-match"}, body)


on_row("a change with an old tag is applied", _stale_guard, lambda h: h.tags)


@fault("removing a row that is not there succeeds")
def _removes_nothing(api: SoundApi) -> None:
    def handled(method: Any, verb: str, *rest: Any) -> Any:
        try:
            return method(verb, *rest)
        except Refused as refused:
            if verb != "DELETE" or refused.status != 404:
                raise
            told = {"204": None, "200": {"title": "removed"}, "row": None}[api.habits.removed]
            return (204 if told is None else 200), told, {}

    around(api, "_handle", handled)


@fault("reading a row that is not there answers 200 with null")
def _null(api: SoundApi) -> None:
    def handled(method: Any, verb: str, *rest: Any) -> Any:
        try:
            return method(verb, *rest)
        except Refused as refused:
            if verb != "GET" or refused.status != 404 or refused.said != "no such row":
                raise
            return 200, {"data": None} if api.habits.created == "data" else {"title": "none"}, {}

    around(api, "_handle", handled)


@fault("a malformed key fails")
def _bad_key(api: SoundApi) -> None:
    def key(method: Any, table: Table, text: str) -> Any:
        if table.key in {"number", "large number"} and not re.fullmatch(r"-?\d{1,18}", text):
            raise Refused(500, "failed")
        if table.key == "uuid" and not re.fullmatch(r"[0-9a-f-]{36}", text.lower()):
            raise Refused(500, "failed")
        return method(table, text)

    around(api, "_key", key)


FAULTS["a malformed key fails"] = Fault(
    "a malformed key fails", lambda h: any(t.key != "client" for t in h.tables), FAULTS["a malformed key fails"].install
)


@fault("a key is read as far as it is a number", lambda h: any(t.key == "number" for t in h.tables))
def _as_far(api: SoundApi) -> None:
    around(api, "_key", lambda method, table, text: method(table, (re.match(r"-?\d{1,18}", text) or [text])[0]
           if table.key == "number" else text))  # fmt: skip


@fault("rows that others refer to are removed", refers)
def _orphans(api: SoundApi) -> None:
    around(api, "_referred", lambda method, table, key: False)


@fault(
    "a conflict fails",
    lambda h: refers(h) or any(c.unique for c in columns(h)) or any(t.key == "client" for t in h.tables),
)
def _conflict(api: SoundApi) -> None:
    _instead_of(api, "_handle", 409, lambda: Refused(500, "failed"))


FAULTS["a conflict fails"] = Fault(
    "a conflict fails",
    lambda h: (
        (refers(h) and h.referred == "409")
        or any(c.unique for c in columns(h))
        or any(t.key == "client" for t in h.tables)
    ),
    _conflict,
)


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


# -- many at once, and caches ----------------------------------------------------------------------


@fault("one bad record among many is left out", lambda h: h.bulk)
def _left_out(api: SoundApi) -> None:
    def many(method: Any, table: Table, records: Any) -> Any:
        stored = []
        for record in records if isinstance(records, list) else ():
            try:
                row = api._new_row(table, record)
            except Refused:
                continue
            api._store(table, row[table.key_name], row)
            stored.append(row)
        return 201, stored, {}

    around(api, "_create_many", many)


@fault("records before a bad one stay", lambda h: h.bulk)
def _no_rollback(api: SoundApi) -> None:
    def many(method: Any, table: Table, records: Any) -> Any:
        stored = []
        for record in records if isinstance(records, list) else ():
            row = api._new_row(table, record)
            api._store(table, row[table.key_name], row)
            stored.append(row)
        return 201, stored, {}

    around(api, "_create_many", many)


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


@fault("rules are not kept where many are stored", lambda h: h.bulk)
def _lax(api: SoundApi) -> None:
    def many(method: Any, table: Table, records: Any) -> Any:
        stored = []
        for record in records if isinstance(records, list) else ():
            if not isinstance(record, dict) or (table.key == "client" and not isinstance(record.get("code"), str)):
                raise Refused(api.habits.refusal, "no record")
            if table.key == "client" and record["code"] in api.rows[table.name]:
                raise Refused(409, "the key is taken")
            named = {each.name: record.get(each.name, each.default) for each in table.columns}
            row = {table.key_name: api._new_key(table, record), **named}
            api._store(table, row[table.key_name], row)
            stored.append(row)
        return 201, stored, {}

    around(api, "_create_many", many)


def lists_late(name: str, verbs: set[str]) -> None:
    """A fault by which lists show rows as they were before the last write of some kinds."""

    @fault(name)
    def install(api: SoundApi) -> None:
        old: dict[str, dict[Any, Row]] = {}

        def handled(method: Any, verb: str, url: str, *rest: Any) -> Any:
            name = url.partition("?")[0].removeprefix("http://127.0.0.1:1/api").strip("/").split("/")[0]
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


def answered(name: str, change: Callable[[Answer], Answer]) -> None:
    """A fault of refusals as they are sent."""

    @fault(name)
    def install(api: SoundApi) -> None:
        async def answer(method: Any, *given: Any) -> Answer:
            found: Answer = await method(*given)
            return change(found) if found.status >= 400 and found.body else found

        around(api, "answer", answer)


answered("refusals are HTML", lambda answer: Answer(answer.status, (("Content-Type", "text/html"),), b"<h1>No</h1>"))
answered("refusals lack their title", lambda answer: replace(answer, body=b'{"message": "no"}'))
answered("refusals show a statement", lambda answer: replace(
    answer, body=b'{"title": "SELECT * FROM plots WHERE id = 7: syntax error at or near \\"7\\""}'))  # fmt: skip


@fault("positions are passed over", lambda h: pages(h) and h.paging in {"offset", "page"})
def _no_position(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        found = method(table, pairs)
        found.start = 0
        return found

    around(api, "_wanted", wanted)


@fault("sizes are passed over", pages)
def _no_size(api: SoundApi) -> None:
    def wanted(method: Any, table: Table, pairs: Pairs) -> Any:
        found = method(table, pairs)
        found.size = api.habits.usual
        return found

    around(api, "_wanted", wanted)
