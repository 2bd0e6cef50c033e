"""Links: those that the contract attaches to answers, and those that rows hold, lead where they say."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Iterator, Mapping
from typing import Any
from urllib.parse import urljoin, urlsplit

from checkpost.checks.asking import snapshot_of
from checkpost.checks.case import Case
from checkpost.checks.registry import Skipped, check
from checkpost.contract.contract import Link, Operation
from checkpost.contract.pointer import walk
from checkpost.findings import Finding
from checkpost.model.expansions import stem
from checkpost.model.paths import normal, parameters
from checkpost.model.resource import Resource
from checkpost.oracle.same import differences
from checkpost.wire.client import Client
from checkpost.wire.exchange import Answer, Exchange
from checkpost.wire.listing import Key, Row, key_text

_MOST_ROWS = 3
_HOLDERS = ("_links", "links", "@links", "hrefs", "_hrefs")
_SELVES = ("self", "_self", "href", "url", "uri", "@id", "selflink", "canonical")


def _links(operation: Operation | None) -> Iterator[Link]:
    for response in operation.success() if operation else ():
        yield from response.links


@check("relate.contract-links", needs=("read", "list"), cost=lambda resource: 4)
async def contract_links(case: Case) -> AsyncIterator[Finding]:
    """Do the links that the contract attaches to an answer lead to what they say?"""
    links = list(_links(case.operation("read")))
    if not links:
        raise Skipped("the contract attaches no links to its answers")
    snapshot = await snapshot_of(case)
    keys = [key for key in snapshot.keys if key is not None]
    failed: set[str] = set()
    for key in list(dict.fromkeys([*keys[:1], *keys[len(keys) // 2 :][:1], *keys[-1:]]))[:_MOST_ROWS]:
        exchange, row = await case.read(key, "a row with links")
        if row is None:
            continue
        for link in links:
            target = case.world.contract.named(link.operation)
            client = _client_for(case, target) if target is not None else None
            values = _evaluated(link, exchange, key, case)
            if target is None or client is None or target.method != "GET" or values is None or link.name in failed:
                continue
            asked, expected = values
            followed = await case.send("read", f"the link {link.name}", through=client, operation=target, key=asked)
            shown = client.row_in(followed.answer) if followed.answer.ok else None
            found = client.key_of(shown) if shown is not None else None
            wrong = not followed.answer.ok and not followed.answer.failure and followed.answer.status not in {401, 403}
            other = found is not None and "read" in client.resource.operations and found != expected
            is_read = target == client.resource.operations.get("read")
            if wrong or (other and is_read):
                failed.add(link.name)
                yield case.finding(
                    "error",
                    "contract",
                    "A link of the contract does not lead to what it says",
                    f"{link.name}: {target.method} {target.path} with {key_text(asked)}",
                    f"the row {key_text(found)}" if found else str(followed.answer.status),
                    cause=f"contract link {link.name}",
                    operation=(target.method, target.path),
                    place=link.place,
                    subjects=[link.name],
                    evidence=[exchange, followed],
                )


def _client_for(case: Case, operation: Operation) -> Client | None:
    """A client for the resource that an operation belongs to."""
    for resource in case.world.model.resources:
        if operation in resource.operations.values():
            return case.world.client(resource)
        for sub in resource.subcollections:
            if operation in sub.view.operations.values():
                return case.world.view(resource, sub.view, ())
    return None


def _evaluated(link: Link, exchange: Exchange, key: Key, case: Case) -> tuple[Key, Key] | None:
    """The values of the target's path parameters in its order; None where one is null or cannot be told."""
    operation = case.world.contract.named(link.operation)
    given = {name.rpartition(".")[2]: value for name, value in link.parameters.items()}
    values = []
    for name in parameters(operation.path) if operation else ():
        value = _value(given.get(name), exchange, key, case)
        if value is None:
            return None
        values.append(value)
    return (tuple(values), tuple(values)) if values else None


def _value(expression: Any, exchange: Exchange, key: Key, case: Case) -> Any:
    """A runtime expression (OpenAPI 3.1, 4.8.20.4) against an exchange."""
    if not isinstance(expression, str) or not expression.startswith("$"):
        return expression
    if expression.startswith("$response.body#"):
        try:
            value = walk(exchange.answer.json, expression.partition("#")[2])
        except LookupError:
            return None
        return value if isinstance(value, str | int) else None
    if expression.startswith("$response.header."):
        return exchange.answer.header(expression.rpartition(".")[2])
    if expression.startswith("$request.path."):
        names = parameters(case.resource.item)
        name = expression.rpartition(".")[2]
        return key[names.index(name)] if name in names and len(names) == len(key) else None
    return None


