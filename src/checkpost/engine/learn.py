"""What the contract leaves open and safe reads can tell: the tables behind one path, the fields of rows, where lists
hold them."""

from __future__ import annotations

import asyncio
import itertools
import re
from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeVar
from urllib.parse import quote

from checkpost.contract.contract import Contract
from checkpost.contract.node import Node
from checkpost.engine.target import Target, check_names, inferred
from checkpost.model.actions import like_key
from checkpost.model.correction import Correction
from checkpost.model.envelopes import rows_pointer
from checkpost.model.hyperlink import Hyperlink
from checkpost.model.operations import answer_schema
from checkpost.model.paths import PARAMETER, parameters
from checkpost.model.relations import Directory, directory_of, may_be_addressed
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of
from checkpost.model.unfolding import (
    GUESSED,
    Fold,
    fold_of,
    learned,
    listing_operation,
    rows_by_name,
    schema_operations,
    unfolded,
)
from checkpost.wire.client import Client
from checkpost.wire.exchange import Answer, Request
from checkpost.wire.loop import run as run_loop
from checkpost.wire.numbering import said
from checkpost.wire.session import Limits, Session

T = TypeVar("T")
_MOST_ROWS = 200
#: How many fields that are not named like a key are tried as one.
_MOST_NATURAL = 3
#: How many databases, say, are looked into for tables, and how many tables are taken in all.
_MOST_WHOLES, _MOST_TABLES = 8, 60
_NAMES = ("name", "table", "table_name", "tableName", "id", "title", "resource", "entity")


@dataclass(frozen=True)
class Learnt:
    """What a read has settled: of what, and in words."""

    about: str
    text: str


@dataclass(frozen=True)
class _Named:
    """The resources of a target by their names."""

    resources: Mapping[str, Resource]
    directory: Directory

    @classmethod
    def of(cls, target: Target) -> _Named:
        resources = {each.name: each for each in target.model.resources}
        return cls(resources, directory_of(resources))

    def may_be_addressed(self, resource: Resource) -> dict[str, Hyperlink]:
        return may_be_addressed(resource, self.resources, self.directory)


def open_questions(target: Target) -> bool:
    """Whether the contract leaves something open that has to be read before a run."""
    fold, named = fold_of(target.contract), _Named.of(target)
    return fold is not None or any(
        not each.fields
        or _lacks_key(each)
        or _has_no_key(each)
        or _says_of_bodies_alone(each)
        or _leaves_rows_open(each)
        or _names_no_links(each)
        or (_is_read_at_once(each) and each.envelope.total is not None)
        or ("list" in each.operations and named.may_be_addressed(each))
        for each in target.model.resources
    )


def _is_read_at_once(resource: Resource) -> bool:
    """Whether the contract describes a list, and nothing that would read it on."""
    return "list" in resource.operations and resource.paging.style == "none" and not resource.paging.limit


def _leaves_rows_open(resource: Resource) -> bool:
    """Whether the schema of a list's rows names none of their fields."""
    answer = answer_schema(resource.operations.get("list"))
    rows = rows_pointer(answer, resource.name)
    return rows is not None and rows[1] is not None and not shape_of(rows[1]).properties


def _says_of_bodies_alone(resource: Resource) -> bool:
    """Whether the contract describes what is sent, and nothing of what is shown."""
    return "list" in resource.operations and not any(each.shown for each in resource.fields)


def _has_no_key(resource: Resource) -> bool:
    """Whether nothing in the contract tells the rows of a list apart, and none of them is asked for, as of a view's."""
    return resource.key is None and set(resource.operations) <= {"list", "create"} and "list" in resource.operations


def _names_no_links(resource: Resource) -> bool:
    """Whether rows are documents of a type (JSON:API 1.1, 7.2) and the contract names none of their references."""
    layout = resource.layout
    return "list" in resource.operations and bool(layout.type_name) and not (layout.plain or layout.linked)


def _lacks_key(resource: Resource) -> bool:
    """Whether rows are read one by one, and the contract describes nothing that they are surely read by."""
    guessed = resource.key is None or resource.key.reason.certainty == "guess"
    return guessed and {"list", "read"} <= set(resource.operations) and len(parameters(resource.item)) == 1


