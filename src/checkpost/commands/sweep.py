"""``checkpost sweep``: remove what interrupted runs have left behind."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from checkpost.commands.options import PROFILE_NAME
from checkpost.errors import CLEAN, NOT_COMPLETED, CheckPostError


@click.command()
@click.option(
    "--profile",
    "profile_file",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="The profile beside which the journals are.",
)
@click.option("--list", "listing", is_flag=True, help="Only list what may have been left.")
@click.option("--held", is_flag=True, help="Remove rows too that a run has left on purpose.")
@click.option("--timeout", type=click.FloatRange(0.1), default=10.0, show_default=True, help="Seconds for one request.")
def sweep(profile_file: Path | None, listing: bool, held: bool, timeout: float) -> None:
    """Remove the rows that runs made and, after a crash, could not remove.

    Only rows that a run's journal explains are touched; a row that was there before it never is.
    """
    import asyncio

    from checkpost.engine.leftover import swept
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
                click.echo(f"  {entry.resource} {key}" + (" (held)" if entry.held is not None else ""))
            continue
        if not leftover.heading:
            raise CheckPostError(f"{path}: the journal has no heading; remove it if its run sent nothing.")
        waiting = [entry for entry in leftover.entries if held or entry.held is None]
        kept = len(leftover.entries) - len(waiting)
        left = asyncio.run(swept(leftover, waiting, folder, timeout)) if waiting else []
        removed = len(waiting) - len(left)
        if left:
            status = NOT_COMPLETED
            click.echo(f"{path.name}: {len(left)} rows could not be removed: {', '.join(left[:8])}", err=True)
        elif kept:
            click.echo(
                f"{path.name}: {kept} rows are held; checkpost run --verify-held looks at them and removes them, "
                "checkpost sweep --held removes them unseen."
            )
        else:
            path.unlink()
            click.echo(f"{path.name}: nothing is left ({removed} entries settled).")
    sys.exit(status)
