"""Sending many rows in one request, and what became of each: told by the answer, and by looking."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.records import new_record
from checkpost.checks.registry import Skipped
from checkpost.checks.strays import strays
from checkpost.contract.node import Node
from checkpost.model.bulk import Bulk
from checkpost.model.operations import answer_schema, line_schema
from checkpost.model.paths import plain
from checkpost.model.shape import shape_of
from checkpost.wire.client import Client
from checkpost.wire.door import Act, Made
from checkpost.wire.exchange import Answer, Exchange, texts_in
from checkpost.wire.listing import Key, Listing, Row, key_text

_REFUSED = re.compile(r"refus|error|fail|reject|invalid|skipp|bad|problem", re.I)
_PLACES = ("index", "position", "line", "row", "item", "i")
_COUNTS = re.compile(
    r"count|total|number|stored|created|inserted|updated|changed|modified|deleted|removed|affected|rows|success", re.I
)


@dataclass(frozen=True)
class Told:
    """What an answer says of many items: the row of each where it shows one, which are refused, how many are
    done. ``each`` says that every item has its own result."""

    rows: tuple[Row | None, ...] = ()
    refused: frozenset[int] = frozenset()
    count: int | None = None
    each: bool = False


@dataclass(frozen=True)
class Sent:
    """Records sent in one request, with the keys of those that are stored."""

    exchange: Exchange
    records: tuple[Mapping[str, Any], ...]
    keys: tuple[Key | None, ...]
    told: Told = field(default=Told())
    #: Whether the list could be looked through, so that ``keys`` are all.
    sure: bool = True
    #: How many rows can be read, and are not in a list that does not say that there are more.
    unlisted: int = 0

    @property
    def stored(self) -> frozenset[int]:
        return frozenset(place for place, key in enumerate(self.keys) if key is not None)


def body_of(bulk: Bulk, items: Sequence[Any]) -> bytes:
    """Items as an operation on many takes them in its body."""
    if bulk.form == "lines":
        text = "".join(json.dumps(item, ensure_ascii=False) + "\n" for item in items)
    elif bulk.beside:
        change = {name: value for name, value in items[0].items() if name != bulk.key}
        text = json.dumps({bulk.name: [each[bulk.key] for each in items], bulk.beside: change}, ensure_ascii=False)
    elif bulk.inner:
        member, word = bulk.action
        text = json.dumps({bulk.name: [{member: word, bulk.inner: list(items)}]}, ensure_ascii=False)
    else:
        text = json.dumps({bulk.name: list(items)} if bulk.form == "wrapped" else list(items), ensure_ascii=False)
    return text.encode("utf-8", "surrogatepass")


async def send_items(
    case: Case, bulk: Bulk, items: Sequence[Any], situation: str, act: Act, through: Client | None = None
) -> Exchange:
    """Send items as the operation takes them: in its body, or as keys in its query; ``act`` says what that may do."""
    purpose = bulk.purpose.rpartition(" ")[2]
    if bulk.form == "query":
        texts = [str(item) for item in items]
        pairs = [(bulk.name, text) for text in texts]
        pairs = pairs if bulk.separator is None else [(bulk.name, bulk.separator.join(texts))]
        asked = {"operation": bulk.operation, "query": pairs, "act": act}
        return await case.send(purpose, situation, through, **asked)  # type: ignore[arg-type]
    return await case.send(
        purpose,  # type: ignore[arg-type]
        situation,
        through,
        operation=bulk.operation,
        raw=body_of(bulk, items),
        media_type=bulk.media_type,
        act=act,
    )


async def create_many(
    case: Case, bulk: Bulk, records: Sequence[Mapping[str, Any]], situation: str, through: Client | None = None
) -> Sent:
    """Send records in one request, and look which of them are stored."""
    name, above = case.resource.name, case.world.within(case.resource)
    chosen = [case.client.key_of(record) if case.client_keys else None for record in records]
    made = tuple(Made(name, dict(record), key, above) for record, key in zip(records, chosen, strict=True))
    if len(made) > 1 and through is None and case.has("list"):
        await _try_one(case, bulk, made)
    exchange = await send_items(case, bulk, records, situation, Act("create", made), through)
    numbers = case.numbers(exchange)
    told = told_by(case, exchange.answer, chosen)
    listing = await case.listing() if case.has("list") else None
    found, unlisted = _answered(case, told, listing, made, numbers), 0
    for number, key in found.items():
        case.told(number, key)
    if listing is not None and listing.complete:
        case.client.seen(listing)  # now that their keys are told, the list proves them
        if exchange.answer.ok and any(key not in listing.by_key for key in found.values()):
            # what others remove meanwhile moves the beginnings of pages, so that a row is on none
            again = await case.listing()
            case.client.seen(again)
            listing = replace(listing, by_key={**listing.by_key, **again.by_key})
        found, unlisted = await _listed(case, found, listing)
    found |= {entry.number: own.key for entry, own in await strays(case, listing)}
    if exchange.answer.ok and len(found) < len(numbers):
        read = await _read_by_keys_alone(case, exchange, set(found.values()), len(numbers))
        found |= {entry.number: own.key for entry, own in await strays(case, read)} if read.rows else {}
    keys: list[Key | None] = [found.get(number) for number in numbers]
    sure = case.has("list") and not any("looked through" in remark for remark in case.remarks)
    if not sure:
        # what the answer shows is all that there is to go by
        for place, row in enumerate(told.rows[: len(numbers)]):
            shown = case.client.key_of(row) if row is not None else None
            if shown is not None and keys[place] is None:
                keys[place] = shown
                case.told(numbers[place], shown)
    return Sent(exchange, tuple(records), tuple(keys), told, sure, unlisted)


async def _read_by_keys_alone(case: Case, exchange: Exchange, known: Collection[Key], most: int) -> Listing:
    """The rows, read one by one, whose keys an answer gives with nothing else of them, but for those that are known."""
    arrays = [values for name, values in _plain_arrays(exchange.answer.json) if not _REFUSED.search(name)]
    given = [case.client.key_alone(value) for values in arrays for value in values]
    keys = [key for key in given if key is not None and key not in known]
    rows = {}
    for key in dict.fromkeys(keys[: min(most, _MOST_READ)]) if case.has("read") else ():
        if (row := (await case.read(key, "a row whose key the answer gives"))[1]) is not None:
            rows[key] = row
    return Listing(tuple(rows.values()), rows, False, exchanges=(exchange,))


async def _listed(case: Case, found: Mapping[int, Key], listing: Listing) -> tuple[dict[int, Key], int]:
    """The rows that an answer named and the list shows. Where one that it does not show can be read by its key, the
    list is cut, and says nothing of the others: then all of them, and how many the list leaves out."""
    there = {number: key for number, key in found.items() if key in listing.by_key}
    lost = next((key for key in found.values() if key not in listing.by_key), None)
    if lost is None or not case.has("read") or (await case.read(lost, "a row that the list does not show"))[1] is None:
        return there, 0
    return dict(found), len(found) - len(there)


async def _try_one(case: Case, bulk: Bulk, made: Sequence[Made]) -> None:
    """Of rows that would bear nothing to find them by, make one by itself first: where the answer does not give its
    key, no more are made at once."""
    ledger = case.world.ledger
    bare = ledger is not None and any(each.key is None and not ledger.would_bear(each) for each in made)
    tells = ledger.table(case.resource.name).tells_many if ledger is not None else None
    if ledger is None or not bare or tells:
        return
    if tells is False:
        raise Skipped("rows made at once would bear nothing to find them by, and the answer gives no keys")
    if line_schema(bulk.operation) is None and not _holds_objects(answer_schema(bulk.operation)):
        raise Skipped("rows made at once would bear nothing to find them by, and no answer is said to give their keys")
    one = await create_many(case, bulk, [await new_record(case)], "one record where several may be sent")
    ledger.table(case.resource.name).tells_many = one.keys[0] is not None


def _holds_objects(node: Node | None, depth: int = 2) -> bool:
    """Whether a schema has an array of objects, or one in its members."""
    shape = shape_of(node)
    inner = shape.properties.values() if depth else ()
    return shape_of(shape.item).is_object or any(_holds_objects(each, depth - 1) for each in inner)


#: How many rows are read by keys that an answer gives with nothing else.
_MOST_READ = 50
#: Records that share a value with more others than this are not told apart by it.
_MANY_ALIKE = 50


def _answered(
    case: Case, told: Told, listing: Listing | None, made: Sequence[Made], numbers: Sequence[int]
) -> dict[int, Key]:
    """The keys that an answer gives to rows, by the number of the record that each shows, in the list or else in the
    answer: the one that has most values of the row, in doubt the one in its place."""
    rest = dict(zip(numbers, made, strict=True))
    by_value: dict[tuple[str, Any], list[int]] = {}
    for number, each in rest.items():
        for pair in _plain(each.record):
            by_value.setdefault(pair, []).append(number)
    found: dict[int, Key] = {}
    for place, row in enumerate(told.rows):
        key = case.client.key_of(row) if row else None
        if key is None or row is None or key in found.values():
            continue
        shown = listing.by_key.get(key, row) if listing is not None else row
        here = numbers[place : place + 1]
        pairs = [pair for pair in _plain(shown) if len(by_value.get(pair, ())) <= _MANY_ALIKE]
        alike = Counter(number for pair in pairs for number in by_value.get(pair, ()))
        near = [each for each in (*here, *alike) if each in rest]
        if near:
            nearest = max(near, key=lambda each: (alike[each], each in here))
            rest.pop(nearest)
            found[nearest] = key
    return found


def _plain(record: Mapping[str, Any]) -> list[tuple[str, Any]]:
    return [pair for pair in record.items() if isinstance(pair[1], str | int | float)]


def told_by(case: Case, answer: Answer, keys: Sequence[Key | None]) -> Told:
    """What an answer to a request with items of these keys (None where they are not known) says of them."""
    if not answer.ok:
        return Told()
    number = len(keys)
    rows: list[Row | None] = []
    refused: set[int] = set()
    count: int | None = None
    each = vague = False
    done = _done(answer.json, keys)
    for name, items in _arrays(answer.json):
        if _REFUSED.search(name):
            meant = [_meant(item, index, keys, len(items) == number) for index, item in enumerate(items)]
            refused |= {place for places in meant for place in places}
            vague |= not all(meant)
            each = True
            continue
        outcomes = [_outcome(item) for item in items]
        if items and all(outcome is not None for outcome in outcomes):
            each = True
            rows = [None] * number
            for index, (item, outcome) in enumerate(zip(items, outcomes, strict=True)):
                place = _place(item, index)
                if not outcome:
                    refused.add(place)
                elif 0 <= place < number:
                    rows[place] = _row(case, item)
        elif not rows:
            rows = [_row(case, item) for item in items]
    if done is not None and (refused or vague):
        refused, vague = set(range(number)) - done, False
    each &= not vague
    if isinstance(answer.json, dict):
        whole = {name: value for name, value in answer.json.items() if type(value) is int}
        failed = [value for name, value in whole.items() if _REFUSED.search(name)]
        numbers = [value for name, value in whole.items() if _COUNTS.search(name) and not _REFUSED.search(name)]
        count = numbers[0] if numbers else None
        if any(failed) and not refused:
            each = False  # it says how many failed, and which ones nowhere
    elif isinstance(answer.json, int) and not isinstance(answer.json, bool):
        count = answer.json
    return Told(tuple(rows), frozenset(refused), count, each)


def _meant(item: Mapping[str, Any], index: int, keys: Sequence[Key | None], one_each: bool) -> set[int]:
    """The places of the items that a refusal is of: the one that it tells, those whose keys it names, or its own where
    there are as many refusals as items."""
    if any(type(item.get(name)) is int for name in _PLACES):
        return {_place(item, index)}
    words = {word for text in texts_in(item) for word in re.findall(r"[\w.-]+", text)}
    named = {place for place, key in enumerate(keys) if key is not None and key_text(key) in words}
    return named or ({index} if one_each else set())


def _done(body: Any, keys: Sequence[Key | None]) -> set[int] | None:
    """The places of the items that an answer lists as done, by their keys alone; None where it has no such list."""
    places = {key_text(key): place for place, key in enumerate(keys) if key is not None}
    for name, values in _plain_arrays(body):
        if not _REFUSED.search(name) and _COUNTS.search(name) and {str(value) for value in values} <= places.keys():
            return {places[str(value)] for value in values}
    return None


def _plain_arrays(body: Any, name: str = "", depth: int = 2) -> Iterator[tuple[str, list[Any]]]:
    """The arrays of plain values in a body, by name."""
    if isinstance(body, list) and not any(isinstance(item, dict | list) for item in body):
        yield name, body
    elif isinstance(body, dict) and depth:
        for key, value in body.items():
            yield from _plain_arrays(value, key, depth - 1)


def _arrays(body: Any, name: str = "", depth: int = 2) -> list[tuple[str, list[Any]]]:
    """The arrays of objects in a body, by name."""
    if isinstance(body, list):
        return [(name, body)] if all(isinstance(item, dict) for item in body) else []
    if not isinstance(body, dict) or not depth:
        return []
    return [found for key, value in body.items() for found in _arrays(value, key, depth - 1)]


def _outcome(item: Mapping[str, Any]) -> bool | None:
    """Whether an item's own result is a success; None where it is no result."""
    for name in ("status", "statusCode", "status_code", "code"):
        value = item.get(name)
        if isinstance(value, int) and 100 <= value < 600:
            return value < 400
        if isinstance(value, str) and re.fullmatch(r"[1-5]\d\d", value):
            return int(value) < 400
    for name in ("success", "ok", "succeeded"):
        if isinstance(item.get(name), bool):
            return bool(item[name])
    if item.get("error") or item.get("errors"):
        return False
    return None


