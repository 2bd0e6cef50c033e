"""References between tables: they lead to rows, none to nothing is taken, and none is left behind."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from typing import Any

from checkpost.checks.asking import differing, snapshot_of
from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.records import new_record
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.standing import beside
from checkpost.checks.strays import strays
from checkpost.checks.together import all_of
from checkpost.checks.trial import tried_first
from checkpost.checks.vacancy import unused_key
from checkpost.findings import Basis, Finding, Severity
from checkpost.model.purpose import Purpose, Write
from checkpost.model.relation import Relation
from checkpost.model.resource import Resource
from checkpost.oracle.same import same
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import key_text

_NEEDS: tuple[Purpose, ...] = ("create", "delete")
_MOST_LOOKED_UP = 20


def _weight(relation: Relation) -> tuple[Severity, Basis]:
    """How much it counts if a reference is not kept: where only its name suggests that it is one, little."""
    stated = relation.reason.certainty == "stated"
    return ("error", "contract") if stated else ("note", "expectation")


def _relations(case: Case, seen_in_part: bool = False) -> list[tuple[Relation, Resource]]:
    """The references of a resource with the resources that they lead to. Raises Skipped where there are none."""
    model = case.world.model
    found = [
        (each, target)
        for each in case.resource.relations
        if (target := model.resource(each.resource)) is not None and (seen_in_part or not target.under)
    ]
    if not found:
        raise Skipped("it has no references to other resources")
    return found


def _cost(resource: Resource) -> int:
    return 3 * len(resource.relations)


@check("relate.resolves", needs=("list",), cost=_cost)
async def resolves(case: Case) -> AsyncIterator[Finding]:
    """Does each reference lead to a row?"""
    relations = _relations(case)
    snapshot = await snapshot_of(case)
    for relation, target in relations:
        if "read" not in target.operations or relation.field not in snapshot.fields:
            continue
        told = await _known_keys(case, target)
        shown = [row.get(relation.field) for row in snapshot.rows]
        # where rows show the other row whole, its key is a member of it
        values = {each.get(relation.target) if isinstance(each, dict) else each for each in shown} - {None}
        unknown = sorted((each for each in values if isinstance(each, str | int) and str(each) not in told), key=str)
        other = case.other(target)
        looked_up = unknown[:_MOST_LOOKED_UP]
        answers = await all_of(other.read((each,), "a row that is referred to") for each in looked_up)
        case.requests += other.requests
        dangling = [
            value
            for value, (exchange, _) in zip(looked_up, answers, strict=True)
            if other.client.absent(exchange.answer)
        ]
        if not dangling:
            continue
        # what others have removed meanwhile is no longer referred to
        fresh = await snapshot_of(case, anew=True)
        places = [
            place
            for place, (key, row) in enumerate(zip(fresh.keys, fresh.rows, strict=True))
            if row.get(relation.field) in dangling and key not in case.made_keys and case.was_there(key)
        ]
        if places:
            severity, basis = _weight(relation)
            evidence = [exchange for exchange, _ in answers if other.client.absent(exchange.answer)]
            yield case.finding(
                severity,
                basis,
                "A reference points to no row",
                f"each {relation.field} is the key of a row of {target.name}",
                f"{len(places)} rows refer to what is not there, such as {dangling[0]!r}",
                cause=f"dangling {relation.field}",
                purpose="list",
                subjects=[relation.field],
                evidence=evidence[:1],
                rows=differing(fresh, "refers to nothing", places, [relation.field]),
            )


async def _is_seen(case: Case, relation: Relation, target: Resource) -> bool:
    """Whether some row holds the key of a row that it is to refer to."""
    told = await _known_keys(case, target)
    return any(str(row.get(relation.field)) in told for row in case.state.rows_before)


async def _known_keys(case: Case, target: Resource) -> set[str]:
    """The keys of the rows that may be referred to, as far as its list shows them, as texts: the keys of documents are
    texts of numbers."""
    state = case.world.state(target.name)
    if state.before is None and "list" in target.operations:
        state.before = await case.world.client(target).whole_list(case.world.most_rows, case.check.name)
    return {str(key[-1]) for key in state.before.by_key} if state.before is not None else set()


@check("relate.absent", needs=_NEEDS, creates=True, cost=_cost)
async def absent(case: Case) -> AsyncIterator[Finding]:
    """Is a reference to a missing row refused, on create and update, and nothing stored?"""
    names = case.resource.key_fields
    relations = [each for each in _relations(case, True) if each[0].field not in case.resource.values]
    for relation, target in relations:
        field = case.fields[relation.field]
        if not field.created or relation.field in names:
            continue
        if field.is_text and relation.reason.certainty != "stated" and not await _is_seen(case, relation, target):
            case.remark(f"that {relation.field} refers to {target.name} is only guessed, and no row shows it")
            continue
        try:
            value = (await unused_key(case.other(target)))[-1]
        except Skipped:
            continue
        if not case.world.valid(field, value):
            continue
        # first by a change to a row whose key is known: that can be removed even where the API can show it no more
        findings, shown = await _changed(case, relation, target, value)
        for finding in findings:
            yield finding
        if not shown:
            case.remark(f"a row with a missing {relation.field} is not shown any more, so that none is made with one")
            continue
        record = {**await new_record(case), relation.field: value}
        exchange, key = await case.create(record, "a reference to a missing row")
        case.state.in_columns |= exchange.answer.refused
        if exchange.answer.ok:
            yield _taken(case, relation, target, "create", value, [exchange])
        elif exchange.answer.refused and key is None:
            found = await strays(case)
            if found:
                yield _stored(case, relation, "create", exchange, found[0][1])


async def _changed(case: Case, relation: Relation, target: Resource, value: Any) -> tuple[list[Finding], bool]:
    """What is wrong when an own row is changed to refer to a missing one, and whether it can be shown then."""
    tried = await tried_first(case, relation.field, value, "a reference to a missing row")
    if tried is None:
        return [], True
    if tried.row is None:
        title, expected = "A reference to a missing row makes a row unreadable", f"a refusal: {target.name} has no row"
        cause = "unreadable by an absent reference"
        return tried.unreadable(case, title, f"{expected} {value!r}", repr(value), cause, relation.field), False
    own, exchange = tried.own, tried.exchange
    kept = same(case.fields[relation.field], value, tried.row.get(relation.field))
    if kept and exchange.answer.ok:
        return [_taken(case, relation, target, tried.purpose, value, [own.exchange, exchange])], True
    return ([_stored(case, relation, tried.purpose, exchange, own)] if kept and exchange.answer.refused else []), True


def _taken(
    case: Case, relation: Relation, target: Resource, purpose: Any, value: Any, evidence: Sequence[Exchange]
) -> Finding:
    severity, basis = _weight(relation)
    return case.finding(
        severity,
        basis,
        "A reference to a missing row is accepted",
        f"a refusal: {target.name} has no row {value!r}",
        f"{evidence[-1].answer.status} for {relation.field} = {value!r}",
        cause="absent reference taken",
        purpose=purpose,
        subjects=[relation.field],
        evidence=evidence,
    )


def _stored(case: Case, relation: Relation, purpose: Write, refused: Exchange, own: Own) -> Finding:
    return case.finding(
        "error",
        "expectation",
        "A reference is refused but stored",
        "nothing stored",
        f"{refused.answer.status}, and the row {key_text(own.key)} has it",
        cause="refused reference stored",
        purpose=purpose,
        subjects=[relation.field],
        evidence=[refused],
    )


@check("relate.deleted", needs=(*_NEEDS, "read"), creates=True, cost=lambda resource: 6)
async def deleted(case: Case) -> AsyncIterator[Finding]:
    """Does deleting a row that others refer to leave none of them behind, and a refusal leave both?"""
    asked = False
    for child in case.world.model.resources:
        for relation in child.relations:
            field = child.field(relation.field)
            keyed = child.key is not None and relation.field in child.key.fields
            usable = {"create", "delete", "read"} <= set(child.operations) and field is not None and field.created
            state = case.world.state(child.name)
            if relation.resource != case.resource.name or child is case.resource or not usable or keyed:
                continue
            if state.not_removable or state.not_creatable or child.key is None:
                continue
            asked = True
            async with beside(case, child) as other:
                async for finding in _deleted(case, other, relation):
                    yield finding
    if not asked:
        raise Skipped("nothing that refers to it can be made and removed")


async def _deleted(case: Case, other: Case, relation: Relation) -> AsyncIterator[Finding]:
    """Delete a row that a row of another resource (``other``) refers to."""
    parent = (await case.own())[0]
    record = {**await new_record(other), relation.field: parent.key[-1]}
    exchange, key = await other.create(record, "a reference to an own row")
    if key is None:
        status = exchange.answer.status or exchange.answer.detail
        raise Blocked(f"no row of {other.resource.name} that refers to it could be made ({status})")
    await other.row_now(key)  # proved: it may not be shown any more when what it refers to is gone
    removed = await case.send("delete", "a row that another refers to", key=parent.key)
    there, _ = await case.read(parent.key, "a row that another refers to")
    child, row = await other.read(key, "a row that refers to another")
    evidence = [parent.exchange, exchange, removed, there, child]
    subjects = [f"{other.resource.name}.{relation.field}"]
    severity, basis = _weight(relation)
    parent_gone, child_gone = case.client.absent(there.answer), other.client.absent(child.answer)
    if removed.answer.ok:
        forget(case, parent.key)
        if child_gone:
            forget(other, key)
        elif child.answer.status >= 500 and (await other.read(key, "that row again"))[0].answer.status >= 500:
            case.told_otherwise([child])
            yield case.finding(
                "error",
                "expectation",
                "Deleting a row makes rows that refer to it unreadable",
                f"a refusal, or the row of {other.resource.name} as far as it is there",
                f"{removed.answer.status}, and reading the row that refers to it {child.answer.status}",
                cause="unreadable orphans",
                purpose="delete",
                subjects=subjects,
                evidence=evidence,
            )
        elif row is not None and same(other.fields[relation.field], parent.key[-1], row.get(relation.field)):
            yield case.finding(
                severity,
                basis,
                "Delete leaves rows behind that refer to the deleted one",
                f"a refusal, or no row of {other.resource.name} with {relation.field} = {parent.key[-1]!r}",
                f"{removed.answer.status}, and {relation.field} is still {row.get(relation.field)!r}",
                cause="orphans",
                purpose="delete",
                subjects=subjects,
                evidence=evidence,
            )
    elif removed.answer.refused and (parent_gone or child_gone):
        what = "the row" if parent_gone else "a row that refers to it"
        yield case.finding(
            "error",
            "expectation",
            "A delete is refused but removes rows",
            "both rows as before",
            f"{removed.answer.status}, and {what} is gone",
            cause="refused delete",
            purpose="delete",
            subjects=subjects,
            evidence=evidence,
        )
