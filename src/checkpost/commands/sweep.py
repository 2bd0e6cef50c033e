"""``checkpost sweep``: remove what interrupted runs have left behind."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from checkpost.commands.options import PROFILE_NAME
from checkpost.errors import CLEAN, NOT_COMPLETED, CheckPostError

if TYPE_CHECKING:
    from checkpost.wire.journal import Leftover


@click.command()
@click.option(
    "--profile",
    "profile_file",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="The profile beside which the journals are.",
)
@click.option("--list", "listing", is_flag=True, help="Only list what may have been left.")
@click.option("--timeout", type=click.FloatRange(0.1), default=10.0, show_default=True, help="Seconds for one request.")
def sweep(profile_file: Path | None, listing: bool, timeout: float) -> None:
    """Remove the rows that runs made and, after a crash, could not remove.

    Only rows that a run's journal explains are touched; a row that was there before it never is.
    """
    from checkpost.wire.journal import journals, read_journal

    folder = (profile_file or Path(PROFILE_NAME)).parent
    paths = journals(folder)
    if not paths:
        click.echo(f"Nothing is left to sweep in {folder.resolve()}.")
        return
    status = CLEAN
    for path in paths:
        leftover = read_journal(path)
        if leftover.running:
            click.echo(f"{path.name}: its run is still going on (process {leftover.heading['process']}); left alone.")
            continue
        if listing:
            click.echo(f"{path.name}: {len(leftover.entries)} rows may be left at {leftover.heading.get('base_url')}")
            for entry in leftover.entries:
                key = "/".join(map(str, entry.key)) if entry.key else "key unknown"
                click.echo(f"  {entry.resource} {key}")
            continue
        if not leftover.heading:
            raise CheckPostError(f"{path}: the journal has no heading; remove it if its run sent nothing.")
        left = _swept(leftover, folder, timeout)
        removed = len(leftover.entries) - len(left)
        if left:
            status = NOT_COMPLETED
            click.echo(f"{path.name}: {len(left)} rows could not be removed: {', '.join(left[:8])}", err=True)
        else:
            path.unlink()
            click.echo(f"{path.name}: nothing is left ({removed} entries settled).")
    sys.exit(status)


def _swept(leftover: Leftover, folder: Path, timeout: float) -> list[str]:
    """Remove what a journal names; the names of what is left."""
    import asyncio

    from checkpost.contract.reader import read_contract
    from checkpost.model.infer import infer
    from checkpost.profile.credentials import Credential, Role
    from checkpost.profile.profile import Profile, read_environment, read_profile, require_variables
    from checkpost.wire.client import Client
    from checkpost.wire.fetch import loader
    from checkpost.wire.session import Limits, Session
    from checkpost.wire.sweep import sweep as sweep_rows

    heading = leftover.heading
    file = heading.get("profile")
    profile = read_profile(Path(file)) if file else Profile(folder)
    role = Role(heading["role"], tuple(Credential(**each) for each in heading["credentials"]))
    environment = read_environment(folder)
    require_variables(role, environment, profile)
    reader = profile.roles.get(profile.contract_role or "", Role("public"))
    contract = read_contract(heading["contract"], loader(reader, environment, timeout))
    model = infer(contract, profile.resources, profile.parameters, profile.queries)

    async def work() -> list[str]:
        async with Session({role.name: role}, environment, Limits(timeout, 8)) as session:
            clients = {each.name: Client(session, heading["base_url"], each, role.name) for each in model.resources}
            done: set[int] = set()
            left = await sweep_rows(
                clients,
                leftover.entries,
                leftover.known,
                heading["mark"],
                session.limits.rows,
                lambda entry: done.add(entry.number),
            )
        return [f"{entry.resource} {'/'.join(map(str, entry.key)) if entry.key else 'key unknown'}" for entry in left]

    return asyncio.run(work())
