"""Removing what an earlier run's journal names, with what that journal says of the API."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from checkpost.contract.reader import read_contract
from checkpost.engine.learn import learn, open_questions
from checkpost.engine.target import Target, understood
from checkpost.profile.credentials import Credential, Role
from checkpost.profile.profile import Profile, read_environment, read_profile, require_variables
from checkpost.wire.client import Client
from checkpost.wire.fetch import loader
from checkpost.wire.journal import Entry, Leftover
from checkpost.wire.session import Limits, Session
from checkpost.wire.sweep import sweep


async def swept(leftover: Leftover, entries: Sequence[Entry], folder: Path, timeout: float) -> list[str]:
    """Remove the rows of some of a journal's entries; the names of those that are left. Raises CheckPostError."""
    heading = leftover.heading
    file = heading.get("profile")
    profile = read_profile(Path(file)) if file else Profile(folder)
    role = profile.roles.get(heading["role"]) or Role(
        heading["role"], tuple(Credential(**each) for each in heading["credentials"])
    )
    environment = read_environment(folder)
    require_variables(role, environment, profile)
    reader = profile.roles.get(profile.contract_role or "", Role("public"))
    contract = read_contract(heading["contract"], loader(reader, environment, timeout))
    contract, model = understood(contract, profile)
    target = Target(contract, model, heading["base_url"], role, profile, environment, "")
    if open_questions(target):
        target, _ = await learn(target, Limits(timeout, 8))
    model = target.model
    async with Session({role.name: role}, environment, Limits(timeout, 8), base_url=heading["base_url"]) as session:
        clients = {
            each.name: Client(session, heading["base_url"], each, role.name, within=leftover.above.get(each.name, ()))
            for each in model.resources
        }
        left = await sweep(clients, entries, leftover.known, heading["mark"], session.limits.rows, lambda entry: None)
    return [f"{entry.resource} {'/'.join(map(str, entry.key)) if entry.key else 'key unknown'}" for entry in left]
