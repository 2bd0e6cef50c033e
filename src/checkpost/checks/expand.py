"""Rows inside rows: what is expanded, or always there, is what reading it by itself gives."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from checkpost.checks.asking import ask, snapshot_of
from checkpost.checks.case import Case
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.shown import shown
from checkpost.checks.sublist import settable_in
from checkpost.findings import Finding
from checkpost.model.purpose import Purpose
from checkpost.model.relation import Expanded, Expansion
from checkpost.model.resource import Resource
from checkpost.oracle.same import differences, same
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Asked, Key, Row, key_text

#: Members that hold what is expanded, where it does not stand in the row itself.
_BESIDE = ("_embedded", "_expanded", "expand", "_expand", "relations", "_related")
_MOST_DEEP = 3
#: An API may show a few of many rows, and say so nowhere.
_ABSENT = "A requested expansion is missing"
_CUT = "An expansion leaves out rows that belong to the row"


@dataclass(frozen=True)
class Known:
    """The rows of another resource by key, and those that belong to each row; ``whole`` says whether all are
    known."""

    rows: Mapping[Key, Row]
    belonging: Mapping[Any, set[Key]]
    whole: bool


async def _known(case: Case, each: Expanded) -> Known:
    """Raises Skipped, Blocked where they cannot be read."""
    model = case.world.model
    target = model.resource(each.resource)
    if target is None or "list" not in target.operations or each.via is None:
        raise Skipped(f"what {each.name} should hold cannot be determined")
    snapshot = await snapshot_of(case.other(target))
    rows = {key: dict(row) for key, row in zip(snapshot.keys, snapshot.rows, strict=True) if key is not None}
    belonging: dict[Any, set[Key]] = {}
    if each.many and each.through is None:
        for key, row in rows.items():
            belonging.setdefault(row.get(each.via), set()).add(key)
    elif each.many:
        between = model.resource(each.through or "")
        if between is None or "list" not in between.operations:
            raise Skipped(f"the rows of {each.through} cannot be read")
        for link in (await snapshot_of(case.other(between))).rows:
            belonging.setdefault(link.get(each.via), set()).add((link.get(each.far or ""),))
    return Known(rows, belonging, snapshot.whole)


def held(row: Row, each: Expanded) -> Any:
    """What a row holds under an expansion's name. Raises LookupError where there is nothing."""
    if each.name in row and not (each.name == each.via and not isinstance(row[each.name], dict)):
        return row[each.name]
    for name in _BESIDE:
        inside = row.get(name)
        if isinstance(inside, dict) and each.name in inside:
            return inside[each.name]
    if each.via is not None and not each.many and isinstance(row.get(each.via), dict):
        return row[each.via]
    raise LookupError(each.name)


def with_included(body: Any, target: Resource, each: Expanded, row: Row, key: Key | None) -> Row:
    """A row with what a compound document holds of it beside the rows (JSON:API 1.1, 7.4)."""
    included = body.get("included") if isinstance(body, dict) else None
    if not isinstance(included, list) or target.layout.plain or target.key is None:
        return row
    name = target.key.fields[-1]
    rows = [target.layout.flat(item) for item in included if isinstance(item, dict)]
    if each.many:
        own = [inner for inner in rows if key is not None and str(inner.get(each.via or "")) == str(key[-1])]
        return {**row, each.name: own}
    reference = row.get(each.via or "")
    found = next((inner for inner in rows if str(inner.get(name)) == str(reference)), None)
    return row if reference is None or found is None else {**row, each.name: found}


