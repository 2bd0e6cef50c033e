"""``checkpost compare``: what is new since an earlier run, and what is gone."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import click

from checkpost.commands.options import PROFILE_NAME, beside_profile, failing
from checkpost.commands.options import fail_on as failing_on
from checkpost.errors import CLEAN, FINDINGS, CheckPostError

Json = dict[str, Any]


@click.command()
@click.argument("before", required=False, metavar="[BEFORE]")
@click.argument("after", required=False, metavar="[AFTER]")
@beside_profile
@failing_on("The least severity of a new finding that makes the comparison fail.")
def compare(before: str | None, after: str | None, profile_file: Path | None, fail_on: str) -> None:
    """Compare two runs: the latest two, or BEFORE with AFTER (the latest, if it is left out).

    Each is the name of a stored run, or a JSON report. Nothing is sent.
    """
    from checkpost.comparison import compared
    from checkpost.report.compared import show_comparison
    from checkpost.report.console import plain_console
    from checkpost.store.runs import names

    folder = (profile_file or Path(PROFILE_NAME)).parent
    stored = names(folder)
    if before is None and len(stored) < 2:
        raise CheckPostError(f"{len(stored)} runs are stored in {folder.resolve()}; two are needed to compare.")
    if before is not None and after is None and not stored:
        raise CheckPostError(f"No run is stored in {folder.resolve()}; checkpost run makes one.")
    earlier = _document(folder, stored, before if before is not None else stored[1])
    later = _document(folder, stored, after if after is not None else stored[0])
    comparison = compared(earlier, later)
    show_comparison(earlier, later, comparison, plain_console())
    worst = failing(fail_on)
    sys.exit(FINDINGS if any(each["severity"] in worst for each in comparison.new) else CLEAN)


def _document(folder: Path, stored: list[str], name: str) -> Json:
    from checkpost.store.runs import load

    run = next((each for each in stored if each.startswith(name)), None)
    if run is not None:
        return load(folder, run)
    file = Path(name)
    if not file.is_file():
        raise CheckPostError(
            f"{name!r} is neither a stored run nor a JSON report; checkpost show --list names the runs."
        )
    try:
        document: Json = json.loads(file.read_text("utf-8"))
        _ = document["run"]["id"], document["findings"], document["checks"]
    except (ValueError, KeyError, TypeError):
        raise CheckPostError(
            f"{file}: this is no JSON report of a run; checkpost report --out FILE.json writes one."
        ) from None
    return document
