"""``checkpost show``: stored runs and their findings."""

from __future__ import annotations

from pathlib import Path

import click

from checkpost.commands.options import PROFILE_NAME, beside_profile
from checkpost.errors import CheckPostError

#: As long as the number of a finding may be.
_DIGITS = 4


@click.command()
@click.argument("name", required=False, metavar="[RUN|FINDING]")
@click.argument("finding", required=False)
@beside_profile
@click.option("--list", "listing", is_flag=True, help="List the stored runs.")
@click.option("--checks", is_flag=True, help="List every check of the run with its outcome.")
@click.option("--exchange", type=int, metavar="N", help="Show exchange N of the run.")
def show(
    name: str | None, finding: str | None, profile_file: Path | None, listing: bool, checks: bool, exchange: int | None
) -> None:
    """Show the latest run, the RUN of a name, or one FINDING: by its number in the run, or by its id."""
    from checkpost.report.console import plain_console
    from checkpost.report.terminal import show_checks, show_exchange, show_finding, show_list, show_run
    from checkpost.store.runs import load, load_exchange, names

    folder = (profile_file or Path(PROFILE_NAME)).parent
    stored = names(folder)
    console = plain_console()
    if not stored:
        raise CheckPostError(f"No run is stored in {folder.resolve()}; checkpost run makes one.")
    if listing:
        show_list([load(folder, each) for each in stored], console)
        return
    run, wanted = stored[0], finding
    if name is not None:
        # a few digits are the number of a finding, and no run of that year
        matching = [each for each in stored if each.startswith(name)] if len(name) > _DIGITS or finding else []
        run, wanted = (matching[0], finding) if matching else (run, finding or name)
    document = load(folder, run)
    if exchange is not None:
        show_exchange(load_exchange(folder, run, exchange), console)
    elif checks:
        show_checks(document, console)
    elif wanted is None:
        show_run(document, console)
    else:
        found = document["findings"]
        counted = wanted.isdigit() and 0 < int(wanted) <= len(found)
        chosen = [found[int(wanted) - 1]] if counted else [each for each in found if each["id"].startswith(wanted)]
        if not chosen:
            raise CheckPostError(
                f"There is no run and, in the run {run}, no finding whose name begins with {wanted!r}; "
                "checkpost show names the findings, checkpost show --list the runs."
            )
        for each in chosen:
            show_finding(document, each, console)