def _fault(
    case: Case, target: Resource, each: Expanded, known: Known, row: Row, base: Row
) -> tuple[str, str, str] | None:
    """What is wrong with what a row holds (title, expected, observed); None where nothing is. ``base`` is the
    row as the list shows it."""
    fields = {field.name: field for field in target.fields}
    names = target.key_fields

    def key_of(inside: Any) -> Key | None:
        values = tuple(inside.get(name) for name in names) if isinstance(inside, dict) else ()
        return values if values and None not in values else None

    try:
        inside = held(row, each)
    except LookupError:
        if each.many and known.whole and not known.belonging.get(_own(case, base)):
            return None
        reference = None if each.many else base.get(each.via or "")
        if not each.many and reference is None:
            return None
        return _ABSENT, each.name, "no such member"
    if each.many:
        if not isinstance(inside, list):
            return "An expansion is no list", f"a list of {target.name}", shown(inside, 60)
        keys = [key_of(item) for item in inside]
        if any(key is None for key in keys):
            return None
        wanted = known.belonging.get(_own(case, base), set())
        surplus, missing = set(keys) - wanted, wanted - set(keys)
        if known.whole and (surplus or missing or len(keys) != len(set(keys))):
            return (
                "An expansion holds rows that do not belong to the row" if surplus or not missing else _CUT,
                f"{len(wanted)} rows of {target.name}",
                f"{len(keys)}: {len(surplus)} too many, {len(missing)} missing",
            )
        pairs = [(known.rows.get(key), item) for key, item in zip(keys, inside, strict=True) if key is not None]
    else:
        reference = base.get(each.via or "")
        if isinstance(reference, dict) or (reference is None and each.via not in base):
            return None  # documents need not show what they refer to unless it is asked for (JSON:API 1.1, 7.6)
        if reference is None or inside is None:
            if reference is None and inside is None:
                return None
            if inside is None and known.whole and (reference,) not in known.rows:
                return None  # it leads to nothing, which is another matter
            expected = "null, as the reference is" if reference is None else f"the row {reference!r} of {target.name}"
            return "An expansion is not the row that is referred to", expected, shown(inside, 60)
        key = key_of(inside)
        if key is not None and not same(fields.get(names[-1]), reference, key[-1]):
            return "An expansion is not the row that is referred to", f"the row {reference!r}", f"the row {key[-1]!r}"
        pairs = [(known.rows.get((reference,)), inside)]
    for row_itself, item in pairs:
        wrong = differences(fields, row_itself or {}, item, settable_in(target)) if isinstance(item, dict) else []
        if wrong and row_itself is not None:
            name = wrong[0]
            return (
                "An expanded row is not what reading it gives",
                f"{name} = {shown(row_itself[name])}",
                f"{name} = {shown(item[name])}",
            )
    return None


def _own(case: Case, row: Row) -> Any:
    key = case.client.key_of(row)
    return key[-1] if key else None


@check("relate.expand", needs=("list",), cost=lambda resource: 4 * len(resource.embedded))
async def expansions(case: Case) -> AsyncIterator[Finding]:
    """Does a row hold, where it is asked for, the rows that reading them one by one gives?"""
    if not case.resource.embedded:
        raise Skipped("rows hold no rows of other resources")
    asked = False
    for each in case.resource.embedded:
        target = case.world.model.resource(each.resource)
        try:
            known = await _known(case, each)
        except (Skipped, Blocked) as why:
            case.remark(str(why))
            continue
        assert target is not None
        if not await _taken(case, each):
            case.remark(f"what can be expanded is not stated, and {each.name} shows nothing")
            continue
        for purpose in _purposes(case, each):
            asked = True
            found = await _expanded(case, each, target, known, purpose)
            if found is not None and not await _still(case, each, target, purpose):
                found = None
            if found is not None:
                yield found
                break
    if not asked:
        raise Skipped("; ".join(case.remarks) or "nothing can be expanded")


async def _taken(case: Case, each: Expanded) -> bool:
    """Whether a name can be expanded: one that is only guessed has to show a row in the list."""
    expansion = case.resource.expansion
    if each.always or expansion is None or expansion.choices or each.reason.certainty != "guess":
        return True
    reply = await ask(case, Asked(_pairs(case, each)), f"rows with {each.name} expanded")
    return any(isinstance(row.get(each.name), dict) for row in reply.rows or ())


