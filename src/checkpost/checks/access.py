"""Credentials: none, damaged, expired, elsewhere, and those of someone who has logged out; what needs none."""

from __future__ import annotations

import json
import re
from collections.abc import AsyncIterator, Iterable
from dataclasses import replace
from typing import Any
from urllib.parse import urlencode

from checkpost.checks.case import Case
from checkpost.checks.records import new_record, replacement
from checkpost.checks.registry import Blocked, Skipped, check
from checkpost.checks.removal import forget
from checkpost.checks.roles import departure, stated_rights
from checkpost.contract.contract import Contract, Operation
from checkpost.findings import DAMAGED, WITHOUT, Finding
from checkpost.model.access import rights_of
from checkpost.model.media import is_json_type, request_media_type
from checkpost.model.purpose import Purpose
from checkpost.model.shape import shape_of
from checkpost.profile.credentials import Role
from checkpost.wire.exchange import Exchange, Request

_READS: tuple[Purpose, ...] = ("list", "read")
_WRITES: tuple[Purpose, ...] = ("create", "update", "replace", "delete")

_WITHOUT = {"no": "without any", "damaged": "with damaged ones"}


def _secured(case: Case, purposes: tuple[Purpose, ...]) -> list[Purpose]:
    if not case.world.role.credentials:
        raise Skipped("the run has no credentials")
    secured = [each for each in purposes if case.has(each) and not case.operation(each).open]
    if not secured:
        raise Skipped("the contract asks for no credentials here")
    return secured


async def _read(case: Case, purpose: Purpose, credentials: str, situation: str) -> Exchange | None:
    """The list or a row of it; None where no row is known."""
    if purpose == "list":
        return await case.send("list", situation, credentials=credentials)
    before = case.state.before
    key = next(iter(before.by_key), None) if before else None
    return await case.send("read", situation, key=key, credentials=credentials) if key else None


async def _write(case: Case, purpose: Purpose, credentials: str, situation: str) -> Exchange:
    """A write: a create is journaled, and everything else goes to an own row."""
    if purpose == "create":
        exchange, _ = await case.create(await new_record(case), situation, credentials=credentials)
        return exchange
    own = (await case.own())[0]
    request: dict[str, Any] = {}
    if purpose == "update":
        request["record"] = await new_record(case, "update")
    elif purpose == "replace":
        request["record"] = await replacement(case, own.key)
    exchange = await case.send(purpose, situation, key=own.key, credentials=credentials, **request)
    if purpose == "delete" and exchange.answer.ok:
        forget(case, own.key)
    return exchange


async def _refused_everywhere(
    case: Case, purposes: tuple[Purpose, ...], credentials: str, words: str
) -> AsyncIterator[Finding]:
    for purpose in _secured(case, purposes):
        ask = _read if purpose in _READS else _write
        exchange = await ask(case, purpose, credentials, f"{words} credentials")
        if exchange is not None and exchange.answer.ok:
            yield case.finding(
                "error",
                "contract",
                f"Operations that need credentials answer {_WITHOUT[words]}",
                "401 (RFC 9110, 15.5.2), as the security requirement says",
                str(exchange.answer.status),
                cause=DAMAGED if words == "damaged" else WITHOUT,
                purpose=purpose,
                evidence=[exchange],
            )
        elif exchange is not None:
            for found in _refusal(case, purpose, exchange):
                yield found


def _refusal(case: Case, purpose: Purpose, exchange: Exchange) -> Iterable[Finding]:
    """Whether a refusal for want of credentials says so, where the contract leaves it open."""
    answer, operation = exchange.answer, case.operation(purpose)
    documented = operation.response(answer.status)
    told = documented is not None and any(each.name.lower() == "www-authenticate" for each in documented.headers)
    if answer.status == 401 and answer.header("www-authenticate") is None and not told:
        yield case.finding(
            "note",
            "standard",
            "A 401 does not say how to authenticate",
            "WWW-Authenticate with 401 (RFC 9110, 11.6.1)",
            "no such header",
            cause="everywhere:no challenge",
            purpose=purpose,
            evidence=[exchange],
        )
    elif answer.status == 403 and operation.response(401) is not None:
        yield case.finding(
            "note",
            "standard",
            "Requests without valid credentials are answered 403",
            "401, which the contract documents too (RFC 9110, 15.5.2)",
            "403",
            cause="everywhere:403 without credentials",
            purpose=purpose,
            evidence=[exchange],
        )


