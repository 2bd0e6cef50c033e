"""Filters: every documented operator on every field, alone and together, against what the rows say."""

from __future__ import annotations

from collections import Counter
from collections.abc import AsyncIterator, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from checkpost.checks.asking import Reply, as_answer, ask, differing, fields_in, snapshot_of, spelled, with_rows
from checkpost.checks.case import Case
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.together import all_of
from checkpost.contract.node import Node
from checkpost.findings import Basis, Finding, Severity
from checkpost.model.field import Field
from checkpost.model.query import PATTERNS, Compare, Condition, Either, Every, Not, Operator, Query, in_words
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of
from checkpost.model.spelling import Filtering, Inexpressible, plain
from checkpost.oracle.columns import Snapshot, number
from checkpost.oracle.filter import Reading, Verdict, evaluate, judge
from checkpost.values.operands import conditions
from checkpost.wire.listing import Asked

_RANGES: tuple[Operator, ...] = ("gt", "ge", "lt", "le")
_KINDS: dict[str, frozenset[Operator]] = {
    "number": frozenset(
        {"eq", "ne", "lt", "le", "gt", "ge", "from", "to", "in", "not_in", "between", "null", "not_null"}
    ),
    "boolean": frozenset({"eq", "ne", "null", "not_null"}),
    "uuid": frozenset({"eq", "ne", "in", "not_in", "null", "not_null"}),
}  # fmt: skip
_KINDS["date"] = _KINDS["date-time"] = _KINDS["number"]
_KINDS["date-time"] = _KINDS["date-time"] | {"match"}
_KINDS["text"] = _KINDS["number"] | PATTERNS | {"match"}
#: The share of questions with a wrong answer from which on the whole ability is at fault, not one operator.
_MOST = 0.8
#: More groups of failures than this have a cause in common.
_MOST_CAUSES = 3
#: Rows that are asked for where a total tells of the rest; what looks wrong is asked for whole.
_PAGE = 60


@dataclass(frozen=True)
class Trial:
    """One condition that was asked for, what came back, and what is wrong with it."""

    condition: Condition
    reply: Reply
    verdict: Verdict | None = None
    twice: int = 0
    kind: str = ""

    @property
    def compare(self) -> Compare:
        part = self.condition
        while not isinstance(part, Compare):
            part = part.inner if isinstance(part, Not) else part.parts[0]
        return part

    @property
    def symptom(self) -> str:
        """What is wrong, in a word: ``refused``, ``twice``, ``rows``, ``total``, or "" for nothing."""
        if self.reply.rows is None:
            return "refused" if self.reply.refused else "unreadable"
        if self.twice:
            return "twice"
        if self.verdict is None:
            return ""
        return "rows" if self.verdict.missing or self.verdict.surplus else "total"


def _cost(resource: Resource) -> int:
    filterings = resource.queries.filterings
    return 3 * sum(len(filterings[0].operators(each.name)) for each in resource.fields) if filterings else 0


async def filtering_of(case: Case) -> Filtering:
    """The spelling of filters: the one described, or of several the one that proves itself by its answers.
    Raises Skipped."""
    state, candidates = case.state, case.resource.queries.filterings
    if not candidates:
        raise Skipped("neither contract nor profile describes a filter")
    if state.unfiltered:
        raise Skipped(state.unfiltered)
    if state.filtering is None:
        if len(candidates) == 1:
            state.filtering = candidates[0]
        else:
            snapshot = await snapshot_of(case)
            for candidate in candidates:
                if not await _proves_itself(case, snapshot, candidate, "eq"):
                    continue
                state.filtering = state.filtering or candidate
                # several write an equality alike, and only one of them what is more or less
                if candidate.documented or await _proves_itself(case, snapshot, candidate, "gt"):
                    state.filtering = candidate
                    break
            if state.filtering is None and candidates[0].documented:
                # what is described does not work: shown by values that are written in one way alone
                bare = tuple(name for name, field in snapshot.fields.items() if field.kind in {"number", "boolean"})
                state.filtering = replace(candidates[0], fields=bare)
            if state.filtering is None:
                state.unfiltered = (
                    f"how {candidates[0].parameter} is written is not described, and no usual way of "
                    f"{len(candidates)} works; the profile can tell under 'queries'"
                )
                raise Skipped(state.unfiltered)
    return state.filtering