async def learn(target: Target, limits: Limits) -> tuple[Target, list[Learnt]]:
    """The target with what its API tells of itself, by GET requests alone; and what was learnt."""
    found: list[Learnt] = []
    roles = {target.role.name: target.role}
    async with Session(roles, target.environment, limits, base_url=target.base_url) as session:
        reader = _Reader(target, session)
        contract = await reader.tables(found)
        unknown = [each.name for each in target.model.resources if not each.fields]
        rows = rows_by_name(contract, [*reader.names, *unknown])
        target = _again(target, contract, rows, {})
        settled: dict[str, Correction] = {}
        schemas = await reader.of_each(target, lambda client: reader.schema(client, contract, settled))
        for name, schema in schemas.items():
            rows[name] = learned(contract, name, schema)
            found.append(Learnt(name, f"its fields are {', '.join(schema['properties'])}"))
        at = {each.name: settled[each.name].rows for each in target.model.resources if each.name in settled}
        found += [Learnt(name, f"its list holds rows at {rows_at or 'its top'}") for name, rows_at in at.items()]
        target = _again(target, contract, rows, settled)
        paged = await reader.of_each(target, reader.paging)
        for name, shown in paged.items():
            settled[name] = replace(settled.get(name, Correction()), shown_paging=shown)
            named = " and ".join(value for value in shown.values() if isinstance(value, str))
            found.append(Learnt(name, f"its list is paged by {named}, which the contract does not describe"))
        target = _again(target, contract, rows, settled) if paged else target
        links = await reader.of_each(target, reader.links)
        for name, linked in links.items():
            settled[name] = replace(settled.get(name, Correction()), linked=linked)
            found.append(
                Learnt(name, f"its rows refer to others by {', '.join(linked)}, which the contract does not name")
            )
        target = _again(target, contract, rows, settled) if links else target
        named_now = _Named.of(target)
        shown_as = await reader.of_each(target, lambda client: reader.references(client, named_now))
        for name, (addressed, numbered) in shown_as.items():
            settled[name] = replace(settled.get(name, Correction()), addressed=addressed, numbered=numbered)
            for fields, what in (
                (addressed, "the address of a row"),
                (numbered, "the key of a row, which is a number"),
            ):
                found += [Learnt(name, f"{', '.join(fields)} is shown as {what}")] if fields else []
        for name, correction in (await reader.of_each(target, reader.key)).items():
            settled[name] = replace(
                settled.get(name, Correction()), shown_key=correction.shown_key, telling=correction.telling
            )
            if correction.shown_key is not None:
                key = correction.shown_key[0]
                found.append(Learnt(name, f"its key is {key}: rows show it, and one is read by it"))
        target = _again(target, contract, rows, settled)
        found += [Learnt(name, told) for name, told in (await reader.of_each(target, reader.key_told)).items()]
    check_names(target.profile, target.model)
    return target, found


def _again(target: Target, contract: Contract, rows: Mapping[str, Node], settled: Mapping[str, Correction]) -> Target:
    """The target, understood again with what is known now; what the profile says goes first."""
    profile = target.profile
    corrections = {**settled, **profile.resources}
    model = inferred(contract, profile, corrections, rows)
    return replace(target, contract=contract, model=model, settled=settled, rows=rows)


