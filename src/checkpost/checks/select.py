"""Field selection: exactly the fields that are asked for, also beside filters and orders."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Sequence

from checkpost.checks.asking import Reply, ask, differing, snapshot_of, spelled
from checkpost.checks.case import Case
from checkpost.checks.registry import Skipped, check
from checkpost.findings import Finding, Severity
from checkpost.model.query import Compare, Order, Query
from checkpost.model.spelling import Inexpressible, Selecting
from checkpost.oracle.columns import Snapshot
from checkpost.oracle.filter import Reading, evaluate
from checkpost.oracle.order import out_of_order
from checkpost.oracle.same import same
from checkpost.values.operands import conditions

#: Members of rows that are links or notes of the format and come with any selection.
_BESIDE = re.compile(r"^[@$_]|^(?:links|meta|relationships|type|href|self|id)$")

#: In how many rows is looked for rows inside them.
_LOOKED_AT = 20


def _selecting(case: Case) -> Selecting:
    selecting = case.resource.queries.selecting
    if selecting is None:
        raise Skipped("neither contract nor profile describes a selection of fields")
    return selecting


def _is_plain(name: str) -> bool:
    """Whether a member of a row is a field like others: links and notes come and go by rules of their own."""
    return not re.match(r"[@$_]|(?:links|meta|relationships)$", name)


def _rows_inside(case: Case, snapshot: Snapshot) -> set[str]:
    """Members that hold rows of other resources: whether they come along is no matter of fields."""
    stated = {each.name for each in (*case.resource.embedded, *case.resource.nested)}
    keys = {name for each in case.world.model.resources if each.key is not None for name in each.key.fields}
    held = {
        name
        for row in snapshot.rows[:_LOOKED_AT]
        for name, value in row.items()
        for each in (value if isinstance(value, list) else [value])
        if isinstance(each, dict) and keys & each.keys()
    }
    return stated | held


def _keys(case: Case) -> tuple[str, ...]:
    return case.resource.key_fields


def _selections(case: Case, selecting: Selecting, snapshot: Snapshot) -> list[tuple[str, ...]]:
    listed = selecting.fields
    names = [name for name in snapshot.fields if (name in listed if listed is not None else _is_plain(name))]
    inside = _rows_inside(case, snapshot) if listed is None else set()
    if listed is None and snapshot.rows:  # what no row shows may be asked for in another way, or never be there
        shown = {name for row in snapshot.rows for name in row}
        names = [name for name in names if name in shown]
    rest = [name for name in names if name not in _keys(case) and name not in inside]
    # a key that stands beside the fields is always there, and is none of them
    beside = not case.resource.layout.plain or bool(case.resource.envelope.key_beside)
    keys = tuple(name for name in names if name in _keys(case) and not beside)
    single = [(name,) for name in rest[:1]]
    pairs = [(*keys, *rest[1:3])] if len(rest) > 2 else []
    return [each for each in [*single, *pairs, (*keys, *reversed(rest[-3:])), keys] if each]


@check("select.fields", needs=("list",), cost=lambda resource: 4 if resource.queries.selecting else 0)
async def selected_fields(case: Case) -> AsyncIterator[Finding]:
    """Do rows hold exactly the fields that are asked for, with their values?"""
    selecting = _selecting(case)
    snapshot = await snapshot_of(case)
    found: dict[str, list[tuple[tuple[str, ...], Reply, str]]] = {}
    chosen = dict.fromkeys(_selections(case, selecting, snapshot))
    for names in chosen:
        reply = await ask(case, spelled(case, Query(select=names)), "a selection of fields")
        if reply.rows is None:
            if reply.refused:
                found.setdefault("refused", []).append((names, reply, str(reply.exchange.answer.status)))
            continue
        # some leave out what has no value, in whole rows too
        always = {name for name in names if all(name in row for row in snapshot.rows)}
        lacking = sorted({name for row in reply.rows for name in always if name not in row})
        allowed = {*names, *_keys(case), *case.resource.layout.beside}
        known = {name for name in snapshot.fields if not _BESIDE.search(name)} - _rows_inside(case, snapshot)
        further = sorted({name for row in reply.rows for name in row if name in known and name not in allowed})
        if lacking:
            found.setdefault("lacking", []).append((names, reply, f"rows without {', '.join(lacking)}"))
        elif further:
            found.setdefault("further", []).append((names, reply, f"also {', '.join(further)}"))
        elif wrong := _wrong_value(case, snapshot, reply, names):
            found.setdefault("value", []).append((names, reply, wrong))
    if "value" in found:
        # what somebody has changed meanwhile is as the whole list has it now
        now = await snapshot_of(case, anew=True)
        found["value"] = [each for each in found["value"] if _wrong_value(case, now, each[1], each[0])]
        found = {kind: trials for kind, trials in found.items() if trials}
    titles = {
        "refused": "A documented selection of fields is refused",
        "lacking": "A field that is asked for is missing",
        "further": "Fields are shown that were not asked for",
        "value": "A field has another value when it is selected",
    }
    if "refused" in found and selecting.reason.certainty != "stated" and len(found["refused"]) == len(chosen):
        raise Skipped(f"every selection was refused, so that {selecting.parameter} is taken to mean something else")
    for kind, trials in found.items():
        names, reply, observed = trials[0]
        yield case.finding(
            "error",
            "contract",
            titles[kind],
            f"only {', '.join(names)}" if kind == "further" else f"rows with {', '.join(names)}",
            observed,
            cause=f"select {kind}",
            purpose="list",
            place=selecting.place,
            subjects=[" + ".join(each[0]) for each in trials],
            evidence=[reply.exchange],
        )


def _wrong_value(case: Case, snapshot: Snapshot, reply: Reply, names: Sequence[str]) -> str:
    for row in reply.rows or ():
        key = case.client.key_of(row)
        place = snapshot.positions.get(key) if key is not None else None
        for name in names if place is not None else ():
            assert place is not None
            if (
                name in case.settable
                and name in row
                and not same(case.fields[name], snapshot.rows[place].get(name), row[name])
            ):
                return f"{name} {row[name]!r}, which is {snapshot.rows[place].get(name)!r} in the whole list"
    return ""


@check("select.unknown", needs=("list",), cost=lambda resource: 1 if resource.queries.selecting else 0)
async def unknown_field(case: Case) -> AsyncIterator[Finding]:
    """Is the selection of an unknown field refused, or left without it?"""
    selecting = _selecting(case)
    await snapshot_of(case)
    reply = await ask(case, spelled(case, Query(select=("no_such_field",))), "an unknown field")
    if not reply.rows:
        return
    shown = {name for row in reply.rows for name in row if not _BESIDE.search(name)} - set(_keys(case))
    severity: Severity = "warning" if selecting.fields is not None else "note"
    documented = [each.status for each in case.operation("list").responses if each.status in {"400", "422", "4XX"}]
    if documented or len(shown) > 1:
        yield case.finding(
            severity,
            "contract" if selecting.fields is not None else "expectation",
            "A selection of an unknown field is accepted",
            f"a refusal ({' or '.join(documented) or '400'})",
            f"{reply.exchange.answer.status} with rows of {', '.join(sorted(shown)) or 'no fields'}",
            cause="unknown selection",
            purpose="list",
            place=selecting.place,
            evidence=[reply.exchange],
        )


@check("select.combined", needs=("list",), cost=lambda resource: 2 if resource.queries.selecting else 0)
async def beside_filter_and_order(case: Case) -> AsyncIterator[Finding]:
    """Do filter, order and page hold for fields that are not selected?"""
    from checkpost.checks.filtering import filtering_of
    from checkpost.checks.sort import other_order

    selecting = _selecting(case)
    snapshot = await snapshot_of(case)
    keys = _keys(case)
    if not keys or (selecting.fields is not None and not set(keys) <= set(selecting.fields)):
        raise Skipped("its key is not known, or cannot be selected")
    condition: Compare | None = None
    try:
        filtering = await filtering_of(case)
        condition = next(
            (
                each
                for field in snapshot.fields.values()
                if field.name not in keys and field.kind in {"number", "boolean"}
                for operator in filtering.operators(field.name)
                if operator in {"gt", "eq"}
                for each in conditions(field, [operator], snapshot, "absent")
                if 1 < int(evaluate(each, snapshot, Reading()).true.sum()) < len(snapshot)
            ),
            None,
        )
    except Skipped:
        pass
    order = await other_order(case, snapshot, condition)
    if condition is None and not order:
        raise Skipped("there is nothing to combine a selection with")
    query = Query(condition, order, keys)
    alone = await ask(case, spelled(case, replace_select(query)), "filter and order")
    try:
        reply = await ask(case, spelled(case, query), "filter, order and selection")
    except Inexpressible:
        raise Skipped("they cannot be written together") from None
    if alone.rows is None or reply.rows is None:
        return
    wanted = [case.client.key_of(row) for row in alone.rows]
    got = [case.client.key_of(row) for row in reply.rows]
    places = [snapshot.positions[key] for key in got if key is not None and key in snapshot.positions]
    unordered = out_of_order(snapshot, places, order) if order else None
    if set(wanted) != set(got) or (unordered is not None and out_of_order_alone(snapshot, wanted, order) is None):
        lost = [snapshot.positions[key] for key in set(wanted) - set(got) if key in snapshot.positions and key]
        more = [snapshot.positions[key] for key in set(got) - set(wanted) if key in snapshot.positions and key]
        names = [each.field for each in order] + ([condition.field] if condition else [])
        yield case.finding(
            "error",
            "expectation",
            "A selection changes which rows come, or their order",
            f"the rows that {query} gives without it",
            f"{len(lost)} rows missing, {len(more)} too many" if lost or more else "another order",
            cause="select combined",
            purpose="list",
            place=selecting.place,
            evidence=[alone.exchange, reply.exchange],
            rows=differing(snapshot, "missing", lost, names) + differing(snapshot, "surplus", more, names),
        )


def replace_select(query: Query) -> Query:
    return Query(query.condition, query.order)


def out_of_order_alone(snapshot: Snapshot, keys: Sequence[object], order: Sequence[Order]) -> tuple[int, int] | None:
    places = [snapshot.positions[key] for key in keys if key in snapshot.positions]
    return out_of_order(snapshot, places, order)
