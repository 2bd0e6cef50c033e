"""How a list is asked by filters: in which spelling, by which conditions, and what is wrong with its answers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from checkpost.checks.asking import Reply, as_answer, ask, differing, fields_in, snapshot_of, spelled, with_rows
from checkpost.checks.blame import said
from checkpost.checks.case import Case
from checkpost.checks.registry import Skipped
from checkpost.checks.together import all_of
from checkpost.findings import Basis, Finding, Severity
from checkpost.model.field import Field
from checkpost.model.query import PATTERNS, Compare, Condition, Not, Operator, Query, in_words
from checkpost.model.spelling import Filtering, Inexpressible
from checkpost.oracle.columns import Snapshot
from checkpost.oracle.filter import Reading, Verdict, evaluate, judge
from checkpost.values.operands import conditions
from checkpost.wire.listing import Asked

RANGES: tuple[Operator, ...] = ("gt", "ge", "lt", "le")
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
            # several write an equality alike, and only one of them what is more or less, or not equal
            ordered = any(field.kind == "number" for field in snapshot.fields.values())
            further: Operator = "gt" if ordered else "ne"
            for candidate in candidates:
                if not await _proves_itself(case, snapshot, candidate, "eq"):
                    continue
                candidate = await _without_key(case, snapshot, candidate)
                state.filtering = state.filtering or candidate
                if candidate.documented or await _proves_itself(case, snapshot, candidate, further):
                    state.filtering = candidate
                    break
            else:
                if state.filtering is not None:
                    state.filtering = state.filtering.only("eq")
            if state.filtering is None and candidates[0].documented:
                # what is described does not work: shown by values that are written in one way alone
                bare = tuple(name for name, field in snapshot.fields.items() if field.kind in {"number", "boolean"})
                state.filtering = replace(candidates[0], fields=bare)
            if state.filtering is None:
                state.unfiltered = (
                    f"how {candidates[0].parameter} is written is not described, and no usual way of "
                    f"{len(candidates)} works; state it under 'queries' in the profile"
                )
                raise Skipped(state.unfiltered)
    return state.filtering


async def _proves_itself(case: Case, snapshot: Snapshot, filtering: Filtering, operator: Operator) -> bool:
    """Whether two conditions with an operator leave just the rows that they should, and not all of them."""
    proven = 0
    # keys may have another name where rows are kept
    keys = set(case.resource.key.fields) if case.resource.key else set()

    def least_telling(field: Field) -> tuple[bool, bool, bool]:
        values = {str(row.get(field.name)) for row in snapshot.rows}
        return field.name in keys, len(values) < 2, not (field.created or field.updated)

    for field in sorted(snapshot.fields.values(), key=least_telling):
        if field.kind not in {"number", "text"} or proven == 2 or (operator != "eq" and field.kind == "text"):
            continue
        known = filtering.operators(field.name)
        asked: Operator = "match" if operator == "eq" and "eq" not in known and "match" in known else operator
        for condition in list(conditions(field, [asked], snapshot, case.world.mark))[:1]:
            try:
                reply = await ask(case, spelled(case, Query(condition), filtering), "trying how filters are written")
            except Inexpressible:
                continue
            answer = as_answer(case, snapshot, condition, reply)
            if reply.rows is None or judge(snapshot, [answer])[0] is not None:
                return False
            proven += answer.count < len(snapshot)
    return proven > 0


async def _without_key(case: Case, snapshot: Snapshot, filtering: Filtering) -> Filtering:
    """A way that nothing describes, without the key where its own name leaves no row."""
    keys = set(case.resource.key.fields) if case.resource.key and not filtering.documented else set()
    for field in [each for name, each in snapshot.fields.items() if name in keys]:
        condition = next(iter(conditions(field, ["eq"], snapshot, case.world.mark)), None)
        if condition is None:
            continue
        reply = await ask(case, spelled(case, Query(condition), filtering), "trying how filters are written")
        if not reply.rows:
            others = tuple(name for name in filtering.fields or snapshot.fields if name != field.name)
            filtering = replace(filtering, fields=others)
    return filtering


def operators_in(filtering: Filtering, field: Field) -> list[Operator]:
    return [operator for operator in filtering.operators(field.name) if operator in _KINDS.get(field.kind, ())]


def with_wildcards(condition: Compare, filtering: Filtering) -> Compare:
    if condition.operator in {"like", "ilike"} and filtering.wildcard != "%":
        return replace(condition, value=str(condition.value).replace("%", filtering.wildcard))
    return condition


async def tried(
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
    if case.state.filtering is not None and case.state.filtering.form == "parameters":
        # and so it says nothing of how other values are taken
        answered = [each for each in answered if not _empty_ignored(snapshot, *each)]
        joined = [each for each in answered if _all_together(case.state.filtering, *each)]
        if joined:
            answered = [each for each in answered if each not in joined]
            case.remark("several values of one parameter leave no row: they may have to hold together")
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


def _all_together(filtering: Filtering, condition: Condition, reply: Reply) -> bool:
    """Whether a condition gives several values to the parameter that takes one as well, and leaves no row: that all
    have to hold would explain it, where nothing says that one is enough."""
    if not isinstance(condition, Compare) or condition.operator != "in" or reply.rows is None or reply.rows:
        return False
    known = filtering.templates
    several, one = known.get((condition.field, "in"), ""), known.get((condition.field, "eq"), "")
    return several.endswith("={each}") and one.partition("=")[0] == several.partition("=")[0]


def _empty_ignored(snapshot: Snapshot, condition: Condition, reply: Reply) -> bool:
    """``name=`` is widely taken for no filter at all."""
    empty = isinstance(condition, Compare) and condition.value == ""
    return empty and len(reply.rows or ()) >= min(len(snapshot), 10)


async def confirmed(case: Case, conditions: Sequence[Condition], situation: str) -> tuple[Snapshot, list[Trial]]:
    """The trials that fail, and fail again on rows read anew: others may be at work. Whatever fails is asked again with
    all about the same fields, as they are judged together."""
    snapshot = await snapshot_of(case)
    trials = await tried(case, snapshot, conditions, situation, lean=True)
    wrong = [each.condition for each in trials if each.symptom in {"rows", "total", "twice"}]
    if not wrong:
        return snapshot, trials
    doubted = {_about(each) for each in wrong}
    sound = [each for each in trials if _about(each.condition) not in doubted]
    again = await snapshot_of(case, anew=True)
    repeated = await tried(case, again, [each for each in conditions if _about(each) in doubted], situation)
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


def is_split(filtering: Filtering, condition: Compare) -> bool:
    """Whether a list of values cannot be written, since a value holds what separates them and the contract
    says nothing of quoting."""
    if filtering.form == "expression":
        # a text without quotes ends at what joins two conditions
        joint = filtering.conjunction.removeprefix("{left}").removesuffix("{right}").strip()
        bare = not filtering.quote and bool(joint) and not joint.isalpha()
        return bare and joint in str(condition.value)
    if filtering.form != "parameters":
        return False
    if not isinstance(condition.value, tuple):
        known = (condition.field, condition.operator) in filtering.split or not filtering.documented
        return known and filtering.separator in str(condition.value)
    return any(isinstance(value, str) and filtering.separator in value for value in condition.value)


def told(
    case: Case, snapshot: Snapshot, filtering: Filtering, symptom: str, cause: str, group: Sequence[Trial]
) -> Finding:
    shown = max(group, key=lambda each: _clarity(each))
    answer, verdict, reply = as_answer(case, snapshot, shown.condition, shown.reply), shown.verdict, shown.reply
    expected = f"{rows_in_words(verdict.expected if verdict else None)} where {shown.condition}"
    names = fields_in(Query(shown.condition))
    rows = []
    basis: Basis = "contract"
    severity: Severity = "error"
    if symptom == "refused":
        title, observed = "A documented filter is refused", said(reply.exchange)
        expected = f"rows where {shown.condition}"
    elif symptom == "twice":
        title, observed = "Filter returns a row twice", f"{answer.count} rows, {shown.twice} of them again"
    elif symptom == "total":
        title, observed = "The total does not count what the filter leaves", f"{reply.total} for {answer.count} rows"
        expected = f"a total of {verdict.expected if verdict else 0} where {shown.condition}"
    else:
        assert verdict is not None
        title = _title(snapshot, answer.count, reply, verdict)
        if not filtering.documented and title == _IGNORED:
            severity, basis = "warning", "expectation"
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


_IGNORED = "A filter is ignored"


def _title(snapshot: Snapshot, count: int, reply: Reply, verdict: Verdict) -> str:
    everything = count >= len(snapshot) or (not reply.complete and (reply.total or 0) >= len(snapshot))
    if everything and not verdict.missing:
        return _IGNORED
    if not verdict.surplus:
        return "Filter returns fewer rows than match"
    if not verdict.missing:
        return "Filter returns rows that do not match"
    return "Filter returns other rows than those that match"


def rows_in_words(count: int | None) -> str:
    return "rows" if count is None else ("1 row" if count == 1 else f"{count} rows")


def halving(filtering: Filtering, snapshot: Snapshot) -> list[Compare]:
    """Conditions on different fields that each leave some rows and not all, those near to half first."""
    usual = Reading()
    found = []
    for field in snapshot.fields.values():
        ranges = ("gt", "eq", "from", "ne") if field.kind in {"number", "date"} else ("eq", "ne")
        operators = [each for each in ranges if each in operators_in(filtering, field)]
        for condition in conditions(field, operators, snapshot, "absent"):
            left = int(evaluate(condition, snapshot, usual).true.sum())
            if 0 < left < len(snapshot) and field.kind in {"number", "boolean", "text", "date"}:
                found.append((abs(left - len(snapshot) // 2), condition))
                break
    return [condition for _, condition in sorted(found, key=lambda each: each[0])]