class _Reader:
    def __init__(self, target: Target, session: Session) -> None:
        self.target, self.session = target, session
        self.names: Sequence[str] = ()
        self._answers: dict[str, Answer] = {}

    async def first_answer(self, client: Client) -> Answer:
        """A list as it is, without a size, which is asked for once whatever is to be learnt of it."""
        name = client.resource.name
        if name not in self._answers:
            self._answers[name] = (await client.send("list", check="learn", situation="the list as it is")).answer
        return self._answers[name]

    async def get(self, path: str) -> Any:
        url = self.target.base_url.rstrip("/") + path
        answer = (await self.session.send(Request("GET", url, self.target.role.name), "learn")).answer
        return answer.json if answer.ok else None

    async def of_each(self, target: Target, ask: Callable[[Client], Awaitable[T | None]]) -> dict[str, T]:
        """What is learnt of each resource, all at once; without those of which nothing is."""
        resources = target.model.resources
        clients = [Client(self.session, target.base_url, each, target.role.name) for each in resources]
        told = await asyncio.gather(*map(ask, clients))
        return {each.name: one for each, one in zip(resources, told, strict=True) if one}

    async def schema(self, client: Client, contract: Contract, settled: dict[str, Correction]) -> dict[str, Any] | None:
        """The schema of a resource's rows, where the contract has none, or one that is none of theirs."""
        resource = client.resource
        if not resource.fields:
            return await self.schema_of(resource, contract) or await self.sampled(client, settled)
        told = resource.envelope.rows is not None and not _leaves_rows_open(resource)
        if told or "list" not in resource.operations:
            return None
        schema = await self.sampled(client, settled)
        shown = set(schema["properties"]) if schema is not None else set()
        # what the contract names are members of bodies, and few or none of the rows'; or it says of bodies alone
        named = {each.name for each in resource.fields}
        return schema if shown and (2 * len(shown & named) < len(named) or _says_of_bodies_alone(resource)) else None

    async def paging(self, client: Client) -> dict[str, Any] | None:
        """The parameters for size and position that a list heeds, where the contract describes none: those that the
        answer itself names, or the usual ones where it says that there are more rows."""
        if not _is_read_at_once(client.resource):
            return None
        answer = await self.first_answer(client)
        rows = client.rows_in(answer.json) if answer.ok else None
        if rows is None or len(rows) < 2:
            return None
        for way in _ways_of_paging(answer, len(rows)):
            position = way.get("offset") or way["page"]
            second = [(way["limit"], 1), (position, way["start"] + 1)]
            asked = (await client.send("list", query=second, check="learn", situation="its second row alone")).answer
            if asked.ok and client.rows_in(asked.json) == rows[1:2]:
                return way
        return None

    async def links(self, client: Client) -> dict[str, str] | None:
        """The references to single rows that documents show and the contract does not name, with their types."""
        if not _names_no_links(client.resource):
            return None
        answer = await self.first_answer(client)
        place = where_rows_are(answer.json) if answer.ok else None
        return client.resource.layout.links_untold(place[1][:_MOST_ROWS]) if place is not None else None

    async def references(self, client: Client, named: _Named) -> tuple[tuple[str, ...], tuple[str, ...]] | None:
        """The references that rows show as addresses, and those that they show as numbers, where the contract has
        texts."""
        links = named.may_be_addressed(client.resource) if "list" in client.resource.operations else {}
        if not links:
            return None
        answer = await self.first_answer(client)
        rows = (client.rows_in(answer.json) if answer.ok else None) or []
        shown = {name: [row[name] for row in rows if row.get(name) is not None] for name in links}
        addressed = tuple(name for name, values in shown.items() if values and all(map(links[name].is_of, values)))
        numbered = tuple(name for name, values in shown.items() if values and all(type(each) is int for each in values))
        numbered = tuple(name for name in numbered if links[name].numeric)
        return (addressed, numbered) if addressed or numbered else None

    async def key(self, client: Client) -> Correction | None:
        """What rows show of their key, where the contract does not describe it."""
        if _lacks_key(client.resource):
            shown = await self.key_shown(client)
            return Correction(shown_key=shown) if shown is not None else None
        telling = await self.telling(client) if _has_no_key(client.resource) else ()
        return Correction(telling=telling) if telling else None

    async def tables(self, found: list[Learnt]) -> Contract:
        """The contract with a path for each table, whose names the contract, the profile or a list gives."""
        contract = self.target.contract
        fold = fold_of(contract)
        if fold is None:
            return contract
        self.names = self.target.profile.tables or fold.tables
        if not self.names:
            operation = listing_operation(contract, fold)
            body = await self.get(operation.path) if operation is not None else None
            told = names_in(body) if len(fold.parameters) == 1 else names_by(body, fold.parameters)
            told = told or await self.names_under(fold)
            self.names = sorted(each for each in told if fold.of(each) is not None)
            if not self.names:
                return contract
            where = operation or f"GET {fold.before}"
            found.append(Learnt(fold.path, f"{where} names the tables {', '.join(self.names)}"))
        return unfolded(contract, self.names)

    async def names_under(self, fold: Fold) -> list[str]:
        """The names of tables where each list says what there is under what the one before it names: those of
        databases, say, and of the tables in each."""
        known = [""]
        for parameter in fold.parameters if len(fold.parameters) > 1 else ():
            path = fold.path.partition(f"/{{{parameter}}}")[0]
            further: list[str] = []
            for each in known[:_MOST_WHOLES]:
                parts = each.split("/") if each else []
                asked = path
                for name, part in zip(fold.parameters, parts, strict=False):
                    asked = asked.replace(f"{{{name}}}", part)
                further += ["/".join([*parts, name]) for name in names_in(await self.get(asked))]
            known = further
        return known[:_MOST_TABLES] if known != [""] else []

    async def schema_of(self, resource: Resource, contract: Contract) -> dict[str, Any] | None:
        """The schema of a resource's rows as an operation of the API describes it."""
        for operation in schema_operations(contract, resource.name):
            schema = described(await self.get(operation.path))
            if schema is not None:
                return schema
        return None

    async def sampled(self, client: Client, settled: dict[str, Correction]) -> dict[str, Any] | None:
        """A schema that the first rows of a list satisfy, where no better one is to be had."""
        if "list" not in client.resource.operations:
            return None
        answer = await self.first_answer(client)
        place = where_rows_are(answer.json) if answer.ok else None
        if place is None:
            return None
        settled[client.resource.name] = Correction(rows=place[0])
        return schema_of_rows(place[1][:_MOST_ROWS])

    async def key_shown(self, client: Client) -> tuple[str, str] | None:
        """A field that every row shows with a value of its own, by which one of them is read: one that is named like a
        key, or one of the first others."""
        resource = client.resource
        listing = await client.whole_list(_MOST_ROWS, "learn")
        rows = [row for row in listing.rows if row]
        shown = [name for name in (rows[0] if rows else ()) if _tells_apart(row.get(name) for row in rows)]
        named = [name for name in shown if like_key(name, resource.name)]
        natural = [name for name in shown if name not in named and listing.complete]

        async def read(value: Any) -> Mapping[str, Any] | None:
            return client.row_of(await self.get(PARAMETER.sub(quote(str(value), safe=""), resource.item or "")))

        for name in [*named, *natural[:_MOST_NATURAL]]:
            values = [row.get(name) for row in rows]
            one = await read(values[0])
            if one is not None and all(one[part] == rows[0][part] for part in one if part in rows[0]):
                # what is read whatever the key is, is read by none
                if name not in named and len(rows) == 1 and await read(f"{values[0]}-none-such") is not None:
                    continue
                return name, "integer" if all(isinstance(value, int) for value in values) else "string"
        return None

    async def telling(self, client: Client) -> tuple[str, ...]:
        """The field, or else the two references, of which each row of a list shows another value, best one that is
        named like a key. Of a list that was not read whole only such a name counts."""
        resource = client.resource
        listing = await client.whole_list(_MOST_ROWS, "learn")
        rows = listing.rows
        if listing.problem or len(rows) < 2:
            return ()
        described = {each.name for each in resource.fields}
        plain = [name for name in rows[0] if name in described and all(_is_plain(row.get(name)) for row in rows)]
        references = [name for name in plain if resource.relation(name) is not None]
        own = [name for name in plain if name not in references]
        choices: list[tuple[str, ...]] = [(name,) for name in own if _KEY_LIKE.search(name)]
        if listing.complete:
            choices += [*itertools.combinations(references, 2), *((name,) for name in own)]
        for chosen in choices:
            if len({tuple(row[name] for name in chosen) for row in rows}) == len(rows):
                return chosen
        return ()

    async def key_told(self, client: Client) -> str:
        """Whether a guessed key holds: each row of the list has another one, and reading by it gives the row."""
        key = client.resource.key
        if key is None or key.reason.certainty != "guess" or "list" not in client.resource.operations:
            return ""
        listing = await client.whole_list(_MOST_ROWS, "learn")
        if listing.problem or not listing.rows:
            return ""
        alike = len(listing.by_key) == len(listing.rows)
        first = next(iter(listing.by_key), None)
        read = alike and first is not None and "read" in client.resource.operations
        exchange = await client.send("read", key=first, check="learn") if read else None
        row = client.row_in(exchange.answer) if exchange is not None and exchange.answer.ok else None
        named = ", ".join(key.fields)
        if not alike:
            return (
                f"{named} is not its key: rows have the same one; resources: {{{client.resource.name}: {{key: FIELD}}}}"
            )
        if row is not None and client.key_of(row) == first:
            return f"{named} is its key: {len(listing.rows)} rows have each their own, and one is read by it"
        return f"{named} may be its key: {len(listing.rows)} rows have each their own"


