"""Awkward values and keys: valid by the contract, and apt to be changed or refused on the way."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterator, Mapping, Sequence

from checkpost.checks.blame import is_of_value, said
from checkpost.checks.case import Case
from checkpost.checks.own import Own
from checkpost.checks.readback import changed_values, stored_rows
from checkpost.checks.records import (
    is_allowed,
    may_be_shown,
    natural_rows,
    new_record,
    new_value,
    sayable,
    written_alike,
)
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.shown import shown
from checkpost.checks.together import all_of
from checkpost.findings import Finding
from checkpost.model.field import Field
from checkpost.model.resource import Resource
from checkpost.values.awkward import Variant, variants
from checkpost.wire.exchange import Exchange

#: Awkward values by field.
Plan = Mapping[str, Variant]


def _rounds(resource: Resource) -> int:
    return 14 if any(field.is_text for field in resource.fields) else 6


@check("create.awkward-values", needs=("create", "delete"), creates=True, cost=lambda r: 2 * _rounds(r) + 2)
async def awkward_values(case: Case) -> AsyncIterator[Finding]:
    """Do awkward values come back as they were sent?"""
    if case.state.not_creatable:
        raise Blocked(case.state.not_creatable)
    choices = {
        field.name: [
            variant
            for variant in variants(field, case.values)
            if (variant.value is None or not field.unique or case.state.reserve(field, variant.value))
            and sayable(case, "create", variant.value)
            and may_be_shown(case, field, variant.value)
            and not natural_rows(case).taken_for({field.name: variant.value})
        ]
        for field in case.resource.writable("create")
        if field.name not in {*case.resource.values, *case.resource.moving_others, *case.state.copied}
        and not _fixed(case, field)
        and not written_alike(case, field)
        # where no schema says what it holds, the key of another row is no text like any other
        and not (case.resource.guessed and field.name.lower().endswith("id"))
    }
    for place, each in enumerate(choices.values()):
        # not the same of all fields at once: where one is null or empty, another bears the run's mark
        each[:] = each[place % len(each) :] + each[: place % len(each)] if each else each
    rounds = max((len(each) for each in choices.values()), default=0)
    if not rounds:
        raise Skipped("none of its fields takes awkward values")
    plans: list[Plan] = [
        {name: each[turn] for name, each in choices.items() if turn < len(each)} for turn in range(rounds)
    ]
    made = await all_of(_create_with(case, plan) for plan in plans)
    rows: list[tuple[Plan, Own]] = []
    crashed: list[Plan] = []
    texts, usual = _Texts(case), None
    for plan, (own, exchange) in zip(plans, made, strict=True):
        if own is not None:
            rows.append((plan, own))
        elif exchange.answer.status >= 500:
            crashed.append(plan)
        elif exchange.answer.refused:
            # one value is at fault: each alone tells which
            alone = await all_of(_create_with(case, {name: each}) for name, each in plan.items())
            for (name, variant), (single, refusal) in zip(plan.items(), alone, strict=True):
                if single is not None:
                    rows.append(({name: variant}, single))
                elif (
                    refusal.answer.refused
                    and is_allowed(case, "create", refusal)
                    and case.fields[name].types
                    and is_of_value(refusal, name, case.fields)
                    and not await texts.explain(name, variant, refusal)
                ):
                    if usual is None:
                        usual, answer = await _create_with(case, {})
                    if usual is None:
                        raise Blocked(f"a record of usual values is not taken either: {said(answer)}")
                    yield _valid_refused(case, name, variant, refusal)
    for found in texts.findings():
        yield found
    rows += await _beside_crashes(case, crashed)
    listing = await case.listing() if case.has("list") and not case.has("read") else None
    for plan, own in rows:
        reads, read, listed = await stored_rows(case, own, listing)
        row = read or listed
        if row is not None:
            labels = {name: variant.label for name, variant in plan.items()}
            sent = {name: value for name, value in own.record.items() if name in plan}
            for found in changed_values(case, "create", sent, row, [own.exchange, *reads], labels):
                yield found


async def _beside_crashes(case: Case, plans: Sequence[Plan]) -> list[tuple[Plan, Own]]:
    """Rows of the values that stood beside some for which creates were answered with a server error: which field it is
    tells the first record, value by value."""
    if not plans:
        return []
    singles: list[Plan] = [{name: each} for name, each in plans[0].items()]
    alone = await all_of(_create_with(case, each) for each in singles)
    crash = {name for each, (own, _) in zip(singles, alone, strict=True) if own is None for name in each}
    rest = [{name: each for name, each in plan.items() if name not in crash} for plan in plans[1:]]
    rest = [each for each in rest if each] if 0 < len(crash) < len(singles) else []
    again = await all_of(_create_with(case, each) for each in rest)
    made = zip([*singles, *rest], [*alone, *again], strict=True)
    return [(plan, own) for plan, (own, _) in made if own is not None]


def _fixed(case: Case, field: Field) -> bool:
    """Whether a field's value cannot be chosen freely: keys and references, and what was refused before."""
    key = case.resource.key
    if field.name in case.state.withheld | case.state.encoded:
        return True
    return case.resource.relation(field.name) is not None or (key is not None and field.name in key.fields)


async def _create_with(case: Case, plan: Plan) -> tuple[Own | None, Exchange]:
    record = await new_record(case)
    record.update({name: variant.value for name, variant in plan.items()})
    exchange, key = await case.create(record, "awkward values")
    return (Own(key, record, exchange) if key is not None else None), exchange


