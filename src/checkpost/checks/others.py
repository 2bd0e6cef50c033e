"""What belongs to no table: every documented GET, HEAD or OPTIONS that needs nothing, or no more than a row's key
or what the contract lists for what it needs, is asked once, and held against its schema."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator
from urllib.parse import quote, urlencode

from checkpost.checks.case import Case
from checkpost.checks.conformance.answer import conform
from checkpost.checks.conformance.observation import Observation
from checkpost.checks.registry import Skipped, check, looking
from checkpost.checks.together import all_of
from checkpost.checks.world import World
from checkpost.contract.contract import Operation
from checkpost.model.choices import choices_of
from checkpost.model.constants import constants_of
from checkpost.model.doing import DOES, TELLS_WHO
from checkpost.model.paths import PARAMETER, nameless, normal, parameters, plain
from checkpost.model.resource import Resource
from checkpost.wire.exchange import Exchange, Request

CHECK = "read.others"
#: Words of paths that may do something although they are asked by GET.
_DOES = re.compile(
    r"(log|sign)[-_]?(in|out|off|on)|auth\w*|oauth\w*|session|token|delete\w*|remove\w*|destroy|purge|clear|reset|flush|drop"
    r"|truncate|restore|rebuild|reindex|refresh|revoke|cancel|start|stop|restart|shutdown|kill|run|exec\w*|rpc|calls?"
    r"|functions?|procedures?|invoke|send|trigger|sync|import|migrate|seed|archive|publish|approve|reject|toggle"
    r"|callback|webhooks?|verify|confirm|(un)?subscribe|redirect|stream|events|sse|ws|websocket|watch|backup|dump|export",
    re.I,
)
_READS = r"(?:find|get|show|fetch|read|view|detail|details|one|by[-_]?(?:id|key))"
#: Answers that tell something of an operation: it worked, is not there, or fails.
_NOT_THERE = frozenset({404, 405})


def _safe(operation: Operation, why: str) -> bool:
    """Whether an operation is safe, ends, and does nothing, as far as its words tell."""
    words = [part for part in re.split(r"[/.:]", operation.path) if part]
    if TELLS_WHO.search(operation.path):
        words = words[-1:]  # what stands before it is no matter of logging in then
    endless = any("event-stream" in media.name for answer in operation.success() for media in answer.content)
    does = any(_DOES.fullmatch(part) for word in words for part in (word, *re.split(r"[-_]", word)))
    return operation.method in {"GET", "HEAD", "OPTIONS"} and not (endless or does or why == DOES)


def _needs_nothing(operation: Operation) -> bool:
    """Whether an operation needs nothing beside its path."""
    return not any(each.required and each.location != "path" for each in operation.parameters)


def _address(operation: Operation) -> str | None:
    """The path and the query of an operation, with the first of the values that the contract lists for each parameter
    that it needs; None where it lists none."""
    in_path = {each.name: choices_of(each) for each in operation.parameters if each.location == "path"}
    needed = constants_of(operation, {})
    if needed.lacking or needed.headers or not all(in_path.get(name) for name in parameters(operation.path)):
        return None
    path = PARAMETER.sub(lambda found: quote(in_path[found[1]][0], safe=""), operation.path)
    return path + (f"?{urlencode(needed.query)}" if needed.query else "")


def readable(world: World) -> Iterator[tuple[Operation, str]]:
    """The documented safe operations of no table that need nothing, or values that the contract lists; each with its
    path and query."""
    for operation, why in world.model.others:
        address = _address(operation) if _safe(operation, why) else None
        if address is not None:
            yield operation, address


def beside(world: World, resource: Resource) -> list[Operation]:
    """The documented GETs of no table that stand under a row of a resource, or read one in another way
    (``/lots/find/{id}``), and need nothing but its key."""
    if resource.item is None or resource.key is None or resource.under:
        return []
    item = nameless(plain(resource.item))
    head, _, key = item.rpartition("/")
    another = re.compile(rf"{re.escape(head)}/{_READS}/{re.escape(key)}")
    # the row that one refers to, where it is not known by which of its fields
    single = [each.view.operations["read"] for each in resource.subcollections if not each.many and each.via is None]
    return single + [
        operation
        for operation, why in world.model.others
        if (
            f"{nameless(plain(operation.path))}/".startswith(item + "/")
            or another.fullmatch(nameless(plain(operation.path)))
        )
        and len(parameters(operation.path)) == len(resource.key.fields)
        and _safe(operation, why)
        and _needs_nothing(operation)
    ]


def by_field(world: World, resource: Resource) -> list[tuple[Operation, str]]:
    """The documented GETs of no table that read a row by another field than its key (``/species/{code}``,
    ``/species/by-code/{code}``), with that field."""
    if resource.item is None or resource.key is None or resource.under:
        return []
    head = nameless(plain(resource.item)).rpartition("/")[0]
    way = re.compile(rf"{re.escape(head)}/(?:[^/{{}}]+/)?\{{\}}")
    named = {
        normal(each.name): each.name for each in resource.fields if each.shown and each.type in {"string", "integer"}
    }
    found = []
    for operation, why in world.model.others:
        names = [normal(name) for name in parameters(operation.path)]
        if way.fullmatch(nameless(plain(operation.path))) and _safe(operation, why) and _needs_nothing(operation):
            # the parameter may be named for the row too: {speciesCode}
            field = next((named[each] for each in named if any(name.endswith(each) for name in names)), None)
            if field is not None and field not in resource.key.fields:
                found.append((operation, field))
    return found


@check("read.beside", needs=("create", "delete"), creates=True, cost=lambda resource: 0)
@looking
async def beside_rows(case: Case) -> None:
    """Is what can be read beside a row answered as the contract describes it?"""
    operations = beside(case.world, case.resource)
    by_others = by_field(case.world, case.resource)
    if not operations and not by_others:
        raise Skipped("the contract has nothing else to read beside its rows")
    own = (await case.own())[0]
    _, row = await case.row_now(own.key)
    named = [(operation, (row[name],)) for operation, name in by_others if isinstance(row.get(name), str | int)]
    for operation, key in [*((each, own.key) for each in operations), *named]:
        url = case.client.url(operation, key)
        exchange = await case.world.session.send(Request(operation.method, url, case.world.role.name), case.check.name)
        case.requests += 1
        judge(case.world, operation, exchange, "asked of an own row")


def judge(world: World, operation: Operation, exchange: Exchange, situation: str) -> None:
    """Add what is wrong with an answer to the findings."""
    world.exercised.add((operation.method, operation.path))
    answer = exchange.answer
    if answer.ok or answer.status in _NOT_THERE or answer.status >= 500:
        world.findings.add(conform(Observation("", operation, exchange, situation), world.validators))


async def read_others(world: World) -> None:
    """Ask each of them once, and add what is wrong with their answers to the findings."""

    async def ask(operation: Operation, address: str) -> None:
        request = Request(operation.method, world.base_url.rstrip("/") + address, world.role.name)
        judge(world, operation, await world.session.send(request, CHECK), "asked by itself")

    await all_of(itertools.starmap(ask, readable(world)))
