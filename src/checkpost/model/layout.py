"""How the fields of a row stand in bodies: as its members, or inside one of them beside its key."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any
from urllib.parse import quote

from checkpost.contract.node import Node
from checkpost.model.hyperlink import Hyperlink
from checkpost.model.paths import normal, singular
from checkpost.model.shape import Shape, shape_of

Row = dict[str, Any]

#: Members that hold a row's fields, and those that may stand beside them.
_INSIDE = ("attributes", "fields", "columns", "record")
_BESIDE = {
    *("id", "key", "type", "kind", "object", "links", "_links", "meta", "relationships", "href", "self", "url"),
    *("createdtime", "created", "createdat", "updated", "updatedat", "version", "rev", "etag", "uuid"),
}
_LINKED, _DOCUMENT = "relationships", "attributes"
#: What a GeoJSON feature says of its type.
_FEATURE = "Feature"


@dataclass(frozen=True)
class Layout:
    """``fields_at`` is the member that holds the fields ("" where they are the row's own members), ``key`` the one
    beside it that holds the key, ``type_name`` what its ``type`` says. ``linked`` maps references that stand under
    ``relationships`` (JSON:API 1.1, 7.2.2) to what their ``type`` says."""

    fields_at: str = ""
    key: str = ""
    type_name: str = ""
    linked: Mapping[str, str] = field(default_factory=dict)
    #: Whether the body of a change names the row once more.
    names_row: bool = False
    #: The member beside the fields that holds the key's ("" where the key is beside them itself), and whether a body
    #: that writes holds a record alone.
    key_in: str = ""
    bare: bool = False
    #: Fields that stand beside the others: a feature's geometry (RFC 7946, 3.2).
    beside: tuple[str, ...] = ()
    #: Fields that hold addresses where others have keys.
    hyperlinks: Mapping[str, Hyperlink] = field(default_factory=dict)

    @property
    def plain(self) -> bool:
        return not self.fields_at

    def holder(self, schema: Node | None) -> Shape:
        """The schema of what holds the fields in a row of this schema."""
        row = shape_of(schema)
        return row if self.plain else shape_of(row.properties.get(self.fields_at))

    def _keyed(self, row: Row) -> Row:
        """What of a row of a body holds its key."""
        holder = row.get(self.key_in) if self.key_in else row
        return holder if isinstance(holder, dict) else row

    def flat(self, row: Row) -> Row:
        """A row of a body with its key and fields as members."""
        if self.hyperlinks:
            return self._with_keys(row)
        inside = row.get(self.fields_at) if self.fields_at else None
        keyed = self._keyed(row)
        if not isinstance(inside, dict):
            return row if self.plain or self.key not in keyed else {self.key: keyed[self.key]}
        # a field of the key's name does not take its place
        found = {**inside, self.key: keyed[self.key]} if self.key in keyed else dict(inside)
        found |= {name: row[name] for name in self.beside if name in row}
        for name, data in identifiers_in(row) if self.linked else ():
            if name in self.linked and (data is None or isinstance(data, dict)):
                found[name] = data.get("id") if data else None
        return found

    def _with_keys(self, row: Row) -> Row:
        """A row with keys in the place of addresses."""
        found = dict(row)
        for name, link in self.hyperlinks.items():
            if name not in row:
                continue
            if not link.own:
                found[name] = link.key_in(row[name])
            elif link.own not in row:
                found[link.own] = link.key_in(row[name])
        return found

    def shaped(self, record: Mapping[str, Any], key: Any = None) -> Row:
        """A record as a body has it; ``key`` is that of the row it changes."""
        if self.plain or self.bare:
            sent = {name: value for name, value in record.items() if self.plain or name != self.key}
            return sent | {name: each.of(sent[name]) for name, each in self.hyperlinks.items() if name in sent}
        body: Row = {"type": self.type_name} if self.type_name else {}
        key = record.get(self.key) if key is None or not self.names_row else key
        if key is not None:
            # the keys of documents are texts, whatever rows show (JSON:API 1.1, 7.2)
            body[self.key] = str(key) if self.fields_at == _DOCUMENT and isinstance(key, int) else key
        apart = {self.key, *self.linked, *self.beside}
        body |= {name: record[name] for name in self.beside if name in record}
        body[self.fields_at] = {name: value for name, value in record.items() if name not in apart}
        links = {name: _link(self.linked[name], record[name]) for name in self.linked if name in record}
        if links:
            body[_LINKED] = links
        return body

    def kinds_in(self, row: Row) -> dict[str, str]:
        """What a row of a body says of its own type (under "") and of those of rows that it refers to, by name; and how
        it writes addresses."""
        found = {"": row["type"]} if self.type_name and isinstance(row.get("type"), str) else {}
        found |= {
            name: each.like(row[name]) for name, each in self.hyperlinks.items() if isinstance(row.get(name), str)
        }
        for name, data in identifiers_in(row):
            if name in self.linked and isinstance(data, dict) and isinstance(data.get("type"), str):
                found[name] = data["type"]
        return found

    def links_untold(self, rows: Sequence[Row]) -> dict[str, str]:
        """The references to one row that rows of a body show and the contract does not name, and the types of the rows
        that they lead to."""
        held: dict[str, list[Any]] = {}
        for row in rows if self.fields_at == _DOCUMENT and self.type_name and not self.linked else ():
            for name, data in identifiers_in(row):
                held.setdefault(name, []).append(data)
        found: dict[str, str] = {}
        for name, values in held.items():
            kinds = [str(each.get("type", "")) if isinstance(each, dict) else "" for each in values if each is not None]
            if kinds and kinds[0] and len(set(kinds)) == 1:
                found[name] = kinds[0]
        return found

    def with_kinds(self, kinds: Mapping[str, str]) -> Layout:
        """The layout with the types that rows have shown, over what the contract leaves open."""
        own = kinds.get("", self.type_name) if self.type_name else ""
        linked = {name: kinds.get(name, kind) for name, kind in self.linked.items()}
        hyper = {name: replace(each, address=kinds.get(name, each.address)) for name, each in self.hyperlinks.items()}
        return replace(self, type_name=own, linked=linked, hyperlinks=hyper)

    def shape(self, shape: Shape) -> Shape:
        """The shape of a row, or of a record, with its key and fields as members."""
        if self.plain or self.fields_at not in shape.properties:
            return shape
        inside = shape_of(shape.properties[self.fields_at])
        properties: dict[str, Node] = {}
        keyed = shape_of(shape.properties.get(self.key_in)) if self.key_in else shape
        if self.key in keyed.properties:
            properties[self.key] = keyed.properties[self.key]
        properties |= {name: node for name, node in inside.properties.items() if not self.bare or name != self.key}
        properties |= {name: shape.properties[name] for name in self.beside if name in shape.properties}
        links = shape_of(shape.properties.get(_LINKED)).properties
        properties |= {name: _identifier(links[name]) or links[name] for name in self.linked if name in links}
        required = inside.required | ({self.key, *self.beside} & shape.required)
        required |= shape_of(shape.properties.get(_LINKED)).required & set(self.linked)
        return Shape(inside.keywords, frozenset({"object"}), False, properties, frozenset(required), None)


PLAIN = Layout()


def identifiers_in(row: Row) -> Iterator[tuple[str, Any]]:
    """The relationships of a row of a body, by name, each with its ``data``: one identifier, None or a list of them
    (JSON:API 1.1, 7.2.2); an empty tuple where it says none."""
    links = row.get(_LINKED)
    for name, link in links.items() if isinstance(links, dict) else ():
        yield name, link.get("data", ()) if isinstance(link, dict) else ()


def _link(kind: str, value: Any) -> Row:
    return {"data": None if value is None else {"type": kind, "id": str(value)}}


def layout_of(
    row: Node | None, body: Node | None, name: str, record: Node | None = None, item: Sequence[str] = ()
) -> Layout:
    """How the fields of a resource stand in its rows, told from the schema of one (``body`` is that of a document,
    ``record`` of what a create takes, ``item`` what the path of one row names its key)."""
    shape = shape_of(row)
    if _is_feature(shape):
        return Layout("properties", "id", _FEATURE, beside=("geometry",))
    for member in _INSIDE:
        inner = shape_of(shape.properties.get(member))
        beside = {normal(each) for each in shape.properties if each != member}
        key = next((each for each in ("id", "key", "_id", "uuid") if each in shape.properties), "")
        if not inner.properties or not key or beside - _BESIDE:
            continue
        if member != _DOCUMENT and "type" in beside and not _kind_of(shape.properties["type"]):
            continue  # a table with a column called so, among others
        links = shape_of(shape.properties.get(_LINKED)).properties if member == _DOCUMENT else {}
        linked = {each: kind for each, node in links.items() if (kind := _kind_of(_identifier(node, "type")))}
        untold = {each for each, node in links.items() if _identifier(node) is not None and each not in linked}
        linked |= {each: each for each in untold}
        has_type = "type" in shape.properties or "type" in shape_of(body).properties
        kind = _kind_of(shape.properties.get("type")) or _kind_of(shape_of(body).properties.get("type"))
        return Layout(member, key, (kind or name) if has_type else "", linked)
    return _beside_what_is_told_of_it(shape, shape_of(record), item)


def _is_feature(shape: Shape) -> bool:
    """Whether an object is a GeoJSON feature with a key (RFC 7946, 3.2)."""
    members = shape.properties
    if not {"type", "id", "geometry", "properties"} <= members.keys() or not shape_of(members["properties"]).properties:
        return False
    return _kind_of(members["type"]) in {"", _FEATURE}


def _beside_what_is_told_of_it(row: Shape, record: Shape, item: Sequence[str]) -> Layout:
    """The layout of rows that hold the record which a create takes in one member, and in others what is told of it, its
    key among that: ``{"data": {...}, "meta": {"id": 5}}``."""
    sent = record.properties.keys()
    if not sent or sent & row.properties.keys():
        return PLAIN
    inner = {name: shape_of(node).properties.keys() for name, node in row.properties.items()}
    holding = [name for name, names in inner.items() if sent <= names and 2 * len(sent) >= len(names)]
    if len(holding) != 1:
        return PLAIN
    wanted = {"id", "uuid", "key", *map(normal, item)}
    beside = [("", row.properties.keys()), *((name, names) for name, names in inner.items() if name not in holding)]
    for place, names in beside:
        for name in sorted(names, key=lambda each: normal(each) not in set(map(normal, item))):
            if normal(name) in wanted:
                return Layout(holding[0], name, key_in=place, bare=True)
    return PLAIN


def leaves_open(row: Node | None) -> bool:
    """Whether the schema of a row does not say which fields it has: itself, or a document's attributes."""
    members = shape_of(row).properties
    inside = members.get(_DOCUMENT)
    return not members or (inside is not None and "type" in members and not shape_of(inside).properties)


def row_like(record: Node | None, name: str) -> Node | None:
    """The schema of rows that are as a record is, where the contract leaves rows open: a document with a key beside its
    fields (JSON:API 1.1, 7.2). None where the record is no such document."""
    shape = shape_of(record)
    inside = shape.properties.get(_DOCUMENT)
    if record is None or inside is None or not shape_of(inside).properties or "type" not in shape.properties:
        return None
    kept = {each: shape.properties[each] for each in ("type", _DOCUMENT, _LINKED) if each in shape.properties}
    properties = {"id": {"type": "string"}, **{each: {"$ref": node.uri} for each, node in kept.items()}}
    location = f"row:/{quote(name, safe='')}"
    record.library.documents[location] = {"type": "object", "properties": properties, "required": ["id", "type"]}
    record.library.texts.setdefault(location, "")
    return record.library.root(location)


def _identifier(link: Node, member: str = "id") -> Node | None:
    """The schema of a member of the one identifier that a relationship holds; None where it holds many."""
    data = shape_of(shape_of(link).properties.get("data"))
    return None if data.is_array and not data.properties else data.properties.get(member)


def _kind_of(node: Node | None) -> str:
    """The only text that a schema allows, or the one that it gives as its example."""
    words = shape_of(node).keywords
    choices = words.get("enum") or []
    stated = [words.get("const"), choices[0] if len(choices) == 1 else None, words.get("default"), words.get("example")]
    return next((each for each in stated if isinstance(each, str)), "")


def of_kind(kind: str, names: Mapping[str, Layout]) -> str | None:
    """The resource whose rows say that they are of a type."""
    for name, layout in names.items():
        if layout.type_name == kind:
            return name
    alike = [name for name in names if normal(singular(name)) == normal(singular(kind))]
    return alike[0] if len(alike) == 1 else None