async def _proves_itself(case: Case, snapshot: Snapshot, filtering: Filtering, operator: Operator) -> bool:
    """Whether two conditions with an operator leave just the rows that they should, and not all of them."""
    proven = 0
    for field in snapshot.fields.values():
        if field.kind not in {"number", "text"} or proven == 2 or (operator != "eq" and field.kind == "text"):
            continue
        for condition in list(conditions(field, [operator], snapshot, case.world.mark))[:1]:
            try:
                reply = await ask(case, spelled(case, Query(condition), filtering), "trying how filters are written")
            except Inexpressible:
                continue
            answer = as_answer(case, snapshot, condition, reply)
            if reply.rows is None or judge(snapshot, [answer])[0] is not None:
                return False
            proven += answer.count < len(snapshot)
    return proven > 0


def _operators(filtering: Filtering, field: Field) -> list[Operator]:
    return [operator for operator in filtering.operators(field.name) if operator in _KINDS.get(field.kind, ())]


def _wildcards(condition: Compare, filtering: Filtering) -> Compare:
    if condition.operator in {"like", "ilike"} and filtering.wildcard != "%":
        return replace(condition, value=str(condition.value).replace("%", filtering.wildcard))
    return condition


async def _tried(
    case: Case, snapshot: Snapshot, trials: Sequence[Condition], situation: str = "a filter", lean: bool = False
) -> list[Trial]:
    """Ask for each condition that can be spelled, and judge the answers about each field together. A lean
    question asks for a page alone, where the total tells how many rows there are."""
    paging = case.resource.paging
    told = case.state.before is not None and case.state.before.total is not None
    positioned = paging.limit is not None or paging.style == "range"
    limit = min(paging.largest or _PAGE, _PAGE) if lean and told and positioned else None
    if limit and paging.largest is None and trials:
        # nothing says how long a page may be: one question tells
        await ask(case, Asked(), "a page as long as it may be")
        limit = min(limit, case.state.page_size or limit) if case.state.page_size != 0 else None

    async def one(condition: Condition) -> tuple[Condition, Reply] | None:
        try:
            asked = spelled(case, Query(condition))
        except Inexpressible:
            return None
        return condition, await ask(case, asked, situation, limit, whole=not lean)

    answered = [each for each in await all_of(map(one, trials)) if each is not None]
    by_fields: dict[tuple[str, ...], list[tuple[Condition, Reply]]] = {}
    for condition, reply in answered:
        by_fields.setdefault(_about(condition), []).append((condition, reply))
    judged: list[Trial] = []
    kinds = {name: field.kind for name, field in snapshot.fields.items()}
    for names, group in by_fields.items():
        kind = kinds[names[0]]
        readable = [each for each in group if each[1].rows is not None]
        seen = with_rows(case, snapshot, [reply for _, reply in readable])
        answers = [as_answer(case, seen, condition, reply) for condition, reply in readable]
        verdicts = iter(zip(answers, judge(seen, answers), strict=True))
        for condition, reply in group:
            if reply.rows is None:
                judged.append(Trial(condition, reply, kind=kind))
                continue
            _, verdict = next(verdicts)
            keys = [key for key in map(case.client.key_of, reply.rows) if key is not None]
            judged.append(Trial(condition, reply, verdict, len(keys) - len(set(keys)), kind))
    return judged


async def _confirmed(case: Case, conditions: Sequence[Condition], situation: str) -> tuple[Snapshot, list[Trial]]:
    """The trials that fail, and fail again on rows read anew: others may be at work. Whatever fails is asked again with
    all about the same fields, as they are judged together."""
    snapshot = await snapshot_of(case)
    trials = await _tried(case, snapshot, conditions, situation, lean=True)
    wrong = [each.condition for each in trials if each.symptom in {"rows", "total", "twice"}]
    if not wrong:
        return snapshot, trials
    doubted = {_about(each) for each in wrong}
    sound = [each for each in trials if _about(each.condition) not in doubted]
    again = await snapshot_of(case, anew=True)
    repeated = await _tried(case, again, [each for each in conditions if _about(each) in doubted], situation)
    after = await snapshot_of(case, anew=True)
    if not again.unchanged(after):
        case.remark("others were changing the rows meanwhile, so that what looked wrong could not be judged")
        return again, sound + [each for each in repeated if each.symptom in {"", "refused", "unreadable"}]
    sure = [
        each if each.condition in wrong or not each.symptom else replace(each, verdict=None, twice=0)
        for each in repeated
    ]
    return again, sound + sure


def _about(condition: Condition) -> tuple[str, ...]:
    """The fields of a condition, in one order."""
    return tuple(sorted(set(fields_in(Query(condition)))))


