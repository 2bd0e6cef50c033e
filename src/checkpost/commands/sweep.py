"""``checkpost sweep``: remove what interrupted runs have left behind."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from checkpost.commands.options import PROFILE_NAME
from checkpost.errors import CLEAN, NOT_COMPLETED

if TYPE_CHECKING:
    from checkpost.rows.journal import Leftover


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
@click.option(
    "--forget", is_flag=True, help="Forget rows whose state cannot be determined, once you have looked yourself."
)
@click.option("--timeout", type=click.FloatRange(0.1), default=10.0, show_default=True, help="Seconds for one request.")
def sweep(profile_file: Path | None, listing: bool, held: bool, forget: bool, timeout: float) -> None:
    """Remove the rows that runs made and, after a crash, could not remove.

    Only rows that a run's journal explains are touched; a row that was there before it never is.
    """
    from checkpost.engine.leftover import sweep_journal
    from checkpost.rows.journal import journals, read_journal

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
            click.echo("\n".join(_listed(path.name, leftover)))
            continue
        kept = 0 if held else sum(entry.held is not None for entry in leftover.entries)
        settled = sweep_journal(leftover, folder, timeout, held, forget, _waits)
        if settled.left:
            status = NOT_COMPLETED
            click.echo(f"{path.name}: {_rows(settled.removed)} removed; these were not:", err=True)
            for each in settled.left:
                click.echo(f"  {each}", err=True)
            if not all(each.certain for each in settled.left):
                mark = leftover.heading.get("mark")
                click.echo(f"  Look for {mark} in these tables; checkpost sweep --forget forgets the rest.", err=True)
        elif kept:
            click.echo(
                f"{path.name}: {kept} rows are held; checkpost run --verify-held looks at them and removes them, "
                "checkpost sweep --held removes them unseen."
            )
        else:
            click.echo(f"{path.name}: nothing is left ({_rows(settled.removed)} removed).")
    sys.exit(status)


def _listed(name: str, leftover: Leftover) -> list[str]:
    """What a journal names, table by table: rows that may be left, and how many the API says are not."""
    from checkpost.wire.listing import key_text

    made = [each for each in leftover.entries if each.kind in {"create", "link"}]
    open_rows = [each for each in made if not each.removed and not (each.sure and each.status >= 400)]
    lines = [f"{name}: {_rows(len(open_rows))} may be left at {leftover.heading.get('base_url')}"]
    for table in dict.fromkeys(each.resource for each in made):
        rows = [each for each in open_rows if each.resource == table]
        keys = [key_text(each.named) + (" (held)" if each.held else "") for each in rows if each.named]
        unknown = len(rows) - len(keys)
        removed = sum(each.removed for each in made if each.resource == table)
        refused = sum(each.resource == table for each in made) - len(rows) - removed
        parts = [", ".join(keys), f"{unknown} whose key is not known" if unknown else ""]
        parts += [f"{removed} removed" if removed else "", f"{refused} refused" if refused else ""]
        lines.append(f"  {table}: " + "; ".join(part for part in parts if part))
    return lines


def _rows(number: int) -> str:
    return "1 row" if number == 1 else f"{number} rows"


def _waits(seconds: float) -> None:
    if seconds >= 1:
        click.echo(
            f"Waiting {seconds:.0f} s, since requests of the run had no answer and may still be carried out.", err=True
        )
