"""``checkpost roles``: does each role's log-in work?"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from checkpost.commands.options import profile_of, with_target
from checkpost.errors import CLEAN, FINDINGS


@click.command()
@with_target
@click.option("--timeout", type=click.FloatRange(0.1), default=10.0, show_default=True, help="Seconds for one request.")
def roles(
    contract: str | None,
    profile_file: Path | None,
    base_url: str | None,
    credentials: tuple[str, ...],
    role: str | None,
    timeout: float,
) -> None:
    """Try the credentials of each role with one safe request, and show what their tokens say of themselves."""
    import asyncio

    from rich.console import Console

    from checkpost.engine.rollcall import roll_call
    from checkpost.engine.target import aim
    from checkpost.report.access import show_standings
    from checkpost.wire.session import Limits

    target = aim(profile_of(contract, profile_file, base_url, role), True, timeout, credentials, False)
    standings = asyncio.run(roll_call(target, Limits(timeout, 4)))
    show_standings(target.base_url, standings, Console(highlight=False))
    sys.exit(FINDINGS if any(each.problem for each in standings) else CLEAN)
