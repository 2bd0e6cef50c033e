"""What a list's query asks for, read by the spelling that the habits have."""

from __future__ import annotations

import base64
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from tests.hunt.habits import Column, Habits, Json, Table
from tests.hunt.rules import comparable, parsed, schema_of

Row = Json
Test = Callable[[Row], bool]
OPERATORS = ("eq", "ne", "lt", "le", "gt", "ge")
_ORDERED = {"text", "integer", "number", "date", "moment"}


class Unreadable(Exception):
    """A query that makes no sense."""


@dataclass
class Wanted:
    tests: list[Test] = field(default_factory=list)
    order: list[tuple[Column, bool]] = field(default_factory=list)
    fields: list[str] = field(default_factory=list)
    size: int = 0
    start: int = 0


def columns_of(table: Table) -> list[Column]:
    """Every column that rows show, the key first."""
    kinds: Json = {"uuid": "uuid", "client": "text"}
    stamps = [Column(name, "moment", True) for name in ("created_at", "updated_at")] if table.stamps else []
    return [Column(table.key_name, kinds.get(table.key, "integer"), True), *table.columns, *stamps]


def operators_of(column: Column) -> tuple[str, ...]:
    return OPERATORS if column.kind in _ORDERED else OPERATORS[:2]


# -- in the contract -------------------------------------------------------------------------------


def parameters(habits: Habits, table: Table) -> list[Json]:
    def one(name: str, schema: Json, description: str = "", **more: Any) -> Json:
        return {"name": name, "in": "query", "schema": schema, "description": description, **more}

    found: list[Json] = []
    columns = columns_of(table)
    names = [each.name for each in columns]
    for column in columns:
        keys = {each.name: each.key for each in habits.tables}
        texts = keys.get(column.refers) in {"uuid", "client"}
        rules = schema_of(column, "string" if texts else "integer")
        plain = {"type": rules["type"][0] if isinstance(rules["type"], list) else rules["type"]}
        plain |= {"format": rules["format"]} if "format" in rules else {}
        if habits.spelling == "brackets":
            members = dict.fromkeys(operators_of(column), plain)
            shape = {"type": "object", "additionalProperties": False, "properties": members}
            found.append(one(column.name, shape, f"Conditions on {column.name}.", style="deepObject", explode=True))
        elif habits.spelling == "suffix":
            found.append(one(column.name, plain, "Rows with exactly this value."))
            found += [one(f"{column.name}__{word}", plain) for word in operators_of(column)[1:]]
        elif habits.spelling == "equality":
            found.append(one(column.name, plain, "Rows with exactly this value."))
    sortable = [each.name for each in columns if each.kind in _ORDERED]
    if habits.spelling in {"brackets", "suffix"}:
        signed = [sign + name for name in sortable for sign in ("", "-")]
        several = {"type": "array", "items": {"type": "string", "enum": signed}}
        found.append(one("sort", several, "A minus sorts descending.", style="form", explode=False))
    elif habits.spelling == "equality":
        found.append(one("order_by", {"type": "string", "enum": sortable}))
        found.append(one("direction", {"type": "string", "enum": ["asc", "desc"], "default": "asc"}))
    elif habits.spelling == "odata":
        found.append(
            one("$filter", {"type": "string"}, "An OData expression with eq, ne, lt, le, gt, ge, and, or, not.")
        )
        words = [name + end for name in sortable for end in ("", " desc")]
        several = {"type": "array", "items": {"type": "string", "enum": words}}
        found.append(one("$orderby", several, style="form", explode=False))
    if habits.selects:
        several = {"type": "array", "items": {"type": "string", "enum": names}}
        found.append(one("fields", several, "The fields to show.", style="form", explode=False))
    size, start = _paged(habits)
    if size:
        limits = {"type": "integer", "minimum": 1, "maximum": habits.largest, "default": habits.usual}
        found.append(one(size, limits))
    if habits.paging == "cursor":
        found.append(one("cursor", {"type": "string"}, "The `next_cursor` of the page before."))
    elif start:
        first = 1 if habits.paging == "page" else 0
        found.append(one(start, {"type": "integer", "minimum": first, "default": first}))
    return found


def _paged(habits: Habits) -> tuple[str, str]:
    odata = habits.spelling == "odata"
    names = {
        "offset": ("$top", "$skip") if odata else ("limit", "offset"),
        "page": ("per_page", "page"),
        "cursor": ("limit", ""),
        "none": ("", ""),
    }
    return names[habits.paging]


# -- in a request ----------------------------------------------------------------------------------


