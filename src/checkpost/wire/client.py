"""One resource over HTTP: its URLs, its requests, and the rows in its answers. Judges nothing."""

from __future__ import annotations

import json
import re
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any
from urllib.parse import parse_qsl, quote, unquote, urlsplit

from checkpost.contract.contract import Operation
from checkpost.contract.node import Node
from checkpost.contract.pointer import join, tokens, walk
from checkpost.model.address import Address
from checkpost.model.field import Field
from checkpost.model.media import JSON_PATCH, request_media_type
from checkpost.model.members import put_inside, put_together
from checkpost.model.paths import PARAMETER, normal
from checkpost.model.purpose import Purpose
from checkpost.model.resource import Constants, Resource
from checkpost.model.shape import shape_of
from checkpost.wire.door import Act, Door, Made, Unsafe
from checkpost.wire.encoding import as_patch, encoded
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.listing import EVERYTHING, Asked, Key, Listing, Row, key_text, read_list
from checkpost.wire.session import Session

#: A query's parameters: by name, or as pairs where a name may stand twice.
Query = Mapping[str, Any] | Sequence[tuple[str, Any]]
#: Told of every answer to a documented operation: what was asked, the exchange, the situation in words.
Observer = Callable[[Operation, Exchange, str], None]

#: What stands in brackets without quotes though JSON has it as a text: UUIDs, moments, and the names of parameters.
_BARE = re.compile(
    r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}|\d{4}-\d\d-\d\d(T[\d:.]+(Z|[+-][\d:]+)?)?|\{\w+\}"
)
#: How often a list is read whose pages do not join since rows came or went meanwhile.
_READINGS = 3
#: How many rows of a list are asked of what type they and those that they refer to are.
_TELLING = 20
#: Purposes that only ask, by whatever method.
_READS = {"list", "read"}
#: A key as programs make it (RFC 9562, and shorter ones): signs, digits among them, and no spaces.
_MADE_KEY = re.compile(r"(?=.*[0-9])[0-9A-Za-z_-]{16,64}")
#: Names that drivers of databases have for the key of a row just made.
_INSERTED = {"insertid", "insertedid", "lastinsertid", "lastinsertrowid", "lastrowid", "newid", "generatedid"}
#: Members of an answer that hold no row, though theirs may be named for its fields, as the links of its references are.
_ASIDE = frozenset({"links", "meta"})
_IN_URLS = "%:/?#[]@!$&'()*+,;=-._~"


def wrap(record: Any, pointer: str) -> Any:
    """A record inside the objects that a JSON Pointer names."""
    for name in reversed(tokens(pointer)):
        record = {name: record}
    return record


def _plain(part: Any) -> str:
    return str(part).lower() if isinstance(part, bool) else str(part)


def _in_brackets(before: str, part: Any) -> str:
    """A part of a key as it stands between brackets: a text in quotes (OData 4.01, URL Conventions, 4.3.1)."""
    if not isinstance(part, str):
        return _plain(part)
    doubled = part.replace("'", "''")
    if before.endswith("'"):
        return doubled
    return part if _BARE.fullmatch(part) else f"'{doubled}'"


def _with_key(body: Row, named: Mapping[str, Any]) -> Row:
    """A body with the key beside the record, or where it is not wrapped, among its members."""
    whole: Row = {}
    for path, part in named.items():
        put_inside(whole, path, part)
    return {**whole, **body}


def pairs_of(query: Query) -> list[tuple[str, Any]]:
    return list(query.items() if isinstance(query, Mapping) else query)


def _part(text: Any) -> str:
    """A name or value as it stands in a query (RFC 3986, 3.4); a space never as ``+``."""
    return quote(str(text), safe="!$'()*,:@/?", errors="surrogatepass")


