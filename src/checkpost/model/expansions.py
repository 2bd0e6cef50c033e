"""Rows inside rows: what is shown along with a row, and what can be made along with it."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace

from checkpost.contract.contract import Parameter
from checkpost.contract.node import Node, Unresolved
from checkpost.model.choices import choices_of, joined_by
from checkpost.model.field import Field, Reason
from checkpost.model.paths import normal, singular
from checkpost.model.relation import Expanded, Expansion
from checkpost.model.resource import Resource
from checkpost.model.said import said_of
from checkpost.model.shape import alternatives, shape_of

_WORDS = (
    "expand", "expands", "expansion", "include", "includes", "embed", "embeds", "with", "populate", "preload",
    "relations", "related", "includerelated", "withrelated", "withrelations", "join", "joins", "resolve", "load",
)  # fmt: skip
#: More fields than this, and a table has a meaning of its own.
_MOST_BETWEEN = 5
#: The end of a reference's name that says that it is a key.
_KEYED = re.compile(r"(?:_?(?:id|fk|key|uuid)|I[dD]|Key)$")
_ENDINGS = ("id", "key", "uuid", "ref", "code", "fk", "number")


def with_expansions(resource: Resource, others: Mapping[str, Resource]) -> Resource:
    """The resource with the members of its rows and records that hold other rows told apart from its fields."""
    parameters = _parameters(resource)
    shape = shape_of(resource.row)
    references = {each.field for each in resource.relations}
    embedded, nested = [], []
    for field in resource.fields:
        found = _member(field, resource, others)
        key = field.name in references and _may_be_key(field)  # the row is there only where that is asked for
        if found is None or (key and (field.created or not parameters)):
            continue
        if field.name in shape.properties and not field.created:
            always = (not parameters or field.name in shape.required) and not _may_be_key(field)
            embedded.append(replace(found, always=always))
        elif field.created and not field.required and found.via is not None and found.through is None and found.many:
            nested.append(found)
    expansion = _expansion(resource, parameters, others)
    apart = {each.name for each in (*embedded, *nested)}
    if expansion is not None:
        known = {each.name for each in embedded}
        for name in expansion.choices:
            if name not in known and "." not in name and "/" not in name:
                embedded += _by_name(name, resource, others)
        embedded += [] if expansion.choices else _guessed(known, resource, others)
    # the reference of an expansion's name is a field beside it
    apart |= {each.name for each in embedded} - references
    fields = tuple(each for each in resource.fields if each.name not in apart)
    return replace(resource, fields=fields, expansion=expansion, embedded=tuple(embedded), nested=tuple(nested))


def _may_be_key(field: Field) -> bool:
    """Whether a member that may hold a row may as well hold that row's key alone."""
    return any(shape_of(each).types & {"string", "integer"} for each in alternatives(field.node))


def _parameters(resource: Resource) -> dict[str, Parameter]:
    """The parameter that asks for related rows, by the operation that takes it."""
    found = {}
    for purpose in ("list", "read"):
        operation = resource.operations.get(purpose)
        for each in operation.parameters if operation else ():
            plain = not shape_of(each.schema).types & {"integer", "number", "boolean"}
            if each.location == "query" and normal(each.name) in _WORDS and plain:
                found[purpose] = each
    return found


def _expansion(
    resource: Resource, parameters: Mapping[str, Parameter], others: Mapping[str, Resource]
) -> Expansion | None:
    if not parameters:
        return None
    parameter = next(iter(parameters.values()))
    choices = tuple(choices_of(parameter)) or _choices_said(parameter, resource, others)
    why = Reason(f"{parameter.name} takes names of what belongs to a row", "stated" if choices else "likely")
    return Expansion(parameter.name, joined_by(parameter), choices, tuple(parameters), why)


def _choices_said(parameter: Parameter, resource: Resource, others: Mapping[str, Resource]) -> tuple[str, ...]:
    """The names of what belongs to a row that words give as code, or as a list behind a colon."""
    said = said_of(parameter)
    listed = re.search(r":\s*([\w-]+(?:\s*(?:,|\bor\b|\band\b)\s*[\w-]+)*)\s*\.?\s*$", said)
    words = [*re.findall(r"[`'\"]([\w-]+)[`'\"]", said), *(re.findall(r"[\w-]+", listed[1]) if listed else ())]
    known = {each for other in others.values() for each in _names(other)}
    known |= {stem(each.field) for each in resource.relations}
    return tuple(dict.fromkeys(word for word in words if normal(word) in known))


def stem(name: str) -> str:
    """The name of a reference without what says that it is a key: ``species_id`` refers to a ``species``."""
    plain = normal(name)
    for ending in _ENDINGS:
        if plain.endswith(ending) and len(plain) > len(ending):
            return plain[: -len(ending)]
    return plain


def _names(resource: Resource) -> set[str]:
    return {normal(resource.name), normal(singular(resource.name))}


