"""One resource, put together from what the contract says of its operations: rows, fields, key, paging, queries."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, cast

from checkpost.contract.contract import Operation
from checkpost.contract.node import Node
from checkpost.model.actions import like_key, undeclared_key
from checkpost.model.address import Address, addresses_by_filter
from checkpost.model.beside import search_beside
from checkpost.model.constants import constants_of
from checkpost.model.correction import Correction
from checkpost.model.envelopes import (
    cursor_pointer,
    further_rows,
    has_links,
    keys_pointer,
    lone_member,
    most_rows,
    next_pointer,
    row_pointer,
    rows_by_key,
    rows_pointer,
    total_header,
    total_pointer,
)
from checkpost.model.field import UNDESCRIBED, Field, Reason
from checkpost.model.fields import fields_of, inside
from checkpost.model.guards import guards_of
from checkpost.model.hyperlink import Hyperlink, address_at, own_address
from checkpost.model.keys import infer_key
from checkpost.model.layout import Layout, layout_of, leaves_open, row_like
from checkpost.model.media import is_json_type, request_media_type
from checkpost.model.members import MEMBER, with_members
from checkpost.model.nearby import Nearby
from checkpost.model.operations import (
    answer_schema,
    asked_by_body,
    asked_by_fields,
    body_schema,
    line_schema,
    operations_of,
    takes_list,
    takes_patch,
    unanswerable,
)
from checkpost.model.paging import infer_paging, tokens_of
from checkpost.model.paths import Family, normal
from checkpost.model.paths import parameters as path_parameters
from checkpost.model.paths import plain as plain_path
from checkpost.model.purpose import Purpose
from checkpost.model.queries import queries_of
from checkpost.model.query_families import with_families
from checkpost.model.resource import Envelope, Key, Resource
from checkpost.model.said import said_of
from checkpost.model.shape import Shape, same_place, shape_of
from checkpost.model.spelling import Queries
from checkpost.model.unfolding import GUESSED

#: What is said of a list that holds rows drawn by chance.
_DRAWN = re.compile(r"\brandom(?:ly)?\b|\bshuffled?\b", re.I)
_WRITES: tuple[Purpose, ...] = ("create", "replace", "update")
_WHOLE: tuple[Purpose, ...] = ("list", "create")
#: What says of a schema which fields rows may have beside those named, or that none were ever stated.
_STATED = frozenset({"additionalProperties", GUESSED})
#: What may be said of a body that says nothing of what it holds.
_OF_ANYTHING = {"type", "title", "description", "additionalProperties", "example", "examples", "default", "nullable"}


def drafted(
    family: Family,
    by_path: Mapping[str, Mapping[str, Operation]],
    every: Nearby,
    correction: Correction,
    parameters: Mapping[str, Any],
    known: Node | None = None,
) -> Resource | None:
    operations = operations_of(family, by_path)
    constants = {purpose: constants_of(operation, parameters) for purpose, operation in operations.items()}
    addresses = {cast(Purpose, purpose): each for purpose, each in family.addresses.items()}
    if family.item is not None:
        twice = {each: undeclared_key(operation, constants[each].lacking) for each, operation in operations.items()}
        addresses |= {purpose: each for purpose, each in twice.items() if each is not None}
    lacking = {purpose: set(each.lacking) - _own(addresses.get(purpose)) for purpose, each in constants.items()}
    if family.item is None:
        # what may take the key: whether it does is told further down
        lacking = {
            purpose: {each for each in names if not like_key(each, family.name)} for purpose, names in lacking.items()
        }
    operations = {purpose: each for purpose, each in operations.items() if not lacking[purpose]}
    if "list" in operations and unanswerable(operations["list"]):
        operations.pop("list")
    listing, in_body = asked_by_body(operations.get("list"))
    listed = answer_schema(listing)
    line = line_schema(listing)
    rows = ("", line) if line is not None else rows_pointer(listed, family.name)
    rows_too = further_rows(listed, family.name, rows[0]) if rows and correction.rows is None else ()
    keyed = rows_by_key(listed) if rows is None or not shape_of(rows[1]).properties else None
    rows = keyed or rows
    if correction.rows is not None:
        rows = correction.rows, inside(listed, correction.rows)
    stated = correction.collection or correction.item or correction.rows
    if not operations or set(operations) == {"create"}:
        return None
    word = (family.collection or "").rstrip("/").rpartition("/")[2]
    drawn = listing is not None and _DRAWN.search(f"{word} {listing.summary} {listing.description}")
    if (word.startswith("_") or drawn) and family.item is None and set(operations) == {"list"} and not stated:
        return None  # what is told of a table, and none of its rows; or some of them, others each time
    if rows is None and not {"read", "delete"} & set(operations) and not stated:
        return None  # a path that answers with no rows and has no items is no table, be it one that can be changed
    row_schema = rows[1] if rows else None
    if known is not None and not shape_of(row_schema).properties:
        row_schema = known
    document = inside(body_schema(operations.get("create")), "/data")
    if row_schema is not None and leaves_open(row_schema):
        row_schema = row_like(document, family.name) or row_schema
    names = frozenset(shape_of(row_schema).properties)
    read_schema = answer_schema(operations.get("read"))
    if not names:
        bodies = [body_schema(operations.get(each)) for each in _WRITES]
        names = next((found for body in bodies if (found := frozenset(shape_of(body).properties))), frozenset())
        if same_place(listed, read_schema):
            read_schema = None  # it is said of every answer, whatever that holds
    row_at = correction.row if correction.row is not None else row_pointer(read_schema, names, in_lists=True)
    if row_at is not None and "read" in operations:
        deep = inside(read_schema, row_at)
        more = len(shape_of(deep).properties) >= len(shape_of(row_schema).properties)
        if more and (leaves_open(row_schema) or not leaves_open(deep)):
            row_schema = deep
    layout = layout_of(
        row_schema, document, family.name, body_schema(operations.get("create")), path_parameters(family.item)
    )
    layout = replace(layout, linked={**correction.linked, **layout.linked}) if correction.linked else layout
    names = frozenset(shape_of(row_schema).properties) or names
    wrappers = {each: at for each in _WRITES if (at := _wrapper(operations.get(each), names, layout)) is not None}
    wrapper = correction.body or next(iter(wrappers.values()), "")
    wrappers = {each: at for each, at in wrappers.items() if at != wrapper and not correction.body}
    inner: dict[str, Node | None] = {
        purpose: inside(body_schema(operations[purpose]), wrappers.get(purpose, wrapper))
        for purpose in _WRITES
        if purpose in operations
    }
    changed = shape_of(inner.get("update") or inner.get("replace")).properties
    by_standard = not changed and bool(layout.type_name)  # JSON:API 1.1, 9.2
    layout = replace(layout, names_row=layout.key in changed or by_standard)
    # nothing is said of the bodies of these: what rows hold is what can be sent
    untold = [each for each in _WRITES if each in inner and _says_nothing(operations[each], inner[each])]
    described = False
    if known is not None:
        own = shape_of(known).properties.keys()
        described = bool(inner) and all(own & shape_of(node).properties.keys() for node in inner.values())
        inner = {name: node if own & shape_of(node).properties.keys() else known for name, node in inner.items()}
    if takes_patch(operations.get("update")):
        inner["update"] = inner.get("create") or row_schema
    shapes = {name: layout.shape(shape_of(node)) for name, node in {"row": row_schema, **inner}.items()}
    untold = untold if layout.plain and shapes["row"].properties else []
    shapes |= {each: _as_shown(shapes["row"], family.name, each) for each in untold}
    fields = _each_once(fields_of(shapes, correction.unique, correction.read_only))
    fields += tuple(map(_shown_alone, sorted(correction.linked.keys() - {each.name for each in fields})))
    named_by = max(((*each.query, *each.body) for each in family.addresses.values()), key=len, default=())
    own_item = family.item.removeprefix(family.collection or "") if family.under and family.item else family.item
    named_by = tuple(name.rpartition("/")[2] for name in named_by)
    key = infer_key(family.name, own_item, fields, correction.key, layout.key, named_by)
    if key is not None and key.assigned_by == "client" and layout.type_name:
        # schemas of documents serve rows and records alike, and each API takes such keys or not (JSON:API 1.1, 9.1.1)
        key = replace(key, assigned_by="either")
    if key is None and keyed is not None:
        fields, key = _keyed_by_name(family, fields, "the rows are listed under their keys")
    unsure = layout.plain and not correction.key and (key is None or key.reason.certainty == "guess")
    own_at = own_address(fields, path_parameters(own_item)) if unsure else ""
    if own_at:
        schema = _parameter_node(operations, path_parameters(own_item)[0])
        fields, key = _keyed_by_name(family, fields, f"{own_at} is the address of the row", node=schema)
        numeric = fields[0].types <= {"integer", "number"}
        link = Hyperlink(address_at(family.item or ""), numeric, fields[0].name)
        layout = replace(layout, hyperlinks={own_at: link})
    keys_at = keys_pointer(listed) if key is None and keyed is None and rows is not None else ""
    key_beside = _key_beside(read_schema, row_at) if keys_at else ""
    if key_beside and "read" in operations:
        fields, key = _keyed_by_name(family, fields, "the keys of rows are beside them", key_beside)
    if correction.shown_key is not None and (key is None or key.reason.certainty == "guess"):
        name, kind = correction.shown_key
        why = "rows show it, and one is read by it"
        described = any(each.name == name for each in fields)
        key = infer_key(family.name, own_item, fields, [name]) if described else None
        if key is not None:
            key = replace(key, reason=Reason(why, "stated"))
        else:
            fields, key = _keyed_by_name(family, fields, why, name, kind)
    if key is None and correction.telling and set(correction.telling) <= {each.name for each in fields}:
        key = Key(correction.telling, (), "server", Reason("each row of its list has another one", "guess"))
    if key is not None and len(key.fields) == 1:
        fields = tuple(_as_key(each, key) for each in fields)
    next_at = correction.next or next_pointer(listed)
    guards = guards_of(operations, {purpose: shapes[purpose] for purpose in inner})
    if guards.version:
        # it says which row is meant, and sets nothing
        fields = tuple(
            replace(each, created=False, updated=False, replaced=False, required=False)
            if each.name == guards.version
            else each
            for each in fields
        )
    if not layout.plain or any(each.body for each in addresses.values()):
        beside = {layout.key, *(name for each in addresses.values() for name in each.body)}
        fields = tuple(replace(each, updated=False, replaced=False) if each.name in beside else each for each in fields)
    required = {purpose: shapes[purpose].required for purpose in inner}
    asked = with_members(listing) if listing is not None else None
    if asked is not None and layout.type_name:
        asked = with_families(asked, layout.type_name, {each.name for each in fields})
    asked, further = asked_by_fields(asked, fields)
    in_body |= further
    if asked is not listing and asked is not None and operations.get("list") is listing:
        operations = {**operations, "list": asked}
    most_items = most_rows(listed, rows[0]) if rows and line is None else None
    paging = infer_paging(
        asked,
        next_at,
        cursor_pointer(listed, tokens_of(listing)),
        correction.paging,
        most_items,
        correction.shown_paging,
        {each.name for each in fields},
    )
    total = correction.total or (total_pointer(listed, rows[0]) if rows and (rows[0] or rows_too) else None)

    def understood(asked: Operation | None) -> Queries:
        return queries_of(family.collection, asked, every, fields, paging, correction.queries, family.name, total)

    queries, beside_it = understood(asked), None
    if further:
        loosely = tuple(replace(each, documented=False) for each in queries.filterings)
        queries = replace(queries, filterings=loosely)
    if family.collection and rows and listing is not None and not in_body:
        behind = every.beginning(plain_path(family.collection) + "/")
        beside_it = search_beside(family.name, listing, queries, rows, paging, behind, understood)
    if beside_it is not None:
        queries, in_body = beside_it.queries, beside_it.in_body
    if layout.bare and queries.selecting is not None and _says(asked, queries.selecting.parameter, layout.fields_at):
        queries = replace(queries, selecting=None)  # it chooses among the members of a row, and none of its fields
    if family.item is None and not family.acts:
        addresses = addresses_by_filter(operations, key.fields if key else (), fields, queries)
        operations = {each: found for each, found in operations.items() if each in addresses or each in _WHOLE}
        if "read" in addresses:
            operations["read"] = operations["list"]
            row_at = rows[0] if rows else row_at
    return Resource(
        name=family.name,
        collection=family.collection,
        item=family.item,
        operations=operations,
        fields=fields,
        key=key,
        envelope=Envelope(
            rows=rows[0] if rows else None,
            total=total,
            next=next_at,
            row=row_at,
            body=wrapper,
            reason=_envelope_reason(rows, correction, keyed is not None),
            total_header=total_header(listing),
            links=has_links(listing),
            keyed=keyed is not None,
            keys_at=keys_at if key_beside else "",
            key_beside=key_beside,
            rows_too=rows_too,
            bodies=wrappers,
        ),
        paging=paging,
        relations=(),
        row=row_schema,
        guards=guards,
        queries=queries,
        values={**{each.name: False for each in fields if each.singles_out or each.locks}, **correction.values},
        constants={purpose: each for purpose, each in constants.items() if purpose in operations},
        fields_unstated=bool(names) and not layout.holder(row_schema).keywords.keys() & _STATED,
        partial_replace="replace" in required and not required["replace"] and bool(required.get("create")),
        layout=layout,
        addresses=addresses,
        listed=frozenset(purpose for purpose in _WRITES if purpose in operations and takes_list(operations[purpose])),
        search=beside_it.operation if beside_it else None,
        searched=beside_it.parameters if beside_it else frozenset(),
        in_body=in_body,
        patched=takes_patch(operations.get("update")),
        guessed=bool(untold) or (known is not None and not described and GUESSED in shape_of(known).keywords),
        bodies_untold=tuple(untold),
        told=known if known is not None and GUESSED not in shape_of(known).keywords else None,
    )


def _says(operation: Operation | None, parameter: str, word: str) -> bool:
    """Whether a word is said of a parameter."""
    said = [said_of(each) for each in (operation.parameters if operation else ()) if each.name == parameter]
    return any(re.search(rf"\b{re.escape(word)}\b", each) for each in said)


def _says_nothing(operation: Operation, body: Node | None) -> bool:
    """Whether a contract leaves open what a body in JSON holds: it has none, or any value, or any object."""
    if body is None:
        return operation.body is None
    shape = shape_of(body)
    open_ = shape.types <= {"object", "null"} and not shape.properties and shape.keywords.keys() <= _OF_ANYTHING
    media = request_media_type(operation)
    return open_ and shape.keywords.get("additionalProperties") is not False and (not media or is_json_type(media))


def _as_shown(row: Shape, noun: str, purpose: Purpose) -> Shape:
    """The shape of a record whose body is not described: that of a row, without a key that the server gives."""
    properties = {
        name: node
        for name, node in row.properties.items()
        if not like_key(name, noun) or (normal(name) != "id" and shape_of(node).types == {"string"})
    }
    return replace(
        row, properties=properties, required=frozenset() if purpose == "update" else row.required & properties.keys()
    )


def _own(address: Address | None) -> set[str]:
    """Parameters that take the key."""
    return {name.partition(MEMBER)[0] for name in address.query} if address is not None else set()


def _wrapper(operation: Operation | None, names: frozenset[str], layout: Layout) -> str | None:
    """What a record is wrapped in, where its body is an object with a member for it; None where nothing tells."""
    schema = body_schema(operation)
    if layout.bare:
        return None
    if layout.plain:
        found = row_pointer(schema, names)
        return lone_member(schema, names) if found is None and names else found
    inner = shape_of(inside(schema, "/data")).properties
    return "/data" if layout.fields_at in inner and "data" in shape_of(schema).properties else None


def _each_once(fields: tuple[Field, ...]) -> tuple[Field, ...]:
    """The fields, without what could be sent for a reference beside its key and is never shown, as ``crop`` beside
    ``crop_id``: two values for one thing may differ."""
    keys = {normal(each.name) for each in fields if each.created or each.updated}
    return tuple(
        replace(each, created=False, updated=False, replaced=False)
        if f"{normal(each.name)}id" in keys and not each.shown and not each.required
        else each
        for each in fields
    )


def _as_key(each: Field, key: Key) -> Field:
    """A field, unique where it is the key; one of the key's name but for its signs, as ``id`` is beside ``_id``, is the
    key once more, and set by whatever sets that; so is ``id`` beside a key of another name, if it need not be sent."""
    if each.name == key.fields[0]:
        return replace(each, unique=True)
    again = normal(each.name) == normal(key.fields[0]) or (normal(each.name) in {"id", "pk"} and not each.required)
    return replace(each, created=False, updated=False, replaced=False, required=False) if again else each


def _keyed_by_name(
    family: Family, fields: tuple[Field, ...], why: str, name: str = "", kind: str = "", node: Node | None = None
) -> tuple[tuple[Field, ...], Key]:
    """The key of rows that do not hold it themselves, and the field that it is put into: one of the path's name, if no
    other is given; one of a ``kind`` that rows show and the contract does not describe."""
    names = path_parameters(family.item)
    name = name or (names[-1] if names else "key")
    own = Field(
        name,
        {UNDESCRIBED: True} if kind else {},
        shape_of(node).types or frozenset({kind or "string"}),
        False,
        False,
        True,
        False,
        True,
        False,
        False,
        False,
        True,
    )
    return (own, *fields), Key((name,), names, "server", Reason(why, "stated"))


def _shown_alone(name: str) -> Field:
    """A reference that rows show and the contract does not name: records may have it."""
    text = frozenset({"string"})
    return Field(name, {}, text, True, False, False, False, True, True, True, True, False)


def _parameter_node(operations: Mapping[Purpose, Operation], name: str) -> Node | None:
    """The schema of a parameter of a path."""
    every = [each for operation in operations.values() for each in operation.parameters if each.location == "path"]
    return next((each.schema for each in every if each.name == name and each.schema is not None), None)


def _key_beside(schema: Node | None, row_at: str | None) -> str:
    """The member beside a row that holds its key; "" where there is none."""
    if row_at is None or row_at.count("/") != 1:
        return ""
    members = shape_of(schema).properties
    return next((name for name in ("id", "key", "pk", "uuid") if name in members), "")


def _envelope_reason(rows: tuple[str, Node | None] | None, correction: Correction, keyed: bool) -> Reason:
    if keyed:
        return Reason("the list's schema has rows as members of an object, by their keys", "likely")
    if correction.rows is not None:
        return Reason("the profile says so", "stated")
    if rows is None:
        return Reason("the list's schema shows no array of rows", "guess")
    if rows[0] == "":
        return Reason("the list answers with an array", "stated")
    return Reason(f"the list's schema has an array of rows at {rows[0]}", "likely")
