"""Credentials: none, and damaged ones."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.registry import Skipped, check
from checkpost.findings import Finding
from checkpost.model.resource import Purpose
from checkpost.wire.exchange import Exchange

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
        exchange, _ = await case.create(await case.record(), situation, credentials=credentials)
        return exchange
    own = (await case.own())[0]
    request: dict[str, Any] = {}
    if purpose == "update":
        request["record"] = await case.record("update")
    elif purpose == "replace":
        request["record"] = await case.replacement(own.key)
    exchange = await case.send(purpose, situation, key=own.key, credentials=credentials, **request)
    if purpose == "delete" and exchange.answer.ok:
        case.forget(own.key)
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
                cause=f"any:{words} credentials",
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