def _purposes(case: Case, each: Expanded) -> list[Purpose]:
    expansion = case.resource.expansion
    purposes: tuple[Purpose, ...] = ("list", "read")
    if each.always:
        return [purpose for purpose in purposes if case.has(purpose)]
    return [purpose for purpose in purposes if expansion is not None and purpose in expansion.purposes]


def _pairs(case: Case, each: Expanded, name: str = "") -> tuple[tuple[str, Any], ...]:
    expansion = case.resource.expansion
    return tuple(expansion.pairs([name or each.name])) if expansion is not None and not each.always else ()


async def _still(case: Case, each: Expanded, target: Resource, purpose: Purpose) -> bool:
    """Whether it is found again on rows that are read anew."""
    await snapshot_of(case, anew=True)
    await snapshot_of(case.other(target), anew=True)
    between = case.world.model.resource(each.through or "")
    if between is not None:
        await snapshot_of(case.other(between), anew=True)
    return await _expanded(case, each, target, await _known(case, each), purpose) is not None


async def _expanded(case: Case, each: Expanded, target: Resource, known: Known, purpose: Purpose) -> Finding | None:
    """The finding about one expansion, in the list or in single rows."""
    snapshot = await snapshot_of(case)
    base = {key: dict(row) for key, row in zip(snapshot.keys, snapshot.rows, strict=True) if key is not None}
    answers: list[tuple[Exchange, Row]] = []
    if purpose == "list":
        reply = await ask(case, Asked(_pairs(case, each)), f"rows with {each.name} expanded")
        if reply.rows is None:
            return _refused(case, each, reply.exchange, purpose) if reply.refused else None
        answers = [(reply.exchange, row) for row in reply.rows]
    else:
        for key in _telling(each, base, known, case):
            exchange = await case.send("read", f"a row with {each.name} expanded", key=key, query=_pairs(case, each))
            row = case.client.row_in(exchange.answer) if exchange.answer.ok else None
            if row is None:
                return _refused(case, each, exchange, purpose) if exchange.answer.refused else None
            answers.append((exchange, row))
    for exchange, row in answers:
        own = case.client.key_of(row)
        if own is None or own not in base:
            continue
        row = with_included(exchange.answer.json, target, each, row, own)
        fault = _fault(case, target, each, known, row, base[own])
        if fault is None:
            known_fields = [name for name in case.settable if name not in case.state.disputed]
            changed = differences(case.fields, base[own], row, known_fields)
            if changed and not (len(changed) == 1 and changed[0] == each.via):
                name = changed[0]
                fault = "A row changes when it is expanded", f"{name} = {shown(base[own][name])}", shown(row[name])
        if fault is not None:
            title, expected, observed = fault
            return case.finding(
                # an object that is only like the other's rows may be a copy of what they were
                "warning" if title == _CUT or each.reason.certainty == "guess" else "error",
                "contract" if each.reason.certainty == "stated" or each.always else "expectation",
                title,
                f"{expected}, for the row {key_text(own)}",
                observed,
                cause=title if title == _ABSENT else f"{title} {each.name}",
                purpose=purpose,
                subjects=[each.name],
                evidence=[exchange],
            )
    return None


