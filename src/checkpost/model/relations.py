"""Which fields hold keys of other resources."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

from checkpost.contract.node import Node, Unresolved
from checkpost.model.field import Field, Reason
from checkpost.model.hyperlink import Hyperlink, address_at, holds_address
from checkpost.model.layout import of_kind
from checkpost.model.paths import normal, singular
from checkpost.model.relation import Relation
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of

_SAID = re.compile(
    r"(?:foreign key(?: (?:to|of|for|into|in))?|refers? to|references?|points? to|belongs to)\b"
    r"(?:(?!\.\s)[^A-Za-z0-9_])*(?:the |a |an )?"
    r"[`'\"<(\[]*(\w[\w-]*)(?:[`'\"]?[.(]\s*[`'\"]?(\w+))?",
    re.I,
)
#: What may follow a resource's name in the name of a field that refers to it.
_SUFFIXES = ("id", "key", "uuid", "ref")
#: Types of values that are no key; an object may show the whole row.
_NO_KEYS = {"array", "boolean", "null"}


@dataclass(frozen=True)
class Directory:
    """Resources by their names, singular too, and by the names of their keys, as ``normal`` has them: each list in the
    order of the contract."""

    by_name: Mapping[str, Sequence[str]]
    by_key: Mapping[tuple[str, ...], Sequence[str]]
    #: The resource whose rows a schema describes, by where it stands.
    by_row: Mapping[str, str]
    places: Mapping[str, int]
    #: Those whose names are paths, by the last word of each.
    by_last: Mapping[str, Sequence[str]]
    #: What all names begin with, such as that of the program that has the tables.
    head: str = ""

    def beginning(self, name: str) -> list[str]:
        """The resources with whose name a name begins."""
        return self._beginning(name, self.by_name)

    def ending(self, name: str) -> list[str]:
        """The resources with the last word of whose path a name begins."""
        return self._beginning(name, self.by_last)

    def _beginning(self, name: str, among: Mapping[str, Sequence[str]]) -> list[str]:
        heads = (among.get(name[:end], ()) for end in range(1, len(name) + 1))
        return sorted({each for found in heads for each in found}, key=self.places.__getitem__)


def directory_of(resources: Mapping[str, Resource]) -> Directory:
    by_name: dict[str, list[str]] = {}
    by_key: dict[tuple[str, ...], list[str]] = {}
    head = _head_of(list(resources))
    for name, resource in resources.items():
        for each in _names(resource, head):
            by_name.setdefault(each, []).append(name)
        if resource.key is not None:
            by_key.setdefault(tuple(map(normal, resource.key.fields)), []).append(name)
    by_last: dict[str, list[str]] = {}
    for name, resource in resources.items():
        for each in _last_words(resource):
            by_last.setdefault(each, []).append(name)
    by_row: dict[str, str] = {}
    for name, resource in resources.items():
        by_row.setdefault(_stands_at(resource.row), name)
    by_row.pop("", None)
    return Directory(by_name, by_key, by_row, {name: place for place, name in enumerate(resources)}, by_last, head)


def relations_of(
    resource: Resource,
    others: Mapping[str, Resource],
    stated: Mapping[str, str],
    directory: Directory | None = None,
    addressed: Collection[str] = (),
    numbered: Collection[str] = (),
) -> list[Relation]:
    """The to-one relations of a resource. ``stated`` maps fields to resources, as the profile has it; ``directory`` is
    that of the others; ``addressed`` fields were seen to hold addresses, and ``numbered`` ones keys."""
    directory = directory or directory_of(others)
    found = []
    for field in resource.fields:
        relation = (
            _stated(field, others, stated)
            or _typed(resource, field, others)
            or _addressed(field, others, directory, addressed)
            or _numbered(field, others, directory, numbered)
            or _described(field, others, directory)
        )
        if relation is None and not (resource.key and resource.key.fields == (field.name,)):
            relation = _named(field, others, directory) or _named_by_path(resource, field, others, directory)
            relation = relation or _above(resource, field)
            relation = relation or _shown_whole(resource, field, others, directory)
            relation = relation or _same_key(resource, field, others, directory)
        if relation is not None:
            found.append(relation)
    return found


def _stands_at(node: Node | None) -> str:
    """Where a schema stands that references lead to; "" where it leads nowhere, or is written out in its place."""
    try:
        at = node.resolved() if node is not None else None
    except Unresolved:
        return ""
    named = at is not None and re.match(r"/(?:components/schemas|definitions|\$defs)/[^/]+$", at.pointer)
    return at.uri if at is not None and named else ""


def _names(resource: Resource, head: str = "") -> set[str]:
    own = {resource.name, resource.name.removeprefix(head)} - {""}
    return {each for name in own for each in (normal(name), normal(singular(name)))}


def _last_words(resource: Resource) -> set[str]:
    """The last word of a name that is a path, in the singular too; none where rows cannot be asked for by key."""
    word = resource.name.rpartition("/")[2]
    whole = "/" in resource.name and "list" in resource.operations and "read" in resource.operations
    return {normal(word), normal(singular(word))} - {""} if whole and "{" not in word else set()


def _head_of(names: Sequence[str]) -> str:
    """The word, with the sign behind it, that all of several names begin with; empty where there is none."""
    heads = {found[0] if (found := re.match(r"[A-Za-z0-9]+[_./-](?=.)", name)) else "" for name in names}
    return heads.pop() if len(heads) == 1 and len(names) > 1 else ""


def _target(resource: Resource, field: Field, reason: Reason) -> Relation | None:
    if resource.key is None or (len(resource.key.fields) != 1 and not resource.under):
        return None
    return Relation(field.name, resource.name, resource.key.fields[-1], reason)


def _typed(resource: Resource, field: Field, others: Mapping[str, Resource]) -> Relation | None:
    """A reference whose identifier says of what type it is (JSON:API 1.1, 7.3)."""
    kind = resource.layout.linked.get(field.name)
    name = of_kind(kind, {name: each.layout for name, each in others.items()}) if kind else None
    if name is None:
        return None
    return _target(others[name], field, Reason(f"it identifies rows of the type {kind}", "stated"))


def _stated(field: Field, others: Mapping[str, Resource], stated: Mapping[str, str]) -> Relation | None:
    if field.name not in stated or stated[field.name].partition(".")[0] not in others:
        return None
    return _target(others[stated[field.name].partition(".")[0]], field, Reason("the profile says so", "stated"))


def _addressed(
    field: Field, others: Mapping[str, Resource], directory: Directory, addressed: Collection[str]
) -> Relation | None:
    """A reference that is the address of a row."""
    if not (field.created and (holds_address(field) or field.name in addressed)):
        return None
    name = normal(field.name)
    stems = [name, *(name.removesuffix(word) for word in ("url", "uri", "link", "href"))]
    for each in (others[found] for stem in stems for found in directory.by_name.get(stem, ())):
        if each.item is not None and each.key is not None and len(each.key.fields) == 1:
            why = f"its name is that of a row of {each.name}, and it holds addresses"
            return Relation(field.name, each.name, each.key.fields[0], Reason(why, "likely"))
    return None


def _numbered(
    field: Field, others: Mapping[str, Resource], directory: Directory, numbered: Collection[str]
) -> Relation | None:
    """A reference that rows show as a key, and the contract as a text."""
    found = _addressed(field, others, directory, {field.name}) if field.name in numbered else None
    why = f"its name is that of a row of {found.resource}, and rows show numbers" if found is not None else ""
    return replace(found, reason=Reason(why, "likely")) if found is not None else None


def may_be_addressed(resource: Resource, others: Mapping[str, Resource], directory: Directory) -> dict[str, Hyperlink]:
    """The fields of a resource of which the contract does not tell whether they are addresses of rows, each with those
    that it would hold: texts of no format that are named as rows are, and not as keys."""
    found = {}
    for field in resource.fields if resource.layout.plain else ():
        open_ = field.types == {"string"} and field.is_text and not holds_address(field)
        relation = _addressed(field, others, directory, {field.name}) if open_ else None
        if relation is not None:
            target = others[relation.resource]
            key = target.field(relation.target)
            numeric = key is not None and key.types <= {"integer", "number"}
            found[field.name] = Hyperlink(address_at(str(target.item)), numeric)
    return found


def with_hyperlinks(resource: Resource, others: Mapping[str, Resource], addressed: Collection[str] = ()) -> Resource:
    """A resource whose references may be addresses of rows: where they are, they are read and written as such, and are
    keys to everybody else. Those of ``addressed`` were seen to be."""
    links, fields = dict(resource.layout.hyperlinks), {each.name: each for each in resource.fields}
    for relation in resource.relations:
        field, target = fields[relation.field], others[relation.resource]
        key = target.field(relation.target)
        holds = holds_address(field) or field.name in addressed
        if not holds or key is None or target.item is None or not resource.layout.plain:
            continue
        links[field.name] = Hyperlink(address_at(target.item), key.types <= {"integer", "number"})
        words = {name: value for name, value in key.keywords.items() if name not in {"readOnly", "description"}}
        fields[field.name] = replace(field, keywords=words, types=key.types, node=key.node)
    if len(links) == len(resource.layout.hyperlinks):
        return resource
    layout = replace(resource.layout, hyperlinks=links)
    return replace(resource, layout=layout, fields=tuple(fields.values()))


def with_numbers(resource: Resource, others: Mapping[str, Resource], numbered: Collection[str]) -> Resource:
    """A resource whose references are of the type of the keys that rows were seen to show there."""
    fields = {each.name: each for each in resource.fields}
    for relation in resource.relations:
        key = others[relation.resource].field(relation.target) if relation.field in numbered else None
        if key is not None:
            fields[relation.field] = replace(fields[relation.field], keywords={"type": key.type}, types=key.types)
    return replace(resource, fields=tuple(fields.values())) if numbered else resource


def _described(field: Field, others: Mapping[str, Resource], directory: Directory) -> Relation | None:
    able = not field.types or bool(field.types - _NO_KEYS)
    match = _SAID.search(str(field.keywords.get("description", ""))) if able else None
    for name in directory.by_name.get(normal(match[1]), ())[:1] if match else ():
        why = f"its description says {match[0].replace('`', '').strip()!r}" if match else ""
        return _target(others[name], field, Reason(why, "stated"))
    return None


def _named(field: Field, others: Mapping[str, Resource], directory: Directory) -> Relation | None:
    name = normal(field.name)
    for resource in (others[each] for each in directory.beginning(name)):
        if resource.key is None or (len(resource.key.fields) != 1 and not resource.under):
            continue
        target = resource.field(resource.key.fields[-1])
        # the keys of documents are texts, whatever the column is (JSON:API 1.1, 7.2)
        text_of_number = bool(resource.layout.type_name) and field.types <= {"integer"}
        if target is not None and target.types and field.types and not (_agree(target, field) or text_of_number):
            continue
        endings = {*_SUFFIXES, normal(resource.key.fields[-1])}
        for stem in _names(resource, directory.head):
            if name.startswith(stem) and name[len(stem) :] in endings:
                why = f"its name is that of {resource.name} and a key, and the types agree"
                return _target(resource, field, Reason(why, "likely"))
            if name == stem and target is not None and _agree(target, field) and not _chosen(field):
                why = f"its name is that of a row of {resource.name}, and it has the type of its key"
                return _target(resource, field, Reason(why, "likely"))
    return None


def _named_by_path(
    own: Resource, field: Field, others: Mapping[str, Resource], directory: Directory
) -> Relation | None:
    """A reference to one of several resources whose paths end alike: that whose path has the most in common with the
    resource's own."""
    name, found = normal(field.name), []
    for resource in (others[each] for each in directory.ending(name)):
        target = resource.field(resource.key.fields[0]) if resource.key and len(resource.key.fields) == 1 else None
        rest = {name[len(word) :] for word in _last_words(resource) if name.startswith(word)}
        agree = target is not None and _agree(target, field) and not _chosen(field)
        if target is not None and ((rest & {*_SUFFIXES} and not field.types) or (rest & {*_SUFFIXES, ""} and agree)):
            found.append(resource)
    if not found:
        return None
    at = own.collection or own.item or "/"
    nearest = max(found, key=lambda each: len(posixpath.commonpath([each.collection or "/", at])))
    why = f"its name is that of a row of {nearest.name} and a key, and the types agree"
    return _target(nearest, field, Reason(why, "likely"))


