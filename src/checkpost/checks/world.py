"""What all checks of a run share: the model, the wire, the ledger, and what is known of each resource."""

from __future__ import annotations

import asyncio
import json
from collections import defaultdict
from collections.abc import Mapping, Sequence
from contextvars import ContextVar
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qsl, urlsplit

from checkpost.checks.conformance.answer import conform
from checkpost.checks.conformance.fields import rows_as_told, undocumented_fields
from checkpost.checks.conformance.observation import Observation
from checkpost.checks.parents import stands_on
from checkpost.contract.contract import Contract, Operation
from checkpost.contract.validators import Validators
from checkpost.findings import Finding, Findings
from checkpost.model.access import Access
from checkpost.model.field import Field
from checkpost.model.members import asked_for
from checkpost.model.paths import nameless, plain
from checkpost.model.purpose import Purpose
from checkpost.model.resource import Constants, Model, Resource
from checkpost.model.spelling import Filtering, Sorting
from checkpost.oracle.columns import Snapshot
from checkpost.profile.credentials import Role
from checkpost.rows.journal import Entry
from checkpost.rows.ledger import Ledger
from checkpost.rows.table import Harm
from checkpost.values.coined import has_mark
from checkpost.values.plain import Values
from checkpost.values.usual import ROOM
from checkpost.wire.client import Client
from checkpost.wire.exchange import Exchange, Request
from checkpost.wire.listing import Key, Listing, Row
from checkpost.wire.session import Session

if TYPE_CHECKING:
    from checkpost.database.behind import Behind

#: The checks of answers that tell of an API which fails, be it for its load.
FAILING = frozenset({"errors.server-error", "shape.answer"})


@dataclass
class Watch:
    """What a check has asked, as operations and situations, and what the API has failed at meanwhile: it counts if it
    fails again with nothing else under way."""

    failures: list[Finding] = field(default_factory=list)
    asked: set[tuple[str, str, str]] = field(default_factory=set)


#: The watch over the check that is asked just now.
WATCH: ContextVar[Watch | None] = ContextVar("watch", default=None)


#: What stands in a row for a value that was left out.
_FILLED: tuple[Any, ...] = (None, "", 0, [], {})


