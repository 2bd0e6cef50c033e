"""``checkpost roles``: does each role's log-in work?"""

from __future__ import annotations

import sys

import click

from checkpost.commands.options import Aimed, profile_of, with_target
from checkpost.errors import CLEAN, FINDINGS


@click.command()
@with_target
@click.option("--timeout", type=click.FloatRange(0.1), default=10.0, show_default=True, help="Seconds for one request.")
def roles(aimed: Aimed, timeout: float) -> None:
    """Try the credentials of each role with one safe request, and show what their tokens say of themselves."""
    from checkpost.engine.rollcall import roll_call
    from checkpost.engine.target import aim
    from checkpost.report.access import show_standings
    from checkpost.report.console import plain_console
    from checkpost.wire.loop import run as run_loop
    from checkpost.wire.session import Limits

    target = aim(profile_of(aimed), True, timeout, aimed.credentials, False)
    standings = run_loop(roll_call(target, Limits(timeout, 4)))
    show_standings(target.base_url, standings, plain_console())
    sys.exit(FINDINGS if any(each.problem for each in standings) else CLEAN)
