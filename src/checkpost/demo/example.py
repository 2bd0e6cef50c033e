"""The example's profile, and the stand-in's lists as they are from outside."""

from __future__ import annotations

import asyncio
import urllib.request
from pathlib import Path
from typing import Any

from checkpost.demo.seedbank import EXPIRED, PASSWORDS, TOKENS, VARIABLES
from checkpost.engine.target import Target
from checkpost.wire.client import Client
from checkpost.wire.loop import run as run_loop
from checkpost.wire.session import Limits, Session

_PROFILE = """\
# The example's profile: a made-up seed bank.
contract: seedbank.yaml
base_url: {base_url}

# The tokens are in .env beside this file.
roles:
  curator:
    bearer: ${{{mira}}}
  technician:
    bearer: ${{{tomas}}}
    identity: tomas
  second_technician:
    bearer: ${{{wen}}}
    identity: wen
  auditor:
    login: {{url: login, json: {{user: ines, password: "${{SEEDBANK_AUDITOR_PASSWORD}}"}}, token: /token}}
    expired: ${{SEEDBANK_EXPIRED_TOKEN}}
  visitor:
    bearer: ${{{nils}}}
  public: none

# What each may do; the curator, as whom the checks run, may do everything.
access:
  species: &open {{technician: read, second_technician: read, auditor: read, visitor: read, public: read}}
  vaults: *open
  tags: *open
  species-tags: *open
  collectors: &staff {{technician: read, second_technician: read, auditor: read, visitor: none, public: none}}
  loans: *staff
  accessions:
    technician: read
    second_technician: read
    auditor: read
    visitor: read where status = 'active' hide latitude, longitude
    public: none
  germination-tests:
    technician: all own entered_by
    second_technician: all own entered_by
    auditor: read
    visitor: read where accession_id.status = 'active'
    public: none

# A table that is not exposed, and has to stay so however its name is written.
unexposed: [donor_contacts]

# The stand-in's rows may be lost: changes may go to whatever it makes of a filter.
writes_by_filter: true

run_as: curator
"""
_WITNESS = """
# The database behind the API: looked into after writes, and never written to.
witness: {{database: "sqlite:///{file}"}}
"""


def write_profile(folder: Path, base_url: str, contract_url: str, database: str = "") -> Path:
    """Put the stand-in's contract, a profile and a ``.env`` into a folder; the profile's path. ``database`` is the
    stand-in's file, where it has one."""
    with urllib.request.urlopen(contract_url) as answer:  # a loopback address of this process's own making
        (folder / "seedbank.yaml").write_bytes(answer.read())
    secrets = "".join(f"{VARIABLES[user]}={token}\n" for token, (user, _) in TOKENS.items())
    secrets += f"SEEDBANK_AUDITOR_PASSWORD={PASSWORDS['ines'][0]}\n"
    secrets += f"SEEDBANK_EXPIRED_TOKEN={EXPIRED}\n"
    (folder / ".env").write_text(secrets, "utf-8")
    profile = folder / "checkpost.yaml"
    witness = _WITNESS.format(file=database) if database else ""
    profile.write_text(_PROFILE.format(base_url=base_url, **VARIABLES) + witness, "utf-8")
    return profile


def lists(target: Target) -> dict[str, list[dict[str, Any]]]:
    """The rows of every resource, as the run's role sees them."""

    async def read() -> dict[str, list[dict[str, Any]]]:
        async with Session({target.role.name: target.role}, target.environment, Limits()) as session:
            clients = [Client(session, target.base_url, each, target.role.name) for each in target.model.resources]
            listings = await asyncio.gather(*(client.whole_list(session.limits.rows) for client in clients))
        return {client.resource.name: list(listing.rows) for client, listing in zip(clients, listings, strict=True)}

    return run_loop(read())
