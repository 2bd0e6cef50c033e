"""Rows that the run has made without having learnt their keys, or the right ones."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from checkpost.checks.own import Own
from checkpost.rows.journal import Entry
from checkpost.rows.resemblance import match
from checkpost.values.coined import has_mark
from checkpost.wire.listing import Listing, Row

if TYPE_CHECKING:
    from checkpost.checks.case import Case


async def strays(case: Case, listing: Listing | None = None) -> list[tuple[Entry, Own]]:
    """Rows in the list, read anew unless it is given, that this check made without having learnt their keys;
    ``listing`` may be rows that were read by keys which an answer gave."""
    ledger, name = case.ledger, case.resource.name
    entries = [ledger.journal.entry(number) for number in case.made]
    lost = [each for each in entries if each is not None and each.resource == name and each.answered is None]
    if not lost or (listing is None and not case.has("list")):
        return []
    listing = listing if listing is not None else await case.listing()
    table = ledger.table(name)
    foreign = table.known - table.ever
    named = {each.key: each for each in reversed(lost) if each.key in listing.by_key and each.key not in foreign}
    pairs = [(entry, key) for key, entry in named.items() if key is not None and key not in table.own]
    # a list may still show rows of other checks that have gone since
    first = min(each.number for each in lost)
    gone_since = {key for key, last in table.left.items() if last > first}
    taken = foreign | table.own.keys() | gone_since | {key for _, key in pairs}
    pairs += match(
        case.resource, [each for each in lost if each.key is None], listing.by_key, taken, ledger.bears(case.resource)
    )
    # a row of another check's may be a little like a record that was refused
    rows = listing.by_key
    pairs = [(each, key) for each, key in pairs if each.status < 400 or _has_a_text_of(case, each, rows[key])]
    for entry, key in pairs:
        ledger.found(entry.number, key, listing.by_key[key])
    return [(entry, Own(key, entry.record, listing.exchanges[-1])) for entry, key in pairs]


def elsewhere(case: Case, own: Own, listing: Listing) -> Own | None:
    """A row that a create made, with the key that the list shows it under, where that is another than the answer
    gave; the answers' keys are not taken for true any more then."""
    ledger, name = case.ledger, case.resource.name
    entry = next((each for number in case.numbers(own.exchange) if (each := ledger.journal.entry(number))), None)
    if entry is None or case.client_keys or ledger.is_own(name, own.key):
        return None
    table = ledger.table(name)
    taken = (table.known - table.ever) | (table.own.keys() - {own.key})
    for _, key in match(case.resource, [entry], listing.by_key, taken | {own.key}, ledger.bears(case.resource)):
        ledger.moved(entry.number, own.key, key, listing.by_key[key])
        case.learn(case.client.session.wrong_keys, [name])
        case.misnamed = own.key
        return Own(key, own.record, own.exchange)
    return None


def _has_a_text_of(case: Case, entry: Entry, row: Row) -> bool:
    """Whether a row has a text that bears the run's mark in common with a record, if that has any."""
    mark = case.world.mark
    texts = {name: value for name, value in entry.record.items() if isinstance(value, str) and has_mark(value, mark)}
    shown = {name: str(row.get(name)).strip().casefold() for name in texts}
    # any text begins with an empty one
    return not texts or any(
        shown[name] and value.strip().casefold().startswith(shown[name]) for name, value in texts.items()
    )


def list_is_cut(case: Case, listing: Listing) -> None:
    """Note that the list ends before rows that are there, and nothing says so."""
    name, cut = case.resource.name, replace(listing, complete=False, partial="it is cut off", broken_off=True)
    case.world.session.cut[name] = len(listing.rows)
    case.state.before, case.state.snapshot = cut, None
    table = case.ledger.table(name)
    table.whole, table.before = False, cut