def _above(own: Resource, field: Field) -> Relation | None:
    """A reference to the row of the same table that a row stands under."""
    name, key = normal(field.name), own.field(own.key.fields[-1]) if own.key is not None else None
    if not name.startswith("parent") or key is None or not _agree(key, field) or _chosen(field):
        return None
    stems = ("", *_names(own), *_last_words(own))
    if name.removeprefix("parent") not in {f"{stem}{end}" for stem in stems for end in ("", *_SUFFIXES)}:
        return None
    return _target(own, field, Reason("its name is that of a row above, and it has the type of the key", "likely"))


def _agree(key: Field, field: Field) -> bool:
    """Whether a field may hold values of a key: an ``integer`` is a ``number`` too."""
    numeric = {"integer", "number"}
    return bool(key.types & field.types or (key.types & numeric and field.types & numeric))


def _shown_whole(own: Resource, field: Field, others: Mapping[str, Resource], directory: Directory) -> Relation | None:
    """A field that shows a row of another resource as an object, told by its name or its schema, and takes a plain
    value when it is set."""
    sent = shape_of(shape_of(own.record_schema("create")).properties.get(field.name))
    shown = shape_of(own.row).properties.get(field.name)
    if not (field.type == "object" or shape_of(shown).is_object) or not field.created:
        return None
    if sent.is_object and not sent.types & {"string", "integer"}:
        return None
    described = directory.by_row.get(_stands_at(shown))
    named = directory.by_name.get(normal(field.name), ())
    for resource in (others[each] for each in (*named, *([described] if described else []))):
        if resource.key is not None and resource.name != own.name:
            why = f"it shows a row of {resource.name}, by its name or its schema, and takes its key"
            return _target(resource, field, Reason(why, "likely"))
    return None


def _chosen(field: Field) -> bool:
    """Whether a field's values are chosen from a few, or are moments: nothing that a key is."""
    return "enum" in field.keywords or "const" in field.keywords or field.format in {"date", "date-time", "time"}


#: Names of keys that many tables have.
_COMMON = frozenset({"id", "key", "code", "uuid", "guid", "name", "pk", "number", "no", "rowid", "title", "slug"})


def _same_key(own: Resource, field: Field, others: Mapping[str, Resource], directory: Directory) -> Relation | None:
    """The one other resource whose key has a field's name, where that is no name of keys in general."""
    name = normal(field.name)
    found = [others[each] for each in directory.by_key.get((name,), ()) if each != own.name]
    alone = own.key is not None and own.key.fields == (field.name,)
    if name in _COMMON or len(found) != 1 or alone:
        return None
    target = found[0].field(found[0].key.fields[0]) if found[0].key else None
    if target is None or not _agree(target, field):
        return None
    return _target(found[0], field, Reason(f"it has the name of the key of {found[0].name}", "guess"))
