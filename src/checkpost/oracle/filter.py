"""Which rows a condition leaves, under every reading that a sensible database has of it.

A contract seldom says how texts are compared, whether ``not equal`` finds nulls, or how exactly numbers are
kept. An answer is wrong only if no reading explains it, or if the answers about one field need readings
that contradict each other.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np

from checkpost.model.query import PATTERNS, Compare, Condition, Either, Every, Not, compares
from checkpost.oracle.columns import FORMS, Column, Mask, Snapshot, is_plain, moment, number, sound_text


@dataclass(frozen=True)
class Reading:
    """One way to take a condition.

    ``text``: how texts are equal (``columns.FORMS``); ``order``: how they are ordered; ``pattern``: how they
    match; ``padded``: spaces at the end count for nothing; ``wild``: ``%`` and ``_`` in a value match
    anything; ``nulls``: ``ne`` and ``not`` find nulls too; ``single``: numbers are kept in single precision;
    ``finer``: moments are kept finer than they are shown; ``closed``: ``from`` and ``to`` hold their bounds;
    ``part``: ``match`` finds texts that hold the value, and moments of the same day.
    """

    text: str = "exact"
    order: str = "exact"
    pattern: str = "exact"
    padded: bool = False
    wild: bool = False
    nulls: bool = False
    single: bool = False
    finer: bool = False
    closed: bool = True
    part: bool = False


@dataclass(frozen=True)
class Answer:
    """What was answered to a condition: the rows seen, whether those are all, and the total if one was
    given. ``strange`` are keys that the snapshot does not have."""

    condition: Condition
    seen: Mask
    count: int
    complete: bool = True
    total: int | None = None
    strange: tuple[tuple[Any, ...], ...] = ()


@dataclass(frozen=True)
class Verdict:
    """How an answer departs from the reading that explains most: positions of rows that are missing or
    surplus, and the number there should be. ``alone`` says that another reading would explain the answer
    by itself, which others contradict."""

    missing: tuple[int, ...]
    surplus: tuple[int, ...]
    expected: int
    wrong_total: bool
    alone: bool


_DAY = 86_400_000_000
_ORDERED = {"lt", "le", "gt", "ge", "from", "to", "between"}


def readings(conditions: Sequence[Condition], snapshot: Snapshot) -> Iterator[Reading]:
    """Every reading that may make a difference to conditions, the usual one first."""
    parts = [part for condition in conditions for part in compares(condition)]
    kinds = {part.field: snapshot.fields[part.field].kind for part in parts}
    texts = [part for part in parts if kinds[part.field] == "text"]
    patterns = [part for part in texts if part.operator in PATTERNS]
    equal = [part for part in texts if part.operator in {"eq", "ne", "in", "not_in", "match"}]
    matched = any(part.operator == "match" for part in parts)
    ordered = [part for part in texts if part.operator in _ORDERED]
    negated = any(part.operator in {"ne", "not_in"} for part in parts) or any("not (" in str(c) for c in conditions)
    fractions = any(
        kinds[part.field] == "number" and "integer" not in snapshot.fields[part.field].types for part in parts
    )
    padded = any(str(value).endswith(" ") for part in equal for value in _values(part)) or any(
        _ends_in_space(snapshot.column(part.field)) for part in equal
    )
    wild = any(sign in str(part.value) for part in patterns for sign in "%_*?")
    choices: dict[str, tuple[Any, ...]] = {
        "text": ("exact", "ascii", "case", "accent") if equal else ("exact",),
        "order": ("exact", "case", "upper", "loose", "number") if ordered else ("exact",),
        "pattern": ("exact", "ascii", "case", "accent") if patterns or matched else ("exact",),
        "padded": (False, True) if padded else (False,),
        "wild": (False, True) if wild else (False,),
        "nulls": (False, True) if negated else (False,),
        "single": (False, True) if fractions else (False,),
        "finer": (False, True) if "date-time" in kinds.values() else (False,),
        "part": (False, True) if matched else (False,),
        "closed": (True, False) if any(part.operator in {"from", "to"} for part in parts) else (True,),
    }
    names = [each.name for each in fields(Reading)]
    for chosen in itertools.product(*(choices[name] for name in names)):
        yield Reading(**dict(zip(names, chosen, strict=True)))


def _ends_in_space(column: Column) -> bool:
    return bool(np.any(np.strings.endswith(column.values, " "))) if len(column.values) else False


def _values(part: Compare) -> tuple[Any, ...]:
    return part.value if isinstance(part.value, tuple) else (part.value,)


@dataclass(frozen=True)
class Truth:
    """Where a condition holds, where it is unknown (SQL's three-valued logic), and which rows nothing can
    be said of."""

    true: Mask
    unknown: Mask
    free: Mask


def evaluate(condition: Condition, snapshot: Snapshot, reading: Reading) -> Truth:
    """Where a condition holds under a reading."""
    if isinstance(condition, Compare):
        return _compare(condition, snapshot, reading)
    if isinstance(condition, Not):
        inner = evaluate(condition.inner, snapshot, reading)
        unknown = np.zeros_like(inner.true) if reading.nulls else inner.unknown
        return Truth(~inner.true & ~unknown, unknown, inner.free)
    parts = [evaluate(part, snapshot, reading) for part in condition.parts]
    free = np.logical_or.reduce([part.free for part in parts])
    if isinstance(condition, Every):
        true = np.logical_and.reduce([part.true for part in parts])
        false = np.logical_or.reduce([~part.true & ~part.unknown for part in parts])
    else:
        assert isinstance(condition, Either)
        true = np.logical_or.reduce([part.true for part in parts])
        false = np.logical_and.reduce([~part.true & ~part.unknown for part in parts])
    return Truth(true, ~true & ~false, free)


def _compare(part: Compare, snapshot: Snapshot, reading: Reading) -> Truth:
    column = snapshot.column(part.field)
    none = np.zeros(len(snapshot), dtype=bool)
    if part.operator in {"null", "not_null"}:
        return Truth(column.null if part.operator == "null" else ~column.null, none, none)
    known = ~column.null
    if part.operator in {"ne", "not_in"}:
        found, free = _equal(column, _values(part), reading)
        true = ~found & known
        if reading.nulls:
            return Truth(true | column.null, none, free | column.odd)
        return Truth(true, column.null, free | column.odd)
    if part.operator in {"eq", "in"}:
        found, free = _equal(column, _values(part), reading)
    elif part.operator == "match":
        found, free = _equal(column, (part.value,), reading)
        if reading.part and column.kind == "text":
            found = _matches(column, replace(part, operator="contains"), reading)
        elif reading.part and column.kind == "date-time":
            free = np.abs(column.values - (_operand(column, part.value) or 0)) < _DAY
    elif part.operator in PATTERNS:
        found, free = _matches(column, part, reading), none
    else:
        found, free = _ordered(column, part, reading)
    return Truth(found & known, column.null, (free & known) | column.odd)


def _operand(column: Column, value: Any) -> Any:
    if column.kind in {"date", "date-time"}:
        return moment(value, column.kind)
    if column.kind == "number":
        return number(value)
    return sound_text(str(value)) if isinstance(value, str) else value


def _equal(column: Column, values: Sequence[Any], reading: Reading) -> tuple[Mask, Mask]:
    """Where a column has one of several values; and which rows nothing can be said of."""
    found = np.zeros(len(column.values), dtype=bool)
    free = found.copy()
    for value in values:
        operand = _operand(column, value)
        if operand is None:
            continue
        if column.kind == "text":
            wanted = FORMS[reading.text](operand)
            found |= column.form(reading.text, reading.padded) == (wanted.rstrip(" ") if reading.padded else wanted)
        elif column.kind == "uuid":
            found |= column.values == str(operand).lower()
        elif column.kind == "number" and reading.single:
            found |= column.values.astype(np.float32).astype(np.float64) == operand
        elif column.kind == "date-time" and reading.finer:
            free |= column.values == operand
        else:
            found |= column.values == operand
    return found, free


def _ordered(column: Column, part: Compare, reading: Reading) -> tuple[Mask, Mask]:
    low, high = _bounds(part, reading)
    found = np.ones(len(column.values), dtype=bool)
    free = np.zeros(len(column.values), dtype=bool)
    values: Any = column.values
    if column.kind == "text":
        values = column.form(reading.order)
        free |= ~column.plain()
    elif column.kind == "number" and reading.single:
        values = values.astype(np.float32).astype(np.float64)
    for bound, above in ((low, True), (high, False)):
        if bound is None:
            continue
        value, closed = bound
        operand = _operand(column, value)
        if operand is None:
            return found, np.ones_like(free)
        if column.kind == "text":
            if not is_plain(operand):
                return found, np.ones_like(free)
            free |= (column.form("loose") == FORMS["loose"](operand)) & (column.values != operand)
            operand = FORMS[reading.order](operand)
        elif column.kind == "date-time" and reading.finer:
            free |= values == operand
        over = values >= operand if above else values <= operand
        strictly = values > operand if above else values < operand
        found &= over if closed else strictly
    return found, free


def _bounds(part: Compare, reading: Reading) -> tuple[tuple[Any, bool] | None, tuple[Any, bool] | None]:
    """The lower and upper bound of a range, and whether each belongs to it."""
    if part.operator == "between":
        return (part.value[0], True), (part.value[1], True)
    closed = reading.closed if part.operator in {"from", "to"} else part.operator in {"ge", "le"}
    bound = (part.value, closed)
    return (bound, None) if part.operator in {"gt", "ge", "from"} else (None, bound)


def _matches(column: Column, part: Compare, reading: Reading) -> Mask:
    insensitive = part.operator in {"icontains", "istarts", "iends", "ilike"}
    kind = part.operator.removeprefix("i") if insensitive else part.operator
    name = reading.pattern if not insensitive or reading.pattern in {"ascii", "accent"} else "case"
    texts = column.form(name)
    wanted = FORMS[name](sound_text(str(part.value)))
    if kind == "like" or (reading.wild and re.search(r"[%_*?]", wanted)):
        before, after = kind in {"contains", "ends"}, kind in {"contains", "starts"}
        pattern = ".*" * before + _like(wanted, reading.wild) + ".*" * after
        whole = re.compile(pattern, re.S)
        return np.array([whole.fullmatch(text) is not None for text in texts.tolist()], dtype=bool)
    if kind == "starts":
        return np.strings.startswith(texts, wanted)
    if kind == "ends":
        return np.strings.endswith(texts, wanted)
    return np.asarray(np.strings.find(texts, wanted) >= 0)


def _like(pattern: str, wild: bool) -> str:
    """A LIKE pattern as a regular expression. ``*`` is a wildcard only where no ``%`` is."""
    many, one = ("%", "_") if "%" in pattern or "*" not in pattern else ("*", "?")
    signs = {many: ".*", **({one: "."} if wild or many == "%" else {})}
    return "".join(signs.get(sign, re.escape(sign)) for sign in pattern)


def judge(snapshot: Snapshot, answers: Sequence[Answer]) -> list[Verdict | None]:
    """What is wrong with each of several answers about the same fields; None where nothing is.

    The reading is one for all of them: the one that explains the most answers.
    """
    if not answers:
        return []
    best: list[Verdict | None] | None = None
    explained = [False] * len(answers)
    known: dict[tuple[int, tuple[Any, ...]], Verdict | None] = {}
    dimensions = [_dimensions(answer, snapshot) for answer in answers]
    for reading in readings([answer.condition for answer in answers], snapshot):
        verdicts = []
        for index, answer in enumerate(answers):
            # a reading with what makes no difference to the condition is as good as the one without
            place = index, tuple([getattr(reading, name) for name in dimensions[index]])
            if place not in known:
                known[place] = _held_against(snapshot, answer, reading)
            verdict = known[place]
            explained[index] = explained[index] or verdict is None
            verdicts.append(verdict)
        if best is None or _weight(verdicts) < _weight(best):
            best = verdicts
        if not any(verdicts):
            break
    assert best is not None
    return [
        replace(verdict, alone=explained[index]) if verdict is not None else None for index, verdict in enumerate(best)
    ]


def _dimensions(answer: Answer, snapshot: Snapshot) -> list[str]:
    """What the readings of one answer's condition differ in."""
    own = list(readings([answer.condition], snapshot))
    return [each.name for each in fields(Reading) if len({getattr(reading, each.name) for reading in own}) > 1]


def _weight(verdicts: Sequence[Verdict | None]) -> tuple[int, int]:
    wrong = [each for each in verdicts if each is not None]
    return len(wrong), sum(len(each.missing) + len(each.surplus) + each.wrong_total for each in wrong)


def _held_against(snapshot: Snapshot, answer: Answer, reading: Reading) -> Verdict | None:
    truth = evaluate(answer.condition, snapshot, reading)
    sure = truth.true & ~truth.free
    most = truth.true | truth.free
    surplus = np.flatnonzero(answer.seen & ~most)
    missing = np.flatnonzero(sure & ~answer.seen) if answer.complete else np.array([], dtype=int)
    expected = int(sure.sum())
    wrong_total = False
    if snapshot.whole and answer.total is not None:
        wrong_total = not expected <= answer.total <= int(most.sum())
    if not answer.complete and snapshot.whole and answer.count > int(most.sum()):
        wrong_total = True
    if not len(surplus) and not len(missing) and not wrong_total:
        return None
    return Verdict(tuple(missing.tolist()), tuple(surplus.tolist()), expected, wrong_total, False)