@check("access.no-credentials", cost=lambda resource: 2)
async def no_credentials(case: Case) -> AsyncIterator[Finding]:
    """Is reading refused without credentials, where the contract asks for them?"""
    async for found in _refused_everywhere(case, _READS, "none", "no"):
        yield found


@check("access.damaged-credentials", cost=lambda resource: 2)
async def damaged_credentials(case: Case) -> AsyncIterator[Finding]:
    """Is reading refused with damaged credentials?"""
    async for found in _refused_everywhere(case, _READS, "wrong", "damaged"):
        yield found


@check("access.no-credentials-writes", needs=("create", "delete"), creates=True, cost=lambda resource: 10)
async def no_credentials_writes(case: Case) -> AsyncIterator[Finding]:
    """Is writing refused without credentials?"""
    async for found in _refused_everywhere(case, _WRITES, "none", "no"):
        yield found


@check("access.damaged-credentials-writes", needs=("create", "delete"), creates=True, cost=lambda resource: 10)
async def damaged_credentials_writes(case: Case) -> AsyncIterator[Finding]:
    """Is writing refused with damaged credentials?"""
    async for found in _refused_everywhere(case, _WRITES, "wrong", "damaged"):
        yield found


@check("access.credentials", needs=("list",), cost=lambda resource: 2, per_role=True)
async def credentials(case: Case) -> AsyncIterator[Finding]:
    """Are expired credentials refused, and those under another scheme or in another place?"""
    role, rights = case.world.roles[case.actor], stated_rights(case)
    open_list = case.operation("list").open
    if not role.credentials or open_list or not rights.may("list"):
        raise Skipped("the list needs no credentials, or is not for this role")
    trials = [("expired", "expired credentials")] if role.expired else []
    if any(each.where == "header" and each.template.lower().startswith("bearer ") for each in role.credentials):
        trials.append(("scheme", "credentials under another scheme"))
    if role.presented("place") and not _places_stated(case):
        trials.append(("place", "credentials in another place"))
    if any(each.check == "access.no-credentials" for each in case.known()):
        trials = [each for each in trials if each[0] == "expired"]  # it needs no credentials at all
    for kind, words in trials:
        exchange = await case.send("list", words, through=case.acting, credentials=kind)
        if exchange.answer.ok:
            yield departure(
                case, f"{words.capitalize()} are taken", "401 (RFC 9110, 15.5.2)", str(exchange.answer.status),
                [exchange], "list", severity="error" if kind == "expired" else "warning",
            )  # fmt: skip


def _places_stated(case: Case) -> bool:
    """Whether the contract offers the list's credentials in several places, or says nothing of them."""
    named = {name for each in case.operation("list").security or () for name in each}
    schemes = [each for each in case.world.contract.schemes if each.name in named]
    return not schemes or len({each.where or "header" for each in schemes}) > 1


#: What operations that end a log-in are called.
_ENDS = re.compile(r"(log|sign)[-_]?(out|off)|revoke|end[-_]?session", re.IGNORECASE)


def ending(contract: Contract) -> Operation | None:
    """The operation by which a role logs out, told by its name."""
    named = [
        each
        for each in contract.operations
        if "{" not in each.path
        and (_ENDS.search(each.path.rstrip("/").rpartition("/")[2]) or _ENDS.search(each.operation_id))
    ]
    methods = ("POST", "DELETE", "GET")
    usable = [each for each in named if each.method in methods]
    return min(usable, key=lambda each: methods.index(each.method), default=None)


@check("access.log-out", needs=("list",), cost=lambda resource: 0)
async def log_out(case: Case) -> AsyncIterator[Finding]:
    """Do a role's rights end with its log-in?"""
    operation = ending(case.world.contract)
    if operation is None or case.operation("list").open:
        raise Skipped("the contract has no log-out, or the list needs no credentials")
    role = next((each for each in case.world.roles.values() if each.login is not None and _may_list(case, each)), None)
    if role is None:
        raise Skipped("no role that may read the list logs in")
    session, variable = case.world.session, _variable(role, case.resource.name)
    token, why = await session.log_in(role)
    if not token:
        raise Blocked(f"the role {role.name} cannot log in: {why}")
    session.tokens[variable] = token
    client = case.world.client(case.resource, role)
    before = await case.send("list", "the list after a log-in", through=client, token=variable)
    if not before.answer.ok:
        raise Blocked(f"the list answers {before.answer.status} after a log-in")
    headers, body = _farewell(operation, token)
    url = f"{case.world.base_url.rstrip('/')}{operation.path}"
    left = await session.sign_off(
        Request(operation.method, url, role.name, headers, body, token=variable), case.check.name
    )
    case.requests += 1
    if not left.answer.ok and not 300 <= left.answer.status < 400:
        raise Blocked(f"{operation} answers {left.answer.status}")
    after = await case.send("list", "the list after a log-out", through=client, token=variable)
    if after.answer.ok:
        found = case.finding(
            "error",
            "expectation",
            "A role's rights outlive its log-out",
            f"401 for {role.name}, whose token was given up",
            str(after.answer.status),
            cause="everywhere:outlives log-out",
            purpose="list",
            evidence=[before, left, after],
        )
        yield replace(found, role=role.name)


