"""What a check gets: one resource, rows that it may touch, and ways to ask and to report."""

from __future__ import annotations

import contextlib
import itertools
import re
import uuid
from collections.abc import AsyncIterator, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, TypeVar

from checkpost.checks.parents import MOST_PARENTS, parents, reference, touches
from checkpost.checks.registry import CHECKS, Blocked, Check, Skipped
from checkpost.checks.together import all_of
from checkpost.checks.world import WATCH, State, World
from checkpost.contract.contract import Operation
from checkpost.contract.errors import Place
from checkpost.contract.node import Node
from checkpost.findings import Basis, Differing, Finding, Severity, operation_name
from checkpost.model.field import MISSING, Field
from checkpost.model.media import is_form, request_media_type
from checkpost.model.paths import singular
from checkpost.model.purpose import Purpose
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of
from checkpost.oracle.same import same
from checkpost.rows.journal import Entry
from checkpost.rows.ledger import Ledger
from checkpost.rows.resemblance import match
from checkpost.rows.table import as_number
from checkpost.values.coined import has_mark
from checkpost.values.plain import Values, example_of
from checkpost.values.usual import joined, usual
from checkpost.wire.client import Client
from checkpost.wire.door import Act, Made, Unsafe
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key, Listing, Row, key_text

T = TypeVar("T")
#: How many keys of rows are looked at, and how long a key is that people choose, at the most.
_KEYS, _LONGEST_WORD = 20, 15
#: The shortest text that is an object of JSON (RFC 8259).
_NO_MEMBERS = "{}"
#: How a row is refused to a role that may not see it (RFC 9110, 15.5.4 and 15.5.5).
_NOT_FOR_IT = {401, 403, 404, 410}


def _counts(field: Field, used: Sequence[Any]) -> bool:
    """Whether a key is a whole number: its type says so, or says ``number`` and every row's is one."""
    whole = all(isinstance(value, int) and not isinstance(value, bool) for value in used)
    return field.type == "integer" or (field.type == "number" and bool(used) and whole)


