"""Filters: every documented operator on every field, alone and together, against what the rows say."""

from __future__ import annotations

from collections import Counter
from collections.abc import AsyncIterator, Iterable, Sequence
from dataclasses import replace
from typing import Any

from checkpost.checks.asking import Reply, ask, snapshot_of, spelled
from checkpost.checks.case import Case
from checkpost.checks.conformance.said import in_words as refusal_in_words
from checkpost.checks.filtering import (
    RANGES,
    Trial,
    confirmed,
    filtering_of,
    halving,
    is_split,
    operators_in,
    rows_in_words,
    told,
    with_wildcards,
)
from checkpost.checks.records import new_record, written_alike
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.together import all_of
from checkpost.contract.node import Node
from checkpost.findings import Basis, Finding, Severity
from checkpost.model.field import Field
from checkpost.model.query import Compare, Condition, Either, Every, Not, Operator, Query
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of
from checkpost.model.spelling import Filtering, Inexpressible, plain
from checkpost.oracle.columns import Snapshot, number
from checkpost.values.operands import conditions
from checkpost.wire.listing import Asked, Key

#: The share of questions with a wrong answer from which on the whole ability is at fault, not one operator.
_MOST = 0.8
#: More groups of failures than this have a cause in common.
_MOST_CAUSES = 3
_ODD_BOOLEANS = "A filter by a boolean refuses true and false"


def _cost(resource: Resource) -> int:
    filterings = resource.queries.filterings
    return 3 * sum(len(filterings[0].operators(each.name)) for each in resource.fields) if filterings else 0


@check("filter.rows", needs=("list",), cost=_cost)
async def filters_rows(case: Case) -> AsyncIterator[Finding]:
    """Does each documented operator leave exactly the rows that it should?"""
    filtering = await filtering_of(case)
    snapshot = await snapshot_of(case)
    asked = [
        with_wildcards(condition, filtering)
        for field in snapshot.fields.values()
        for condition in conditions(field, operators_in(filtering, field), snapshot, f"{case.world.mark}absent")
    ]
    asked = [each for each in asked if not is_split(filtering, each) and _allowed(case, filtering, each)]
    if not asked:
        raise Skipped("no field has values to filter by")
    snapshot, trials = await confirmed(case, asked, "a filter")
    async for finding in _reported(case, snapshot, filtering, trials):
        yield finding


def _allowed(case: Case, filtering: Filtering, condition: Compare) -> bool:
    """Whether the contract allows a value where a parameter holds nothing else."""
    known = filtering.schemas.get((condition.field, condition.operator))
    several = condition.value if isinstance(condition.value, tuple) else (condition.value,)
    # several values in one text are each what one would have to be
    schemas = [known, filtering.schemas.get((condition.field, "eq")) if len(several) > 1 else None]
    return all(_fits(case, schema, value) for schema in schemas if schema is not None for value in several)


def _fits(case: Case, schema: Node, value: Any) -> bool:
    """Whether a value is allowed by a schema: as it is, as the text that stands in the URL, or, of a text, as the
    number it spells."""
    valid = case.world.validators.is_valid
    if valid(schema, value, "request") or (value is not None and valid(schema, plain(value), "request")):
        return True
    return isinstance(value, str) and value.isascii() and value.isdigit() and valid(schema, int(value), "request")


def _silent_kinds(trials: Sequence[Trial]) -> set[str]:
    """Kinds of values of which no equality leaves a row: where nothing says how filters are written, such values may be
    written otherwise (``1`` for ``true``)."""
    equal = [each for each in trials if each.compare.operator == "eq" and each.reply.rows is not None]
    return {each.kind for each in equal} - {each.kind for each in equal if each.reply.rows}


