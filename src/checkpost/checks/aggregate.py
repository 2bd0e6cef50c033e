"""Aggregates: counts, sums, averages and extremes, grouped or not, against what the rows add up to."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from checkpost.checks.asking import snapshot_of, spelled
from checkpost.checks.case import Case
from checkpost.checks.registry import Skipped, check
from checkpost.checks.together import all_of
from checkpost.contract.contract import Operation
from checkpost.contract.pointer import walk
from checkpost.findings import Differing, Finding
from checkpost.model.field import Field
from checkpost.model.paths import normal
from checkpost.model.query import Compare, Condition, Function, Measure, Query
from checkpost.model.resource import Resource
from checkpost.model.spelling import Aggregating, Inexpressible
from checkpost.model.vocabulary import names_of
from checkpost.oracle.aggregate import Group, explains, groups_of, shown_value
from checkpost.oracle.columns import Mask, Snapshot
from checkpost.oracle.filter import Reading, evaluate
from checkpost.oracle.same import same
from checkpost.values.operands import conditions
from checkpost.wire.exchange import Exchange

_ABSENT: Any = object()
_MOST_GROUPS = 40
_NUMERIC: tuple[Function, ...] = ("sum", "avg", "min", "max")


@dataclass(frozen=True)
class Wrong:
    """An aggregate that is not what the rows come to."""

    measure: Measure
    group: Group
    expected: Any
    told: Any
    exchange: Exchange
    situation: str


def _aggregating(case: Case) -> Aggregating:
    aggregating = case.resource.queries.aggregating
    if aggregating is None:
        raise Skipped("neither contract nor profile describes aggregates")
    return aggregating


def _operation(case: Case, aggregating: Aggregating) -> Operation:
    operation = case.world.contract.operation("GET", aggregating.path)
    if operation is None:
        raise Skipped(f"the contract has no GET {aggregating.path}")
    return operation


def _measures(aggregating: Aggregating, snapshot: Snapshot) -> list[Measure]:
    """Functions of fields: numbers, and one date, one text for what applies to them."""
    shown = [each for each in snapshot.fields.values() if each.kind]
    numbers = [each for each in shown if each.kind == "number"]
    others = [next((each for each in shown if each.kind == kind), None) for kind in ("date", "date-time", "text")]
    found = []
    for function, template in aggregating.functions.items():
        takes_field = "{field}" in template
        if function == "count" and not takes_field:
            found.append(Measure("count"))
        elif function in {"count", "distinct"}:
            nullable = [each for each in shown if each.nullable][:1]
            found += [Measure(function, each.name) for each in [*nullable, *shown[-1:], *numbers[:1]]]
        else:
            found += [Measure(function, each.name) for each in numbers[:3]]
            if function in {"min", "max"}:
                found += [Measure(function, each.name) for each in others if each is not None]
    allowed = aggregating.fields
    fitting = [each for each in found if not each.field or each.field in allowed.get(each.function, (each.field,))]
    return list(dict.fromkeys(fitting))


def _groups(aggregating: Aggregating, snapshot: Snapshot) -> list[Field]:
    """Fields with few values that no collation takes for equal, one with nulls among them if there is one."""
    if not aggregating.group:
        return []
    found = []
    for field in snapshot.fields.values():
        if not field.kind or (aggregating.groups is not None and field.name not in aggregating.groups):
            continue
        values = {row.get(field.name) for row in snapshot.rows}
        folded = {str(value).casefold().strip() for value in values}
        few = 1 < len(values) <= min(_MOST_GROUPS, len(snapshot) - 1)
        if few and len(folded) == len(values) and all(str(value).isascii() for value in values):
            found.append(field)
    return sorted(found, key=lambda each: (not each.nullable, each.kind == "number"))[:3]


async def _send(
    case: Case,
    aggregating: Aggregating,
    measures: Sequence[Measure],
    groups: Sequence[str],
    condition: Condition | None,
) -> tuple[Exchange, list[dict[str, Any]] | None]:
    """Ask for aggregates; the rows of the result, None where it is refused."""
    pairs = aggregating.pairs(measures, groups)
    if condition is not None:
        pairs = [*spelled(case, Query(condition)).pairs, *pairs]
    operation = _operation(case, aggregating)
    case.requests += 1
    exchange = await case.client.get(operation, pairs, case.check.name, "aggregates")
    return exchange, _rows(exchange, aggregating) if exchange.answer.ok else None


def _rows(exchange: Exchange, aggregating: Aggregating) -> list[dict[str, Any]] | None:
    body = exchange.answer.json
    if aggregating.rows:
        try:
            body = walk(body, aggregating.rows)
        except LookupError:
            return None
    if isinstance(body, int | float) and not isinstance(body, bool):
        return [{"count": body}]
    if isinstance(body, dict):
        lists = [each for each in body.values() if isinstance(each, list)]
        inner = next((each for each in lists if all(isinstance(one, dict) for one in each)), None)
        scalar = any(not isinstance(each, dict | list) for each in body.values())
        return inner if inner is not None and not scalar else [body]
    if isinstance(body, list) and all(isinstance(each, dict) for each in body):
        return body
    return None


def told_in(row: Mapping[str, Any], measure: Measure, alone: bool) -> Any:
    """What a row of the result tells for a measure, under the names in use for it; ``_ABSENT`` where none
    does."""
    words = names_of(measure.function)
    field = normal(measure.field)
    wanted = {normal(Aggregating.alias_of(measure))}
    for word in words:
        wanted |= {word + field, field + word} if field else {word, f"{word}all", "total", "n", "rows"}
    for name, value in row.items():
        if normal(name) in wanted:
            return value
    for name, value in row.items():
        if isinstance(value, dict) and normal(name) in {*words, field}:
            inner = {field, *words}
            return next((each for key, each in value.items() if normal(key) in inner), _ABSENT)
    if alone:
        return next((value for name, value in row.items() if normal(name) in {*words, "value", "result"}), _ABSENT)
    return _ABSENT


async def _compared(
    case: Case,
    aggregating: Aggregating,
    snapshot: Snapshot,
    measures: Sequence[Measure],
    groups: Sequence[str],
    condition: Condition | None,
    mask: Mask,
) -> tuple[list[Wrong], Exchange | None, str]:
    """Aggregates that are wrong, the exchange, and what is wrong with the answer as a whole."""
    try:
        exchange, rows = await _send(case, aggregating, measures, groups, condition)
    except Inexpressible:
        return [], None, ""
    situation = ("grouped by " + ", ".join(groups) if groups else "all rows") + (
        f" where {condition}" if condition is not None else ""
    )
    if rows is None:
        promised = all(_promised(aggregating, snapshot, each) for each in measures)
        return [], exchange, "refused" if exchange.answer.refused and promised else ""
    expected = groups_of(snapshot, mask, groups)
    if not groups and len(rows) != 1:
        return [], exchange, f"{len(rows)} rows of results instead of one"
    told: dict[Group, dict[str, Any]] = {}
    for row in rows:
        group = _group_of(case, row, groups, list(expected))
        if group is None:
            return [], exchange, "group"
        told[group] = row
    lost = [group for group in expected if group not in told]
    if lost:
        named = ", ".join(_text(value) for value in lost[0]) or "no group"
        return [], exchange, f"no result for the group {named}"
    wrong = []
    for group, own in expected.items():
        for measure in measures:
            value = told_in(told[group], measure, len(measures) == 1)
            if value is not _ABSENT and not explains(snapshot, own, measure, value):
                wrong.append(Wrong(measure, group, shown_value(snapshot, own, measure), value, exchange, situation))
    return wrong, exchange, ""


def _promised(aggregating: Aggregating, snapshot: Snapshot, measure: Measure) -> bool:
    """Whether a function is said to take this field, or any function would take such a one."""
    if not measure.field or measure.field in aggregating.fields.get(measure.function, ()):
        return True
    return snapshot.fields[measure.field].kind == "number"


def _group_of(case: Case, row: Mapping[str, Any], groups: Sequence[str], known: Sequence[Group]) -> Group | None:
    """The group that a row of the result is about; None where the row does not show it, or there is none."""
    if not groups:
        return ()
    inner = next((each for each in row.values() if isinstance(each, dict) and set(groups) <= set(each)), row)
    if not all(name in inner for name in groups):
        return None
    values = [inner[name] for name in groups]
    for group in known:
        pairs = zip(groups, group, values, strict=True)
        if all((a is None and b is None) or same(case.fields[name], a, b) for name, a, b in pairs):
            return group
    return None


def _named(group: Group) -> str:
    return ", ".join(_text(value) for value in group) or "all rows"


def _text(value: Any) -> str:
    return "null" if value is None else str(value)


def _cost(resource: Resource) -> int:
    return 10 if resource.queries.aggregating else 0


@check("aggregate.values", needs=("list",), cost=_cost)
async def aggregates(case: Case) -> AsyncIterator[Finding]:
    """Are counts, sums, averages and extremes those of the rows, grouped and filtered too?"""
    aggregating = _aggregating(case)
    operation = _operation(case, aggregating)
    snapshot = await snapshot_of(case)
    if not snapshot.whole:
        raise Skipped("the list was not read whole to compare with")
    measures = _measures(aggregating, snapshot)
    groups = _groups(aggregating, snapshot)
    every = snapshot.mask(snapshot.keys)[0]
    questions: list[tuple[Sequence[Measure], tuple[str, ...], Condition | None]] = [
        ((measure,), (), None) for measure in measures
    ]
    questions += [(measures[:4], (field.name,), None) for field in groups[:2]]
    questions += [(measures[:2], tuple(field.name for field in groups[:2]), None)] if len(groups) > 1 else []
    filtered = await _condition(case, aggregating, snapshot)
    if filtered is not None:
        questions.append((measures[:3], (), filtered))
        questions += [(measures[:2], (field.name,), filtered) for field in groups[:1]]

    async def answered(snapshot: Snapshot) -> list[tuple[list[Wrong], Exchange | None, str]]:
        def mask(condition: Condition | None) -> Mask:
            return every if condition is None else evaluate(condition, snapshot, Reading()).true

        return list(
            await all_of(
                _compared(case, aggregating, snapshot, asked, by, condition, mask(condition))
                for asked, by, condition in questions
            )
        )

    found = await answered(snapshot)
    if any(wrong or problem for wrong, _, problem in found):
        fresh = await snapshot_of(case, anew=True)
        if not snapshot.unchanged(fresh):
            snapshot, every = fresh, fresh.mask(fresh.keys)[0]
        found = await answered(snapshot)
        if not snapshot.unchanged(await snapshot_of(case, anew=True)):
            raise Skipped("others were changing the rows meanwhile")
    by_cause: dict[str, list[Wrong]] = {}
    plain = {
        each.measure
        for (_, by, condition), (wrong, _, _) in zip(questions, found, strict=True)
        for each in wrong
        if not by and condition is None
    }
    for (_, by, condition), (wrong, _, _) in zip(questions, found, strict=True):
        for each in wrong:
            if each.measure in plain:
                cause = f"function {each.measure.function}"
            else:
                cause = "filter" if condition is not None else ("groups" if by else "")
            by_cause.setdefault(cause, []).append(each)
    for cause, group in by_cause.items():
        yield _finding(case, aggregating, operation, cause, group)
    problems: dict[str, tuple[Exchange, str]] = {}
    for (_, by, _), (_, exchange, problem) in zip(questions, found, strict=True):
        if problem and exchange is not None and problem != "group":
            kind = "refused" if problem == "refused" else ("groups" if by else "rows")
            problems.setdefault(kind, (exchange, problem))
    if "groups" in by_cause:
        problems.pop("groups", None)
    for kind, (exchange, problem) in problems.items():
        if kind == "refused" and aggregating.reason.certainty == "guess":
            continue
        yield case.finding(
            "error",
            "contract",
            "Documented aggregates are refused" if kind == "refused" else "Groups are missing from aggregates",
            "one result for each group" if kind == "groups" else "the aggregates of all rows",
            str(exchange.answer.status) if kind == "refused" else problem,
            cause=f"aggregate {kind}",
            operation=(operation.method, operation.path),
            place=aggregating.place,
            evidence=[exchange],
        )


async def _condition(case: Case, aggregating: Aggregating, snapshot: Snapshot) -> Compare | None:
    """A condition on a number that leaves about half of the rows; None where aggregates take none."""
    from checkpost.checks.filtering import filtering_of

    if not aggregating.filters:
        return None
    try:
        filtering = await filtering_of(case)
    except Skipped:
        return None
    operation = _operation(case, aggregating)
    names = {each.name for each in operation.parameters}
    for field in snapshot.fields.values():
        usable = [each for each in filtering.operators(field.name) if (field.name, each) not in case.state.misfiltered]
        operators = [each for each in ("gt", "from", "eq") if each in usable]
        if field.kind not in {"number", "boolean"} or not operators:
            continue
        written = filtering.pairs(Compare(field.name, operators[0], 1), case.fields)[0][0]
        if not {written, written.partition("[")[0]} & names:
            continue  # the aggregates do not take this filter
        for condition in conditions(field, operators[:1], snapshot, "absent"):
            left = int(evaluate(condition, snapshot, Reading()).true.sum())
            if 0 < left < len(snapshot):
                return condition
    return None


def _finding(case: Case, aggregating: Aggregating, operation: Operation, cause: str, group: Sequence[Wrong]) -> Finding:
    shown = group[0]
    titles = {"filter": "Aggregates ignore the filter", "groups": "Aggregates of groups are not those of their rows"}
    function = shown.measure.function
    words = {"avg": "average", "distinct": "distinct count"}
    said = ", ".join(_text(value) for value in shown.group)
    return case.finding(
        "error",
        "contract",
        titles.get(cause, f"The {words.get(function, function)} is not that of the rows"),
        f"{shown.measure} = {_text(shown.expected)}, {shown.situation}" + (f" ({said})" if said else ""),
        f"{shown.measure} = {_text(shown.told)}",
        cause=f"aggregate {cause}",
        operation=(operation.method, operation.path),
        place=aggregating.place,
        subjects=dict.fromkeys(str(each.measure) for each in group),
        evidence=[shown.exchange],
        rows=[
            Differing("wrong", _named(each.group), {str(each.measure): each.told, "expected": each.expected})
            for each in group[:5]
        ],
    )


@check("aggregate.refused", needs=("list",), cost=lambda resource: 1 if resource.queries.aggregating else 0)
async def unknown_field(case: Case) -> AsyncIterator[Finding]:
    """Is an aggregate of an unknown field refused?"""
    aggregating = _aggregating(case)
    function = next((each for each, text in aggregating.functions.items() if "{field}" in text), None)
    if function is None:
        raise Skipped("no aggregate takes a field")
    operation = _operation(case, aggregating)
    exchange, rows = await _send(case, aggregating, [Measure(function, "no_such_field")], (), None)
    if rows and any(not isinstance(value, dict | list) and value is not None for row in rows for value in row.values()):
        yield case.finding(
            "warning",
            "contract" if function in aggregating.fields else "expectation",
            "An aggregate of an unknown field is answered",
            "a refusal",
            f"{exchange.answer.status} {exchange.answer.text[:80]}",
            cause="aggregate of nothing",
            operation=(operation.method, operation.path),
            place=aggregating.place,
            evidence=[exchange],
        )
