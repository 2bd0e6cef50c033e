"""Departures that one answer alone has shown: it is asked for again, since rows may have come and gone beneath it."""

from __future__ import annotations

from dataclasses import replace

from checkpost.checks.together import all_of
from checkpost.checks.world import World
from checkpost.findings import Finding

CHECK = "shape.body"
#: How many are asked for again at most.
_MOST = 20


async def look_twice(world: World) -> None:
    """Ask again for each answer to a GET that alone has shown a departure of a body; what does not come again is a
    note. An answer that many rows are put together for may be of two moments: a row, and what it refers to, gone."""
    once = [each for each in world.findings.by_key.values() if _seen_once(world, each)]
    await all_of(_again(world, each) for each in once[:_MOST])


def _seen_once(world: World, finding: Finding) -> bool:
    request = world.exchanges[finding.exchanges[0]].request if len(finding.exchanges) == 1 else None
    graver = finding.check == CHECK and finding.severity != "note" and finding.count == 1
    return graver and request is not None and request.method == "GET"


async def _again(world: World, finding: Finding) -> None:
    first = world.exchanges[finding.exchanges[0]]
    asked = (
        (resource, operation)
        for resource in world.model.resources
        for operation in resource.every_operation
        if (operation.method, operation.path) in finding.operations[:1]
    )
    resource, operation = next(asked, (None, None))
    if resource is None or operation is None:
        return
    exchange = await world.session.send(first.request, first.check)
    world.observe(world.client(resource), operation, exchange, "asked again")
    known = world.findings.by_key.get(finding.key)
    if known is not None and known.count == finding.count and exchange.answer.status == first.answer.status:
        seen = f"{known.observed}; not when it was asked for again"
        world.findings.by_key[finding.key] = replace(known, severity="note", observed=seen)
