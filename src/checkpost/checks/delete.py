"""Deleting rows, and looking again everywhere."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator

from checkpost.checks.case import Case
from checkpost.checks.read import succeeded_on_missing
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import again, forget
from checkpost.checks.vacancy import deleted, keep_vacant, vacant_key
from checkpost.findings import Finding
from checkpost.model.bins import lists_deleted
from checkpost.model.paths import normal
from checkpost.model.purpose import Purpose
from checkpost.model.shape import shape_of
from checkpost.wire.exchange import Exchange, Request
from checkpost.wire.listing import Asked, Key, key_text

_NEEDS: tuple[Purpose, ...] = ("create", "delete")


@check("delete.gone", needs=_NEEDS, creates=True, alone=True, gate=True, cost=lambda resource: 6)
async def deleted_is_gone(case: Case) -> AsyncIterator[Finding]:
    """Is a deleted row gone, by key and from the list?"""
    state = case.state
    try:
        await case.look_at_stuck()
        own = case.stuck() or (await case.own())[0]
    except Blocked as block:
        await _stays(case, f"whether its rows can be removed was not seen: {block}")
        raise
    exchange = await case.send("delete", "deleting a row", key=own.key)
    if exchange.answer.status >= 500 and await _is_gone(case, own.key):
        forget(case, own.key)
        state.deletes_fail = True
        case.forget_failure("delete", exchange)
        yield case.finding(
            "error",
            "expectation",
            f"DELETE answers {exchange.answer.status} although the row is deleted",
            "success",
            f"{exchange.answer.status}, and the row is gone",
            cause="gone with a failure",
            purpose="delete",
            evidence=[own.exchange, exchange],
        )
        return
    if case.is_open(exchange):
        await _stays(case, "deletes are answered 202: they are carried out later")
        raise Skipped("deletes are answered 202: they are carried out later, and cannot be followed")
    if not exchange.answer.ok:
        why = f"deleting a row answers {exchange.answer.status or exchange.answer.detail}"
        await _stays(case, f"rows cannot be removed: {why}")
        if exchange.answer.status in {401, 403, 405}:
            raise Blocked(f"the role {case.world.role.name} may create but not delete ({exchange.answer.status})")
        if exchange.answer.refused:
            # a documented refusal may be of rows in some state alone
            documented = str(exchange.answer.status) in {each.status for each in case.operation("delete").responses}
            yield case.finding(
                "warning" if documented else "error",
                "expectation",
                "Delete is refused",
                "success",
                why,
                cause="refused",
                purpose="delete",
                evidence=[own.exchange, exchange],
            )
            return
        raise Blocked(state.not_removable)
    evidence = [own.exchange, exchange]
    by_key = in_list = False
    if case.has("read"):
        read, row = await case.read(own.key, "a deleted row")
        by_key = row is not None and case.client.key_of(row) in (None, own.key) and case.is_still(own.key, row)
        if by_key:
            read, row = await case.read(own.key, "a deleted row")
            by_key = row is not None and case.is_still(own.key, row)
        evidence.append(read)
    if case.has("list"):
        listing = await case.listing()
        in_list = own.key in listing.by_key and case.is_still(own.key, listing.by_key[own.key])
        if in_list:
            listing = await case.listing()
            in_list = own.key in listing.by_key and case.is_still(own.key, listing.by_key[own.key])
            evidence.append(listing.exchanges[0])
    undone = by_key and in_list and await _goes_alone(case, own.key, evidence)
    if undone or not (by_key or in_list):
        forget(case, own.key)
        await _kept(case, own.key)
        if undone:
            yield case.finding(
                "error",
                "expectation",
                "A delete is undone while other requests are under way",
                "the row is gone, as it is when nothing else is under way",
                "success, and the row was still there, by its key and in the list",
                cause="everywhere:undone beside others",
                purpose="delete",
                evidence=evidence,
            )
        return
    state.not_removable = state.ghosts = "a deleted row is still there"
    title, seen = "Delete answers with success, but the row stays", "it is still there, by its key and in the list"
    if not in_list and case.has("list"):
        title, seen = "A deleted row can still be read", f"{evidence[2].answer.status} by its key"
    elif not by_key and case.has("read"):
        title, seen = "A deleted row is still in the list", "not found by its key, but in the list"
    yield case.finding(
        "error",
        "expectation",
        title,
        "the row is gone, by its key and from the list",
        seen,
        cause=f"not gone {by_key} {in_list}",
        purpose="delete",
        evidence=evidence,
    )


async def _goes_alone(case: Case, key: Key, evidence: list[Exchange]) -> bool:
    """Whether a row that a delete has left is gone when it is deleted with nothing else under way. Writes go one at a
    time from then on."""
    async with case.world.session.pace.alone():
        evidence.append(await case.send("delete", "deleting a row with nothing else under way", key=key))
        if not evidence[-1].answer.ok or not await _is_gone(case, key):
            return False
    case.world.session.gentle = True
    return True


async def _stays(case: Case, why: str) -> None:
    """Note why no more rows are made. What is there now, the run's own row too, is what lists are held against."""
    case.state.not_removable = why
    if case.has("list") and case.state.before is not None:
        listing = await case.listing()
        case.state.before = case.state.before if listing.problem else listing