#: Names that keys and references have.
_KEY_LIKE = re.compile(r"(?:^|_)(?:id|key|code|uuid|guid|rowid)$|[a-z]I[dD]$")


#: Usual parameters for size and position.
_USUAL = (("limit", "offset"), ("page_size", "page"), ("per_page", "page"), ("pageSize", "page"), ("size", "page"))


def _ways_of_paging(answer: Answer, rows: int) -> list[dict[str, Any]]:
    """What may page a list that shows ``rows`` rows: ``limit`` with ``offset``, or with ``page`` and its ``start``."""
    stated = said(answer)
    named = {kind: (place.rpartition(".")[2], value) for (kind, place), value in stated.items()}
    number, value = named.get("number", ("", 1))
    start = value if value in {0, 1} else 1
    ways: list[dict[str, Any]] = []
    if "size" in named and "offset" in named:
        ways.append({"limit": named["size"][0], "offset": named["offset"][0], "start": 0})
    if "size" in named and number:
        ways.append({"limit": named["size"][0], "page": number, "start": start})
    if any(kind == "total" and count > rows for (kind, _), count in stated.items()):
        for size, position in _USUAL:
            by_page = {"page": position, "start": start} if position == "page" else {"offset": position, "start": 0}
            ways.append({"limit": size, **by_page})
    return [way for place, way in enumerate(ways) if way not in ways[:place]]


