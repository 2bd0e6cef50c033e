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
from checkpost.checks.state import State
from checkpost.contract.contract import Contract, Operation
from checkpost.contract.validators import Validators
from checkpost.findings import Finding, Findings
from checkpost.model.access import Access
from checkpost.model.field import Field
from checkpost.model.members import asked_for
from checkpost.model.paths import nameless, plain
from checkpost.model.precedence import stands_on
from checkpost.model.purpose import Purpose
from checkpost.model.resource import Constants, Model, Resource
from checkpost.profile.credentials import Role
from checkpost.rows.journal import Entry
from checkpost.rows.ledger import Ledger
from checkpost.rows.table import Harm
from checkpost.values.coined import has_mark
from checkpost.values.plain import Values
from checkpost.wire.client import Client
from checkpost.wire.exchange import Exchange, Request
from checkpost.wire.listing import Key
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