#: Parameters that show rows which were deleted and are kept: beside the others, or alone.
_DELETED = re.compile(
    r"(with|include|show|and|list)?(soft)?(deleted|trashed|trash|removed|archived)(too|rows|records|items)?"
)
_DELETED_ALONE = re.compile(r"(only|just|is)?(soft)?(deleted|trashed|trash|removed|archived)(rows|records|items)?")


async def _kept(case: Case, key: Key) -> None:
    """Note whether a deleted row is kept, and shown in a list of such beside the list, or where that is asked for them:
    each row that is made stays so for good."""
    own, asked_for = case.resource.collection or "", set()
    for other in case.world.model.resources:
        if "list" in other.operations and lists_deleted(other.collection or "", own):
            asked_for.add(other.operations["list"].path)
            listing = await case.world.plain_client(other).whole_list(case.world.most_rows, case.check.name)
            if key in listing.by_key:
                case.state.kept = str(other.collection)
                case.remark(f"deleted rows are kept: {other.collection} shows them")
                return
    for operation in case.world.contract.operations:
        path = operation.path
        if operation.method != "GET" or "{" in path or path in asked_for or not lists_deleted(path, own):
            continue
        address = case.client.url(operation, None)  # it may be described as anything
        answer = (await case.world.session.send(Request("GET", address, case.world.role.name), case.check.name)).answer
        if answer.ok and key_text(key) in answer.text:
            case.state.kept = path
            case.remark(f"deleted rows are kept: {path} shows them")
            return
    asked = [each for each in case.operation("list").parameters if each.location == "query"] if case.has("list") else []
    names = {normal(each.name): each for each in asked if "boolean" in shape_of(each.schema).types}
    for form in (_DELETED, _DELETED_ALONE):
        found = next((each.name for name, each in names.items() if form.fullmatch(name)), None)
        if found is None:
            continue
        most, query = case.world.most_rows, Asked(((found, "true"),))
        listing = await case.client.whole_list(most, case.check.name, "the list with deleted rows", query)
        if key in listing.by_key:
            case.state.kept = found
            case.remark(f"deleted rows are kept: {found} shows them")
        return


async def _is_gone(case: Case, key: Key) -> bool:
    """Whether neither a read nor the list shows a row."""
    if case.has("read"):
        read, _ = await case.read(key, "a deleted row")
        if not case.client.absent(read.answer):
            return False
    if not case.has("list"):
        return case.has("read")
    listing = await case.listing()
    return listing.complete and key not in listing.by_key


@check("delete.again", needs=_NEEDS, creates=True, cost=lambda resource: 3)
async def deleting_again(case: Case) -> AsyncIterator[Finding]:
    """Is deleting a row a second time answered without a server error, as documented?"""
    own, evidence = await deleted(case)
    await keep_vacant(case, own.key)
    exchange = await case.send("delete", "deleting a row again", key=own.key)
    documented = [response.status for response in case.operation("delete").responses]
    if exchange.answer.ok and {"404", "410"} & set(documented) and not case.resource.by_filter:
        yield case.finding(
            "warning",
            "contract",
            f"Deleting a row again answers {exchange.answer.status}",
            next(status for status in documented if status in {"404", "410"}),
            str(exchange.answer.status),
            cause="any:missing key succeeds: delete",
            purpose="delete",
            evidence=[*evidence, exchange],
        )


