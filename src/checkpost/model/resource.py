"""What is understood of a contract. Every inference keeps its reason and how sure it is."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

from checkpost.contract.contract import Operation
from checkpost.contract.node import Node
from checkpost.contract.pointer import join
from checkpost.model.address import Address
from checkpost.model.bulk import Bulk, BulkPurpose
from checkpost.model.field import Field, Reason
from checkpost.model.fields import inside
from checkpost.model.guards import Guards
from checkpost.model.layout import PLAIN, Layout
from checkpost.model.media import record_media
from checkpost.model.paths import normal, plain
from checkpost.model.purpose import Purpose, Write
from checkpost.model.relation import Expanded, Expansion, Relation
from checkpost.model.shape import shape_of
from checkpost.model.spelling import Queries

_FORCES = re.compile(r"(?:is[-_]?)?forced?(?:[-_]?(?:delete|removal|remove))?", re.I)


@dataclass(frozen=True)
class Key:
    """The primary key, in the order in which the item path takes it."""

    fields: tuple[str, ...]
    parameters: tuple[str, ...]
    assigned_by: Literal["server", "client", "either"]
    reason: Reason


@dataclass(frozen=True)
class Envelope:
    """Where things stand in bodies, as JSON Pointers; None where nothing says so.

    ``rows``, ``total`` and ``next`` are in the list's answer, ``row`` in the answer to a read, ``body``
    is what requests are wrapped in, and ``bodies`` has those of purposes that are wrapped otherwise.
    """

    rows: str | None
    total: str | None
    next: str | None
    row: str | None
    body: str
    reason: Reason
    #: The header that gives the number of all rows, and whether a Link header (RFC 8288) is documented.
    total_header: str = ""
    links: bool = False
    #: Whether the rows are members of an object, by their keys.
    keyed: bool = False
    #: Where the keys of a list's rows stand beside them, in an array of their own (a JSON Pointer), and the member
    #: that holds the key of one row beside it.
    keys_at: str = ""
    key_beside: str = ""
    #: Further places for rows, where the list answers in one of several shapes.
    rows_too: tuple[str, ...] = ()
    bodies: Mapping[Purpose, str] = field(default_factory=dict)

    @property
    def may_count_a_page(self) -> bool:
        """Whether what may be the number of all rows may as well be that of the rows in an answer, by its name."""
        name = normal((self.total or "").rpartition("/")[2])
        return self.next is None and name in {"count", "rowcount", "recordcount"}

    def body_of(self, purpose: Purpose) -> str:
        """What the body of requests for a purpose is wrapped in."""
        return self.bodies.get(purpose, self.body)


@dataclass(frozen=True)
class Paging:
    """How the list is read whole.

    ``offset`` and ``page`` take a position (``start`` is the number of the first page), ``cursor`` the
    token that stands at ``cursor_at`` (a JSON Pointer) in the body, ``next`` follows a link in the body,
    ``link`` one in the Link header (RFC 8288), ``range`` asks with a Range header whose unit is ``unit``
    (RFC 9110, 14; "" for bare numbers). ``untold`` says that the contract describes none of it, and that it was seen to
    work.
    """

    style: Literal["offset", "page", "cursor", "next", "link", "range", "none"]
    limit: str | None = None
    position: str | None = None
    largest: int | None = None
    start: int = 1
    cursor: str | None = None
    cursor_at: str = ""
    unit: str = ""
    reason: Reason = field(default=Reason("no paging parameter is described", "likely"))
    untold: bool = False


@dataclass(frozen=True)
class Constants:
    """What every request of an operation carries since the contract requires it: query and header
    parameters with a value that the contract or the profile gives. ``lacking`` names those without one; an
    operation that lacks a value is not used."""

    query: Mapping[str, Any] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)
    lacking: tuple[str, ...] = ()


@dataclass(frozen=True)
class Resource:
    """One exposed table or view."""

    name: str
    collection: str | None
    item: str | None
    operations: Mapping[Purpose, Operation]
    fields: tuple[Field, ...]
    key: Key | None
    envelope: Envelope
    paging: Paging
    relations: tuple[Relation, ...]
    values: Mapping[str, Any] = field(default_factory=dict)
    partial_replace: bool = False
    #: Whether the contract leaves open what else a row may hold: neither ruled out nor allowed.
    fields_unstated: bool = False
    constants: Mapping[Purpose, Constants] = field(default_factory=dict)
    queries: Queries = field(default_factory=Queries)
    #: The schema of a row as answers show it.
    row: Node | None = field(default=None, repr=False, compare=False)
    subcollections: tuple[Subcollection, ...] = ()
    linkages: tuple[Linkage, ...] = ()
    expansion: Expansion | None = None
    embedded: tuple[Expanded, ...] = ()
    nested: tuple[Expanded, ...] = ()
    bulk: Mapping[BulkPurpose, Bulk] = field(default_factory=dict)
    guards: Guards = field(default_factory=Guards)
    #: How its fields stand in bodies, and how operations name a row where their paths do not.
    layout: Layout = PLAIN
    addresses: Mapping[Purpose, Address] = field(default_factory=dict)
    #: Purposes whose body is a list of records.
    listed: frozenset[Purpose] = frozenset()
    #: A search beside the list, the parameters that it alone takes, and those of either that stand in a body.
    search: Operation | None = None
    searched: frozenset[str] = frozenset()
    in_body: frozenset[str] = frozenset()
    #: The resource under whose rows its paths stand, where they stand nowhere else.
    under: str = ""
    #: Whether its fields are only what some rows have shown, so that nothing says which values they take; and the
    #: schema of its rows that the API itself gives, where the contract has none.
    guessed: bool = False
    #: The writes whose bodies the contract does not describe.
    bodies_untold: tuple[Purpose, ...] = ()
    told: Node | None = field(default=None, repr=False, compare=False)
    #: Whether its update is a patch of operations (RFC 6902).
    patched: bool = False
    #: What removes for good a row that was deleted and is kept, and what brings it back.
    purge: Operation | None = None
    restore: Operation | None = None

    @property
    def forcing(self) -> str:
        """The parameter by which a row is deleted that is else kept for what it is; "" where there is none."""
        operation = self.operations.get("delete")
        for each in operation.parameters if operation is not None else ():
            if each.location == "query" and _FORCES.fullmatch(each.name) and shape_of(each.schema).types == {"boolean"}:
                return each.name
        return ""

    @property
    def key_fields(self) -> tuple[str, ...]:
        """The fields of the primary key; none where no key is known."""
        return self.key.fields if self.key else ()

    @property
    def by_filter(self) -> bool:
        """Whether a row is what a filter of the list leaves: one that is not there is no error."""
        return any(each.filtering is not None for each in self.addresses.values())

    def picked_by_api(self, purpose: Purpose) -> bool:
        """Whether a change goes to the path of all rows, so that the API itself picks those that it reaches, by a
        filter, a parameter or a body that it may ignore."""
        address, operation, listing = (
            self.addresses.get(purpose),
            self.operations.get(purpose),
            self.operations.get("list"),
        )
        if address is None or operation is None:
            return False
        on_all = listing is not None and plain(operation.path) == plain(listing.path)
        named = bool(address.query) or (bool(address.body) and operation.method == "DELETE")
        return address.filtering is not None or (on_all and named)

    def field(self, name: str) -> Field | None:
        return next((each for each in self.fields if each.name == name), None)

    @cached_property
    def moving_others(self) -> frozenset[str]:
        """The fields with which an API may change other rows: what one row alone has true, which is sent as false and
        never as anything else, and a row's place among all, which is behind all others."""
        return frozenset(each.name for each in self.fields if each.singles_out or each.places)

    @property
    def posted(self) -> Operation | None:
        """What lists rows as its body asks for them; None where no parameter stands in a body."""
        return (self.search or self.operations.get("list")) if self.in_body else None

    def lists_by(self, operation: Operation | None) -> bool:
        """Whether an operation lists its rows."""
        return operation is not None and (operation is self.operations.get("list") or operation is self.search)

    def list_for(self, names: Iterable[str]) -> Operation:
        """The operation that lists the rows which these parameters ask for. Raises KeyError where there is no list."""
        searched = None if self.searched.isdisjoint(names) else self.search
        return searched or self.operations["list"]

    def searched_at(self, url: str) -> bool:
        """Whether a URL is that of the search beside its list."""
        word = plain(self.search.path).rpartition("/")[2] if self.search is not None else ""
        return bool(word) and plain(url.partition("?")[0]).rpartition("/")[2] == word

    @property
    def every_operation(self) -> tuple[Operation, ...]:
        """Its own operations and those on many rows and on what belongs to its rows; not its aggregates."""
        own = [*self.operations.values(), *(each.operation for each in self.bulk.values())]
        for each in self.subcollections:
            own += [*each.view.operations.values(), *each.rows.values(), *filter(None, (each.link, each.unlink))]
        for link in self.linkages:
            own += [*link.writes.values(), *filter(None, [link.read, link.related])]
        own += [each for each in (self.search, self.purge, self.restore) if each is not None]
        return tuple(dict.fromkeys(own))

    def relation(self, name: str) -> Relation | None:
        return next((each for each in self.relations if each.field == name), None)

    def writable(self, purpose: Write) -> tuple[Field, ...]:
        """The fields that a body for this purpose may set."""
        chosen = {"create": "created", "replace": "replaced", "update": "updated"}[purpose]
        return tuple(each for each in self.fields if getattr(each, chosen) and not each.read_only)

    def body_schema(self, purpose: Purpose) -> Node | None:
        """The schema of a JSON request body for this purpose, its wrapper included."""
        media = record_media((purpose == "list" and self.posted) or self.operations.get(purpose))
        return media.schema if media else None

    def record_schema(self, purpose: Purpose) -> Node | None:
        """The schema of a record for this purpose, without its wrapper; where the contract has none, the one that
        the API itself gives for rows."""
        if purpose == "update" and self.patched:
            purpose = "create"  # a patch of operations changes what a record holds, by the same rules
        place = self.envelope.body_of(purpose)
        stated = inside(
            self.body_schema(purpose),
            place if self.layout.plain or self.layout.bare else join(place, self.layout.fields_at),
        )
        learnt = self.told is not None and not shape_of(stated).properties
        return self.told if learnt else stated