async def _reported(
    case: Case, snapshot: Snapshot, filtering: Filtering, trials: Sequence[Trial]
) -> AsyncIterator[Finding]:
    """One finding for each cause: the whole ability, an operator, or a field."""
    if not trials:
        return
    case.state.misfiltered |= {(each.compare.field, each.compare.operator) for each in trials if each.symptom}
    usable = [each for each in trials if each.reply.rows is not None]
    refused = [each for each in trials if each.symptom == "refused"]
    if filtering.reason.certainty != "stated" and not usable and refused:
        case.state.unfiltered = (
            f"every filter was refused, so that {filtering.parameter} is taken to be written otherwise"
        )
        raise Skipped(case.state.unfiltered)
    if not usable and not refused:
        raise Blocked(f"no filter was answered with rows ({trials[0].reply.exchange.answer.status or 'no answer'})")
    silent = _silent_kinds(trials)
    if filtering.documented:
        silent &= {"boolean"} if filtering.form == "parameters" else set()
    written = {field for (field, _), node in filtering.schemas.items() if "boolean" in shape_of(node).types}
    untold = [each for each in trials if each.kind in silent and each.compare.field not in written]
    if untold:
        names = ", ".join(sorted({each.compare.field for each in untold}))
        case.remark(f"how values of {names} are written in a filter is not stated, and the usual way finds none")
        trials = [each for each in trials if each not in untold]
        wrong = [each for each in untold if each.symptom == "rows"]
        if wrong and filtering.documented:
            found = told(case, snapshot, filtering, "rows", "booleans", wrong)
            title = "A filter by a boolean finds none of its rows"
            yield replace(found, severity="warning", basis="expectation", title=title)
    odd = [each for each in refused if each.kind == "boolean" and each.compare.field not in written]
    if odd and filtering.form == "parameters" and {each.kind for each in refused} == {"boolean"}:
        # the contract has a text there: how it is written is the API's to say
        trials = [each for each in trials if each not in odd]
        found = told(case, snapshot, filtering, "refused", "booleans", odd)
        yield replace(found, severity="warning", basis="expectation", title=_ODD_BOOLEANS)
    for symptom in ("refused", "rows", "twice", "total"):
        failed = [each for each in trials if each.symptom == symptom]
        if symptom == "refused" and failed:
            # a value that is none of a reference's, or of a list's, may be refused where others are taken
            taken = {(each.compare.field, each.compare.operator) for each in usable}
            failed = [
                each
                for each in failed
                if _promised(filtering, each) and (each.compare.field, each.compare.operator) not in taken
            ]
        apart = _of_the_servers_own(case, filtering, failed, trials) if symptom in {"refused", "rows"} else []
        if apart:
            found = told(case, snapshot, filtering, symptom, "the server's own", apart)
            yield replace(found, severity="note", basis="expectation", title=_NOT_BY_SHOWN)
        failed = [each for each in failed if each not in apart]
        considered = usable if symptom != "refused" else trials
        for cause, group in _causes(failed, considered):
            if cause == "every filter":
                case.state.unfiltered = "filters do not work"
            found = told(case, snapshot, filtering, symptom, cause, group)
            yield replace(found, title="Filters by some fields find no rows") if cause == _UNSEEN else found


#: What is said where a filter by a field that the server sets is refused or finds nothing, and its contract names no
#: fields.
_NOT_BY_SHOWN = "Rows cannot be filtered by a field that they show"


def _of_the_servers_own(
    case: Case, filtering: Filtering, failed: Sequence[Trial], trials: Sequence[Trial]
) -> list[Trial]:
    """Failures of all filters by a field that no body sets, refused or answered with no rows: it may be no column at
    all, where the contract does not name the fields that filters take and others are taken."""
    named = {field for field, _ in filtering.templates} | set(filtering.fields or ())
    taken = {each.compare.field for each in trials if each.reply.rows}
    own = {each.name for each in case.resource.fields if not (each.created or each.updated or each.replaced)}
    if len(own) == len(case.resource.fields):  # nothing can be written, so that it tells nothing
        return []
    return [each for each in failed if taken and each.compare.field in own - taken - named]


def _promised(filtering: Filtering, trial: Trial) -> bool:
    """Whether the contract promises this operator for this field, and not just operators in general."""
    part = trial.compare
    if (part.field, part.operator) in filtering.templates:
        return True
    ordered = part.operator in RANGES and trial.kind in {"number", "date", "date-time"}
    return filtering.documented and (ordered or part.operator in {"eq", "ne", "in", "null", "not_null"})