@check("delete.missing-key", needs=("delete", "create"), creates=True, cost=lambda resource: 1)
async def missing_key(case: Case) -> AsyncIterator[Finding]:
    """Is deleting a key that was never there answered with "not found"?"""
    exchange = await case.send("delete", "a missing key", key=await vacant_key(case))
    documented = any(each.status in {"404", "410"} for each in case.operation("delete").responses)
    # DELETE is idempotent, and many answer 204 whether or not there was a row: only a promise makes it wrong
    if exchange.answer.ok and documented and not case.resource.by_filter:
        yield succeeded_on_missing(case, "delete", exchange)


#: How often the list is looked at once more where rows seem to be removed by a delete.
_LOOKS = 6


@check("delete.other-rows", needs=(*_NEEDS, "list"), creates=True, alone=True, cost=lambda resource: 8)
async def other_rows(case: Case) -> AsyncIterator[Finding]:
    """Does deleting one row leave all others there?"""
    lists = [await case.listing(), await case.listing()]
    if set(lists[0].by_key) - set(lists[1].by_key):
        raise Skipped("rows go by themselves: somebody else deletes some at the moment")
    lost: set[Key] = set()
    evidence: list[Exchange] = []
    for own in await case.own(2):
        lists.append(await case.listing())
        evidence = [own.exchange, await case.send("delete", "deleting a row", key=own.key)]
        if not evidence[-1].answer.ok:
            raise Blocked(f"deleting a row answers {evidence[-1].answer.status or evidence[-1].answer.detail}")
        forget(case, own.key)
        lists.append(await case.listing())
        if not all(listing.complete for listing in lists):
            raise Skipped("the list is too long to compare all rows, or cannot be read whole")
        lost = set(lists[-2].by_key) - set(lists[-1].by_key) - case.made_keys
        lost = {key for key in lost if case.was_there(key)}
        if not lost:
            return
    for _ in range(_LOOKS):  # nothing is deleted meanwhile: what goes all the same is somebody else's doing
        lists.append(await case.listing())
        if set(lists[-2].by_key) - set(lists[-1].by_key):
            raise Skipped("rows go by themselves: somebody else deletes some at the moment")
    yield case.finding(
        "error",
        "expectation",
        "Delete of one row removes others",
        "only the row with that key is gone",
        f"{len(lost)} more gone: {', '.join(key_text(key) for key in sorted(lost, key=str)[:3])}",
        cause="other rows",
        purpose="delete",
        evidence=evidence,
    )


@check("delete.key-not-reused", needs=_NEEDS, creates=True, alone=True, cost=lambda resource: 4)
async def key_is_not_reused(case: Case) -> AsyncIterator[Finding]:
    """Is the key of a deleted row not given to another one?"""
    key = case.resource.key
    if key is None or key.assigned_by == "client":
        raise Skipped("the client chooses the key")
    first = (await case.own())[0]
    removed = await case.send("delete", "deleting a row", key=first.key)
    if not removed.answer.ok:
        raise Blocked(f"deleting a row answers {removed.answer.status or removed.answer.detail}")
    forget(case, first.key)
    evidence = [first.exchange, removed]
    second = (await case.own())[0]
    if second.key == first.key:
        yield case.finding(
            "warning",
            "expectation",
            "The key of a deleted row is given to the next one",
            "a key that no row has had",
            key_text(second.key),
            cause="key reused",
            purpose="create",
            evidence=[*evidence, second.exchange],
        )


@check("delete.update-after", needs=(*_NEEDS, "update"), creates=True, cost=lambda resource: 4)
async def update_after_delete(case: Case) -> AsyncIterator[Finding]:
    """Does an update of a deleted row not bring it back?"""
    own, evidence = await deleted(case)
    names = [field.name for field in case.resource.writable("update") if own.record.get(field.name) is not None]
    if not names:
        raise Skipped("none of its fields can be changed")
    await keep_vacant(case, own.key)
    exchange = await case.send("update", "updating a deleted row", key=own.key, record={names[0]: own.record[names[0]]})
    _, row = await case.read(own.key, "a deleted row") if case.has("read") else (exchange, None)
    if row is not None and case.client.key_of(row) == own.key:
        again(case, own.key)
        yield case.finding(
            "error",
            "expectation",
            "Updating a deleted row brings it back",
            "not found",
            f"{exchange.answer.status}, and the row is there",
            cause="revived",
            purpose="update",
            evidence=[*evidence, exchange],
        )