def _tells_apart(values: Iterable[Any]) -> bool:
    """Whether each of some values can be part of a key and is another one."""
    found = list(values)
    return all(map(_is_plain, found)) and len(set(found)) == len(found)


def _is_plain(value: Any) -> bool:
    """Whether a value can be part of a key."""
    return isinstance(value, str | int) and not isinstance(value, bool)


def learn_now(target: Target, limits: Limits) -> tuple[Target, list[Learnt]]:
    """See ``learn``; to be called where no event loop runs."""
    return run_loop(learn(target, limits))


def names_in(body: Any) -> list[str]:
    """The names of tables in an answer: texts of a list, names of its objects, or the members of an object."""
    if isinstance(body, list):
        texts = [each for each in body if isinstance(each, str)]
        named = [
            next((each[key] for key in _NAMES if isinstance(each.get(key), str)), "")
            for each in body
            if isinstance(each, dict)
        ]
        return [each for each in (*texts, *named) if re.fullmatch(r"[\w.-]+", each)]
    if isinstance(body, dict):
        lists = [value for value in body.values() if isinstance(value, list) and value]
        found = [name for value in lists for name in names_in(value)]
        if found:
            return found
        inner = [value for value in body.values() if isinstance(value, dict)]
        if inner and len(inner) == len(body):
            return [name for name in body if re.fullmatch(r"[\w.-]+", name)]
        return [name for value in inner for name in names_in(value)]
    return []


def names_by(body: Any, parts: Sequence[str]) -> list[str]:
    """The names of tables in an answer whose objects hold each part of a name under a member called like that."""
    if isinstance(body, dict) and all(isinstance(body.get(part), str) for part in parts):
        return ["/".join(body[part] for part in parts)]
    inner = body.values() if isinstance(body, dict) else body if isinstance(body, list) else ()
    return [name for each in inner if isinstance(each, dict | list) for name in names_by(each, parts)]


def where_rows_are(body: Any, pointer: str = "", depth: int = 3) -> tuple[str, list[dict[str, Any]]] | None:
    """The first list of objects in a body, and the JSON Pointer to it."""
    if isinstance(body, list) and body and all(isinstance(each, dict) for each in body):
        return pointer, body
    if isinstance(body, dict) and depth:
        for name, value in body.items():
            found = where_rows_are(value, f"{pointer}/{name}", depth - 1)
            if found is not None:
                return found
    return None