def _telling(each: Expanded, base: Mapping[Key, Row], known: Known, case: Case) -> list[Key]:
    """Rows that show an expansion: with several rows in it, with none, and a usual one."""
    if each.many:
        ranked = sorted(base, key=lambda key: len(known.belonging.get(key[-1], ())))
    else:
        ranked = sorted(base, key=lambda key: base[key].get(each.via or "") is not None)
    return list(dict.fromkeys([*ranked[-1:], *ranked[:1], *ranked[len(ranked) // 2 :][:1]]))


def _refused(case: Case, each: Expanded, exchange: Exchange, purpose: Purpose) -> Finding | None:
    expansion = case.resource.expansion
    if expansion is None or each.name not in expansion.choices or exchange.answer.status in {401, 403}:
        return None
    return case.finding(
        "error",
        "contract",
        "A documented expansion is refused",
        f"rows with {each.name}",
        str(exchange.answer.status),
        cause="expansion refused",
        purpose=purpose,
        subjects=[each.name],
        evidence=[exchange],
    )


@check("relate.expand-deep", needs=("list",), cost=lambda resource: 3 if resource.expansion else 0)
async def deep_expansions(case: Case) -> AsyncIterator[Finding]:
    """Do rows inside rows inside rows lead to the rows that they should, as deep as the contract names them?"""
    expansion = case.resource.expansion
    if expansion is None:
        raise Skipped("the contract has no expansion")
    deep = [name for name in expansion.choices if "." in name or "/" in name]
    outer = {each.name: each for each in case.resource.embedded}
    asked = 0
    for name in deep:
        first, _, second = name.replace("/", ".").partition(".")
        target = case.world.model.resource(outer[first].resource) if first in outer else None
        inner = next((each for each in (target.embedded if target else ()) if each.name == second), None)
        if target is None or inner is None or inner.many or outer[first].many or asked == _MOST_DEEP:
            continue
        beyond = case.world.model.resource(inner.resource)
        if beyond is None:
            continue
        try:
            known = await _known(case.other(target), inner)
        except (Skipped, Blocked):
            continue
        reply = await ask(case, Asked(tuple(expansion.pairs([name]))), f"rows with {name} expanded")
        asked += 1
        for row in reply.rows or ():
            row = with_included(reply.exchange.answer.json, target, outer[first], row, case.client.key_of(row))
            try:
                middle = held(row, outer[first])
            except LookupError:
                middle = {}
            if not isinstance(middle, dict):
                continue
            fault = (
                _fault(case.other(target), beyond, inner, known, middle, middle)
                if middle
                else (_ABSENT, first, "no such member")
            )
            if fault is not None:
                yield case.finding(
                    "error",
                    "contract",
                    fault[0],
                    f"{fault[1]}, under {first}",
                    fault[2],
                    cause=f"{fault[0]} {first}",
                    purpose="list",
                    subjects=[name],
                    evidence=[reply.exchange],
                )
                break
    if not asked:
        raise Skipped("the contract names nothing deeper than one row")


@check("relate.expand-unknown", needs=("list",), cost=lambda resource: 1 if resource.expansion else 0)
async def unknown_expansion(case: Case) -> AsyncIterator[Finding]:
    """Is an unknown expansion refused?"""
    expansion = case.resource.expansion
    if expansion is None:
        raise Skipped("the contract has no expansion")
    purpose: Purpose = "list" if "list" in expansion.purposes else "read"
    if purpose == "read" or not await _works(case, expansion):
        raise Skipped("expansion does not work in lists")
    reply = await ask(case, Asked(tuple(expansion.pairs([f"no_{case.world.mark}"]))), "an unknown expansion")
    if reply.rows is not None:
        documented = bool(expansion.choices) and any(
            each.status in {"400", "422", "4XX"} for each in case.operation(purpose).responses
        )
        yield case.finding(
            "warning" if documented else "note",
            "contract" if expansion.choices else "expectation",
            "An unknown expansion is ignored",
            "a refusal, such as 400",
            f"{reply.exchange.answer.status}, with rows",
            cause="unknown expansion",
            purpose=purpose,
            evidence=[reply.exchange],
        )


async def _works(case: Case, expansion: Expansion) -> bool:
    names: Sequence[str] = [each.name for each in case.resource.embedded if not each.always]
    for name in names[:1]:
        reply = await ask(case, Asked(tuple(expansion.pairs([name]))), f"rows with {name} expanded")
        return reply.rows is not None
    return False