def _like_those(used: Sequence[Any]) -> str:
    """A key that no row has, made like those that rows have: numbers or UUIDs that are written as texts."""
    texts = [each for each in used if isinstance(each, str)]
    if not texts or len(texts) < len(used):
        return ""
    if all(re.fullmatch(r"[0-9]{1,15}", text) for text in texts):
        return str(max(_FAR_KEY, max(map(int, texts)) + 1_000_000))
    if all(re.fullmatch(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", text, re.I) for text in texts):
        return str(uuid.uuid4())
    return ""


#: How often one check is asked of one table at the most: three times, and so again where its rows have other keys.
_MOST_TURNS = 6
#: Where integer keys are taken for unused: far up in what 32 bits hold.
_FAR_KEY = 2_000_000_000


@dataclass(frozen=True)
class Own:
    """A row that the run created: its key, the record sent, and the exchange that made it."""

    key: Key
    record: Mapping[str, Any]
    exchange: Exchange


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

    @contextlib.asynccontextmanager
    async def beside(self, resource: Resource) -> AsyncIterator[Case]:
        """The same check with another resource whose rows may refer to this one's; both are tidied up behind it."""
        other = self.other(resource)
        try:
            yield other
        finally:
            await other.let_go(self)
            await other.clean()  # those that refer first
            await self.clean()
            self.requests += other.requests

    @property
    def state(self) -> State:
        return self.world.state(self.resource.name)

    @cached_property
    def values(self) -> Values:
        """The check's own source of values, so that those of one are the same whatever others do meanwhile."""
        world, names = self.world, [each.name for each in self.world.model.resources]
        roles, origin = ["", *world.roles], self.origin or self.resource.name
        table = 0 if origin == self.resource.name else 1 + names.index(origin)
        lane = list(CHECKS).index(self.check.name) + len(CHECKS) * (roles.index(self.actor) + len(roles) * table)
        # another turn of the same check begins a lane of its own
        turns = len(CHECKS) * len(roles) * (1 + len(names))
        return Values(world.seed, world.mark, world.valid, lane + turns * self.turn, turns * _MOST_TURNS)

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
            self._ledger  # noqa: B018 - raises Blocked where the run may not write
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
        known = row if row is not None else await self.record()
        return {**{name: known[name] for name in missing if name in known}, **own}

    def is_own_key(self, name: str) -> bool:
        """Whether a field is the row's own key under the name of its table, which no row shows."""
        relation = self.resource.relation(name)
        itself = relation is not None and relation.resource == self.resource.name
        return itself and not self.fields[name].shown and name.lower() == singular(self.resource.name).lower()

    def other(self, resource: Resource) -> Case:
        """The same check with another resource."""
        origin, client = self.origin or self.resource.name, self.world.client(resource)
        return Case(self.world, resource, self.check, client, actor=self.actor, origin=origin, turn=self.turn)

    async def read(self, key: Key, situation: str = "reading a row") -> tuple[Exchange, Row | None]:
        """A row by its key; None where the answer shows none. An own row that another role made, and that is not shown
        to the run's, is read as that one."""
        exchange = await self.send("read", situation, key=key)
        maker = self._maker(key, exchange)
        if maker is not None:
            exchange = await self.send("read", situation, maker, key=key)
            self._ledger.table(self.resource.name).apart |= exchange.answer.ok
        return exchange, self.client.row_read(exchange.answer) if exchange.answer.ok else None

    def _maker(self, key: Key, refused: Exchange) -> Client | None:
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

    def may_be_shown(self, field: Field, value: Any) -> bool:
        """Whether the schema of rows allows a value too, where a change is tried with one that it does not
        (``update.as-shown``)."""
        node = shape_of(self.resource.row).properties.get(field.name)
        tried = self.has("update") or self.has("replace")
        return value is None or node is None or not tried or self.world.validators.is_valid(node, value, "response")

    def body_schema(self, purpose: Purpose) -> Node | None:
        """The schema of a record for this purpose, without its wrapper."""
        return self.resource.record_schema(purpose)

    async def record(self, purpose: Purpose = "create", full: bool = True) -> dict[str, Any]:
        """A valid record with new values: every field that may be set, or only the required ones.

        Raises Blocked where a required field can have no value.
        """
        chosen: dict[str, Any] = {}
        full = full and self.state.recipe != "least"
        wanted = "update" if purpose == "update" else ("replace" if purpose == "replace" else "create")
        key_fields = self.resource.key_fields
        chosen.update(await self._related_key() if purpose == "create" else {})
        above = dict(zip(key_fields, self.world.within(self.resource), strict=False))
        chosen.update(
            {name: value for name, value in above.items() if purpose == "create" and self.fields[name].created}
        )
        for each in self.resource.writable(wanted):  # type: ignore[arg-type]
            required = each.required if purpose != "update" else False
            if each.name in chosen or (not full and not required and each.name not in key_fields):
                continue
            if each.name in self.state.left_out | self.state.unfilled and not required:
                continue
            if each.name in key_fields and (purpose != "create" or not self.client_keys):
                continue
            value = await self.value(each)
            if value is MISSING and required:
                raise Blocked(f"no value for the required field {each.name} is known; the profile can give one")
            if value is not MISSING:
                chosen[each.name] = value
        if self.state.recipe.startswith("copy") or self.state.copied:
            chosen = self._copied(chosen)
        chosen |= self.state.wanting if purpose == "create" else {}
        ledger = self.world.ledger
        if purpose == "create" and not full and ledger is not None and ledger.table(self.resource.name).keyless:
            chosen |= await self.telling_text(chosen)
        return {name: value for name, value in chosen.items() if self.sayable(purpose, value)}

    async def telling_text(self, record: Mapping[str, Any]) -> dict[str, Any]:
        """A text that bears the run's mark, for a record that bears none: by it a row is found whose key nobody
        tells."""
        mark = self.world.mark
        if any(has_mark(str(value), mark) for value in record.values()):
            return {}
        for each in self.resource.writable("create"):
            value = await self.value(each) if each.is_text and not self.resource.relation(each.name) else MISSING
            if isinstance(value, str) and has_mark(value, mark):
                return {each.name: value}
        return {}

    def says_made(self, exchange: Exchange) -> bool:
        """Whether a create's answer says that it made a row: 200 beside a documented 201 shows the one that was there
        (RFC 9110, 9.3.3)."""
        documented = {each.status for each in self.operation("create").responses}
        return exchange.answer.ok and not (exchange.answer.status == 200 and {"200", "201"} <= documented)

    def sayable(self, purpose: Purpose, value: Any) -> bool:
        """Whether a body for a purpose can hold a value: a form has no null, and an empty text may stand for it."""
        operation = self.resource.operations.get(purpose)
        return operation is None or value not in (None, "") or not is_form(request_media_type(operation))

    async def replacement(self, key: Key, full: bool = True) -> dict[str, Any]:
        """A valid body for a replace of the row with this key; a key that it carries is the row's own."""
        record = await self.record("replace", full=full)
        names = self.resource.key_fields
        own = {name: value for name, value in zip(names, key, strict=True) if self.fields[name].replaced}
        return {**record, **own}

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

    async def value(self, each: Field, unlike: Any = MISSING) -> Any:
        """A new valid value for a field, different from ``unlike`` if its rules allow; MISSING if none is
        known."""
        fixed = {**self.state.flagged, **self.resource.values}
        if each.name in fixed:
            stated = fixed[each.name]
            return MISSING if unlike is not MISSING and same(each, unlike, stated) else stated
        relation = self.resource.relation(each.name)
        if relation is not None:
            return await reference(self, each, relation, unlike)
        if each.name in self.state.copied and not each.unique:
            values = [row.get(each.name) for row in self.state.rows_before]
            others = [value for value in values if value is not None and (unlike is MISSING or value != unlike)]
            if others:
                return others[self.values.number() % len(others)]
        if each.name in self.state.encoded:
            return MISSING if unlike == _NO_MEMBERS else _NO_MEMBERS
        if each.name in self.state.exemplary and not each.unique:
            return example_of(each)
        joint = self.state.joined.get(each.name)
        each = joined(self._usual(each), joint) if joint is not None else self._usual(each)
        for _ in range(8):
            value = self.values.plain(each)
            if each.unique and isinstance(value, str | int) and not self.reserve(each, value):
                continue
            if unlike is MISSING or value is MISSING or not same(each, unlike, value):
                return value
        if each.type == "boolean":
            return not unlike
        if each.type == "array":
            held = [row.get(each.name) for row in self.state.rows_before]
            texts = [value for value in held if value and all(isinstance(one, str) for one in value)]
            return next((value for value in texts if not same(each, unlike, value)), MISSING)
        return MISSING

    def _usual(self, each: Field) -> Field:
        """A field with limits between the values that rows have."""
        if each.name not in self.state.usual:
            values = (row.get(each.name) for row in self.state.rows_before)
            self.state.usual[each.name] = usual(each, values, self.state.room)
        return self.state.usual[each.name]

    def written_alike(self, each: Field) -> bool:
        """Whether all rows have a field in one format of which the contract says nothing, or in another type."""
        return self._no_text(each) or self._usual(each).format != each.format

    def _no_text(self, each: Field) -> bool:
        """Whether rows hold no texts where the contract has them."""
        values = [row.get(each.name) for row in self.state.rows_before]
        known = [value for value in values if value is not None]
        return each.is_text and bool(known) and not any(isinstance(value, str) for value in known)

    def taken(self, each: Field) -> set[Any]:
        """The values of a unique field that rows have had or the run has used."""
        if each.name not in self.state.taken:
            values = (row.get(each.name) for row in self.state.rows_before)
            self.state.taken[each.name] = {value for value in values if isinstance(value, str | int)}
        return self.state.taken[each.name]

    def reserve(self, each: Field, value: Any) -> bool:
        """Take a value for a unique field, unless it is taken already."""
        taken = self.taken(each)
        if value in taken:
            return False
        taken.add(value)
        return True

    async def _related_key(self) -> dict[str, Any]:
        """For a table whose key is made of references: a combination that no row has."""
        key = self.resource.key
        if key is None or self.resource.under or not all(self.resource.relation(name) for name in key.fields):
            return {}
        relations = [relation for name in key.fields if (relation := self.resource.relation(name))]
        before: list[list[Any]] = []
        for turn in range(MOST_PARENTS):
            choices = [await parents(self, each, turn > 0 and each is relations[0]) for each in relations]
            if choices == before:
                break
            before = choices
            taken = set(self.state.before.by_key if self.state.before else ()) | self.state.used
            for combination in itertools.product(*choices):
                if combination not in taken:
                    self.state.used.add(combination)
                    return dict(zip(key.fields, combination, strict=True))
        raise Skipped("every combination of the rows it refers to is taken")

    def _copied(self, record: dict[str, Any]) -> dict[str, Any]:
        """The record with the values of a row that is there, where they need not be its own: of all fields, of all but
        free texts, or of those whose own values were refused."""
        rows = self.state.rows_before
        source = rows[self.values.number() % len(rows)] if rows else {}
        keys = self.resource.key_fields
        recipe, copied = self.state.recipe, self.state.copied
        keep = {
            each.name
            for each in self.resource.fields
            if each.unique
            or each.name in keys
            or each.name in self.resource.values
            or each.places
            or (recipe != "copy all" and self._is_own(each))
            or (recipe != "copy all" and each.name not in copied and (recipe != "copy" or self._is_free(each)))
        }
        needed = {each.name for each in self.resource.writable("create") if each.required} | set(keys)
        # where that row has nothing, a record like it has nothing either
        empty = {name for name, value in source.items() if value is None and recipe.startswith("copy")} - needed
        own = {name: value for name, value in record.items() if name not in empty}
        return own | {name: source[name] for name in own if name not in keep and source.get(name) is not None}

    def _is_own(self, each: Field) -> bool:
        """Whether a field refers to rows of the run's own alone."""
        relation = self.resource.relation(each.name)
        return relation is not None and touches(self.world, self.resource.name, relation.resource)

    def _is_free(self, each: Field) -> bool:
        return each.is_text and not self._no_text(each)

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
        ledger = self._ledger
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
            true = self.elsewhere(Own(key, sent, exchange), await self.listing()) if self.has("list") else None
            if true is None:
                raise Blocked(f"creating a row answered with the key {key_text(key)} of a row that was there before")
            key = true.key
        if key is None and self.is_open(exchange):
            return exchange, None  # it may come into being later: the end of the run looks for it
        if key is None:
            key = next((own.key for entry, own in await self.strays() if entry.number == number), None)
        return exchange, key

    @property
    def _ledger(self) -> Ledger:
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
        records = [await self.record(full=full) for _ in range(count)]
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
        key = next((own.key for entry, own in await self.strays() if entry.number in self.numbers(failed)), None)
        self.state.stores_failing |= key is not None
        return key

    async def look_at_stuck(self) -> None:
        """Look whether rows that could not be removed are gone all the same."""
        await self._ledger.look_at_stuck(self.resource.name)

    def stuck(self) -> Own | None:
        """A row of the run's that could not be removed when it was to be."""
        found = self._ledger.stuck(self.resource.name)
        if found is None:
            return None
        key, entry, number = found
        record = {name: value for sent in self._ledger.sent_to(entry, key) for name, value in sent.items()}
        return Own(key, record, self.world.exchanges[number])

    async def _otherwise(
        self, record: dict[str, Any], exchange: Exchange, full: bool
    ) -> tuple[dict[str, Any], Exchange, Key | None]:
        """A record in place of a refused one: with other values, else like a row that is there. What is accepted is how
        later rows are made; the refused one where nothing is."""
        usual = self.state.recipe
        for recipe in dict.fromkeys((usual, "copy", "copy all")):
            self.state.recipe = recipe
            other = await self.record(full=full)
            answered, key = await self.create(other, "another record, since one was refused")
            if key is not None:
                return other, answered, key
        self.state.recipe = usual
        return record, exchange, None

    # -- finding and removing rows ---------------------------------------------------------------------

    async def strays(self, listing: Listing | None = None) -> list[tuple[Entry, Own]]:
        """Rows in the list, read anew unless it is given, that this check made without having learnt their keys."""
        ledger, name = self._ledger, self.resource.name
        entries = [ledger.journal.entry(number) for number in self.made]
        lost = [each for each in entries if each is not None and each.resource == name and each.answered is None]
        if not lost or not self.has("list"):
            return []
        listing = listing if listing is not None else await self.listing()
        table = ledger.table(name)
        foreign = table.known - table.ever
        named = {each.key: each for each in reversed(lost) if each.key in listing.by_key and each.key not in foreign}
        pairs = [(entry, key) for key, entry in named.items() if key is not None and key not in table.own]
        # a list may still show rows of other checks that have gone since
        first = min(each.number for each in lost)
        gone_since = {key for key, last in table.left.items() if last > first}
        taken = foreign | table.own.keys() | gone_since | {key for _, key in pairs}
        pairs += match(
            self.resource,
            [each for each in lost if each.key is None],
            listing.by_key,
            taken,
            ledger.bears(self.resource),
        )
        # a row of another check's may be a little like a record that was refused
        rows = listing.by_key
        pairs = [(each, key) for each, key in pairs if each.status < 400 or self._has_a_text_of(each, rows[key])]
        for entry, key in pairs:
            ledger.found(entry.number, key, listing.by_key[key])
        return [(entry, Own(key, entry.record, listing.exchanges[-1])) for entry, key in pairs]

    def elsewhere(self, own: Own, listing: Listing) -> Own | None:
        """A row that a create made, with the key that the list shows it under, where that is another than the answer
        gave; the answers' keys are not taken for true any more then."""
        ledger, name = self._ledger, self.resource.name
        entry = next((each for number in self.numbers(own.exchange) if (each := ledger.journal.entry(number))), None)
        if entry is None or self.client_keys or ledger.is_own(name, own.key):
            return None
        table = ledger.table(name)
        taken = (table.known - table.ever) | (table.own.keys() - {own.key})
        for _, key in match(self.resource, [entry], listing.by_key, taken | {own.key}, ledger.bears(self.resource)):
            ledger.moved(entry.number, own.key, key, listing.by_key[key])
            self.learn(self.client.session.wrong_keys, [name])
            self.misnamed = own.key
            return Own(key, own.record, own.exchange)
        return None

    def _has_a_text_of(self, entry: Entry, row: Row) -> bool:
        """Whether a row has a text that bears the run's mark in common with a record, if that has any."""
        mark = self.world.mark
        texts = {
            name: value for name, value in entry.record.items() if isinstance(value, str) and has_mark(value, mark)
        }
        shown = {name: str(row.get(name)).strip().casefold() for name in texts}
        # any text begins with an empty one
        return not texts or any(
            shown[name] and value.strip().casefold().startswith(shown[name]) for name, value in texts.items()
        )

    def list_is_cut(self, listing: Listing) -> None:
        """Note that the list ends before rows that are there, and nothing says so."""
        name, cut = self.resource.name, replace(listing, complete=False, partial="it is cut off", broken_off=True)
        self.world.session.cut[name] = len(listing.rows)
        self.state.before, self.state.snapshot = cut, None
        table = self._ledger.table(name)
        table.whole, table.before = False, cut

    def is_open(self, exchange: Exchange) -> bool:
        """Whether what a request was accepted for (202; RFC 9110, 15.3.3) was not seen to be done."""
        return exchange.number in self._ledger.accepted

    def numbers(self, exchange: Exchange) -> tuple[int, ...]:
        """The journal's numbers of the rows that a request was to make, which are this check's to remove."""
        numbers = self._ledger.numbers(exchange)
        self.made += [number for number in numbers if number not in self.made]
        return numbers

    def told(self, number: int, key: Key) -> None:
        """Note the key that an answer gives to one of several rows made at once."""
        self._ledger.answered(number, key)

    async def clean(self) -> None:
        """Remove every row that this check has made, as far as that is told; the end of the run looks for the rest."""
        ledger = self.world.ledger
        if ledger is None or not self.made:
            return
        table = ledger.table(self.resource.name)
        mine = set(self.made)
        keys = [key for key, number in table.own.items() if number in mine]
        self.made.clear()
        await all_of(self.remove(key) for key in reversed(keys))

    async def let_go(self, other: Case) -> None:
        """Have the rows that this check has made refer to nothing, or to rows that stay for longer, in place of those
        that it has made in another table: where rows that are deleted are kept, they would keep what they
        refer to from being removed."""
        relations = [each for each in self.resource.relations if each.resource == other.resource.name]
        fields = [each for each in relations if self.fields[each.field].updated and self.has("update")]
        ledger = self.world.ledger
        if not fields or not self.made or not other.made or ledger is None or not self.world.markable(self.resource):
            return  # where a row can bear no mark, what it refers to may be what proves that it is the run's
        mine, theirs = set(self.made), set(other.made)
        going = {key for key, number in ledger.table(other.resource.name).own.items() if number in theirs}
        change: dict[str, Any] = {}
        for relation in fields:
            there = [value for value in await parents(self, relation) if (value,) not in going]
            if self.fields[relation.field].nullable or there:
                change[relation.field] = None if self.fields[relation.field].nullable else there[0]
        keys = [key for key, number in ledger.table(self.resource.name).own.items() if number in mine] if change else []
        with contextlib.suppress(Unsafe, Blocked, Skipped):
            await all_of(self.send("update", "tidying up", key=key, record=change) for key in keys)

    async def remove(self, key: Key) -> Exchange | None:
        """Remove an own row now; one that stays is looked for at the end. The answer, if it was asked for."""
        if not self.has("delete"):
            return None
        try:
            purges = await self._purges(key)
            operation = self.resource.purge if purges else self.operation("delete")
            exchange = await self.send("delete", "tidying up", key=key, operation=operation)
            if purges:
                self._ledger.purged(self.resource.name, exchange)
            maker = self._maker(key, exchange)
            if maker is not None:
                exchange = await self.send("delete", "tidying up", maker, key=key)
                self._ledger.table(self.resource.name).apart |= exchange.answer.ok
        except Unsafe:
            return None  # the end of the run looks for it again, and tells if it stays
        if (exchange.answer.ok and not self.is_open(exchange)) or exchange.answer.status in {404, 410}:
            self.forget(key)
        return exchange

    async def _purges(self, key: Key) -> bool:
        """Whether rows are removed by the path that removes for good what was deleted: where such are kept, and it was
        seen to remove an own row that was not deleted, and no other row. The first one asked for is tried so."""
        table = self._ledger.table(self.resource.name)
        if self.resource.purge is None or not self.state.kept or not self.has("list"):
            return False
        async with self.state.purging:
            if table.purges is None:
                before = await self.listing()
                exchange = await self.send("delete", "tidying up", key=key, operation=self.resource.purge)
                after = await self.listing()
                lost = {each for each in before.by_key.keys() - after.by_key.keys() if self.was_there(each)}
                whole = before.complete and after.complete and key in before.by_key
                table.purges = exchange.answer.ok and whole and key not in after.by_key and not lost
                if table.purges:
                    self._ledger.purged(self.resource.name, exchange)
        return table.purges

    def is_still(self, key: Key, row: Row) -> bool:
        """Whether a row is the run's own that had the key, and not another that was given it since."""
        return self._ledger.is_still(self.resource.name, key, row)

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
        self._ledger.harm(self.resource.name, key, how, row, restored)

    async def restore(self, key: Key, values: Mapping[str, Any]) -> Exchange:
        """Give a row of somebody else's, which a request of the run's has changed, the values that it had."""
        return await self._ledger.restore(self.client, key, values, self.check.name)

    def forget(self, key: Key) -> None:
        """Note that an own row is gone."""
        self._release(key)
        self._ledger.gone(self.resource.name, key)
        self.state.used.discard(key)

    def _release(self, key: Key) -> None:
        """Let others refer to the rows that one alone may refer to, and that goes."""
        referring = [each for each in self.resource.fields if self.resource.relation(each.name)]
        number = self._ledger.table(self.resource.name).own.get(key) if referring else None
        entry = self._ledger.journal.entry(number) if number is not None else None
        record = entry.record if entry is not None else {}
        for each in referring:
            value = record.get(each.name)
            if each.unique:
                self.taken(each).discard(value)
            elif isinstance(value, str | int):
                self.state.released.setdefault(each.name, set()).add(value)

    def again(self, key: Key) -> None:
        """Note that a row is there under the key of one that was gone."""
        self._ledger.back(self.resource.name, key)
        number = self._ledger.table(self.resource.name).own.get(key)
        self.made += [number] if number is not None else []

    # -- missing keys ---------------------------------------------------------------------

    def absent_key(self) -> Key:
        """A well-formed key that no row has. Raises Skipped where none can be told."""
        key = self.resource.key
        if key is None:
            raise Skipped("its key is not known")
        before = self.state.before
        keys = list(before.by_key) if before else []
        parts: list[Any] = list(self.world.within(self.resource))
        for index, name in list(enumerate(key.fields))[len(parts) :]:
            each = self.resource.field(name)
            used = [known[index] for known in keys if index < len(known)]
            if each is not None and _counts(each, used):
                largest = max((value for value in used if isinstance(value, int)), default=0)
                value = max(_FAR_KEY, largest + 1_000_000) + self.values.number()
                most = each.keywords.get("maximum")
                parts.append(value if most is None else min(value, int(most) - self.values.number()))
            else:
                made: Any = _like_those(used) or (self.values.plain(each) if each is not None else MISSING)
                if not isinstance(made, str | int) or made in used:
                    raise Skipped("no key that is certainly absent could be made")
                parts.append(made)
        if tuple(parts) in keys:
            raise Skipped("no key that is certainly absent could be made")
        return tuple(parts)

    async def smaller(self) -> Own:
        """Of two new rows the one with the smaller key."""
        own, other = await self.own(2)
        first, second = as_number(own.key[-1]), as_number(other.key[-1])
        return other if first is not None and second is not None and first > second else own

    async def deleted(self) -> tuple[Own, list[Exchange]]:
        """A row made and deleted again, and the exchanges; one with a larger key stays, since some APIs give the
        largest key out again. Raises Blocked if that fails."""
        own = await self.smaller()
        exchange = await self.send("delete", "deleting a row", key=own.key)
        if not exchange.answer.ok or self.is_open(exchange):
            raise Blocked(f"deleting a row answers {exchange.answer.status or exchange.answer.detail}")
        self.forget(own.key)
        return own, [own.exchange, exchange]

    async def keep_vacant(self, key: Key) -> None:
        """See to it that a write to the key of a deleted row of the run's can reach no other. Raises Skipped where the
        API may give the key out again."""
        if not self._ledger.is_spare(self.resource.name, key) and not self.client_keys:
            await self.own()  # another one made since shows whether keys are given out again
        if not self._ledger.is_spare(self.resource.name, key):
            raise Skipped("the key of a deleted row may be given out again, so that a write to it could reach another")

    async def vacant_key(self) -> Key:
        """A key to write to that no row has: one that the API has given to a row of the run's, which is deleted.
        Raises Skipped where keys are given out again, Blocked where no row can be made and deleted."""
        if self.state.vacant is None or self.state.vacant in self.own_keys:
            self.state.vacant = (await self.deleted())[0].key
        await self.keep_vacant(self.state.vacant)
        return self.state.vacant

    async def unused_key(self) -> Key:
        """A key that no row has, to be read or referred to, never to be written by. Raises Skipped where none can be
        told."""
        key = self.absent_key()
        if self.has("read"):
            exchange, row = await self.read(key, "a missing key")
            if row is not None and not self.client.absent(exchange.answer):
                raise Skipped("no key that is certainly absent could be made")
        return key

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