@dataclass
class State:
    """What the run has found out about one resource so far."""

    before: Listing | None = None
    #: Why its list cannot be used, rows cannot be made, changed or removed; and what the role may not do.
    unusable: str = ""
    pages_broken: str = ""
    may_not_read: str = ""
    may_not_create: str = ""
    not_creatable: str = ""
    not_changeable: str = ""
    not_replaceable: str = ""
    not_removable: str = ""
    #: Held while it is tried whether rows that were not deleted can be removed for good.
    purging: asyncio.Lock = field(default_factory=asyncio.Lock)
    #: The parameter of the list by which rows that were deleted are shown: they are kept.
    kept: str = ""
    #: Why lists are not held against rows: some are there in one answer and not in another.
    ghosts: str = ""
    #: Whether every delete fails, though it is carried out: that is told once.
    deletes_fail: bool = False
    #: Whether creates are answered with a server error, though their rows are stored.
    stores_failing: bool = False
    #: Whether a create of a valid record was answered with a server error.
    create_failed: bool = False
    #: The required fields that records were made without.
    lacked: set[str] = field(default_factory=set)
    #: Fields, and how Python writes the values that changes had for them against the schema of rows.
    against: set[tuple[str, str]] = field(default_factory=set)
    #: How records are made that the API accepts: generated (""), like a row that is there ("copy" all but
    #: free texts, "copy all"), or of the required fields ("least").
    recipe: str = ""
    #: Fields whose generated values were refused, so that they are given those of rows.
    copied: set[str] = field(default_factory=set)
    #: The refusal of a record with the fields that are left out.
    refused_with: Exchange | None = None
    #: Members of rows that the contract has in no record, and that a record has to have all the same, with a value.
    wanting: dict[str, Any] = field(default_factory=dict)
    #: Fields that creates were refused for, though they need not be there: they are left out.
    left_out: set[str] = field(default_factory=set)
    #: Fields that refer to rows nobody knows of, so that they are left out; and those whose texts have no spaces, with
    #: what stands for one.
    unfilled: set[str] = field(default_factory=set)
    joined: dict[str, str] = field(default_factory=dict)
    #: Texts that have to be written as JSON, as a refusal says.
    encoded: set[str] = field(default_factory=set)
    #: Fields that are given the contract's examples; flags that are the same in all rows, since the list has no others.
    exemplary: set[str] = field(default_factory=set)
    flagged: dict[str, bool] = field(default_factory=dict)
    #: Fields that a change is refused without, though the contract does not demand them.
    wanted_beside: set[str] = field(default_factory=set)
    #: Whether a key that the client may choose has to be chosen by it.
    chooses_key: bool | None = None
    #: How many signs texts have room for at least, whatever rows have.
    room: int = ROOM
    #: Keys of rows that were made for others to refer to, and whether none can be made.
    parents: list[Any] = field(default_factory=list)
    no_parent: bool = False
    #: Whether a text of its rows can bear the run's mark, once that is known.
    markable: bool | None = None
    usual: dict[str, Field] = field(default_factory=dict)
    taken: dict[str, set[Any]] = field(default_factory=dict)
    #: Of fields that refer to others, the values with which rows could be removed again.
    released: dict[str, set[Any]] = field(default_factory=dict)
    #: The one value more that is tried at the moment, and since when (seconds of the loop's clock).
    on_trial: dict[str, tuple[Any, float]] = field(default_factory=dict)
    #: Whether a row that refers to those of others was made to see whether it could be removed, one at a time.
    tried: bool = False
    trying: asyncio.Lock = field(default_factory=asyncio.Lock)
    #: Fields that lists show otherwise than reading by key does, fields that an update does not change, and rules of
    #: records that are not enforced (field and keyword), each with the check that learnt it: it is told once, and not
    #: again by checks that build on them.
    disputed: dict[str, str] = field(default_factory=dict)
    unchangeable: dict[str, str] = field(default_factory=dict)
    unenforced: dict[tuple[str, str], str] = field(default_factory=dict)
    #: Whether rows are seen to be kept as a database does it: numbers that fit into no column, second rows with a
    #: unique value or references to nothing are turned away.
    in_columns: bool = False
    #: Whether a number was kept that no column of a database holds.
    loosely: bool = False
    #: Values of fields with which a row was not shown any more, as texts.
    unshown: dict[tuple[str, str], str] = field(default_factory=dict)
    used: set[Key] = field(default_factory=set)
    #: Whether GET, HEAD and OPTIONS were seen to leave an own row alone.
    read_safely: bool = False
    #: The key of a row that was made and deleted again.
    vacant: Key | None = None
    answers: dict[str, int] = field(default_factory=dict)
    #: Writes that were sent; what was read before one may be out of date behind it.
    writes: int = 0
    snapshot: tuple[int, Snapshot] | None = None
    #: How many rows the list takes to be asked for at once, where nothing says so; 0 for no number at all.
    page_size: int | None = None
    #: Whether others may have changed rows since the list was first read.
    outdated: bool = False
    #: Held while its list is read for all that ask; and what it was asked since, with the answers under way.
    reading: asyncio.Lock = field(default_factory=asyncio.Lock)
    replies: dict[Any, asyncio.Future[Any]] = field(default_factory=dict)
    #: How filters and sorting turned out to be spelled, and why they cannot be used.
    filtering: Filtering | None = None
    sorting: Sorting | None = None
    #: The fields by which rows can be sorted, as a refusal of another names them.
    sortable: set[str] = field(default_factory=set)
    misfiltered: set[tuple[str, str]] = field(default_factory=set)
    #: Why requests with many rows, or removals of many, are left alone.
    many_refused: str = ""
    many_kept: str = ""
    unfiltered: str = ""
    unsorted: str = ""

    @property
    def rows_before(self) -> Sequence[Row]:
        """The rows that the list showed first; none where it was not read."""
        return self.before.rows if self.before else ()

    def forget(self, check: str) -> None:
        """Go back to what was known before a check, which is asked again, and ask again what was asked."""
        for name in _LEARNT_BY.get(check, ()):
            setattr(self, name, "")
        if check == "filter.rows":
            self.misfiltered = set()
        if check == "create.stored":
            # else what was refused at first would not be sent again, and be taken for a failure by chance
            self.recipe, self.chooses_key, self.room, self.refused_with = "", None, ROOM, None
            self.copied, self.left_out, self.wanting = set(), set(), {}
            self.unfilled, self.joined, self.exemplary, self.encoded = set(), {}, set(), set()
            self.usual.clear()
        self.replies.clear()
        self.snapshot, self.outdated = None, True