def _member(field: Field, resource: Resource, others: Mapping[str, Resource]) -> Expanded | None:
    """What a member of a row or record holds, if it is rows of another resource."""
    shape = shape_of(field.node)
    many = shape.is_array and shape.item is not None
    inside = shape.item if many else field.node
    if not shape_of(inside).properties:
        return None
    for other in others.values():
        if _same_schema(inside, other.row):
            return _related(field.name, many, resource, other, others, f"its schema is that of rows of {other.name}")
        if _alike(field.name, inside, other, resource):
            found = _related(field.name, many, resource, other, others, "")
            return replace(found, reason=Reason(f"it has fields of {other.name}, and a name for them", "guess"))
    return None


def _by_name(name: str, resource: Resource, others: Mapping[str, Resource]) -> Iterator[Expanded]:
    """What a name that can be expanded stands for, where the schema of rows does not tell."""
    for relation in [each for each in resource.relations if each.resource in others]:
        if stem(relation.field) == normal(name) or normal(name) in _names(others[relation.resource]):
            found = _related(
                name, False, resource, others[relation.resource], others, "the name is that of a reference"
            )
            yield replace(found, via=relation.field)
            return
    for other in others.values():
        if normal(name) in _names(other) and other is not resource:
            found = _related(name, True, resource, other, others, f"the name is that of {other.name}")
            if found.via is not None:
                yield found
            return


def _guessed(known: Collection[str], resource: Resource, others: Mapping[str, Resource]) -> Iterator[Expanded]:
    """What a parameter for expansions may take whose names nothing tells: the names of references."""
    for relation in resource.relations:
        name = _KEYED.sub("", relation.field) or relation.field
        if name not in known and relation.resource in others:
            reason = Reason(f"{relation.field} refers to {relation.resource}", "guess")
            yield Expanded(name, relation.resource, False, relation.field, None, None, False, reason)


def _alternative(node: Node | None) -> Node | None:
    """What a node refers to; of alternatives, the only one beside null."""
    if node is None:
        return None
    try:
        node = node.resolved()
        for word in ("oneOf", "anyOf", "allOf"):
            if isinstance(node.raw(word), list):
                parts = [each for _, each in node.child(word).children() if each.raw("type") != "null"]
                return _alternative(parts[0]) if len(parts) == 1 else node
    except Unresolved:
        return None
    return node


def _same_schema(node: Node | None, row: Node | None) -> bool:
    one, other = _alternative(node), _alternative(row)
    return one is not None and other is not None and bool(one.pointer) and one.uri == other.uri


def _alike(name: str, node: Node | None, other: Resource, resource: Resource) -> bool:
    """Whether an object has the name of another resource, or of a reference to it, and mostly its fields."""
    members = set(shape_of(node).properties)
    shared = members & {each.name for each in other.fields}
    called = normal(name) in _names(other) or any(
        each.resource == other.name and stem(each.field) == normal(name) for each in resource.relations
    )
    return called and len(shared) >= min(2, len(members)) and 2 * len(shared) >= len(members)


def _related(
    name: str, many: bool, resource: Resource, other: Resource, others: Mapping[str, Resource], why: str
) -> Expanded:
    via, through, far = connection(resource, other, others, name) if many else (_own(resource, other, name), None, None)
    return Expanded(name, other.name, many, via, through, far, False, Reason(why, "likely"))


def _own(resource: Resource, other: Resource, name: str) -> str | None:
    """The field of a row that refers to the one row."""
    fields = [each.field for each in resource.relations if each.resource == other.name]
    named = [each for each in fields if stem(each) == normal(name)]
    return (named or (fields if len(fields) == 1 else [None]))[0]  # type: ignore[list-item]


def connection(
    resource: Resource, other: Resource, others: Mapping[str, Resource], name: str = ""
) -> tuple[str | None, str | None, str | None]:
    """How many rows of another resource belong to a row: by their field, or through a resource between."""
    fields = [each.field for each in other.relations if each.resource == resource.name]
    named = [each for each in fields if stem(each) in _names(resource)]
    if len(fields) == 1 or len(named) == 1:
        return (named or fields)[0], None, None
    if fields:
        return None, None, None
    through = [
        (between.name, near[0], far[0], {near[0], far[0]} == set(between.key_fields))
        for between in others.values()
        if between is not resource and between is not other
        for near in [[each.field for each in between.relations if each.resource == resource.name]]
        for far in [[each.field for each in between.relations if each.resource == other.name]]
        if len(near) == len(far) == 1
    ]
    # a table that does nothing but bring the two together, or at least the only one that does it at all
    surest = [each for each in through if each[3]] or (through if len(through) == 1 else [])
    if len(surest) == 1 and (surest[0][3] or len(others[surest[0][0]].fields) <= _MOST_BETWEEN):
        between, near_field, far_field, _ = surest[0]
        return near_field, between, far_field
    return None, None, None