def _causes(failed: Sequence[Trial], considered: Sequence[Trial]) -> Iterable[tuple[str, Sequence[Trial]]]:
    """Failures in as few groups as explain them: all refusals in the same words, all filters, else an operator or a
    field at a time, else one for all."""
    said = {refusal_in_words(each.reply.exchange.answer) for each in failed if each.symptom == "refused"}
    if len(said) == 1 and "" not in said:
        yield f"alike{said.pop()}", failed  # one sentence for all has one explanation
        return
    groups = list(_grouped(failed, considered))
    if len(groups) > _MOST_CAUSES:
        yield "several", failed
    else:
        yield from groups


#: How fields are called by which a filter finds nothing.
_UNSEEN = "fields that are not seen"
#: Operators that leave rows which have no such value.
_OPPOSITE = frozenset({"ne", "not_in", "not_like", "not_null", "null"})


def _unseen(failed: Sequence[Trial], considered: Sequence[Trial]) -> list[Trial]:
    """The failures by fields that a filter never finds a row by, whatever it asks, where it does by others."""
    plain = [each for each in considered if each.reply.rows is not None and each.compare.operator not in _OPPOSITE]
    finding = {each.compare.field for each in plain if each.reply.rows}
    silent = {each.compare.field for each in failed if each.symptom == "rows"} - finding
    several = Counter(each.compare.field for each in failed)
    found = {field for field in silent if several[field] > 1} if finding else set()
    return [each for each in failed if each.compare.field in found]


def _grouped(failed: Sequence[Trial], considered: Sequence[Trial]) -> Iterable[tuple[str, list[Trial]]]:
    unseen = _unseen(failed, considered)
    if unseen:
        yield _UNSEEN, unseen
    rest = [each for each in failed if each not in unseen]
    asked = Counter(each.compare.operator for each in considered)
    fields = Counter(each.compare.field for each in considered)
    if len(rest) > max(3, _MOST * len(considered)) and len({each.compare.field for each in rest}) > 1:
        yield "every filter", rest
        return
    while rest:
        operators = Counter(each.compare.operator for each in rest)
        own = Counter(each.compare.field for each in rest)
        operator, by_operator = operators.most_common(1)[0]
        field, by_field = own.most_common(1)[0]
        whole_operator = by_operator / asked[operator], by_operator
        whole_field = by_field / fields[field], by_field
        if (
            whole_field > whole_operator
            and len({each.compare.operator for each in rest if each.compare.field == field}) > 1
        ):
            cause, group = f"field {field}", [each for each in rest if each.compare.field == field]
        else:
            cause, group = f"operator {operator}", [each for each in rest if each.compare.operator == operator]
        yield cause, group
        rest = [each for each in rest if each not in group]


# -- filters together ------------------------------------------------------------------------------


@check("filter.combined", needs=("list",), cost=lambda resource: 8)
async def filters_together(case: Case) -> AsyncIterator[Finding]:
    """Do filters together leave the rows that each of them leaves, and do and, or and not hold?"""
    filtering = await filtering_of(case)
    snapshot = await snapshot_of(case)
    wrong = case.state.misfiltered
    parts = [part for part in halving(filtering, snapshot) if (part.field, part.operator) not in wrong]
    if len(parts) < 2 and wrong:
        raise Blocked("there are not two filters that work alone")
    if len(parts) < 2:
        raise Skipped("there are not two fields to filter by at once")
    one, two = parts[0], parts[1]
    three = parts[2] if len(parts) > 2 else one
    asked: list[tuple[str, Condition]] = [("and", Every((one, two)))]
    known = [operator for operator in filtering.operators(one.field) if (one.field, operator) not in wrong]
    ranges = [operator for operator in ("gt", "lt") if operator in known]
    if len(ranges) == 2 and snapshot.fields[one.field].kind == "number":
        values = sorted({value for row in snapshot.rows if (value := number(row.get(one.field))) is not None})
        if len(values) > 2:
            bounds = Compare(one.field, "gt", values[0]), Compare(one.field, "lt", values[-1])
            asked.append(("and", Every(bounds)))
    asked += [
        ("or", Either((one, two))),
        ("not", Not(one)),
        ("brackets", Every((Either((one, two)), three))),
        ("brackets", Either((one, Every((two, three))))),
        ("not", Not(Either((one, two)))),
    ]
    if filtering.binds:
        last = Not(two) if filtering.negation else three
        asked.append(("precedence", Either((one, Every((two, three), bare=True)))))
        asked.append(("precedence", Either((two, Every((one, last), bare=True)))))
    snapshot, trials = await confirmed(case, [each for _, each in asked], "filters together")
    words = {str(condition): word for word, condition in asked}
    by_word: dict[str, list[Trial]] = {}
    for trial in trials:
        if trial.symptom and not (
            trial.symptom == "refused" and not _groups_promised(filtering, words[str(trial.condition)])
        ):
            by_word.setdefault(f"{trial.symptom} {words[str(trial.condition)]}", []).append(trial)
    if len(by_word) > 1 and "rows and" in by_word:
        by_word = {"rows and": by_word["rows and"]}  # what two conditions do is what groups are made of
    for cause, group in list(by_word.items())[:2]:
        if cause.startswith("unreadable"):
            continue
        found = told(case, snapshot, filtering, cause.split()[0], f"together {cause.split()[1]}", group)
        if cause == "rows precedence":
            basis: Basis = "standard" if filtering.parameter == "$filter" else "expectation"
            found = replace(found, title="Without brackets, and does not bind closer than or", basis=basis)
        yield found