#: Which check learns that something cannot be used, and where it is noted.
_LEARNT_BY = {
    "read.list": ("unusable",),
    "create.stored": ("not_creatable", "may_not_create"),
    "delete.gone": ("not_removable", "ghosts"),
    "update.each-field": ("not_changeable",),
    "replace.stored": ("not_replaceable",),
    "page.joined": ("pages_broken",),
    "filter.rows": ("unfiltered",),
    "sort.each-field": ("unsorted",),
    "bulk.create": ("many_refused",),
    "bulk.delete": ("many_kept",),
}


@dataclass
class World:
    """One run's surroundings. ``ledger`` is None for a run that may not write; ``chosen`` names the
    resources that are checked, ``mark`` is what the run's texts bear."""

    contract: Contract
    model: Model
    validators: Validators
    session: Session
    base_url: str
    roles: Mapping[str, Role]
    role: Role
    seed: int
    mark: str
    ledger: Ledger | None
    chosen: frozenset[str]
    findings: Findings = field(default_factory=Findings)
    states: dict[str, State] = field(default_factory=dict)
    exchanges: dict[int, Exchange] = field(default_factory=dict)
    exercised: set[tuple[str, str]] = field(default_factory=set)
    making_parents: asyncio.Lock = field(default_factory=asyncio.Lock)
    #: Held by the first table in which rows are made that break rules; whether any was accepted so far (None before the
    #: first table), and the kinds of breaks that made a row which the API cannot show.
    first_to_break: asyncio.Lock = field(default_factory=asyncio.Lock)
    lenient: bool | None = None
    spoiling: set[str] = field(default_factory=set)
    #: The kinds of breaks that, in a change of a row, made it one which the API cannot show.
    spoiling_changes: set[str] = field(default_factory=set)
    #: Of changes that break rules, by purpose and kind: held by the first of a kind, and those that left a row to be
    #: read; and whether one left a row that could not be mended, so that none is sent any more.
    first_changes: defaultdict[tuple[Purpose, str], asyncio.Lock] = field(
        default_factory=lambda: defaultdict(asyncio.Lock)
    )
    harmless_changes: set[tuple[Purpose, str]] = field(default_factory=set)
    unmendable: bool = False
    #: Rows of others that reading has changed, in a run that writes nothing.
    harmed: list[Harm] = field(default_factory=list)
    #: Held by a table whose rows are read for the first time, where that may change them; by the last word of its name,
    #: since two tables of one name may show the same rows.
    reading_alone: defaultdict[str, asyncio.Lock] = field(default_factory=lambda: defaultdict(asyncio.Lock))
    #: Whether a thousand rows have been sent at once already.
    large_done: bool = False
    #: How many rows are left on purpose, and those that an earlier run has left.
    held: int = 0
    #: What each role may do with each resource, and tables that are not to be reached.
    access: Access = field(default_factory=dict)
    unexposed: tuple[str, ...] = ()
    observed: dict[tuple[str, str], Any] = field(default_factory=dict)
    #: What failed once beside other requests, and not again by itself.
    overloaded: list[Finding] = field(default_factory=list)
    #: The operations that were answered without a failure, once or more, as methods and paths.
    served: set[tuple[str, str]] = field(default_factory=set)
    waiting: Sequence[Entry] = ()
    #: The row that a resource is looked at under, by the resource, where its paths stand under another's rows.
    above: dict[str, Key] = field(default_factory=dict)
    #: Fields by which rows are found in place of the documented key, by resource.
    readdressed: dict[str, str] = field(default_factory=dict)
    #: The database behind the API, where the profile names one.
    behind: Behind | None = None

    #: Pairs of tables: what writes a row of the one changes the row of the other that it refers to, or was seen not to.
    touching: set[tuple[str, str]] = field(default_factory=set)
    spared: set[tuple[str, str]] = field(default_factory=set)

    @cached_property
    def stands_on(self) -> Mapping[str, frozenset[str]]:
        return stands_on(self.model)

    @property
    def most_rows(self) -> int:
        return self.session.limits.rows

    def state(self, resource: str) -> State:
        known = self.states.get(resource)
        if known is None:
            known = self.states[resource] = State()
        return known

    def client(self, resource: Resource, role: Role | None = None) -> Client:
        """A client whose every answer is held against the contract."""

        def observe(operation: Operation, exchange: Exchange, situation: str) -> None:
            # a table that rows are only borrowed from is not judged
            if resource.name in self.chosen:
                self.observe(client, operation, exchange, situation)

        named = (role or self.role).name
        sees_all = self.role.name if named != self.role.name else ""
        within = self.within(resource)
        client = Client(self.session, self.base_url, resource, named, observe, within, sees_all, self.ledger)
        return client

    def harmful_reads(self, name: str, why: str) -> None:
        """From now on no row of others is read by its key in a table: reading one harms it."""
        self.session.harmful[name] = why

    def plain_client(self, resource: Resource, role: str = "") -> Client:
        """A client whose answers are judged by nobody: for what the run asks for its own sake."""
        named, within = role or self.role.name, self.within(resource)
        sees_all = self.role.name if named != self.role.name else ""
        return Client(self.session, self.base_url, resource, named, None, within, sees_all, self.ledger)

    def within(self, resource: Resource) -> Key:
        """The key of the row that a resource's rows are looked at under, where they stand under another's."""
        return self.above.get(resource.name, ())

    def script(self, evidence: Sequence[Exchange]) -> str:
        """The commands that show exchanges again; empty where they cannot be given."""
        from checkpost.rows.script import Deeds, script

        deeds = self.ledger.deeds if self.ledger is not None else Deeds()
        deeds.exchanges = self.exchanges

        def reach(name: str) -> Client | None:
            resource = self.model.resource(name)
            return self.plain_client(resource) if resource is not None else None

        return script(evidence, self.roles, deeds, reach)

    def view(self, parent: Resource, view: Resource, within: Key, role: str = "") -> Client:
        """A client for what stands under a row, its answers held against the contract as the parent's."""

        def observe(operation: Operation, exchange: Exchange, situation: str) -> None:
            if parent.name not in self.chosen:
                return
            # what is wrong with rows is so in every list that shows them
            shows_rows = exchange.answer.ok and operation is view.operations.get("list")
            self.observe(client, operation, exchange, situation, owner if shows_rows and owner else parent.name)

        owner = next((each.child for each in parent.subcollections if each.view is view), "")

        named = role or self.role.name
        client = Client(self.session, self.base_url, view, named, observe, within, "", self.ledger)
        return client

    @cached_property
    def templates(self) -> frozenset[str]:
        """The paths of the contract, without the names of their parameters."""
        return frozenset(nameless(plain(each.path)) for each in self.contract.operations)

    def observe(self, client: Client, operation: Operation, exchange: Exchange, situation: str, name: str = "") -> None:
        """Take an answer to a documented operation into account: its departures, and that it was exercised."""
        resource = client.resource
        self.exercised.add((operation.method, operation.path))
        name = name or resource.name
        answers = self.state(name).answers
        kind = "refusal" if exchange.answer.status >= 400 else "answer"
        answers[kind] = answers.get(kind, 0) + 1

        def broken(field_name: str, value: Any) -> bool:
            field = resource.field(field_name)
            sent = self.ledger is not None and self.ledger.has_sent(resource.name, field_name, value)
            sent = sent or (field_name in self.state(resource.name).lacked and value in _FILLED)
            # a body that is no record may be kept in a field as it was sent
            sent = sent or (exchange.request.body is not None and value == exchange.request.json)
            told = (field_name, repr(value)) in self.state(resource.name).against
            return told or (sent and (field is None or not self.valid(field, value)))

        asked = parse_qsl(urlsplit(exchange.request.url).query, keep_blank_values=True)
        if operation is resource.posted:
            asked += _members(exchange.request)
        reshaped = any(asked_for(each, asked) for each in _reshaping(resource))
        expanded = resource.expansion is not None and asked_for(resource.expansion.parameter, asked)
        observation = Observation(name, operation, exchange, situation, reshaped, broken, expanded)
        watch = WATCH.get()
        if watch is not None:
            watch.asked.add((operation.method, operation.path, situation))
        if not exchange.answer.failure and exchange.answer.status < 500:
            self.served.add((operation.method, operation.path))
        state = self.state(name)
        told = (state.deletes_fail and operation is resource.operations.get("delete")) or (
            state.stores_failing and operation is resource.operations.get("create")
        )
        for found in conform(observation, self.validators):
            if told and found.check == "errors.server-error":
                continue
            if watch is not None and found.check in FAILING:
                watch.failures.append(found)
            else:
                self.findings.add([found])
        # what brings rows together may show the one or the other
        own = any(operation is each for each in (*resource.operations.values(), resource.search))
        if self.ledger is not None and own and operation is resource.operations.get("list"):
            paging = {
                resource.paging.limit,
                resource.paging.position,
                *resource.constants.get("list", Constants()).query,
            }
            if exchange.answer.status >= 500 and {each for each, _ in asked} <= paging:
                self.ledger.list_failed(name)
        if exchange.answer.ok and own and not exchange.check.endswith(".rules"):
            listed = resource.lists_by(operation)
            one = None if listed else client.row_in(exchange.answer)
            rows = client.rows_in(exchange.answer.json) if listed else ([one] if one else None)
            self.findings.add(undocumented_fields(observation, resource, rows or ()))
            if resource.told is not None:
                self.findings.add(rows_as_told(observation, resource.told, rows or (), self.validators))

    def markable(self, resource: Resource) -> bool:
        """Whether a text of a resource's rows can bear the run's mark."""
        state = self.state(resource.name)
        if state.markable is None:
            texts = [each for each in resource.writable("create") if each.is_text and each.shown]
            free = [each for each in texts if each.name not in resource.values]
            values = Values(self.seed, self.mark, self.valid)
            state.markable = any(has_mark(str(values.plain(each)), self.mark) for each in free)
        return state.markable

    def valid(self, field: Field, value: Any) -> bool:
        """Whether the contract allows a value for a field in a request body."""
        return field.node is None or self.validators.is_valid(field.node, value, "request")


def _members(request: Request) -> list[tuple[str, str]]:
    """The members of a body that asks for rows, as parameters."""
    body = request.json
    return [(name, json.dumps(value)) for name, value in body.items()] if isinstance(body, dict) else []


def _reshaping(resource: Resource) -> set[str]:
    """The parameters that ask for rows with fewer fields, or for aggregates: such rows need not hold every field."""
    queries = resource.queries
    own = {queries.selecting.parameter} if queries.selecting else set()
    if queries.aggregating is not None and queries.aggregating.parameter:
        own.add(queries.aggregating.parameter)
    return own