@dataclass(frozen=True)
class Subcollection:
    """A path under an item that lists rows of another resource which belong to it, or shows the one.

    ``view`` is that other resource as the path shows it. ``via`` is the field by which they belong together:
    the other resource's, for ``many`` false the parent's own, and with ``through`` that resource's, whose
    field ``far`` leads to the other side. ``link`` and ``unlink`` bring two rows together and apart; ``linked_by``
    names the member of link's body that takes the other key, where the path does not. ``rows`` are the operations on
    one of the rows at a path behind this one.
    """

    path: str
    child: str
    many: bool
    via: str | None
    through: str | None
    far: str | None
    view: Resource
    link: Operation | None
    unlink: Operation | None
    linked_by: str
    reason: Reason
    rows: Mapping[Purpose, Operation] = field(default_factory=dict)


@dataclass(frozen=True)
class Linkage:
    """A path under a row for the relationship ``name`` to one row of ``child``, or to ``many`` (JSON:API 1.1, 9.5);
    None where the contract leaves that open.

    ``name`` is "" where a parameter names the relationship and the contract does not say which there are: ``within``
    fills it then, and ``related`` shows the rows themselves. ``child`` is "" where only rows tell it.
    ``read`` shows which rows those are, ``writes`` sets, adds to or takes from them, by method; ``listed`` holds the
    methods whose body is a list.
    """

    path: str
    name: str
    child: str
    many: bool | None
    read: Operation | None
    writes: Mapping[str, Operation]
    listed: frozenset[str]
    reason: Reason
    related: Operation | None = None
    within: tuple[str, ...] = ()


@dataclass(frozen=True)
class Doubt:
    """Something that the contract leaves open, and the line of the profile that settles it."""

    resource: str
    message: str
    settle: str


@dataclass(frozen=True)
class Model:
    resources: tuple[Resource, ...]
    others: tuple[tuple[Operation, str], ...]
    doubts: tuple[Doubt, ...]

    def resource(self, name: str) -> Resource | None:
        return next((each for each in self.resources if each.name == name), None)
