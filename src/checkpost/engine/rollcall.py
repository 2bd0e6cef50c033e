"""Whether each role can be asked as: its variables, its log-in, and what one list answers it."""

from __future__ import annotations

from dataclasses import dataclass

from checkpost.engine.target import Target
from checkpost.profile.claims import claims_of, in_words
from checkpost.wire.client import Client
from checkpost.wire.session import Limits, Session


@dataclass(frozen=True)
class Standing:
    """How a role fares: ``problem`` says why it cannot be used, ``asked`` and ``seen`` what was tried."""

    role: str
    how: str
    problem: str
    asked: str
    seen: str
    claims: str


async def roll_call(target: Target, limits: Limits) -> list[Standing]:
    """Try each role of the profile with one safe request."""
    roles = target.profile.roles or {target.role.name: target.role}
    found = []
    lists = [each for each in target.model.resources if "list" in each.operations]
    secured = [each for each in lists if not each.operations["list"].open] or lists
    async with Session(roles, target.environment, limits, base_url=target.base_url) as session:
        for name, role in roles.items():
            missing = [each for each in role.variables if not target.environment.get(each)]
            how = (
                "log-in"
                if role.login is not None
                else ", ".join(f"{each.where} {each.name}" for each in role.credentials)
            )
            how = how or "no credentials"
            if missing:
                found.append(Standing(name, how, f"{missing[0]} is not set", "", "", ""))
                continue
            if role.login is not None:
                token, why = await session.log_in(role)
                if not token:
                    found.append(Standing(name, how, f"the log-in fails: {why}", "", "", ""))
                    continue
                session.tokens[role.token_variable] = token
            claims = in_words(claims_of(role, {**target.environment, **session.tokens}))
            if not secured:
                found.append(Standing(name, how, "", "", "nothing to ask", claims))
                continue
            client = Client(session, target.base_url, secured[0], name)
            exchange = await client.send("list", check="roles", situation="a role's credentials")
            answer = exchange.answer
            rows = client.rows_in(answer.json) if answer.ok else None
            seen = str(answer.status or answer.detail) + (f", {len(rows)} rows" if rows is not None else "")
            refused = answer.status == 401 and bool(role.credentials)
            problem = "the credentials are refused" if refused else (answer.detail if not answer.status else "")
            found.append(Standing(name, how, problem, f"GET {secured[0].collection}", seen, claims))
    return found