def described(body: Any) -> dict[str, Any] | None:
    """A JSON Schema from an answer that describes a table: one as it stands, or columns with names and types."""
    if isinstance(body, dict) and isinstance(body.get("properties"), dict) and body["properties"]:
        return body
    columns = body if isinstance(body, list) else None
    if isinstance(body, dict):
        for value in body.values():
            if isinstance(value, dict | list) and (inner := described(value)) is not None:
                return inner
    if not columns or not all(isinstance(each, dict) and isinstance(each.get("name"), str) for each in columns):
        return None
    properties = {each["name"]: _column(each) for each in columns}
    required = [each["name"] for each in columns if each.get("required") is True]
    return {"type": "object", "properties": properties, **({"required": required} if required else {})}


def _column(column: Mapping[str, Any]) -> dict[str, Any]:
    from checkpost.contract.mending import mend

    stated = str(column.get("type") or column.get("data_type") or "").lower().partition("(")[0].strip()
    schema: dict[str, Any] = {"type": stated} if stated else {}
    if column.get("nullable") is True or column.get("is_nullable") in {True, "YES", "yes"}:
        schema["nullable"] = True
    mend({"properties": {"column": schema}}, nullable=False)
    if column.get("primary_key") or column.get("primaryKey") or column.get("is_primary_key") or column.get("pk"):
        schema["description"] = "Primary key."
    if column.get("read_only") is True or column.get("readOnly") is True or column.get("generated") is True:
        schema["readOnly"] = True
    return schema


def _is_feature(row: Mapping[str, Any]) -> bool:
    """Whether a row is a GeoJSON feature with a key (RFC 7946, 3.2)."""
    whole = row.get("type") == "Feature" and {"id", "geometry"} <= row.keys()
    return whole and isinstance(row.get("properties"), dict)


def _schema_of_features(rows: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """A JSON Schema that features satisfy: a geometry is as one of theirs."""
    shown = next((row["geometry"] for row in rows if row["geometry"]), None)
    told = {
        "type": {"const": "Feature"},
        "id": schema_of_rows([{"id": row["id"]} for row in rows])["properties"]["id"],
        "geometry": {"type": ["object", "null"], "minProperties": 1, "example": shown} if shown else {},
        "properties": schema_of_rows([row["properties"] for row in rows]),
    }
    return {"type": "object", "properties": told, GUESSED: True}


def schema_of_rows(rows: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """A JSON Schema that rows satisfy: the types of their values, and formats that all texts of a field have; of
    GeoJSON features those of their properties."""
    if rows and all(map(_is_feature, rows)):
        return _schema_of_features(rows)
    properties: dict[str, Any] = {}
    for name in dict.fromkeys(name for row in rows for name in row):
        values = [row.get(name) for row in rows]
        types = {_type(value) for value in values} - {"null"}
        types = {"number"} if types == {"integer", "number"} else types
        schema: dict[str, Any] = {}
        if len(types) == 1:
            [only] = types
            schema["type"] = [only, "null"] if None in values else only
        # what keeps texts alone has an empty one for nothing
        texts = [value for value in values if isinstance(value, str) and value]
        form = next((form for form, pattern in _FORMATS.items() if texts and all(map(pattern.fullmatch, texts))), "")
        if form and types == {"string"}:
            schema["format"] = form
        if types == {"object"} and _stands_for_a_key(name, rows):
            schema["readOnly"] = True
        properties[name] = schema
    return {"type": "object", "properties": properties, GUESSED: True}


def _stands_for_a_key(name: str, rows: Sequence[Mapping[str, Any]]) -> bool:
    """Whether a member shows the row whose key stands beside it, as ``species`` beside ``species_id``."""
    shown = [(row[name], row) for row in rows if isinstance(row.get(name), dict)]
    keys = (f"{name}_id", f"{name}Id", f"{name}ID", f"id_{name}")
    return any(all(row.get(key) is not None and row[key] in whole.values() for whole, row in shown) for key in keys)


_FORMATS = {
    "uuid": re.compile(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}"),
    "date-time": re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:?\d\d)?"),
    "date": re.compile(r"\d{4}-\d\d-\d\d"),
    "decimal": re.compile(r"-?(?:0|[1-9]\d*)(?:\.\d+)?"),
}


def _type(value: Any) -> str:
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "boolean"
    names = {int: "integer", float: "number", str: "string", list: "array", dict: "object"}
    return names[type(value)]
