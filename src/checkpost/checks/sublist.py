"""Lists under a row: they hold the rows that belong to it, and can be paged, filtered and sorted as the others."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterable, Sequence
from dataclasses import dataclass

from checkpost.checks.asking import as_answer, ask, snapshot_of, spelled
from checkpost.checks.case import Case
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.sort import asked_in_order
from checkpost.checks.vacancy import absent_key
from checkpost.findings import Basis, Differing, Finding, Severity
from checkpost.model.query import Order, Query
from checkpost.model.resource import Resource, Subcollection
from checkpost.model.spelling import Inexpressible
from checkpost.oracle.columns import Snapshot
from checkpost.oracle.filter import judge
from checkpost.oracle.same import differences
from checkpost.values.operands import conditions
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Asked, Key, Listing, key_text

_MOST_PARENTS = 4


def _cost(resource: Resource) -> int:
    return 8 * len(resource.subcollections)


@dataclass(frozen=True)
class Under:
    """A list under rows, the rows that it draws from, and the keys that belong to each row."""

    sub: Subcollection
    parents: Snapshot
    children: Snapshot
    belonging: dict[object, set[Key]]

    @property
    def sure(self) -> bool:
        """Whether all rows are known, so that what is missing can be told."""
        return self.parents.whole and self.children.whole


async def _under(case: Case, sub: Subcollection) -> Under:
    """What belongs to what, from the lists that are read anyway. Raises Skipped, Blocked."""
    model = case.world.model
    child = model.resource(sub.child)
    if child is None or sub.via is None or case.resource.key is None or "list" not in child.operations:
        raise Skipped(f"how {sub.path} belongs to its row is not known")
    parents, children = await snapshot_of(case), await snapshot_of(case.other(child))
    belonging: dict[object, set[Key]] = {}
    if sub.through is None:
        for key, row in zip(children.keys, children.rows, strict=True):
            if key is not None:
                belonging.setdefault(row.get(sub.via), set()).add(key)
    else:
        between = model.resource(sub.through)
        if between is None or "list" not in between.operations:
            raise Skipped(f"the rows of {sub.through} cannot be read")
        for row in (await snapshot_of(case.other(between))).rows:
            belonging.setdefault(row.get(sub.via), set()).add((row.get(sub.far or ""),))
    return Under(sub, parents, children, belonging)


def _chosen(under: Under) -> list[Key]:
    """Rows to look under: with the most children, with a few, with one and with none."""
    keys = [key for key in under.parents.keys if key is not None and len(key) == 1]
    ranked = sorted(keys, key=lambda key: len(under.belonging.get(key[-1], ())))
    filled = [key for key in ranked if under.belonging.get(key[-1])]
    empty = [key for key in ranked if not under.belonging.get(key[-1])]
    picked = [*filled[-1:], *filled[len(filled) // 2 :][:1], *filled[:1], *empty[:1]]
    return list(dict.fromkeys(picked))[:_MOST_PARENTS]


def _views(case: Case) -> list[Subcollection]:
    found = [each for each in case.resource.subcollections if each.many]
    if not found:
        raise Skipped("the contract has no lists under its rows")
    return found


@check("relate.sublist", needs=("list",), cost=_cost)
async def sublist(case: Case) -> AsyncIterator[Finding]:
    """Does the list under a row hold exactly the rows that belong to it?"""
    asked = False
    for sub in _views(case):
        try:
            under = await _under(case, sub)
        except (Skipped, Blocked) as why:
            case.remark(str(why))
            continue
        for key in _chosen(under):
            asked = True
            listing = await _read(case, sub, key)
            found = list(_judged(case, under, key, listing))
            if not found:
                continue
            # others may have changed rows since the lists were read
            child = case.world.model.resource(sub.child)
            assert child is not None
            await snapshot_of(case.other(child), anew=True)
            if sub.through is not None and (between := case.world.model.resource(sub.through)) is not None:
                await snapshot_of(case.other(between), anew=True)
            found = list(_judged(case, await _under(case, sub), key, await _read(case, sub, key)))
            for finding in found:
                yield finding
            if found:
                break
    if not asked:
        raise Skipped("; ".join(case.remarks) or "no row to look under")


async def _read(case: Case, sub: Subcollection, key: Key) -> Listing:
    client = case.world.view(case.resource, sub.view, key)
    listing = await client.whole_list(case.world.most_rows, case.check.name, "the list under a row")
    case.requests += len(listing.exchanges)
    return listing


def _judged(case: Case, under: Under, key: Key, listing: Listing) -> Iterable[Finding]:
    sub, operation = under.sub, under.sub.view.operations["list"]
    place = (operation.method, operation.path)
    wanted = under.belonging.get(key[-1], set())
    evidence = listing.exchanges[:1]
    child = case.world.model.resource(sub.child)
    if listing.problem:
        answer = listing.exchanges[0].answer
        if answer.refused and answer.status not in {401, 403}:
            yield case.finding(
                "error",
                "contract",
                "The list under a row cannot be read",
                f"the {len(wanted)} rows of {sub.child} that belong to {key_text(key)}",
                listing.problem,
                cause=f"sublist unreadable {sub.path}",
                operation=place,
                evidence=evidence,
            )
        return
    known = {each: row for each, row in zip(under.children.keys, under.children.rows, strict=True) if each is not None}
    surplus = [each for each in listing.by_key if each not in wanted and (under.sure or each in known)]
    missing = [each for each in wanted if each not in listing.by_key] if under.sure and listing.complete else []
    severity, basis = _weight(case, sub, bool(surplus))
    if surplus or missing:
        how = sub.reason.text.rpartition(", ")[2]
        what = "holds rows that do not belong to it" if surplus else "leaves out rows that belong to it"
        rows = [Differing("surplus", key_text(each), {}) for each in surplus[:3]]
        rows += [Differing("missing", key_text(each), {}) for each in missing[:3]]
        yield case.finding(
            severity,
            basis,
            f"The list under a row {what}",
            f"the {len(wanted)} rows of {sub.child} that belong to {key_text(key)}, {how}",
            f"{len(listing.rows)} rows: {len(surplus)} too many, {len(missing)} missing",
            cause=f"sublist {sub.path}",
            operation=place,
            evidence=evidence,
            rows=rows,
        )
        return
    fields = {each.name: each for each in child.fields} if child is not None else {}
    settable = settable_in(child)
    for each, row in listing.by_key.items():
        wrong = differences(fields, known.get(each, {}), row, settable)
        if wrong:
            yield case.finding(
                "error",
                "expectation",
                "The list under a row shows other values than the list of all",
                f"{wrong[0]} = {known[each][wrong[0]]!r}, as in the list of {sub.child}",
                f"{wrong[0]} = {row[wrong[0]]!r}",
                cause=f"sublist values {sub.path}",
                operation=place,
                subjects=wrong,
                evidence=evidence,
            )
            return
    if listing.complete and listing.total is not None and listing.total != len(listing.rows):
        yield case.finding(
            "error",
            "contract",
            "The list under a row gives a wrong total",
            str(len(listing.rows)),
            str(listing.total),
            cause=f"sublist total {sub.path}",
            operation=place,
            evidence=evidence,
        )


def settable_in(resource: Resource | None) -> list[str]:
    """Fields that a body may set, and keys: others may be computed anew at each reading."""
    keys = resource.key.fields if resource is not None and resource.key is not None else ()
    fields = resource.fields if resource is not None else ()
    return [each.name for each in fields if each.created or each.updated or each.replaced or each.name in keys]


def _weight(case: Case, sub: Subcollection, surplus: bool) -> tuple[Severity, Basis]:
    """What the path and a stated reference promise is an error; a list may leave some out for reasons of its own
    where only names suggest what belongs together."""
    child = case.world.model.resource(sub.through or sub.child)
    relation = child.relation(sub.via) if child is not None and sub.via else None
    stated = relation is not None and relation.reason.certainty == "stated"
    return ("error" if stated or surplus else "warning"), ("contract" if stated else "expectation")


@check("relate.sublist-absent", needs=("list",), cost=lambda resource: len(resource.subcollections))
async def sublist_of_nothing(case: Case) -> AsyncIterator[Finding]:
    """Has a missing row no list under it?"""
    key = absent_key(case)
    for sub in _views(case):
        operation = sub.view.operations["list"]
        client = case.world.view(case.resource, sub.view, key)
        exchange = await case.send("list", "the list under a missing row", through=client)
        rows = client.rows_in(exchange.answer.json) if exchange.answer.ok else None
        documented = {each.status for each in operation.responses} & {"404", "410"}
        if rows or (exchange.answer.ok and documented):
            yield case.finding(
                "error" if rows else "warning",
                "contract" if documented else "expectation",
                "A list is answered under a missing row",
                f"{min(documented)}, as documented" if documented else "a refusal, or an empty list",
                f"{exchange.answer.status} with {len(rows or ())} rows",
                cause=f"all:sublist of nothing {bool(rows)}",
                operation=(operation.method, operation.path),
                evidence=[exchange],
            )


@check("relate.sublist-queries", needs=("list",), cost=_cost)
async def sublist_queries(case: Case) -> AsyncIterator[Finding]:
    """Is the list under a row paged, filtered and sorted as the contract says, within its rows?"""
    asked = False
    for sub in _views(case):
        try:
            under = await _under(case, sub)
        except (Skipped, Blocked):
            continue
        filled = sorted(under.belonging, key=lambda value: len(under.belonging[value]))
        keys = {key[-1]: key for key in under.parents.keys if key is not None}
        parent = next((keys[value] for value in reversed(filled) if value in keys), None)
        if parent is None or len(under.belonging[parent[-1]]) < 3:
            continue
        listing = await _read(case, sub, parent)
        if listing.problem or not listing.complete or list(_judged(case, under, parent, listing)):
            continue
        asked = True
        inner = Case(case.world, sub.view, case.check, case.world.view(case.resource, sub.view, parent))
        inner.state.before, inner.state.writes, inner.state.snapshot = listing, 0, None
        inner.state.replies.clear()
        own = case.world.state(sub.child)
        inner.state.filtering, inner.state.sorting = own.filtering, own.sorting
        for problem in [*await _paged(inner), *await _sorted(inner, sub, case), *await _filtered(inner, sub, case)]:
            title, expected, observed, evidence = problem
            operation = sub.view.operations["list"]
            yield case.finding(
                "error",
                "contract",
                title,
                expected,
                observed,
                cause=f"{title} {sub.path}",
                operation=(operation.method, operation.path),
                evidence=[evidence],
            )
        case.requests += inner.requests
    if not asked:
        raise Skipped("no row has three rows under it")


@check("relate.subrow", needs=("list",), cost=lambda resource: 3 * len(resource.subcollections))
async def subrow(case: Case) -> AsyncIterator[Finding]:
    """Is what stands under a row as the one that it refers to the row that it refers to?"""
    asked = False
    for sub in case.resource.subcollections:
        child = case.world.model.resource(sub.child)
        if sub.many or sub.via is None or child is None or "list" not in child.operations:
            continue
        parents, children = await snapshot_of(case), await snapshot_of(case.other(child))
        rows = [(key, row) for key, row in zip(parents.keys, parents.rows, strict=True) if key is not None]
        fields = {each.name: each for each in child.fields}
        operation = sub.view.operations["read"]
        for key, row in [*rows[:1], *rows[len(rows) // 2 :][:1], *rows[-1:]]:
            reference = row.get(sub.via)
            if reference is None or (reference,) not in children.positions:
                continue
            asked = True
            known = children.rows[children.positions[(reference,)]]
            client = case.world.view(case.resource, sub.view, key)
            exchange = await case.send("read", "the row that another refers to", through=client)
            shown = client.row_in(exchange.answer) if exchange.answer.ok else None
            wrong = differences(fields, known, shown or {}, settable_in(child))
            if shown is None and exchange.answer.status not in {404, 410}:
                continue
            if shown is None or wrong:
                seen = str(exchange.answer.status) if shown is None else f"{wrong[0]} = {shown[wrong[0]]!r}"
                yield case.finding(
                    "error",
                    "expectation",
                    "The row under another is not the one that it refers to",
                    f"the row {reference!r} of {sub.child}",
                    seen,
                    cause=f"subrow {sub.path}",
                    operation=(operation.method, operation.path),
                    evidence=[exchange],
                )
                break
    if not asked:
        raise Skipped("the contract shows no single rows under its rows")


Problem = tuple[str, str, str, Exchange]


async def _paged(inner: Case) -> Sequence[Problem]:
    """Pages of a third of the list, one after the other."""
    paging = inner.resource.paging
    before = inner.state.before
    if paging.style not in {"offset", "page", "range"} or not (paging.limit or paging.style == "range") or not before:
        return []
    wanted = list(before.by_key)
    size = -(-len(wanted) // 3)
    replies = [await ask(inner, Asked(), "a page of the list under a row", size, number) for number in range(3)]
    if any(reply.rows is None for reply in replies):
        return []
    found = [inner.client.key_of(row) for reply in replies for row in reply.rows or ()]
    if sorted(map(str, found)) == sorted(map(str, wanted)):
        return []
    seen = f"{len(found)} rows, {len(set(found) - set(wanted))} of them not in the list"
    return [("The pages of a list under a row do not join to it", f"{len(wanted)} rows", seen, replies[0].exchange)]


async def _sorted(inner: Case, sub: Subcollection, case: Case) -> Sequence[Problem]:
    own = case.world.state(sub.child)
    sortings = sub.view.queries.sortings
    sorting = own.sorting or (sortings[0] if len(sortings) == 1 else None)
    if sorting is None or own.unsorted or not sortings or any(_faulty(case, sub, "sort")):
        return []
    snapshot = await snapshot_of(inner)
    allowed = [each for each in snapshot.fields.values() if sorting.fields is None or each.name in sorting.fields]
    for field in allowed:
        values = snapshot.column(field.name).values.tolist() if field.kind in {"number", "date", "date-time"} else []
        if len(set(values)) < 3:
            continue
        for order in ((Order(field.name),), (Order(field.name, True),)):
            answer = await asked_in_order(inner, snapshot, order, sorting, "a sorted list under a row")
            if answer is not None and (answer.wrong or answer.lost or answer.reply.refused):
                seen = "refused" if answer.reply.refused else ("rows are lost" if answer.lost else "out of order")
                title = "The list under a row is not sorted as it is asked"
                return [(title, f"its rows by {order[0]}", seen, answer.reply.exchange)]
        break
    return []


async def _filtered(inner: Case, sub: Subcollection, case: Case) -> Sequence[Problem]:
    own = case.world.state(sub.child)
    filterings = sub.view.queries.filterings
    filtering = own.filtering or (filterings[0] if len(filterings) == 1 else None)
    if filtering is None or own.unfiltered or not filterings or any(_faulty(case, sub, "filter")):
        return []
    snapshot = await snapshot_of(inner)
    for field in snapshot.fields.values():
        if field.kind not in {"number", "date"} or (field.name, "eq") in own.misfiltered:
            continue
        for condition in list(conditions(field, ["eq"], snapshot, case.world.mark))[:1]:
            try:
                reply = await ask(inner, spelled(inner, Query(condition), filtering), "a filtered list under a row")
            except Inexpressible:
                continue
            if reply.rows is None:
                continue
            verdict = judge(snapshot, [as_answer(inner, snapshot, condition, reply)])[0]
            if verdict is not None:
                seen = f"{len(reply.rows)} rows"
                title = "The list under a row is not filtered as it is asked"
                return [(title, f"{verdict.expected} of its rows", seen, reply.exchange)]
            return []
    return []


def _faulty(case: Case, sub: Subcollection, family: str) -> Iterable[bool]:
    """Whether the list of all has been found wrong in this already."""
    return (each.resource == sub.child and each.family == family for each in case.world.findings.by_key.values())