class Client:
    """Requests on one resource as one role."""

    def __init__(
        self,
        session: Session,
        base_url: str,
        resource: Resource,
        role: str,
        observe: Observer | None = None,
        within: Key = (),
        sees_all: str = "",
        door: Door | None = None,
    ) -> None:
        """``within`` is the key of the row that the resource's paths stand under, if they do; ``sees_all`` the role
        that sees every row, where this one may not. Without a ``door`` nothing can be written."""
        self._sees_all, self._door = sees_all, door
        self.session, self.resource, self.role = session, resource, role
        self._base, self._observe, self.within = base_url.rstrip("/"), observe, within

    # -- addresses ---------------------------------------------------------------------------------

    def url(
        self, operation: Operation, key: Key | None = None, query: Query = (), purpose: Purpose | None = None
    ) -> str:
        """The URL of an operation; path parameters are filled with the key, in order, or where the operation for a
        ``purpose`` takes the key elsewhere in its URL, it is put there."""
        # the key of what stands under another row begins with that row's own
        above = () if key and self.resource.under else self.within
        known = (*above, *(key or ()))
        if operation is self.resource.purge:  # a path for what was deleted need not stand under a row of another
            known = known[-len(PARAMETER.findall(operation.path)) :]
        parts = iter(known)
        names = self.resource.key_fields

        def filled(found: re.Match[str]) -> str:
            part = next(parts, found[0])
            before = operation.path[: found.start()].rpartition("/")[2]
            return quote(_in_brackets(before, part), safe="'") if "(" in before else quote(_plain(part), safe="")

        path = PARAMETER.sub(filled, operation.path)
        address = self._address(operation, purpose)
        asked = address.pairs(names, key, self.resource.fields) if address and key else []
        every = put_together([*asked, *pairs_of(query)])
        written = "&".join(f"{_part(name)}={_part(value)}" for name, value in every)
        return self._base + path + (f"?{written}" if written else "")

    def _address(self, operation: Operation, purpose: Purpose | None) -> Address | None:
        """How an operation names a row, if not by its path."""
        found = self.resource.addresses.get(purpose) if purpose else None
        return found if purpose and self.resource.operations.get(purpose) is operation else None

    def key_in_location(self, location: str) -> Key | None:
        """The key that a Location header's path holds, by the item path's template."""
        if self.resource.key is None:
            return None
        if self.resource.item is None:
            return self._key_in_query(location)
        names = self.resource.key.fields
        pieces = PARAMETER.split(self.resource.item)[::2]
        pattern = r"([^/()]+?)".join(re.escape(quote(piece, safe="/()=,'")) for piece in pieces)
        matched = re.search(pattern + r"/?$", urlsplit(location).path)
        above = 0 if self.resource.under else len(self.within)
        parts = [unquote(part) for part in matched.groups()][above:] if matched else []
        if not matched and re.fullmatch(r"[^/?#:]+", location):
            parts = [unquote(location)]  # relative to the path that rows are created at, whether or not it ends in "/"
        if len(parts) != len(names):
            return None
        return tuple(self._part_of(name, text) for name, text in zip(names, parts, strict=True))

    def _key_in_query(self, location: str) -> Key | None:
        """The key in a Location whose query names it, as the operation that reads a row does."""
        address, key = self.resource.addresses.get("read"), self.resource.key
        given = dict(parse_qsl(urlsplit(location).query, keep_blank_values=True))
        if address is None or key is None or not address.query or any(name not in given for name in address.query):
            return None
        return tuple(self._part_of(name, given[asked]) for name, asked in zip(key.fields, address.query, strict=False))

    def _part_of(self, name: str, text: str) -> Any:
        """A part of a key from its text in a URL."""
        field = self.resource.field(name)
        value = text[1:-1].replace("''", "'") if re.fullmatch(r"'.*'", text) else text
        return int(value) if field and field.type == "integer" and value.isdigit() else value

    # -- requests ----------------------------------------------------------------------------------

    async def send(
        self,
        purpose: Purpose,
        *,
        operation: Operation | None = None,
        key: Key | None = None,
        query: Query = (),
        headers: Mapping[str, str] | None = None,
        record: Any = None,
        raw: bytes | None = None,
        media_type: str | None = None,
        credentials: str = "right",
        token: str = "",
        check: str = "",
        situation: str = "",
        act: Act | None = None,
    ) -> Exchange:
        """Send the resource's operation for a purpose, or another one of its own. ``record`` is wrapped as its
        bodies are; ``raw`` takes the place of the whole body. ``act`` says what a write may do to rows, where that is
        more than the key and the record tell. Raises Unsafe where it may reach rows of others."""
        if operation is None and purpose == "list":
            operation = self.resource.list_for(name for name, _ in pairs_of(query))
        operation = operation or self.resource.operations[purpose]
        if purpose == "read":
            self.refuse_reading(key)
        await self._make_sure(purpose, operation, key, check)
        if (
            purpose not in _READS
            and operation.path != self.resource.item
            and any("," in str(part) for part in key or ())
        ):
            raise Unsafe("a key with a comma may be taken for several, so that nothing is written by it")
        constants = self.resource.constants.get(purpose, Constants())
        if purpose not in _READS:
            act = act or self._act(purpose, operation, key, record)
        guarding, record = await self._guarded(purpose, key, record, headers or {}, check)
        headers, body = {**constants.headers, **guarding, **(headers or {})}, raw
        asked = pairs_of(query)
        query = [*((name, each) for name, each in constants.query.items() if name not in dict(asked)), *asked]
        if operation is self.resource.search:
            query = [(name, self._at_most(operation, name, value)) for name, value in query]
        kind = media_type or request_media_type(operation)
        if body is None:
            query, value = self._body(purpose, operation, key, query, record, kind)
            body, kind = encoded(value, kind) if value is not None else (None, kind)
        if body is not None:
            headers["Content-Type"] = kind
        request = Request(
            operation.method,
            self.url(operation, key, query, purpose),
            self.role,
            headers,
            body,
            credentials,  # type: ignore[arg-type]
            token,
            asks=purpose in _READS,
        )
        exchange = await (self.session.send(request, check) if act is None else self.write(request, act, check))
        if self._observe is not None:
            self._observe(operation, exchange, situation)
        if purpose == "read" and self._door is not None and exchange.answer.ok:
            row = self.row_read(exchange.answer)
            self._door.saw(self.resource.name, [(self.key_of(row) or key, row)] if row is not None else ())
        return exchange

    def _at_most(self, operation: Operation, name: str, value: Any) -> Any:
        """A parameter's value, or for the size of a page the largest that an operation takes, if that is less."""
        schema = next((each.schema for each in operation.parameters if each.name == name), None)
        most = shape_of(schema).keywords.get("maximum") if name == self.resource.paging.limit else None
        return min(value, int(most)) if isinstance(most, int | float) and isinstance(value, int) else value

    def refuse_reading(self, key: Key | None) -> None:
        """Raise Unsafe where reading a row by its key is known to harm it, and it is not the run's own."""
        name = self.resource.name
        own = key is None or (self._door is not None and self._door.owns(name, key))
        if name in self.session.harmful and not own:
            raise Unsafe(f"rows of others are not read by their keys: {self.session.harmful[name]}")

    async def write(self, request: Request, act: Act, check: str) -> Exchange:
        """Send a request that may change rows, by the door for such. Raises Unsafe where there is none, or where it
        may reach rows of others."""
        if self._door is None:
            raise Unsafe("this run may not write")
        return await self._door.send(request, act, check)

    def _act(self, purpose: Purpose, operation: Operation, key: Key | None, record: Any) -> Act:
        """What a write of one row may do."""
        name, sent = self.resource.name, record if isinstance(record, dict) else {}
        if purpose == "create":
            chosen = self.key_of(sent) if self.resource.key and self.resource.key.assigned_by == "client" else None
            made = Made(name, sent, chosen, self.within)
            return Act("create", (made,), key_in=lambda answer: self.new_key(answer, sent))
        touched = ((name, key),) if key else ()
        by_filter = self.resource.operations.get(purpose) is operation and self.resource.picked_by_api(purpose)
        if purpose == "delete":
            return Act("remove", (), touched, by_filter)
        return Act("change", (Made(name, sent, above=self.within),), touched, by_filter)

    def _body(
        self,
        purpose: Purpose,
        operation: Operation,
        key: Key | None,
        query: list[tuple[str, Any]],
        record: Any,
        kind: str,
    ) -> tuple[list[tuple[str, Any]], Any]:
        """The parameters that stay in the URL, and what the body is to hold; None for no body."""
        resource = self.resource
        own = resource.operations.get(purpose) is operation
        address = self._address(operation, purpose)
        named = dict(zip(address.body, key, strict=False)) if address and address.body and key else {}
        if operation is resource.posted:
            schemas = {each.name: each.node for each in resource.fields}
            schemas |= shape_of(resource.body_schema(purpose)).properties
            inside = {name: _typed(schemas.get(name), value) for name, value in query if name in resource.in_body}
            return [each for each in query if each[0] not in resource.in_body], inside
        if record is None:
            return query, _with_key({}, named) or None
        if isinstance(record, dict):
            changed = key[0] if key and len(key) == 1 and purpose in {"update", "replace"} else None
            record = self._shaped(record, changed)
        if kind == JSON_PATCH or (own and purpose == "update" and resource.patched):
            return query, as_patch(record) if isinstance(record, dict) else record
        body = wrap(record, self.wrapper(purpose))
        body = _with_key(body, named) if isinstance(body, dict) else body
        return query, [body] if own and purpose in resource.listed else body

    def _shaped(self, record: Mapping[str, Any], changed: Any = None) -> Row:
        """A record as bodies have it, with what rows have shown of types and addresses."""
        layout = self.resource.layout.with_kinds(self.session.kinds.get(self.resource.name, {}))
        return layout.shaped(record, changed)

    def body_of(self, record: Mapping[str, Any], purpose: Purpose) -> Any:
        """The body for a record, in its wrapper."""
        return wrap(self._shaped(record), self.wrapper(purpose))

    async def _make_sure(self, purpose: Purpose, operation: Operation, key: Key | None, check: str) -> None:
        """Ask first what a change by filter would reach, as the list tells it. Raises Unsafe if that is anything but
        the one row that is meant, or none."""
        address = self._address(operation, purpose)
        if purpose == "read" or address is None or key is None or address.filtering is None:
            return
        asking = self
        if self._sees_all:  # what another role does not see would be reached all the same
            asking = Client(self.session, self._base, self.resource, self._sees_all, None, self.within, door=self._door)
        answer = (await asking.send("read", key=key, check=check, situation="what the filter leaves")).answer
        rows = self.rows_in(answer.json) if answer.ok else None
        if rows is None or any(self.key_of(row) != key for row in rows):
            left = f"{len(rows)} rows" if rows is not None else f"an answer {answer.status}"
            raise Unsafe(f"the filter for the key {key_text(key)} leaves {left}, so that no change is sent by it")

    async def _guarded(
        self, purpose: Purpose, key: Key | None, record: Any, headers: Mapping[str, str], check: str
    ) -> tuple[dict[str, str], Any]:
        """The headers, and the record, with what the contract demands against changes at the same time: the
        tag or version of the row as it is, a key of its own for each create."""
        guards, named = self.resource.guards, {name.lower() for name in headers}
        if purpose == "create" and guards.needs_once and guards.once.lower() not in named:
            return {guards.once: str(uuid.uuid4())}, record
        tag = purpose in guards.needs_match and "if-match" not in named
        version = guards.needs_version and purpose in {"update", "replace"} and isinstance(record, dict)
        version = version and guards.version not in record
        if not key or not (tag or version) or "read" not in self.resource.operations:
            return {}, record
        answer = (await self.send("read", key=key, check=check, situation="reading a row")).answer
        row = self.row_in(answer) if answer.ok else None
        if version and row is not None and guards.version in row:
            record = {guards.version: row[guards.version], **record}
        stated = answer.header("etag")
        return ({"If-Match": stated} if tag and stated else {}), record

    async def get(self, operation: Operation, query: Query, check: str = "", situation: str = "") -> Exchange:
        """GET another operation of this resource than its own: one that has no key in its path."""
        exchange = await self.session.send(Request("GET", self.url(operation, None, query), self.role), check)
        if self._observe is not None:
            self._observe(operation, exchange, situation)
        return exchange

    async def follow(
        self, url: str, check: str = "", situation: str = "", headers: Mapping[str, str] | None = None
    ) -> Exchange:
        """GET a link of this API. What may not stand in a URL is escaped, as browsers do."""
        exchange = await self.session.send(
            Request("GET", quote(url, safe=_IN_URLS), self.role, dict(headers or {})), check
        )
        if self._observe is not None and situation:
            self._observe(self.resource.operations["list"], exchange, situation)
        return exchange

    # -- rows in answers ---------------------------------------------------------------------------

    def wrapper(self, purpose: Purpose) -> str:
        """What bodies for a purpose are wrapped in (a JSON Pointer): as was learnt, else as the contract says."""
        return self.session.wrappers.get((self.resource.name, purpose)) or self.resource.envelope.body_of(purpose)

    def purging(self) -> Client | None:
        """A client whose deletes remove for good what was deleted and is kept; None where the contract has no such
        way."""
        purge = self.resource.purge
        if purge is None:
            return None
        resource = replace(self.resource, operations={**self.resource.operations, "delete": purge})
        return Client(self.session, self._base, resource, self.role, self._observe, self.within, door=self._door)

    def wrap_in(self, member: str, purpose: Purpose) -> None:
        """From now on requests for a purpose have their record in a member of the body; "" for as the contract says."""
        self.session.wrappers[self.resource.name, purpose] = join("", member) if member else ""

    def key_of(self, row: Mapping[str, Any]) -> Key | None:
        """The key of a row; None if it is not (wholly) there."""
        if self.resource.key is None:
            return None
        names = self.resource.key.fields
        if len(names) == 1:
            value = row.get(names[0])
            return (value,) if isinstance(value, str | int) else None
        values = tuple([row.get(name) for name in names])
        return values if values and all(isinstance(value, str | int) for value in values) else None

    def rows_in(self, body: Any) -> list[Row] | None:
        """The rows of a list's body; None where there are none to be seen."""
        pointer = self.resource.envelope.rows
        if pointer is None:
            return _first_rows(body, 3)
        places = [_at(body, each) for each in (pointer, *self.resource.envelope.rows_too)]
        rows = next((each for each in places if isinstance(each, list)), places[0])
        if self.resource.envelope.keyed and isinstance(rows, dict):
            rows = [self._with_key(key, row) for key, row in rows.items()]
        if not isinstance(rows, list):
            rows = self._rows_elsewhere(body)
        if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
            return None
        if self.resource.envelope.keys_at:
            rows = self._with_keys_beside(body, rows)
        layout = self.resource.layout
        for row in rows[:_TELLING] if layout.linked or layout.type_name or layout.hyperlinks else ():
            self.session.kinds.setdefault(self.resource.name, {}).update(layout.kinds_in(row))
        flat = rows if layout.plain and not layout.hyperlinks else [layout.flat(row) for row in rows]
        return [self._below(row) for row in flat] if self.resource.under else flat

    def _rows_elsewhere(self, body: Any) -> Any:
        """The rows of a list that come inside an object where the contract has an array: where rows were seen once, and
        else the first list of what looks like rows. None where there is none."""
        found = self.session.rows_at
        if self.resource.name not in found:
            for pointer, value in _lists_in(body, "", 3):
                first = value[0] if value else None
                if isinstance(first, dict) and self._looks_like_row(self.resource.layout.flat(first)):
                    found[self.resource.name] = pointer
                    break
        return _at(body, found[self.resource.name]) if self.resource.name in found else None

    def _below(self, row: Row) -> Row:
        """A row with the key of the row that it stands under, where it does not show it itself."""
        names = self.resource.key_fields
        return {**dict(zip(names, self.within, strict=False)), **row}

    def _with_key(self, key: str, row: Any) -> Any:
        """A row that stands under its key, with the key as its member."""
        names = self.resource.key_fields
        if not isinstance(row, dict) or len(names) != 1 or names[0] in row:
            return row
        field = self.resource.field(names[0])
        return {names[0]: int(key) if field and field.type == "integer" and key.lstrip("-").isdigit() else key, **row}

    def _with_keys_beside(self, body: Any, rows: list[Row]) -> list[Row]:
        """Rows with their keys, which stand in an array beside them, as members."""
        keys = _at(body, self.resource.envelope.keys_at)
        name = self.resource.envelope.key_beside
        if not isinstance(keys, list) or len(keys) != len(rows):
            return rows
        return [{name: key, **row} for key, row in zip(keys, rows, strict=True)]

    def row_in(self, answer: Answer) -> Row | None:
        """The row that an answer shows; None where it shows none."""
        row = self.row_of(answer.json)
        return self._below(row) if row is not None and self.resource.under else row

    def row_read(self, answer: Answer) -> Row | None:
        """The row that the answer to a read by key shows; None where it shows none. Nothing else stands where the
        contract has a row then: it may lack its key, and any of its fields."""
        row, pointer = self.row_in(answer), self.resource.envelope.row
        if row is not None or pointer is None:
            return row
        bare = _at(answer.json, pointer)
        if not isinstance(bare, dict):
            return None
        flat = self.resource.layout.flat(bare)
        own = self.resource.key_fields
        is_row = {field.name for field in self.resource.fields}.issuperset(flat) and bool(flat.keys() - set(own))
        return (self._below(flat) if self.resource.under else flat) if is_row else None

    def row_of(self, body: Any) -> Row | None:
        """The row that a body shows; None where it shows none."""
        pointer = self.resource.envelope.row
        if pointer is not None:
            row = _at(body, pointer)
            if isinstance(row, list) and len(row) == 1:
                row = row[0]
            if isinstance(row, dict) and self._looks_like_row(self.resource.layout.flat(row)):
                name = self.resource.envelope.key_beside
                beside = {name: body[name]} if name and isinstance(body, dict) and name in body else {}
                return {**beside, **self.resource.layout.flat(row)}
            if self.resource.envelope.keyed and isinstance(row, dict) and len(row) == 1:
                [(key, inner)] = row.items()
                if isinstance(inner, dict) and self._looks_like_row(inner):
                    return self._with_key(key, inner)  # type: ignore[no-any-return]
        return self._row_within(body, 3)

    def absent(self, answer: Answer) -> bool:
        """Whether an answer to a read says that no row has the key."""
        if answer.status in {404, 410}:
            return True
        return self.resource.by_filter and answer.ok and self.rows_in(answer.json) == []

    def _looks_like_row(self, value: Row) -> bool:
        names = {field.name for field in self.resource.fields}
        return len(names & set(value)) >= min(2, len(names))

    def _row_within(self, value: Any, depth: int) -> Row | None:
        if isinstance(value, list) and len(value) == 1:
            value = value[0]
        if not isinstance(value, dict) or not depth:
            return None
        flat = self.resource.layout.flat(value)
        if self._looks_like_row(flat):
            return flat
        inner = [each for name, each in value.items() if name.lstrip("_@") not in _ASIDE]
        found = (self._row_within(each, depth - 1) for each in inner if isinstance(each, dict | list))
        return next((row for row in found if row is not None), None)

    def new_key(self, answer: Answer, record: Mapping[str, Any]) -> Key | None:
        """The key of a row that was just created: from the answer's body, its Location, or the record; from the record
        alone where answers were seen to give other keys than rows have."""
        if self.resource.name in self.session.wrong_keys:
            return self.key_of(record)
        row = self.row_in(answer)
        key = self.key_of(row) if row is not None else None
        key = key if key is not None else self._key_within(answer.json, 3)
        location = answer.header("location")
        if key is None and location:
            key = self.key_in_location(location)
        key = key if key is not None else self.key_alone(answer.json)
        return key if key is not None else self.key_of(record)

    def _key_within(self, value: Any, depth: int) -> Key | None:
        """The key where it stands in an answer: beside the row, inside it, or in a list of one."""
        if isinstance(value, list) and len(value) == 1:
            value = value[0]
        if not isinstance(value, dict) or not depth:
            return None
        key = self.key_of(value) or self._inserted(value)
        others = {each.name for each in self.resource.embedded} | {each.field for each in self.resource.relations}
        inside = [each for name, each in value.items() if isinstance(each, dict | list) and name not in others]
        inner = (self._key_within(each, depth - 1) for each in inside)
        return key if key is not None else next((each for each in inner if each is not None), None)

    @property
    def _only_key_field(self) -> Field | None:
        """The field of a key that has one alone."""
        names = self.resource.key_fields
        return self.resource.field(names[0]) if len(names) == 1 else None

    def key_alone(self, value: Any) -> Key | None:
        """The key where an answer is nothing else: a number, or a text that a program has made."""
        field = self._only_key_field
        if field is None or isinstance(value, bool):
            return None
        counts = isinstance(value, int) and "integer" in field.types
        made = isinstance(value, str) and "string" in field.types and _MADE_KEY.fullmatch(value) is not None
        return (value,) if counts or made else None

    def _inserted(self, answer: Mapping[str, Any]) -> Key | None:
        """The key of a new row under the name that drivers of databases give it."""
        field = self._only_key_field
        if field is None:
            return None
        for name, value in answer.items():
            kind = "integer" if isinstance(value, int) and not isinstance(value, bool) else "string"
            if normal(name) in _INSERTED and isinstance(value, int | str) and kind == field.type:
                return (value,)
        return None

    # -- whole lists -------------------------------------------------------------------------------

    async def whole_list(
        self, most: int, check: str = "", situation: str = "the whole list", asked: Asked = EVERYTHING
    ) -> Listing:
        """Read the list, or what a query leaves of it, page by page. One of over ``most`` rows is not read
        to its end. Pages that do not join since the run's rows came or went meanwhile are read once more."""
        for _ in range(_READINGS):
            begun, ended = self._writes
            listing = await read_list(self, most, check, situation, asked)
            if not listing.torn or begun == ended == self._writes[0]:
                break
        self.seen(listing)
        return listing

    @property
    def _writes(self) -> tuple[int, int]:
        return self._door.writes(self.resource.name) if self._door is not None else (0, 0)

    def seen(self, listing: Listing) -> None:
        """Take note of the rows of a list, which prove those that are the run's."""
        if self._door is not None:
            self._door.saw(self.resource.name, listing.by_key.items())

    def total_of(self, answer: Answer) -> int | None:
        """The number of all rows that a list's answer gives, in its body or a header; None where it does
        not."""
        envelope = self.resource.envelope
        total: Any = None
        if self.resource.name in self.session.page_counts and envelope.may_count_a_page:
            return None
        if envelope.total is not None:
            total = _at(answer.json, envelope.total)
        elif envelope.total_header:
            total = (answer.header(envelope.total_header) or "").rpartition("/")[2].strip()
        return int(total) if isinstance(total, int | str) and str(total).isdigit() else None


def _typed(schema: Node | None, value: Any) -> Any:
    """A value of a query as a JSON body has it: not as a text where the schema takes none."""
    types = shape_of(schema).types
    if not isinstance(value, str) or not types or "string" in types:
        return value
    try:
        return json.loads(value)
    except ValueError:
        return value


def _at(body: Any, pointer: str) -> Any:
    """What stands at a place in a body; None where nothing does."""
    try:
        return walk(body, pointer)
    except LookupError:
        return None


def _lists_in(value: Any, pointer: str, depth: int) -> Iterator[tuple[str, list[Any]]]:
    """The lists in an object and in those inside it, each with its JSON Pointer."""
    for name, each in value.items() if isinstance(value, dict) and depth else ():
        at = join(pointer, name)
        if isinstance(each, list):
            yield at, each
        yield from _lists_in(each, at, depth - 1)


def _first_rows(value: Any, depth: int) -> list[Row] | None:
    if isinstance(value, list) and all(isinstance(each, dict) for each in value):
        return value
    if isinstance(value, dict) and depth:
        for each in value.values():
            rows = _first_rows(each, depth - 1)
            if rows is not None:
                return rows
    return None
