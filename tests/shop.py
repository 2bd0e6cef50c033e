"""Read-only data APIs whose lists are queried in other ways than the stand-in's, with no code of its own: a
shop's wares. Each dialect keeps its contract; its quirks are such as databases and frameworks have."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qsl

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

Json = dict[str, Any]
Row = dict[str, Any]
Predicate = Callable[[Row], Any]

_LABELS = (
    "Ann's tea",
    "Blue",
    "blue",
    "Crème brûlée",
    "100% wool",
    "a_b",
    "x, y",
    "Ärmel",
    "zebra ",
    "O+O",
    "9 lives",
    "10 pens",
)


def wares(count: int = 48) -> list[Row]:
    return [
        {
            "id": number * 3,
            "label": f"{_LABELS[number % 12]} {number // 12}" if number % 12 != 8 else f"zebra {number // 12} ",
            "kind": ("tool", "toy", "food")[number % 3],
            "price": None if number % 11 == 0 else round(number * 7 % 31 + number % 4 / 4, 2),
            "stock": (number * 37) % 130,
            "sold": number % 4 == 0,
            "madeOn": None if number % 9 == 0 else f"20{10 + number % 9}-0{1 + number % 8}-1{number % 10}",
            "changedAt": f"2021-03-{1 + number % 28:02d}T0{number % 9}:30:00Z",
        }
        for number in range(1, count + 1)
    ]


KINDS = {"price": float, "stock": int, "id": int, "sold": bool}


class Bad(Exception):
    """A query that is refused."""


@dataclass(frozen=True)
class Dialect:
    """A way to write queries; ``fold`` how texts are compared, ``nulls`` where they are sorted."""

    name: str
    parameters: Callable[[], list[Json]]
    condition: Callable[[list[tuple[str, str]]], Iterator[Predicate]]
    order: Callable[[dict[str, str]], list[tuple[str, bool]]]
    select: str = ""
    rows: str = "data"
    total: str = "total"
    limit: str = "limit"
    offset: str = "offset"
    page: str = ""
    fold: Callable[[str], str] = str
    nulls: str = "last"
    lenient: bool = False


def typed(name: str, text: str) -> Any:
    if name not in wares(1)[0]:
        raise Bad
    kind = KINDS.get(name, str)
    if kind is bool:
        if text not in {"true", "false", "1", "0"}:
            raise Bad
        return text in {"true", "1"}
    try:
        return kind(text)
    except ValueError:
        raise Bad from None


def compare(fold: Callable[[str], str], name: str, word: str, operand: Any, finer: bool = False) -> Predicate:
    """A comparison as SQL has it: nothing is equal or unequal to null."""

    def key(value: Any) -> Any:
        if finer and name == "changedAt":
            return value[:-1] + (".250Z" if value.endswith(":00Z") and "." not in value else "Z")
        return fold(value) if isinstance(value, str) else value

    def folded(value: Any) -> Any:
        return fold(value) if isinstance(value, str) else value

    def holds(row: Row) -> Any:
        value = row[name]
        if word == "null":
            return (value is None) == operand
        if value is None:
            return None
        other = [folded(each) for each in operand] if isinstance(operand, list) else folded(operand)
        mine = key(value)
        return {
            "eq": lambda: mine == other,
            "ne": lambda: mine != other,
            "lt": lambda: mine < other,
            "le": lambda: mine <= other,
            "gt": lambda: mine > other,
            "ge": lambda: mine >= other,
            "in": lambda: mine in other,
            "contains": lambda: other in mine,
            "starts": lambda: mine.startswith(other),
        }[word]()

    return holds


def negated(inner: Predicate) -> Predicate:
    return lambda row: None if inner(row) is None else not inner(row)


class Shop:
    """The API of one dialect."""

    def __init__(self, dialect: Dialect, rows: list[Row] | None = None) -> None:
        self.dialect = dialect
        self.wares = wares() if rows is None else rows

    # -- contract ----------------------------------------------------------------------------------

    def contract(self) -> Json:
        dialect = self.dialect
        nullable = {"nullable": True}
        fields: Json = {
            "id": {"type": "integer"},
            "label": {"type": "string"},
            "kind": {"type": "string", "enum": ["tool", "toy", "food"]},
            "price": {"type": "number", **nullable},
            "stock": {"type": "integer"},
            "sold": {"type": "boolean"},
            "madeOn": {"type": "string", "format": "date", **nullable},
            "changedAt": {"type": "string", "format": "date-time"},
        }
        row: Json = {"type": "object", "properties": fields}
        listed: Json = {"type": "array", "items": {"$ref": "#/components/schemas/Ware"}}
        if dialect.rows:
            listed = {"type": "object", "properties": {dialect.rows: listed}}
            if dialect.total:
                listed["properties"][dialect.total] = {"type": "integer"}
        refused = {"400": {"description": "not understood"}}
        content = {"application/json": {"schema": listed}}
        one = {"application/json": {"schema": {"$ref": "#/components/schemas/Ware"}}}
        paging = [_query(dialect.limit, {"type": "integer", "minimum": 1, "maximum": 100}, "How many.")]
        position = dialect.page or dialect.offset
        paging.append(_query(position, {"type": "integer", "minimum": 1 if dialect.page else 0}, "From where."))
        key = {"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}
        answers = {"200": {"description": "the ware", "content": one}, "404": {"description": "none"}, **refused}
        return {
            "openapi": "3.0.2",
            "info": {"title": dialect.name, "version": "1"},
            "paths": {
                "/wares": {
                    "get": {
                        "parameters": [*paging, *dialect.parameters()],
                        "responses": {"200": {"description": "wares", "content": content}, **refused},
                    }
                },
                "/wares/{id}": {"get": {"parameters": [key], "responses": answers}},
            },
            "components": {"schemas": {"Ware": row}},
        }

    # -- answers -----------------------------------------------------------------------------------

    def found(self, pairs: list[tuple[str, str]]) -> list[Row]:
        tests = list(self.dialect.condition(pairs))
        return [row for row in self.wares if all(test(row) for test in tests)]

    def ordered(self, rows: list[Row], keys: list[tuple[str, bool]]) -> list[Row]:
        for name, down in reversed(keys):
            if name not in NAMES:
                if self.dialect.lenient:
                    continue
                raise Bad
            nulls = [row for row in rows if row[name] is None]
            known = [row for row in rows if row[name] is not None]
            known.sort(key=lambda row: self.key(row[name]), reverse=down)
            first = {"last": False, "first": True, "least": not down}[self.dialect.nulls]
            rows = [*nulls, *known] if first else [*known, *nulls]
        return rows

    def key(self, value: Any) -> Any:
        return self.dialect.fold(value) if isinstance(value, str) else value

    def shown(self, row: Row, names: list[str]) -> Row:
        if any(name not in row for name in names) and not self.dialect.lenient:
            raise Bad
        return {name: value for name, value in row.items() if not names or name in names}

    def counted(self, found: list[Row], page: list[Row]) -> int:
        return len(found)

    async def listed(self, request: Request) -> Response:
        dialect = self.dialect
        pairs = parse_qsl(request.url.query, keep_blank_values=True)
        query = dict(pairs)
        try:
            size = int(query.get(dialect.limit, 20))
            start = (int(query.get(dialect.page, 1)) - 1) * size if dialect.page else int(query.get(dialect.offset, 0))
            if not 1 <= size <= 100 or start < 0:
                raise Bad
            found = self.ordered(self.found(pairs), dialect.order(query))
            names = [name for key, value in pairs if key == dialect.select for name in value.split(",") if name]
            page = [self.shown(row, names) for row in found[start : start + size]]
        except (Bad, ValueError):
            return Response(status_code=400)
        if not dialect.rows:
            return JSONResponse(page)
        body: Json = {dialect.rows: page}
        if dialect.total:
            body[dialect.total] = self.counted(found, page)
        return JSONResponse(body)

    async def item(self, request: Request) -> Response:
        key = request.path_params["id"]
        if not key.isdigit():
            return Response(status_code=400)
        row = next((row for row in self.wares if row["id"] == int(key)), None)
        return JSONResponse(row) if row else Response(status_code=404)

    def app(self) -> Starlette:
        return Starlette(routes=[Route("/wares", self.listed), Route("/wares/{id}", self.item)])


def _query(name: str, schema: Json, description: str = "", **more: Any) -> Json:
    return {"name": name, "in": "query", "schema": schema, "description": description, **more}


# -- the dialects ------------------------------------------------------------------------------------

TEXT: Json = {"type": "string"}
NAMES = ("id", "label", "kind", "price", "stock", "sold", "madeOn", "changedAt")


def minus(text: str) -> list[tuple[str, bool]]:
    return [(name.lstrip("-"), name.startswith("-")) for name in text.split(",") if name]


def worded(text: str | None, sign: str) -> list[tuple[str, bool]]:
    """A field, a sign and the direction."""
    name, _, way = (text or "").partition(sign)
    return [(name, way == "desc")] if name else []


def ends_of_ranges() -> Dialect:
    """Minimum and maximum as parameters of their own; a full-text search that is no filter; no operator words."""
    fold = str.casefold

    def condition(pairs: list[tuple[str, str]]) -> Iterator[Predicate]:
        for name, text in pairs:
            if name in {"kind", "label", "sold"}:
                yield compare(fold, name, "eq", typed(name, text))
            elif name in {"min_price", "max_price"}:
                yield compare(fold, "price", "ge" if name[:3] == "min" else "le", typed("price", text))
            elif name == "madeOn_after":
                yield compare(fold, "madeOn", "gt", text)
            elif name == "q":
                yield holds(fold(text))

    def holds(part: str) -> Predicate:
        return lambda row: any(part in fold(each) for each in row.values() if isinstance(each, str))

    def order(query: dict[str, str]) -> list[tuple[str, bool]]:
        if query.get("order", "asc") not in {"asc", "desc"}:
            raise Bad
        return [(query["sort_by"], query.get("order") == "desc")] if "sort_by" in query else []

    return Dialect(
        "ends of ranges",
        lambda: [
            _query("q", TEXT, "Full-text search."),
            _query("label", TEXT),
            _query("kind", TEXT),
            _query("sold", {"type": "boolean"}),
            _query("min_price", {"type": "number"}),
            _query("max_price", {"type": "number"}),
            _query("madeOn_after", {"type": "string", "format": "date"}),
            _query("sort_by", TEXT, "Field to sort by."),
            _query("order", {"type": "string", "enum": ["asc", "desc"]}),
        ],
        condition,
        order,
        page="page",
        limit="per_page",
        fold=fold,
        lenient=True,
    )


def signs_between() -> Dialect:
    """``price=gt=5;kind==toy``."""
    words = {"==": "eq", "!=": "ne", "=gt=": "gt", "=ge=": "ge", "=lt=": "lt", "=le=": "le"}

    def condition(pairs: list[tuple[str, str]]) -> Iterator[Predicate]:
        for text in dict(pairs).get("filter", "").split(";"):
            if text:
                found = re.fullmatch(r"(\w+)(==|!=|=[a-z]+=)('.*'|.*)", text)
                if found is None or found[2] not in words:
                    raise Bad
                yield compare(str, found[1], words[found[2]], typed(found[1], found[3].strip("'").replace("''", "'")))

    return Dialect(
        "signs between",
        lambda: [
            _query(
                "filter",
                TEXT,
                "For example `price=gt=5;kind=='toy'`. Signs: `==`, `!=`, `=gt=`, `=ge=`, `=lt=`, `=le=`.",
            ),
            _query("sort", TEXT, "Fields joined by commas, `-price` for descending."),
            _query("fields", TEXT, "Comma-separated."),
        ],
        condition,
        lambda query: minus(query.get("sort", "")),
        select="fields",
        rows="",
        nulls="first",
    )


CALLS = "Such as `and(gt(price,5),eq(kind,'toy'))`; also `ne`, `lt`, `le`, `ge`, `contains`, `or(…,…)` and `not(…)`."


def calls() -> Dialect:
    """``and(gt(price,5),eq(kind,'toy'))``."""

    def read(text: str) -> Predicate:
        found = re.fullmatch(r"(\w+)\((.*)\)", text)
        if found is None:
            raise Bad
        parts = split(found[2])
        if found[1] in {"and", "or"}:
            inner = [read(part) for part in parts]
            how = all if found[1] == "and" else any
            return lambda row: how(each(row) for each in inner)
        if found[1] == "not":
            return negated(read(parts[0]))
        words = {"eq", "ne", "lt", "le", "gt", "ge", "contains"}
        if found[1] not in words or len(parts) != 2:
            raise Bad
        return compare(str, parts[0], found[1], typed(parts[0], parts[1].strip("'").replace("''", "'")))

    def split(text: str) -> list[str]:
        parts, depth, quoted, current = [], 0, False, ""
        for sign in text:
            quoted ^= sign == "'"
            depth += (sign == "(") - (sign == ")") if not quoted else 0
            if sign == "," and not depth and not quoted:
                parts.append(current)
                current = ""
            else:
                current += sign
        return [*parts, current]

    def order(query: dict[str, str]) -> list[tuple[str, bool]]:
        found = re.findall(r"(asc|desc)\((\w+)\)", query.get("sort", ""))
        return [(name, way == "desc") for way, name in found]

    return Dialect(
        "calls",
        lambda: [
            _query("where", TEXT, CALLS),
            _query("sort", TEXT, "`asc(price)` or `desc(price)`, several joined by commas."),
        ],
        lambda pairs: iter([read(dict(pairs)["where"])] if dict(pairs).get("where") else []),
        order,
        nulls="least",
    )


def separated() -> Dialect:
    """``filter=price:gte:5``, one condition; moments are kept finer than they are shown."""
    words = {"eq": "eq", "neq": "ne", "gt": "gt", "gte": "ge", "lt": "lt", "lte": "le"}

    def condition(pairs: list[tuple[str, str]]) -> Iterator[Predicate]:
        text = dict(pairs).get("filter")
        if text:
            name, word, value = [*text.split(":", 2), "", ""][:3]
            if word not in words:
                raise Bad
            yield compare(str, name, words[word], typed(name, value), finer=True)

    return Dialect(
        "separated",
        lambda: [
            _query("filter", TEXT, "One condition, `price:gte:5`. Operators: eq, neq, gt, gte, lt, lte."),
            _query("sort", {"type": "string", "enum": [f"{n}:{w}" for n in NAMES for w in ("asc", "desc")]}),
        ],
        condition,
        lambda query: worded(query.get("sort"), ":"),
        total="",
        limit="take",
        offset="skip",
    )


def camel_case() -> Dialect:
    """``priceGte``, ``changedAtBefore``, ``orderBy=price_DESC``; equality takes several values."""
    words = {"Gte": "ge", "Lte": "le", "Gt": "gt", "Lt": "lt", "Contains": "contains", "Before": "lt", "IsNull": "null"}
    fields = {"priceGte", "priceLt", "stockGt", "stockLte", "labelContains", "changedAtBefore", "priceIsNull"}

    def condition(pairs: list[tuple[str, str]]) -> Iterator[Predicate]:
        kinds = [text for name, text in pairs if name == "kind"]
        if kinds:
            yield compare(str, "kind", "in", kinds)
        for name, text in pairs:
            found = re.fullmatch(r"([a-z]+(?:On|At)?)(Gte|Lte|Gt|Lt|Contains|Before|IsNull)", name)
            if found and name in fields:
                value = text == "true" if found[2] == "IsNull" else typed(found[1], text)
                yield compare(str, found[1], words[found[2]], value)

    def order(query: dict[str, str]) -> list[tuple[str, bool]]:
        name, _, way = query.get("orderBy", "").rpartition("_")
        return [(name, way == "DESC")] if name else []

    return Dialect(
        "camel case",
        lambda: [
            _query("kind", {"type": "array", "items": {"type": "string"}}),
            *(_query(name, {"type": "boolean"} if "Null" in name else TEXT) for name in sorted(fields)),
            _query("orderBy", {"type": "string", "enum": [f"{n}_{w}" for n in NAMES for w in ("ASC", "DESC")]}),
            _query("fields", {"type": "array", "items": {"type": "string", "enum": list(NAMES)}}),
        ],
        condition,
        order,
        select="fields",
        limit="first",
        offset="skip",
        nulls="least",
    )


def json_where() -> Dialect:
    """``where={"price": {"_gte": 5}}``."""
    words = {"_eq": "eq", "_neq": "ne", "_gt": "gt", "_gte": "ge", "_lt": "lt", "_lte": "le", "_in": "in"}
    words["_is_null"] = "null"

    def read(value: Any) -> Predicate:
        if not isinstance(value, dict):
            raise Bad
        parts: list[Predicate] = []
        for name, inner in value.items():
            if name in {"_and", "_or"}:
                several = [read(each) for each in inner]
                how = all if name == "_and" else any
                parts.append(lambda row, how=how, several=several: how(each(row) for each in several))
            elif name == "_not":
                parts.append(negated(read(inner)))
            elif name in NAMES and isinstance(inner, dict) and set(inner) <= set(words):
                for word, operand in inner.items():
                    known = KINDS.get(name, str)
                    if isinstance(operand, str) and known is not str:
                        raise Bad
                    parts.append(compare(str, name, words[word], operand))
            else:
                raise Bad
        return lambda row: all(part(row) for part in parts)

    def condition(pairs: list[tuple[str, str]]) -> Iterator[Predicate]:
        text = dict(pairs).get("where")
        if text:
            try:
                yield read(json.loads(text))
            except ValueError:
                raise Bad from None

    listed = ", ".join(f"`{word}`" for word in [*words, "_and", "_or", "_not"])
    said = f'JSON: `{{"price": {{"_gte": 5}}}}`; {listed}.'
    return Dialect(
        "json where",
        lambda: [_query("where", TEXT, said), _query("order_by", TEXT, "`price.asc` or `price.desc`.")],
        condition,
        lambda query: worded(query.get("order_by"), "."),
        rows="wares",
    )


def untold() -> Dialect:
    """Parameters of which nothing is said: what they take has to be found out."""
    signs = {">=": "ge", "<=": "le", ">": "gt", "<": "lt", "=": "eq"}

    def condition(pairs: list[tuple[str, str]]) -> Iterator[Predicate]:
        text = dict(pairs).get("filter")
        if text:
            found = re.fullmatch(r"(\w+)\s*(>=|<=|>|<|=)\s*('.*'|[\d.-]+|true|false)", text)
            if found is None:
                raise Bad
            yield compare(str, found[1], signs[found[2]], typed(found[1], found[3].strip("'").replace("''", "'")))

    return Dialect(
        "untold",
        lambda: [_query("filter", TEXT), _query("sort", TEXT)],
        condition,
        lambda query: minus(query.get("sort", "")),
    )


def unknowable() -> Dialect:
    """A filter in a grammar of its own, of which nothing is said, and a sort that only takes numbers of columns."""

    def condition(pairs: list[tuple[str, str]]) -> Iterator[Predicate]:
        if dict(pairs).get("filter"):
            raise Bad
        yield from ()

    def order(query: dict[str, str]) -> list[tuple[str, bool]]:
        if query.get("sort", "1").isdigit():
            return []
        raise Bad

    return Dialect("unknowable", lambda: [_query("filter", TEXT), _query("sort", TEXT)], condition, order)


def listed_singly() -> Dialect:
    """``filter[price][gte]`` as parameters of their own; texts without accents and spaces at the end."""
    from checkpost.oracle.columns import without_accents

    words = {"gte": "ge", "lt": "lt", "eq": "eq", "in": "in", "starts_with": "starts"}

    def fold(text: str) -> str:
        return without_accents(text).casefold().rstrip(" ")

    def condition(pairs: list[tuple[str, str]]) -> Iterator[Predicate]:
        for name, text in pairs:
            found = re.fullmatch(r"filter\[(\w+)\](?:\[(\w+)\])?", name)
            if found:
                word = words.get(found[2] or "eq")
                if word is None:
                    raise Bad
                several = [typed(found[1], each) for each in text.split(",")] if word == "in" else typed(found[1], text)
                yield compare(fold, found[1], word, several)

    return Dialect(
        "listed singly",
        lambda: [
            _query("filter[label]", TEXT),
            _query("filter[kind]", TEXT),
            _query("filter[kind][in]", TEXT, "Joined by commas."),
            _query("filter[price][gte]", {"type": "number"}),
            _query("filter[price][lt]", {"type": "number"}),
            _query("filter[label][starts_with]", TEXT),
            _query("filter[sold]", {"type": "boolean"}),
            _query("sort", {"type": "string", "enum": [s + n for n in ("label", "price", "stock") for s in ("", "-")]}),
            _query("fields[wares]", TEXT, "Comma-separated."),
        ],
        condition,
        lambda query: minus(query.get("sort", "")),
        select="fields[wares]",
        limit="page[size]",
        page="page[number]",
        offset="",
        fold=fold,
        nulls="first",
    )


def colon_prefix() -> Dialect:
    """``price=gte:5``."""
    words = {"eq": "eq", "ne": "ne", "gt": "gt", "gte": "ge", "lt": "lt", "lte": "le", "in": "in"}

    def condition(pairs: list[tuple[str, str]]) -> Iterator[Predicate]:
        for name, text in pairs:
            if name in NAMES:
                word, _, value = text.partition(":")
                if word not in words:
                    raise Bad
                operand = [typed(name, each) for each in value.split("|")] if word == "in" else typed(name, value)
                yield compare(str, name, words[word], operand)

    said = "An operator, a colon and a value: `eq:5`, `ne:5`, `gt:5`, `gte:5`, `lt:5`, `lte:5`."
    return Dialect(
        "colon prefix",
        lambda: [*(_query(name, TEXT, said) for name in NAMES), _query("sort", TEXT, "`price desc`, or `price asc`.")],
        condition,
        lambda query: worded(query.get("sort"), " "),
        rows="items",
        total="count",
    )


def vague() -> Dialect:
    """Parameters that mean less than they say: parts of texts, days of moments, a choice for everything; sold wares
    are hidden unless asked for; a count in the place of rows; fields added to the usual ones."""

    def part(text: str) -> Predicate:
        return lambda row: text.casefold() in row["label"].casefold()

    def condition(pairs: list[tuple[str, str]]) -> Iterator[Predicate]:
        yield compare(str, "sold", "eq", typed("sold", dict(pairs).get("sold", "false")))
        for name, text in pairs:
            if name == "label":
                yield part(text)
            elif name == "kind" and text not in {"all", "tool", "toy"}:
                raise Bad
            elif name == "kind" and text != "all":
                yield compare(str, "kind", "eq", text)
            elif name == "changedAt":
                yield lambda row, text=text: row["changedAt"][:10] == text[:10]
            elif name == "count":
                raise Bad

    return Dialect(
        "vague",
        lambda: [
            _query("label", TEXT, "Search by label."),
            _query("kind", {"type": "string", "enum": ["tool", "toy", "all"]}),
            _query("changedAt", TEXT),
            _query("sold", {"type": "boolean"}, "Whether to list sold wares."),
            _query("count", {"type": "boolean"}, "Answer with the number of wares only."),
            _query("fields", TEXT, "Additional fields."),
            _query("order", {"type": "integer"}, "The order that the ware is part of."),
        ],
        condition,
        lambda query: [],
        rows="results",
    )


DIALECTS = (
    ends_of_ranges(),
    signs_between(),
    calls(),
    separated(),
    camel_case(),
    json_where(),
    untold(),
    unknowable(),
    listed_singly(),
    colon_prefix(),
    vague(),
)
