"""Credentials: none, and damaged ones."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.registry import Skipped, check
from checkpost.findings import Finding
from checkpost.model.resource import Purpose
from checkpost.wire.exchange import Exchange


def _secured(case: Case) -> list[Purpose]:
    if not case.world.role.credentials:
        raise Skipped("the run has no credentials")
    secured = [purpose for purpose, operation in case.resource.operations.items() if not operation.open]
    if not secured:
        raise Skipped("the contract asks for no credentials here")
    return secured


async def _ask(case: Case, purpose: Purpose, credentials: str, situation: str) -> Exchange | None:
    """One operation with none or damaged credentials; None where it cannot be asked without risk.

    Update, replace and delete go to own rows only, and a create is journaled.
    """
    may_write = case.world.journal is not None and case.has("create", "delete")
    may_write = may_write and not (case.state.not_creatable or case.state.not_removable)
    if purpose == "list":
        return await case.send("list", situation, credentials=credentials)
    if purpose == "read":
        before = case.state.before
        key = next(iter(before.by_key), None) if before else None
        return await case.send("read", situation, key=key, credentials=credentials) if key else None
    if not may_write:
        case.remark("operations that write were not tried, since no own row could be made")
        return None
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


async def _refused_everywhere(case: Case, credentials: str, words: str) -> AsyncIterator[Finding]:
    for purpose in _secured(case):
        exchange = await _ask(case, purpose, credentials, f"{words} credentials")
        if exchange is None or not exchange.answer.ok:
            continue
        yield case.finding(
            "error",
            "contract",
            f"Operations that need credentials answer with {words} ones",
            "401 (RFC 9110, 15.5.2), as its security requirement says",
            str(exchange.answer.status),
            cause=f"{words} credentials",
            purpose=purpose,
            evidence=[exchange],
        )


@check("access.no-credentials", cost=lambda resource: 8)
async def no_credentials(case: Case) -> AsyncIterator[Finding]:
    """Is every operation that needs credentials refused without any?"""
    async for found in _refused_everywhere(case, "none", "no"):
        yield found


@check("access.damaged-credentials", cost=lambda resource: 8)
async def damaged_credentials(case: Case) -> AsyncIterator[Finding]:
    """Is every operation that needs credentials refused with damaged ones?"""
    async for found in _refused_everywhere(case, "wrong", "damaged"):
        yield found
