"""What a check gets: one resource, rows that it may touch, and ways to ask and to report."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar

from checkpost.checks.own import Own
from checkpost.checks.records import new_record
from checkpost.checks.registry import CHECKS, Blocked, Check, Skipped
from checkpost.checks.state import State
from checkpost.checks.strays import elsewhere, strays
from checkpost.checks.together import all_of
from checkpost.checks.world import WATCH, World
from checkpost.contract.contract import Operation
from checkpost.contract.errors import Place
from checkpost.contract.node import Node
from checkpost.findings import Basis, Differing, Finding, Severity, operation_name
from checkpost.model.field import Field
from checkpost.model.paths import singular
from checkpost.model.purpose import Purpose
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of
from checkpost.rows.ledger import Ledger
from checkpost.values.plain import Values
from checkpost.wire.client import Client
from checkpost.wire.door import Act, Made
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, Listing, Row, key_text

T = TypeVar("T")
#: How many keys of rows are looked at, and how long a key is that people choose, at the most.
_KEYS, _LONGEST_WORD = 20, 15
#: How a row is refused to a role that may not see it (RFC 9110, 15.5.4 and 15.5.5).
_NOT_FOR_IT = {401, 403, 404, 410}


#: How often one check is asked of one table at the most: three times, and so again where its rows have other keys.
_MOST_TURNS = 6


@dataclass
class Case:
    """One check on one resource as one role. ``remarks`` tell what part could not be looked at."""

    world: World
    resource: Resource
    check: Check
    client: Client
    requests: int = 0
    remarks: list[str] = field(default_factory=list)
    made: list[int] = field(default_factory=list)
    #: The role that is looked at, where that is another one than the run's own.
    actor: str = ""
    #: The tables for whose rows this one's are made, where it is that.
    making: tuple[str, ...] = ()
    #: The table that the check is asked of, where this is another one; and how often it was asked before.
    origin: str = ""
    turn: int = 0
    #: Tables to refer to that were listed anew since they were to be; None where they need not be.
    looked_again: set[str] | None = None
    #: What the creates were answered, by the numbers of their journal entries.
    answered: dict[int, Exchange] = field(default_factory=dict)
    #: By table, the row made for its own rows to refer to, with the case that made it; None where that is not done.
    above: dict[str, tuple[Case, Key, Row]] | None = None
    #: Whether its row is made to see whether such can be removed again.
    trying: bool = False
    #: The key that a create was answered with, where the list shows its row under another.
    misnamed: Key | None = None
    #: The sources of values of the check, which it shares with those cases that make rows for it, so that none begins
    #: with values that are taken already.
    sources: dict[int, Values] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if self.turn:
            self.look_again()

    def look_again(self) -> None:
        """List anew the tables whose rows records refer to: others may have removed some."""
        self.looked_again = set()

    @property
    def acting(self) -> Client:
        """The resource as the role that is looked at meets it."""
        return self.world.client(self.resource, self.world.roles[self.actor])

    @property
    def state(self) -> State:
        return self.world.state(self.resource.name)

    @property
    def values(self) -> Values:
        """The check's own source of values, so that those of one are the same whatever others do meanwhile."""
        world, names = self.world, [each.name for each in self.world.model.resources]
        roles, origin = ["", *world.roles], self.origin or self.resource.name
        table = 0 if origin == self.resource.name else 1 + names.index(origin)
        lane = list(CHECKS).index(self.check.name) + len(CHECKS) * (roles.index(self.actor) + len(roles) * table)
        # another turn of the same check begins a lane of its own
        turns = len(CHECKS) * len(roles) * (1 + len(names))
        if lane not in self.sources:
            first = lane + turns * self.turn
            self.sources[lane] = Values(world.seed, world.mark, world.valid, first, turns * _MOST_TURNS)
        return self.sources[lane]

    @property
    def fields(self) -> dict[str, Field]:
        return {each.name: each for each in self.resource.fields}

    @property
    def settable(self) -> list[str]:
        """The names of fields that some body may set; others may be computed anew at each reading."""
        return [each.name for each in self.resource.fields if each.created or each.updated or each.replaced]

    def known(self) -> list[Finding]:
        """What has been found of the resource so far."""
        return [each for each in self.world.findings.by_key.values() if each.resource == self.resource.name]

    def operation(self, purpose: Purpose) -> Operation:
        return self.resource.operations[purpose]

    def has(self, *purposes: Purpose) -> bool:
        return all(purpose in self.resource.operations for purpose in purposes)

    def learn(self, facts: dict[T, str], learnt: Iterable[T]) -> None:
        """Note what this check has found out, once."""
        for each in learnt:
            facts.setdefault(each, self.check.name)

    def unlearn(self) -> None:
        """Forget what this check has found out: it is asked again."""
        kinds: list[dict[Any, str]] = [self.state.disputed, self.state.unchangeable, self.state.unenforced]
        for facts in kinds:
            for each in [each for each, owner in facts.items() if owner == self.check.name]:
                del facts[each]
        if self.client.session.wrong_keys.get(self.resource.name) == self.check.name:
            del self.client.session.wrong_keys[self.resource.name]

    def remark(self, text: str) -> None:
        if text not in self.remarks:
            self.remarks.append(text)

    # -- asking ------------------------------------------------------------------------------------

    async def send(self, purpose: Purpose, situation: str, through: Client | None = None, **request: Any) -> Exchange:
        """Send an operation that creates nothing. See ``Client.send``."""
        self.requests += 1
        if purpose not in {"list", "read"}:
            self.state.writes += 1
            self.ledger  # noqa: B018 - raises Blocked where the run may not write
        key, record = request.get("key"), request.get("record")
        if purpose == "update" and key and isinstance(record, dict) and "operation" not in request:
            request["record"] = {**await self.demanded(key, record), **record}
        client = through or self.client
        exchange = await client.send(purpose, check=self.check.name, situation=situation, **request)
        if purpose in {"update", "replace"} and self.is_open(exchange):
            raise Skipped("changes are answered 202: they are carried out later, and cannot be followed")
        return exchange

    async def demanded(self, key: Key, change: Mapping[str, Any]) -> dict[str, Any]:
        """What the contract demands in every change beside what is changed: the row's own values, or new ones where no
        row has the key."""
        if self.resource.patched:
            return {}
        writable = {each.name for each in self.resource.writable("update")}
        # a schema that serves for every body demands the key in changes too: it is sent where a refusal asks for it
        demanded = shape_of(self.body_schema("update")).required & writable - set(self.resource.key_fields)
        missing = (demanded | self.state.wanted_beside) - set(change)
        # a member that refers to the table itself is the row's own key by another name
        own = {each: key[0] for each in missing if len(key) == 1 and self.is_own_key(each)}
        own |= {name: value for name, value in zip(self.resource.key_fields, key, strict=True) if name in missing}
        missing -= set(own)
        if not missing:
            return own
        row = (await self.read(key))[1] if self.has("read") else (await self.listing()).by_key.get(key)
        known = row if row is not None else await new_record(self)
        return {**{name: known[name] for name in missing if name in known}, **own}

    def is_own_key(self, name: str) -> bool:
        """Whether a field is the row's own key under the name of its table, which no row shows."""
        relation = self.resource.relation(name)
        itself = relation is not None and relation.resource == self.resource.name
        return itself and not self.fields[name].shown and name.lower() == singular(self.resource.name).lower()

    def other(self, resource: Resource) -> Case:
        """The same check with another resource."""
        origin, client = self.origin or self.resource.name, self.world.client(resource)
        known = self.sources
        return Case(
            self.world, resource, self.check, client, actor=self.actor, origin=origin, turn=self.turn, sources=known
        )

    async def read(self, key: Key, situation: str = "reading a row") -> tuple[Exchange, Row | None]:
        """A row by its key; None where the answer shows none. An own row that another role made, and that is not shown
        to the run's, is read as that one."""
        exchange = await self.send("read", situation, key=key)
        maker = self.maker_of(key, exchange)
        if maker is not None:
            exchange = await self.send("read", situation, maker, key=key)
            self.ledger.table(self.resource.name).apart |= exchange.answer.ok
        return exchange, self.client.row_read(exchange.answer) if exchange.answer.ok else None

    def maker_of(self, key: Key, refused: Exchange) -> Client | None:
        """The resource as another role meets it that made an own row, where the row was refused to this one, or is not
        there for it."""
        role = self.world.ledger.maker(self.resource.name, key) if self.world.ledger is not None else ""
        if refused.answer.status not in _NOT_FOR_IT or role in {"", self.client.role}:
            return None
        return self.world.plain_client(self.resource, role)

    async def listing(self) -> Listing:
        """The list, read anew; not read to its end if it is very long."""
        listing = await self.client.whole_list(self.world.most_rows, self.check.name)
        self.requests += len(listing.exchanges)
        if not listing.complete:
            self.remark(f"the list was not looked through: {listing.problem or listing.partial}")
        return listing

    async def row_now(self, key: Key) -> tuple[Exchange, Row]:
        """An own row as it is now, by key or else from the list. Raises Blocked if it is not to be had."""
        if self.has("read"):
            exchange, row = await self.read(key)
            if row is not None:
                return exchange, row
            raise Blocked(f"a row just created could not be read by its key ({exchange.answer.status})")
        listing = await self.listing()
        if key in listing.by_key:
            return listing.exchanges[-1], listing.by_key[key]
        raise Blocked("a row just created could not be found in the list")

    # -- making rows -------------------------------------------------------------------------------

    def body_schema(self, purpose: Purpose) -> Node | None:
        """The schema of a record for this purpose, without its wrapper."""
        return self.resource.record_schema(purpose)

    def says_made(self, exchange: Exchange) -> bool:
        """Whether a create's answer says that it made a row: 200 beside a documented 201 shows the one that was there
        (RFC 9110, 9.3.3)."""
        documented = {each.status for each in self.operation("create").responses}
        return exchange.answer.ok and not (exchange.answer.status == 200 and {"200", "201"} <= documented)

    @property
    def client_keys(self) -> bool:
        key = self.resource.key
        if key is None or key.assigned_by != "either":
            return key is not None and key.assigned_by == "client"
        return self._keys_are_words() if self.state.chooses_key is None else self.state.chooses_key

    def _keys_are_words(self) -> bool:
        """Whether the keys of rows are short texts that nothing but people would choose, such as ``NV-01``."""
        names = self.resource.key_fields
        keys = [row.get(name) for row in self.state.rows_before[:_KEYS] for name in names]
        return bool(keys) and all(
            isinstance(each, str) and len(each) <= _LONGEST_WORD and not each.isdigit() for each in keys
        )

    async def create(
        self,
        record: Mapping[str, Any],
        situation: str = "a valid record",
        through: Client | None = None,
        body: Mapping[str, Any] | None = None,
        over: Key | None = None,
        **request: Any,
    ) -> tuple[Exchange, Key | None]:
        """Send a record; the key of the row made, or None if none was made or it is not known. Another ``body``, or a
        ``raw`` one, is sent in the record's place, ``through`` another client where that is given. ``over``
        is the key of an own row that the API may change instead. Raises Blocked where rows may not be made, Unsafe
        where one may be overwritten."""
        ledger = self.ledger
        sent = dict(record)
        chosen = self.client.key_of(sent) if self.client_keys else None
        made = Made(self.resource.name, sent, chosen, self.world.within(self.resource))
        inside = request.pop("inside", ())
        touched = ((self.resource.name, over),) if over is not None else ()
        act = Act("create", (made, *inside), touched, key_in=lambda answer: self.client.new_key(answer, sent))
        if "raw" not in request:
            request["record"] = sent if body is None else body
        exchange = await self.send("create", situation, through=through, act=act, **request)
        number = self.numbers(exchange)[0]
        self.answered[number] = exchange
        if not exchange.answer.ok:
            return exchange, None
        key = self.client.new_key(exchange.answer, sent)
        if key is not None and key not in ledger.own_keys(self.resource.name):
            true = elsewhere(self, Own(key, sent, exchange), await self.listing()) if self.has("list") else None
            if true is None:
                why = f"a create was answered with the key {key_text(key)} of a row that was there before"
                ledger.table(self.resource.name).broken = f"{why}, so that no more are made"
                raise Blocked(why)
            key = true.key
        if key is None and self.is_open(exchange):
            return exchange, None  # it may come into being later: the end of the run looks for it
        if key is None:
            key = next((own.key for entry, own in await strays(self) if entry.number == number), None)
        return exchange, key

    @property
    def ledger(self) -> Ledger:
        if self.world.ledger is None:
            raise Blocked("this run may not write")
        return self.world.ledger

    @property
    def own_keys(self) -> set[Key]:
        """The keys of the run's rows that are there now."""
        return self.world.ledger.own_keys(self.resource.name) if self.world.ledger is not None else set()

    @property
    def made_keys(self) -> set[Key]:
        """Every key that a row of the run's has had."""
        return self.world.ledger.made_keys(self.resource.name) if self.world.ledger is not None else set()

    def was_there(self, key: Key) -> bool:
        """Whether a row was there before the run began to write, as far as is known: what came since may come and go
        with rows of other tables that the run makes and removes."""
        table = self.world.ledger.table(self.resource.name) if self.world.ledger is not None else None
        return table is None or not table.looked_at or key in table.known

    async def own(self, count: int = 1, full: bool = True) -> list[Own]:
        """New rows to work with. Raises Blocked if they cannot be made."""
        if self.state.not_creatable:
            raise Blocked(self.state.not_creatable)
        stays = self.stuck() if self.state.not_removable and count == 1 else None
        if stays is not None:
            return [stays]
        records = [await new_record(self, full=full) for _ in range(count)]
        made = await all_of(self.create(record) for record in records)
        self.state.create_failed |= any(exchange.answer.status >= 500 for exchange, _ in made)
        rows = []
        for record, (exchange, key) in zip(records, made, strict=True):
            if key is None and exchange.answer.status in {400, 403, 409, 422}:
                record, exchange, key = await self._otherwise(record, exchange, full)
            if key is None and exchange.answer.status in {401, 403}:
                who = self.world.role.name
                raise Skipped(f"the role {who} may not create in {self.resource.name} ({exchange.answer.status})")
            if key is None and self.state.stores_failing:
                key = await self.stored_all_the_same(exchange)
            if key is None:
                raise Blocked(f"no row to work with could be made ({exchange.answer.status or exchange.answer.detail})")
            rows.append(Own(key, record, exchange))
        return rows

    async def stored_all_the_same(self, failed: Exchange) -> Key | None:
        """The key of the row that a create has made although it was answered with a server error; None if there is
        none."""
        if failed.answer.status < 500:
            return None
        key = next((own.key for entry, own in await strays(self) if entry.number in self.numbers(failed)), None)
        self.state.stores_failing |= key is not None
        return key

    async def look_at_stuck(self) -> None:
        """Look whether rows that could not be removed are gone all the same."""
        await self.ledger.look_at_stuck(self.resource.name)

    def stuck(self) -> Own | None:
        """A row of the run's that could not be removed when it was to be."""
        found = self.ledger.stuck(self.resource.name)
        if found is None:
            return None
        key, entry, number = found
        record = {name: value for sent in self.ledger.sent_to(entry, key) for name, value in sent.items()}
        return Own(key, record, self.world.exchanges[number])

    async def _otherwise(
        self, record: dict[str, Any], exchange: Exchange, full: bool
    ) -> tuple[dict[str, Any], Exchange, Key | None]:
        """A record in place of a refused one: with other values, else like a row that is there. What is accepted is how
        later rows are made; the refused one where nothing is."""
        usual = self.state.recipe
        for recipe in dict.fromkeys((usual, "copy", "copy all")):
            self.state.recipe = recipe
            other = await new_record(self, full=full)
            answered, key = await self.create(other, "another record, since one was refused")
            if key is not None:
                return other, answered, key
        self.state.recipe = usual
        return record, exchange, None

    # -- finding and removing rows ---------------------------------------------------------------------

    def is_open(self, exchange: Exchange) -> bool:
        """Whether what a request was accepted for (202; RFC 9110, 15.3.3) was not seen to be done."""
        return exchange.number in self.ledger.accepted

    def numbers(self, exchange: Exchange) -> tuple[int, ...]:
        """The journal's numbers of the rows that a request was to make, which are this check's to remove."""
        numbers = self.ledger.numbers(exchange)
        self.made += [number for number in numbers if number not in self.made]
        return numbers

    def told(self, number: int, key: Key) -> None:
        """Note the key that an answer gives to one of several rows made at once."""
        self.ledger.answered(number, key)

    def is_still(self, key: Key, row: Row) -> bool:
        """Whether a row is the run's own that had the key, and not another that was given it since."""
        return self.ledger.is_still(self.resource.name, key, row)

    def told_otherwise(self, failed: Iterable[Exchange | None]) -> None:
        """Leave out that these requests failed: a finding tells what made them."""
        watch, numbers = WATCH.get(), {each.number for each in failed if each is not None}
        if watch is not None:
            watch.failures[:] = [each for each in watch.failures if not numbers.intersection(each.exchanges)]

    def forget_failure(self, purpose: Purpose, exchange: Exchange) -> None:
        """Leave out that an operation fails: more is told of it."""
        self.told_otherwise([exchange])
        operation = operation_name(self.operation(purpose))
        self.world.findings.forget(self.resource.name, "errors.server-error", operation)

    def harmed(self, key: Key, how: str, row: Row, restored: bool) -> None:
        """Note that a request of the run's has reached a row of somebody else's."""
        self.ledger.harm(self.resource.name, key, how, row, restored)

    async def restore(self, key: Key, values: Mapping[str, Any]) -> Exchange:
        """Give a row of somebody else's, which a request of the run's has changed, the values that it had."""
        return await self.ledger.restore(self.client, key, values, self.check.name)

    # -- missing keys ---------------------------------------------------------------------

    # -- reporting -----------------------------------------------------------------------------------

    def finding(
        self,
        severity: Severity,
        basis: Basis,
        title: str,
        expected: str,
        observed: str,
        *,
        cause: str,
        purpose: Purpose | None = None,
        place: Place | None = None,
        subjects: Iterable[str] = (),
        evidence: Sequence[Exchange] = (),
        operation: tuple[str, str] | None = None,
        rows: Sequence[Differing] = (),
    ) -> Finding:
        """A departure; ``purpose`` names the operation at fault, ``evidence`` the exchanges that show it,
        ``rows`` the rows that differ."""
        stated = self.resource.operations.get(purpose) if purpose else None
        if purpose == "list" and any(self.resource.searched_at(each.request.url) for each in evidence):
            stated = self.resource.search
        return Finding(
            check=self.check.name,
            family=self.check.family,
            resource=self.resource.name,
            role=self.actor or self.world.role.name,
            severity=severity,
            basis=basis,
            title=title,
            expected=expected,
            observed=observed,
            cause=cause,
            operations=(operation,) if operation else operation_name(stated),
            place=place or (stated.place if stated and basis == "contract" else None),
            subjects=tuple(subjects),
            exchanges=tuple(exchange.number for exchange in evidence),
            reproduce=self.world.script(evidence),
            source=self.check.name,
            rows=tuple(rows),
        )