def _groups_promised(filtering: Filtering, word: str) -> bool:
    return word == "and" or filtering.reason.certainty == "stated"


# -- what is not there -----------------------------------------------------------------------------


@check("filter.refused", needs=("list",), cost=lambda resource: 4)
async def filters_refused(case: Case) -> AsyncIterator[Finding]:
    """Are filters that make no sense refused, and never answered with every row?"""
    filtering = await filtering_of(case)
    snapshot = await snapshot_of(case)
    tries: list[tuple[str, Asked, Severity]] = []
    for kind in ("number", "date", "date-time", "boolean", "uuid"):
        wrong_type = next(
            (
                (field, operator)
                for field in snapshot.fields.values()
                for operator in operators_in(filtering, field)
                if field.kind == kind and operator in {"eq", *RANGES} and not _bounds_everything(field)
            ),
            None,
        )
        if wrong_type is not None:
            field, operator = wrong_type
            bad = Compare(field.name, operator, "not-a-value")
            tries += _spelled(case, filtering, f"a value of the wrong type for {field.name}", bad, "error")
            if kind == "number":
                far = Compare(field.name, "eq", 10**22)
                tries += _spelled(case, filtering, f"a number beyond 64 bits for {field.name}", far, "warning")
    text = next((f for f in snapshot.fields.values() if f.kind == "text" and "eq" in operators_in(filtering, f)), None)
    if text is not None:
        bad = Compare(text.name, "eq", f"{case.world.mark}\0")
        tries += _spelled(case, filtering, f"a text with a NUL for {text.name}", bad, "warning")
    if filtering.form != "parameters":
        unknown = Compare("no_such_field", "eq", 1)
        open_field = replace(filtering, fields=None)
        tries += _spelled(case, open_field, "an unknown field", unknown, "warning")
        broken = Asked(((filtering.parameter, '{"' if filtering.form == "json" else "((("),))
        tries.append(("an expression that cannot be read", broken, "warning"))
    nested = _nested_parameter(case, filtering)
    if nested is not None:
        tries.append(("an unknown field", Asked(((f"{nested}[no_such_field]", "1"),)), "warning"))
    replies = await all_of(ask(case, asked, words) for words, asked, _ in tries)
    for (words, _, severity), reply in zip(tries, replies, strict=True):
        if reply.rows is None or len(reply.rows) < min(len(snapshot), 2):
            continue
        every = (reply.total or len(reply.rows)) >= len(snapshot)
        if every or not snapshot.whole:
            yield case.finding(
                severity,
                "contract" if severity == "error" else "expectation",
                "A filter that makes no sense returns every row",
                f"a refusal of {words}",
                f"{reply.exchange.answer.status} with {rows_in_words(reply.total or len(reply.rows))}",
                cause=f"nonsense {words.partition(' for ')[0]}",
                purpose="list",
                place=filtering.place,
                subjects=[words],
                evidence=[reply.exchange],
            )


def _bounds_everything(field: Field) -> bool:
    return not field.types


