"""Before anything is judged: does the API answer there, and are the credentials taken?"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import replace
from urllib.parse import urljoin

from checkpost.checks.world import World
from checkpost.errors import CheckPostError, NotCompleted
from checkpost.model.resource import Resource
from checkpost.wire.coded import coded_in
from checkpost.wire.exchange import Exchange, Request
from checkpost.wire.listing import Listing

_MOST_HOPS = 10
_MOST_PARENTS = 8


async def preflight(world: World, resources: Sequence[Resource]) -> None:
    """Read each list once; what is read is kept as the state before the run.

    Raises CheckPostError if the role's credentials are refused, NotCompleted if the API cannot be worked
    with at all; one list that works is enough to go on.
    """
    with_lists = [resource for resource in resources if "list" in resource.operations]
    await look_above(world, [each for each in world.model.resources if "list" in each.operations])
    with_lists = [each for each in with_lists if not each.under or each.name in world.above]

    async def read(resource: Resource) -> Listing:
        return await world.client(resource).whole_list(world.most_rows, "read.list")

    listings = await asyncio.gather(*(read(resource) for resource in with_lists))
    for resource, listing in zip(with_lists, listings, strict=True):
        world.state(resource.name).before = listing
    coded = {coded_in(each.exchanges[0].answer.json) for each in listings if each.exchanges[0].answer.ok}
    # what all lists say alike is said of every answer
    world.session.coded = coded.pop() if len(coded) == 1 else None
    secured = [
        listing for resource, listing in zip(with_lists, listings, strict=True) if not resource.operations["list"].open
    ]
    # the public is refused where credentials are needed, and may work with the rest
    judged = secured if secured and world.role.credentials else listings
    refused = [listing for listing in judged if listing.exchanges[0].answer.status == 401]
    doubtful = bool(world.role.credentials) and 2 * len(refused) >= len(judged)
    if refused and (len(refused) == len(judged) or (doubtful and not await _are_of_use(world, judged))):
        raise CheckPostError(_refused(world, refused[0].exchanges[0]))
    if listings and all(listing.problem for listing in listings):
        raise NotCompleted(await _why(world, listings[0].exchanges[0], listings[0].problem))


async def look_above(world: World, resources: Sequence[Resource]) -> None:
    """Choose the row under which each resource is looked at whose paths stand under another's rows: one that has rows
    under it, if one of the first has."""
    for resource in resources:
        parent = world.model.resource(resource.under) if resource.under else None
        if parent is None or "list" not in parent.operations or (parent.under and parent.name not in world.above):
            continue
        listing = await world.client(parent).whole_list(world.most_rows, "read.list")
        for key in list(listing.by_key)[:_MOST_PARENTS]:
            world.above[resource.name] = key
            if (await world.client(resource).whole_list(world.most_rows, "read.list")).rows:
                break


async def _are_of_use(world: World, listings: Sequence[Listing]) -> bool:
    """Whether a list is answered with the role's credentials, and not without any; of the first few that are answered,
    if any is."""
    answered = [each.exchanges[0] for each in listings if each.exchanges[0].answer.ok][:_MOST_PARENTS]
    bare = [replace(each.request, credentials="none") for each in answered]
    open_ = await asyncio.gather(*(world.session.send(each, "preflight") for each in bare))
    return not open_ or not all(each.answer.ok for each in open_)


def _refused(world: World, exchange: Exchange) -> str:
    role = world.role
    asked = f"{exchange.request.method} {exchange.request.url} answers 401"
    if not role.credentials:
        return (
            f"The API wants credentials: {asked} without any; name a role in the profile, or give "
            "--credential SCHEME=VARIABLE."
        )
    variables = ", ".join(role.variables) or "none"
    return (
        f"The credentials of the role {role.name!r} are refused: {asked}; look at the value of {variables}, "
        "and at the scheme and header that the API expects."
    )


async def _why(world: World, exchange: Exchange, problem: str) -> str:
    answer, asked = exchange.answer, f"{exchange.request.method} {exchange.request.url}"
    if answer.failure == "unreachable":
        return f"{world.base_url} cannot be reached ({answer.detail}); is the API running there?"
    if answer.failure:
        return f"{world.base_url} gives no usable answer: for {asked}, {answer.detail}."
    if 300 <= answer.status < 400:
        return await _redirect(world, exchange)
    if answer.status == 404:
        return f"None of the contract's lists is there: {asked} answers 404; is the base URL {world.base_url} right?"
    if answer.status >= 500:
        return f"The API fails: {asked} answers {answer.status}; look into its log."
    if answer.ok and (answer.media_type == "text/html" or answer.text.lstrip()[:1] == "<"):
        return f"{asked} answers with HTML, not with rows; is the base URL {world.base_url} that of the API?"
    if answer.ok and not answer.parsed[0]:
        return f"{asked} answers with a body that is not valid JSON ({answer.media_type or 'no media type'})."
    return f"No list of the contract can be used: for {asked}, {problem}."


async def _redirect(world: World, exchange: Exchange) -> str:
    url, first = exchange.request.url, exchange.request.url
    current = exchange
    for _ in range(_MOST_HOPS):
        target = current.answer.header("location")
        if not target or not 300 <= current.answer.status < 400:
            return f"GET {first} redirects to {url}; if that is the instance you mean, give it as the base URL."
        url = urljoin(url, target)
        current = await world.session.send(Request("GET", url, "", credentials="none"), "preflight")
    return f"GET {first} redirects over and over (last to {url}); is the base URL {world.base_url} right?"