@check("filter.rows", needs=("list",), cost=_cost)
async def filters_rows(case: Case) -> AsyncIterator[Finding]:
    """Does each documented operator leave exactly the rows that it should?"""
    filtering = await filtering_of(case)
    snapshot = await snapshot_of(case)
    asked = [
        _wildcards(condition, filtering)
        for field in snapshot.fields.values()
        for condition in conditions(field, _operators(filtering, field), snapshot, f"{case.world.mark}absent")
    ]
    asked = [each for each in asked if not _splits(filtering, each) and _allowed(case, filtering, each)]
    if not asked:
        raise Skipped("no field has values to filter by")
    snapshot, trials = await _confirmed(case, asked, "a filter")
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


def _splits(filtering: Filtering, condition: Compare) -> bool:
    """Whether a list of values cannot be written, since a value holds what separates them and the contract
    says nothing of quoting."""
    if filtering.form != "parameters":
        return False
    if not isinstance(condition.value, tuple):
        # a parameter that takes several values takes one with a comma for two
        several = filtering.templates.get((condition.field, "in"), "").replace("{values}", "{value}")
        one = filtering.templates.get((condition.field, condition.operator), "")
        return several == one and bool(one) and filtering.separator in str(condition.value)
    return any(isinstance(value, str) and filtering.separator in value for value in condition.value)


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
            found = _finding(case, snapshot, filtering, "rows", "booleans", wrong)
            title = "A filter by a boolean finds none of its rows"
            yield replace(found, severity="warning", basis="expectation", title=title)
    if filtering.form == "parameters":
        trials = [each for each in trials if not _empty_ignored(each, snapshot)]
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
        considered = usable if symptom != "refused" else trials
        for cause, group in _causes(failed, considered):
            if cause == "every filter":
                case.state.unfiltered = "filters do not work"
            yield _finding(case, snapshot, filtering, symptom, cause, group)


def _empty_ignored(trial: Trial, snapshot: Snapshot) -> bool:
    """``name=`` is widely taken for no filter at all."""
    return trial.compare.value == "" and len(trial.reply.rows or ()) >= min(len(snapshot), 10)


def _promised(filtering: Filtering, trial: Trial) -> bool:
    """Whether the contract promises this operator for this field, and not just operators in general."""
    part = trial.compare
    if (part.field, part.operator) in filtering.templates:
        return True
    ordered = part.operator in _RANGES and trial.kind in {"number", "date", "date-time"}
    return filtering.documented and (ordered or part.operator in {"eq", "ne", "in", "null", "not_null"})


def _causes(failed: Sequence[Trial], considered: Sequence[Trial]) -> Iterable[tuple[str, Sequence[Trial]]]:
    """Failures in as few groups as explain them: all filters, else an operator or a field at a time, else one
    for all."""
    groups = list(_grouped(failed, considered))
    if len(groups) > _MOST_CAUSES:
        yield "several", failed
    else:
        yield from groups


def _grouped(failed: Sequence[Trial], considered: Sequence[Trial]) -> Iterable[tuple[str, list[Trial]]]:
    rest = list(failed)
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


def _finding(
    case: Case, snapshot: Snapshot, filtering: Filtering, symptom: str, cause: str, group: Sequence[Trial]
) -> Finding:
    shown = max(group, key=lambda each: _clarity(each))
    answer, verdict, reply = as_answer(case, snapshot, shown.condition, shown.reply), shown.verdict, shown.reply
    expected = f"{_rows(verdict.expected if verdict else None)} where {shown.condition}"
    names = fields_in(Query(shown.condition))
    rows = []
    basis: Basis = "contract"
    severity: Severity = "error"
    if symptom == "refused":
        title, observed = "A documented filter is refused", f"{reply.exchange.answer.status}"
        expected = f"rows where {shown.condition}"
    elif symptom == "twice":
        title, observed = "Filter returns a row twice", f"{answer.count} rows, {shown.twice} of them again"
    elif symptom == "total":
        title, observed = "The total does not count what the filter leaves", f"{reply.total} for {answer.count} rows"
        expected = f"a total of {verdict.expected if verdict else 0} where {shown.condition}"
    else:
        assert verdict is not None
        title = _title(snapshot, answer.count, reply, verdict)
        observed = f"{reply.total if reply.total is not None else answer.count} rows: " + ", ".join(
            words
            for words in (
                f"{len(verdict.missing)} missing" if verdict.missing else "",
                f"{len(verdict.surplus)} that do not match" if verdict.surplus else "",
            )
            if words
        )
        rows = differing(snapshot, "missing", verdict.missing, names)
        rows += differing(snapshot, "does not match", verdict.surplus, names)
        if verdict.alone:
            severity, basis = "warning", "expectation"
            title = "Filters take the same values in ways that contradict each other"
    return case.finding(
        severity,
        basis,
        title,
        expected,
        observed,
        cause=f"filter {symptom} {cause}",
        purpose="list",
        place=filtering.place_of(shown.compare.field),
        subjects=dict.fromkeys(f"{each.compare.field} {in_words(each.compare.operator)}" for each in group),
        evidence=[reply.exchange],
        rows=rows,
    )