def _nested_parameter(case: Case, filtering: Filtering) -> str | None:
    """The name of a parameter that holds filters by field, such as ``filter`` in ``filter[a]``."""
    if filtering.form != "parameters":
        return None
    closed = {each.name for each in case.operation("list").parameters if each.style == "deepObject"}
    for (name, _), template in filtering.templates.items():
        head, _, rest = template.partition("=")[0].partition("[")
        if head in closed and head != name and rest.startswith(f"{name}]"):
            return head
    return None


def _spelled(
    case: Case, filtering: Filtering, words: str, condition: Compare, severity: Severity
) -> list[tuple[str, Asked, Severity]]:
    try:
        return [(words, spelled(case, Query(condition), filtering), severity)]
    except Inexpressible:
        return []


# -- awkward texts of the run's own ------------------------------------------------------------------

_AWKWARD = ("o'brien's", 'say "so"', "50% off", "a_b", "a+b", "a&b=c", "x, y", "back\\slash", "é ü ß", "日本 🌱", "#1?")


@check("filter.awkward", needs=("list", "create", "delete"), creates=True, alone=True, cost=lambda resource: 24)
async def filters_awkward_texts(case: Case) -> AsyncIterator[Finding]:
    """Are rows found by texts with quotes, wildcards, signs of URLs and letters of every kind?"""
    filtering = await filtering_of(case)
    key = case.resource.key.fields if case.resource.key is not None else ()
    field = next(
        (
            each
            for each in case.resource.fields
            if each.is_text
            and each.created
            and each.shown
            and (each.max_length or 99) >= 24
            and each.name not in case.resource.values
            and each.name not in key  # one may be divided at a sign where a path takes several
            and {"eq", "match"} & set(filtering.operators(each.name))
            and (each.name, "eq") not in case.state.misfiltered
            and case.resource.relation(each.name) is None
            and not written_alike(case, each)
        ),
        None,
    )
    if field is None:
        raise Skipped("it has no free text to filter by")
    await snapshot_of(case)
    texts = [f"{case.world.mark} {text}" for text in _AWKWARD]
    records = [{**await new_record(case), field.name: text} for text in texts]
    made = await all_of(case.create(record, "an awkward text to filter by") for record in records)
    stored = [(text, key) for text, (_, key) in zip(texts, made, strict=True) if key is not None]
    listing = await case.listing()
    kept = [
        (text, key) for text, key in stored if key in listing.by_key and listing.by_key[key].get(field.name) == text
    ]
    if not kept:
        raise Blocked("no row with an awkward text could be stored and found in the list")
    operator: Operator = "eq" if "eq" in filtering.operators(field.name) else "match"

    async def found(text: str, way: Filtering = filtering) -> Reply | None:
        condition = Compare(field.name, operator, text)
        if is_split(way, condition):
            return None
        try:
            asked = spelled(case, Query(condition), way)
        except Inexpressible:
            return None
        return await ask(case, asked, "an awkward text")

    def is_lost(key: Key, reply: Reply | None) -> bool:
        if reply is None or (reply.rows is None and not reply.refused):
            return False
        return reply.rows is None or key not in map(case.client.key_of, reply.rows)

    replies = await all_of(found(text) for text, _ in kept)
    lost = []
    for (text, key), reply in zip(kept, replies, strict=True):
        if reply is None or not is_lost(key, reply):
            continue
        if filtering.quote and not filtering.escape_told and {filtering.quote, "\\"} & set(text):
            other = replace(filtering, escape="double" if filtering.escape == "backslash" else "backslash")
            if is_lost(key, await found(text, other)):
                case.remark(
                    f"how {filtering.quote} and \\ are written in a text is not stated, and no usual way finds it"
                )
            continue
        lost.append((text, reply))
    if lost:
        text, reply = lost[0]
        loose = "eq" not in filtering.operators(field.name)
        shown = "" if reply.rows is None else f" with {rows_in_words(len(reply.rows))}"
        yield case.finding(
            "warning" if loose else "error",
            "expectation",
            "A row is not found by a text with signs that need care",
            f"the row where {field.name} is {text!r}",
            f"{reply.exchange.answer.status}{shown}",
            cause="awkward texts",
            purpose="list",
            place=filtering.place_of(field.name),
            subjects=[text.removeprefix(case.world.mark).strip() for text, _ in lost],
            evidence=[reply.exchange],
        )