def read(habits: Habits, table: Table, pairs: Sequence[tuple[str, str]]) -> Wanted:
    """Raises Unreadable."""
    columns = {each.name: each for each in columns_of(table)}
    wanted = Wanted(size=habits.usual if habits.paging != "none" else 10**9)
    size, start = _paged(habits)
    if len({name for name, _ in pairs}) < len(pairs):
        raise Unreadable("a parameter twice")
    asked = dict(pairs)
    for name, value in pairs:
        bracket = re.fullmatch(r"(\w+)\[(\w+)\]", name)
        column, _, word = name.partition("__")
        if habits.spelling == "brackets" and bracket and bracket[1] in columns:
            wanted.tests.append(test_of(habits, columns[bracket[1]], bracket[2], value))
        elif habits.spelling in {"suffix", "equality"} and name in columns:
            wanted.tests.append(test_of(habits, columns[name], "eq", value))
        elif habits.spelling == "suffix" and column in columns and word in OPERATORS[1:]:
            wanted.tests.append(test_of(habits, columns[column], word, value))
        elif name == "$filter" and habits.spelling == "odata":
            wanted.tests.append(_Expression(habits, columns, value).whole())
        elif name in {"sort", "order_by", "$orderby"}:
            wanted.order = _order(habits, columns, name, value, asked.get("direction", "asc"))
        elif name == "direction" and habits.spelling == "equality" and value in {"asc", "desc"}:
            continue
        elif name == "fields" and habits.selects:
            wanted.fields = value.split(",")
            if not set(wanted.fields) <= set(columns):
                raise Unreadable("an unknown field")
        elif name == size and size:
            wanted.size = _whole(value, 1, habits.largest)
        elif name == "cursor" and habits.paging == "cursor":
            wanted.start = _position(value)
        elif name == start and start:
            wanted.start = _whole(value, 1 if habits.paging == "page" else 0, 10**9)
        else:
            raise Unreadable(f"no parameter {name}")
    if habits.paging == "page":
        wanted.start = (max(wanted.start, 1) - 1) * wanted.size
    return wanted


def cursor(place: int) -> str:
    return base64.urlsafe_b64encode(f"at:{place}".encode()).decode().rstrip("=")


def _position(text: str) -> int:
    try:
        said = base64.urlsafe_b64decode(text + "=" * (-len(text) % 4)).decode()
    except ValueError:
        raise Unreadable("no cursor") from None
    if not re.fullmatch(r"at:\d+", said):
        raise Unreadable("no cursor")
    return int(said[3:])


def _whole(text: str, least: int, most: int) -> int:
    if not re.fullmatch(r"\d{1,9}", text) or not least <= int(text) <= most:
        raise Unreadable("out of range")
    return int(text)


def _order(
    habits: Habits, columns: Mapping[str, Column], parameter: str, text: str, direction: str
) -> list[tuple[Column, bool]]:
    found = []
    for part in text.split(","):
        name, down = part.lstrip("-"), part.startswith("-")
        if parameter == "$orderby":
            name, _, word = part.strip().partition(" ")
            if word not in {"", "asc", "desc"}:
                raise Unreadable("no direction")
            down = word == "desc"
        elif parameter == "order_by":
            down = direction == "desc"
        fits = {"sort": habits.spelling in {"brackets", "suffix"}, "order_by": habits.spelling == "equality"}
        column = columns.get(name)
        if column is None or column.kind not in _ORDERED or not fits.get(parameter, habits.spelling == "odata"):
            raise Unreadable("no such order")
        found.append((column, down))
    return found


def test_of(habits: Habits, column: Column, word: str, text: str) -> Test:
    operand = parsed(column, text)
    words = OPERATORS if column.kind == "reference" else operators_of(column)
    if operand is None or word not in words or "\0" in text:
        raise Unreadable("a value that cannot be read")
    own = comparable(habits, column, operand)

    def test(row: Row) -> bool:
        value = comparable(habits, column, row[column.name])
        if value is None:
            return word == "ne" and habits.not_leaves_null
        if word in {"eq", "ne"}:
            return bool((value == own) == (word == "eq"))
        return bool({"lt": value < own, "le": value <= own, "gt": value > own, "ge": value >= own}[word])

    return test


class _Expression:
    """An OData expression (OData 4.01, part 2, 5.1.1): comparisons, ``and``, ``or``, ``not`` and brackets."""

    _TOKEN = re.compile(r"\s*(\(|\)|'(?:[^']|'')*'|[^\s()']+)")

    def __init__(self, habits: Habits, columns: Mapping[str, Column], text: str) -> None:
        self.habits, self.columns = habits, columns
        self.tokens: list[str] = []
        place = 0
        while place < len(text.rstrip()):
            found = self._TOKEN.match(text, place)
            if not found:
                raise Unreadable("no expression")
            self.tokens.append(found[1])
            place = found.end()

    def whole(self) -> Test:
        test = self._either()
        if self.tokens:
            raise Unreadable("more than an expression")
        return test

    def _next(self) -> str:
        if not self.tokens:
            raise Unreadable("an expression that ends early")
        return self.tokens.pop(0)

    def _either(self) -> Test:
        tests = [self._both()]
        while self.tokens[:1] == ["or"]:
            self._next()
            tests.append(self._both())
        return lambda row: any(each(row) for each in tests)

    def _both(self) -> Test:
        tests = [self._one()]
        while self.tokens[:1] == ["and"]:
            self._next()
            tests.append(self._one())
        return lambda row: all(each(row) for each in tests)

    def _one(self) -> Test:
        first = self._next()
        if first == "not":
            inner = self._one()
            return lambda row: not inner(row)
        if first == "(":
            inner = self._either()
            if self._next() != ")":
                raise Unreadable("no closing bracket")
            return inner
        word, literal = self._next(), self._next()
        column = self.columns.get(first)
        ordered = column is not None and (column.kind == "reference" or word in operators_of(column))
        if column is None or not ordered or word not in OPERATORS:
            raise Unreadable("no comparison")
        if literal == "null":
            return lambda row: (row[column.name] is None) == (word == "eq")
        quoted = literal.startswith("'")
        if quoted != (column.kind in {"text", "choice", "email"} or (column.kind == "reference" and quoted)):
            raise Unreadable("a literal of another kind")
        return test_of(self.habits, column, word, literal[1:-1].replace("''", "'") if quoted else literal)