@check("relate.row-links", needs=("list",), cost=lambda resource: 4)
async def row_links(case: Case) -> AsyncIterator[Finding]:
    """Do the links in a row lead to the row itself, and to those that it refers to?"""
    snapshot = await snapshot_of(case)
    rows = [(key, row) for key, row in zip(snapshot.keys, snapshot.rows, strict=True) if key is not None]
    telling = [
        each for each in rows if any(each[1].get(relation.field) is None for relation in case.resource.relations)
    ]
    picked = [*rows[:1], *rows[len(rows) // 2 :][:1], *telling[:1]]
    seen = 0
    failed: set[str] = set()
    base = case.client.url(case.operation("list"))
    for key, row in picked[:_MOST_ROWS]:
        ending = "/".join([(case.resource.collection or "").rpartition("/")[2], *map(str, key)])
        for name, href in links_in(row, ending).items():
            if name in failed:
                continue
            relation = next((each for each in case.resource.relations if stem(each.field) == normal(name)), None)
            if relation is not None and (href is None) != (row.get(relation.field) is None):
                seen += 1
                reference = row.get(relation.field)
                failed.add(name)
                expected = "no link" if reference is None else "a link"
                yield _wrong(case, name, key, f"{expected}, as {relation.field} is {reference!r}", str(href), [])
                continue
            if href is None or urlsplit(urljoin(base, href))[:2] != urlsplit(base)[:2]:
                continue
            target = case.resource if normal(name) in _SELVES else None
            target = case.world.model.resource(relation.resource) if relation is not None else target
            if target is None:
                continue
            seen += 1
            client = case.world.client(target)
            exchange = await client.follow(urljoin(base, href), case.check.name)
            case.requests += 1
            wrong = _leads_astray(target, client, exchange.answer, key if relation is None else (row[relation.field],))
            wrong = wrong or (_other_values(case, exchange.answer, row) if relation is None else "")
            if wrong:
                failed.add(name)
                wanted = "the row itself" if relation is None else f"the row {row[relation.field]!r} of {target.name}"
                yield _wrong(case, name, key, wanted, wrong, [exchange])
    if not seen:
        raise Skipped("its rows hold no links")


def _wrong(case: Case, name: str, key: Key, expected: str, observed: str, evidence: list[Exchange]) -> Finding:
    return case.finding(
        "error",
        "expectation",
        "A link in a row does not lead where it says",
        f"{name} of the row {key_text(key)}: {expected}",
        observed,
        cause=f"row link {name}",
        purpose="list",
        subjects=[name],
        evidence=evidence or list(case.state.before.exchanges[:1] if case.state.before else ()),
    )


def _leads_astray(target: Resource, client: Client, answer: Answer, key: Key) -> str:
    if not answer.ok:
        return str(answer.status or answer.detail) if answer.status not in {401, 403} else ""
    row = client.row_in(answer)
    found = client.key_of(row) if row is not None else None
    return f"the row {key_text(found)}" if found is not None and list(map(str, found)) != list(map(str, key)) else ""


def _other_values(case: Case, answer: Answer, row: Mapping[str, Any]) -> str:
    shown: Row | None = case.client.row_in(answer)
    wrong = differences(case.fields, row, shown or {}, case.settable)
    return f"a row with {wrong[0]} = {shown[wrong[0]]!r}" if wrong and shown else ""


def links_in(row: Mapping[str, Any], ending: str) -> dict[str, str | None]:
    """The links that a row holds, by name; None for one that is null. ``ending`` is how the path of the row
    itself ends."""
    found: dict[str, str | None] = {}
    holder = next((row[name] for name in _HOLDERS if isinstance(row.get(name), dict | list)), None)
    if isinstance(holder, list):
        holder = {str(each.get("rel")): each for each in holder if isinstance(each, dict) and "rel" in each}
    for name, value in (holder or {}).items():
        href = value.get("href", value.get("url")) if isinstance(value, dict) else value
        if href is None or isinstance(href, str):
            found[name] = href
    for name, value in row.items():
        if normal(name) not in _SELVES or not isinstance(value, str) or not re.match(r"https?://|/", value):
            continue
        # a plain "url" may lead anywhere, unless it ends like the path of an item
        if name not in {"url", "uri"} or (len(ending) > 1 and urlsplit(value).path.rstrip("/").endswith(ending)):
            found.setdefault("self", value)
    return found