def _clarity(trial: Trial) -> tuple[bool, int]:
    """How well a trial shows what is wrong: few rows beside the right ones do it best."""
    verdict = trial.verdict
    wrong = len(verdict.missing) + len(verdict.surplus) if verdict else 0
    return wrong > 0, -abs(wrong - 3)


def _title(snapshot: Snapshot, count: int, reply: Reply, verdict: Verdict) -> str:
    everything = count >= len(snapshot) or (not reply.complete and (reply.total or 0) >= len(snapshot))
    if everything and not verdict.missing:
        return "A filter is ignored"
    if not verdict.surplus:
        return "Filter returns fewer rows than match"
    if not verdict.missing:
        return "Filter returns rows that do not match"
    return "Filter returns other rows than those that match"


def _rows(count: int | None) -> str:
    return "rows" if count is None else ("1 row" if count == 1 else f"{count} rows")


# -- filters together ------------------------------------------------------------------------------


def halving(filtering: Filtering, snapshot: Snapshot) -> list[Compare]:
    """Conditions on different fields that each leave some rows and not all, those near to half first."""
    usual = Reading()
    found = []
    for field in snapshot.fields.values():
        ranges = ("gt", "eq", "from", "ne") if field.kind in {"number", "date"} else ("eq", "ne")
        operators = [each for each in ranges if each in _operators(filtering, field)]
        for condition in conditions(field, operators, snapshot, "absent"):
            left = int(evaluate(condition, snapshot, usual).true.sum())
            if 0 < left < len(snapshot) and field.kind in {"number", "boolean", "text", "date"}:
                found.append((abs(left - len(snapshot) // 2), condition))
                break
    return [condition for _, condition in sorted(found, key=lambda each: each[0])]


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
    snapshot, trials = await _confirmed(case, [each for _, each in asked], "filters together")
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
        yield _finding(case, snapshot, filtering, cause.split()[0], f"together {cause.split()[1]}", group)


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
                for operator in _operators(filtering, field)
                if field.kind == kind and operator in {"eq", *_RANGES} and not _bounds_everything(field)
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
    text = next((f for f in snapshot.fields.values() if f.kind == "text" and "eq" in _operators(filtering, f)), None)
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
                f"{reply.exchange.answer.status} with {_rows(reply.total or len(reply.rows))}",
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
    field = next(
        (
            each
            for each in case.resource.fields
            if each.is_text
            and each.created
            and each.shown
            and (each.max_length or 99) >= 24
            and each.name not in case.resource.values
            and {"eq", "match"} & set(filtering.operators(each.name))
            and case.resource.relation(each.name) is None
        ),
        None,
    )
    if field is None:
        raise Skipped("it has no free text to filter by")
    await snapshot_of(case)
    texts = [f"{case.world.mark} {text}" for text in _AWKWARD]
    records = [{**await case.record(), field.name: text} for text in texts]
    made = await all_of(case.create(record, "an awkward text to filter by") for record in records)
    stored = [(text, key) for text, (_, key) in zip(texts, made, strict=True) if key is not None]
    listing = await case.listing()
    kept = [
        (text, key) for text, key in stored if key in listing.by_key and listing.by_key[key].get(field.name) == text
    ]
    if not kept:
        raise Blocked("no row with an awkward text could be stored and found in the list")
    operator: Operator = "eq" if "eq" in filtering.operators(field.name) else "match"

    async def found(text: str) -> Reply | None:
        condition = Compare(field.name, operator, text)
        if _splits(filtering, condition):
            return None
        try:
            asked = spelled(case, Query(condition))
        except Inexpressible:
            return None
        return await ask(case, asked, "an awkward text")

    replies = await all_of(found(text) for text, _ in kept)
    lost = [
        (text, reply)
        for (text, key), reply in zip(kept, replies, strict=True)
        if reply is not None
        and (reply.refused or (reply.rows is not None and key not in map(case.client.key_of, reply.rows)))
    ]
    if lost:
        text, reply = lost[0]
        loose = "eq" not in filtering.operators(field.name)
        yield case.finding(
            "warning" if loose else "error",
            "expectation",
            "A row is not found by a text with signs that need care",
            f"the row where {field.name} is {text!r}",
            f"{reply.exchange.answer.status}" + (f" with {_rows(len(reply.rows))}" if reply.rows is not None else ""),
            cause="awkward texts",
            purpose="list",
            place=filtering.place_of(field.name),
            subjects=[text.removeprefix(case.world.mark).strip() for text, _ in lost],
            evidence=[reply.exchange],
        )
