"""What belongs to no table: every documented GET that needs nothing is asked once, and held against its schema."""

from __future__ import annotations

import re
from collections.abc import Iterator

from checkpost.checks.conformance import Observation, conform
from checkpost.checks.together import all_of
from checkpost.checks.world import World
from checkpost.contract.contract import Operation
from checkpost.model.doing import DOES
from checkpost.wire.exchange import Request

CHECK = "read.others"
#: Words of paths that may do something although they are asked by GET.
_DOES = re.compile(
    r"(log|sign)[-_]?(in|out|off|on)|auth\w*|oauth\w*|session|token|delete\w*|remove\w*|destroy|purge|clear|reset|flush|drop"
    r"|truncate|restore|rebuild|reindex|refresh|revoke|cancel|start|stop|restart|shutdown|kill|run|exec\w*|rpc|calls?"
    r"|functions?|procedures?|invoke|send|trigger|sync|import|migrate|seed|archive|publish|approve|reject|toggle"
    r"|callback|webhooks?|verify|confirm|(un)?subscribe|redirect|stream|events|sse|ws|websocket|watch|backup|dump|export",
    re.I,
)
#: Answers that tell something of an operation: it worked, is not there, or fails.
_NOT_THERE = frozenset({404, 405})


def readable(world: World) -> Iterator[Operation]:
    """The documented GETs of no table that take no path parameter, and need no other one."""
    for operation, why in world.model.others:
        words = [part for part in re.split(r"[/.:]", operation.path) if part]
        needs = any(each.required for each in operation.parameters)
        endless = any("event-stream" in media.name for answer in operation.success() for media in answer.content)
        does = any(_DOES.fullmatch(part) for word in words for part in (word, *re.split(r"[-_]", word)))
        if operation.method == "GET" and "{" not in operation.path and not (needs or endless or does or why == DOES):
            yield operation


async def read_others(world: World) -> None:
    """Ask each of them once, and add what is wrong with their answers to the findings."""

    async def ask(operation: Operation) -> None:
        request = Request("GET", world.base_url.rstrip("/") + operation.path, world.role.name)
        exchange = await world.session.send(request, CHECK)
        world.exercised.add((operation.method, operation.path))
        answer = exchange.answer
        if answer.ok or answer.status in _NOT_THERE or answer.status >= 500:
            observation = Observation("", operation, exchange, "asked by itself")
            world.findings.add(conform(observation, world.validators))

    await all_of(map(ask, readable(world)))