class _Texts:
    """Texts that are refused for no sign in them: since their field takes no plain text either, or for their length
    alone where the contract states none, so that a plain text of as many characters is refused as well."""

    def __init__(self, case: Case) -> None:
        self._case = case
        self._plain: dict[str, tuple[Variant, Exchange] | None] = {}
        self._refused: dict[str, tuple[int, Exchange]] = {}
        self._taken: dict[str, int] = {}

    async def explain(self, name: str, variant: Variant, refusal: Exchange) -> bool:
        """Whether a value was refused for such a reason."""
        # many programs count the two halves of a character beyond the basic plane
        field, length = self._case.fields[name], len(str(variant.value).encode("utf-16-le", "surrogatepass")) // 2
        if not field.is_text or not isinstance(variant.value, str):
            return False
        if "pattern" in self._case.state.bounds.get(name, {}):  # only what is written as rows have it is taken
            self._plain.setdefault(name, (variant, refusal))
            return True
        text = str(await new_value(self._case, field))
        if name not in self._plain:
            plain = Variant("a plain text", text)
            own, exchange = await _create_with(self._case, {name: plain})
            self._plain[name] = (plain, exchange) if own is None and exchange.answer.refused else None
        if self._plain[name] is not None:
            return True
        if field.max_length is not None or length <= self._taken.get(name, 0):
            return False
        if name in self._refused and length >= self._refused[name][0]:
            return True
        if length <= len(text):
            return False
        plain = Variant("a text as long", text + "x" * (length - len(text)))
        own, exchange = await _create_with(self._case, {name: plain})
        if own is None and exchange.answer.refused:
            self._refused[name] = (length, refusal)
            return True
        self._taken[name] = length
        return False

    def findings(self) -> Iterator[Finding]:
        for name, refused in self._plain.items():
            if refused is not None:
                yield _valid_refused(self._case, name, *refused)
        for name, (length, refusal) in self._refused.items():
            yield self._case.finding(
                "warning",
                "contract",
                "A text is refused for a length that the contract does not limit",
                f"success for a text of {length} characters, or a maxLength",
                said(refusal),
                cause="length refused",
                purpose="create",
                subjects=[name],
                evidence=[refusal],
            )


def _valid_refused(case: Case, name: str, variant: Variant, exchange: Exchange) -> Finding:
    return case.finding(
        "warning",
        "contract",
        "Values that the contract allows are refused",
        f"success for {name} = {shown(variant.value, 60)} ({variant.label})",
        said(exchange),
        cause="any:valid value refused",
        purpose="create",
        subjects=[f"{name} ({variant.label})"],
        evidence=[exchange],
    )


#: What has to be escaped in a path (RFC 3986, 2.1), or is easily taken for something else there.
_KEY_SIGNS = " +%&=?#;:@é"


@check("create.awkward-keys", needs=("create", "delete", "read"), creates=True, cost=lambda r: 4 * len(_KEY_SIGNS) + 2)
async def awkward_keys(case: Case) -> AsyncIterator[Finding]:
    """Is a row found by a key that has to be escaped in a path?"""
    key = case.resource.key
    field = case.resource.field(key.fields[0]) if key is not None and len(key.fields) == 1 else None
    limited = {"pattern", "enum", "format"} & set(field.keywords) if field is not None else set()
    if field is None or not case.client_keys or field.type != "string" or limited or case.resource.relation(field.name):
        raise Skipped("its key is no text that a client may choose freely")
    refused: list[tuple[str, Exchange]] = []
    dividing = await _dividing(case)
    for sign in _KEY_SIGNS:
        # of whatever an API may make of it no part is somebody else's key
        value = f"{case.world.mark}{sign}{case.world.mark}{case.values.number()}"
        if sign in dividing:
            continue
        if not case.world.valid(field, value) or not case.state.reserve(field, value):
            continue
        exchange, made = await case.create({**await new_record(case), field.name: value}, "a key with awkward signs")
        if made is None:
            refused += [(sign, exchange)] if exchange.answer.refused else []
            continue
        read, row = await case.read(made, "a key with awkward signs")
        if row is None or case.client.key_of(row) != made:
            yield case.finding(
                "error",
                "expectation",
                "A row is not found by a key that has to be escaped",
                f"the row {shown(value)}",
                str(read.answer.status or read.answer.detail) if row is None else f"the row {case.client.key_of(row)}",
                cause="awkward key",
                purpose="read",
                subjects=[f"{field.name} with {sign!r}"],
                evidence=[exchange, read],
            )
            return
    if dividing:
        case.remark(f"its path takes several keys divided by {' or '.join(map(repr, dividing))}: none is made with it")
    if refused and is_allowed(case, "create", refused[0][1]):
        sign, exchange = refused[0]
        yield case.finding(
            "warning",
            "contract",
            "Values that the contract allows are refused",
            f"success for {field.name} with {sign!r}",
            said(exchange),
            cause="awkward key refused",
            purpose="create",
            subjects=[f"{field.name} with {each!r}" for each, _ in refused],
            evidence=[exchange],
        )


async def _dividing(case: Case) -> list[str]:
    """The signs that divide the keys of several rows in the path of one: a row whose key has such a sign could not be
    removed, and rows with the keys on both sides of it could be."""
    first, second = await case.own(2)
    asked = [f"{first.key[0]}{sign}{second.key[0]}" for sign in _KEY_SIGNS]
    read = await all_of(case.read((both,), "two keys as one") for both in asked)
    return [sign for sign, (exchange, _) in zip(_KEY_SIGNS, read, strict=True) if exchange.answer.ok]