def _place(item: Mapping[str, Any], index: int) -> int:
    for name in _PLACES:
        value = item.get(name)
        if isinstance(value, int) and not isinstance(value, bool):
            return value - 1 if name == "line" else value
    return index


def _row(case: Case, item: Any) -> Row | None:
    """The row that an item is, or holds."""
    if not isinstance(item, dict):
        return None
    if case.client.key_of(item) is not None:
        return item
    for value in item.values():
        if isinstance(value, dict) and case.client.key_of(value) is not None:
            return value
    return None


# -- what a request for many may do -------------------------------------------------------------------


def making(case: Case, records: Sequence[Mapping[str, Any]]) -> Act:
    return Act("create", tuple(Made(case.resource.name, dict(record)) for record in records))


def changing(case: Case, bulk: Bulk, items: Sequence[Mapping[str, Any]]) -> Act:
    """What changes of many rows may do, each item being a row's key and its new values; one change on the path of all
    rows it may make to them all, if the keys are ignored."""
    name, names = case.resource.name, case.resource.key_fields
    keys = tuple((name, tuple(item[each] for each in names)) for item in items)
    on_all = bool(bulk.beside) and plain(bulk.operation.path) == plain(case.resource.collection or "")
    return Act("change", tuple(Made(name, dict(item)) for item in items), keys, on_all)


def removing(case: Case, bulk: Bulk, keys: Sequence[Key]) -> Act:
    """What a removal of many rows may do; on the path of all rows it may take them all, if the keys are ignored."""
    on_all = bulk.operation.method == "DELETE" and plain(bulk.operation.path) == plain(case.resource.collection or "")
    return Act("remove", (), tuple((case.resource.name, key) for key in keys), on_all)


def key_items(case: Case, bulk: Bulk, keys: Sequence[Key]) -> list[Any]:
    """Keys as the items of a request: plain values, or objects."""
    names = case.resource.key_fields
    objects = len(names) > 1
    media = bulk.operation.body.content[0].schema if bulk.operation.body and bulk.operation.body.content else None
    if bulk.inner:
        objects = not bulk.keys
    elif media is not None and bulk.form in {"array", "wrapped"}:
        array = shape_of(media).properties.get(bulk.name) if bulk.name else media
        objects = shape_of(shape_of(array).item).is_object
    return [dict(zip(names, key, strict=True)) if objects else key[0] for key in keys]