def _variable(role: Role, resource: str) -> str:
    return re.sub(r"\W", "_", f"{role.token_variable}_{resource}").upper()


def _may_list(case: Case, role: Role) -> bool:
    if role.name == case.world.role.name:
        return True
    rights = rights_of(case.world.access, case.resource.name, role.name)
    return rights is not None and rights.may("list")


def _farewell(operation: Operation, token: str) -> tuple[dict[str, str], bytes | None]:
    """The headers and body of a log-out; a body that asks for the token is given it (RFC 7009, 2.1)."""
    if operation.body is None:
        return {}, None
    media = next((each for each in operation.body.content if is_json_type(each.name)), None)
    if media is None:
        return {"Content-Type": "application/x-www-form-urlencoded"}, urlencode({"token": token}).encode()
    names = shape_of(media.schema).properties if media.schema is not None else {}
    values = {name: token for name in names if name.lower().replace("_", "") in {"token", "accesstoken"}}
    return {"Content-Type": request_media_type(operation)}, json.dumps(values).encode()


@check("access.caches", needs=("list",), cost=lambda resource: 2, per_role=True)
async def caches(case: Case) -> AsyncIterator[Finding]:
    """Is an answer that depends on credentials not offered to shared caches?"""
    exchange = await case.send("list", "the list as another role", through=case.acting)
    control = (exchange.answer.header("cache-control") or "").lower()
    rights = stated_rights(case)
    differs = rights.rows is not None or rights.hidden or not rights.may("list") or not case.operation("list").open
    varies = "authorization" in (exchange.answer.header("vary") or "").lower()
    shared = re.search(r"\bpublic\b|\bs-maxage=[1-9]", control)
    if exchange.answer.ok and case.world.roles[case.actor].credentials and differs and shared and not varies:
        yield departure(
            case, "An answer for one role may be served to others by a cache",
            "no public or s-maxage without Vary: Authorization (RFC 9111, 3.5)", f"Cache-Control: {control}",
            [exchange], "list",
        )  # fmt: skip


@check("access.unexposed", cost=lambda resource: 0)
async def unexposed(case: Case) -> AsyncIterator[Finding]:
    """Are tables that are not to be exposed out of reach, however their names are written?"""
    first = case.world.model.resources[0]
    if case.resource is not first or not case.world.unexposed:
        raise Skipped("the profile names no table that is not to be reached, or another resource asks for it")
    prefix = (first.collection or "/").rpartition("/")[0]
    for table in case.world.unexposed:
        for name in _writings(table):
            url = f"{case.world.base_url.rstrip('/')}{prefix}/{name}"
            exchange = await case.world.session.send(Request("GET", url, case.world.role.name), case.check.name)
            case.requests += 1
            if (
                exchange.answer.ok
                and exchange.answer.parsed[0]
                and json.dumps(exchange.answer.json) not in {"[]", "{}"}
            ):
                yield departure(
                    case, "A table that is not to be exposed can be read", f"404 for {table}",
                    f"{exchange.answer.status} at {prefix}/{name}", [exchange], operation=("GET", f"{prefix}/{name}"),
                    cause=f"unexposed {table}", subjects=[name],
                )  # fmt: skip
                break


def _writings(name: str) -> list[str]:
    """A table's name in the ways in which paths write names."""
    import inflection

    camelize = inflection.camelize
    plain = inflection.underscore(name.replace("-", "_"))
    forms = [plain, inflection.pluralize(plain), inflection.singularize(plain)]
    written = [
        way
        for form in forms
        for way in (form, form.replace("_", "-"), camelize(form, False), camelize(form), form.upper())
    ]
    return list(dict.fromkeys([name, *written]))
