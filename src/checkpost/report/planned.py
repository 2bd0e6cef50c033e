"""A plan as a person reads it: requests by resource and family, writes marked."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from checkpost.checks.registry import FAMILIES, HOLD
from checkpost.engine.plan import Planned
from checkpost.engine.target import Target


def show_plan(target: Target, planned: Sequence[Planned], console: Console, skipped: bool) -> None:
    """Print a plan; with ``skipped`` also what would not run, and why."""
    writes = f"nothing is written: {target.no_writes}" if target.no_writes else "writes rows, and removes them again"
    console.print(
        Text.assemble((target.contract.title or "API", "bold"), f"  {target.base_url}  as {target.role.name}")
    )
    console.print(Text(writes, style="dim"))
    console.print()
    families = [name for name in (*FAMILIES, HOLD) if any(each.check.family == name for each in planned)]
    table = Table(box=None, padding=(0, 1, 0, 0), header_style="dim")
    table.add_column("about this many requests", min_width=17)
    for name in (*families, "in all"):
        table.add_column(name, justify="right")
    resources = list(dict.fromkeys(each.resource.name for each in planned))
    for resource in resources:
        cells = []
        for family in families:
            chosen = [each for each in planned if (each.resource.name, each.check.family) == (resource, family)]
            cells.append(_cell(chosen))
        total = sum(each.requests for each in planned if each.resource.name == resource)
        table.add_row(Text(resource), *cells, Text(str(total), style="bold"))
    console.print(table)
    console.print(Text("w creates, changes and deletes own rows   – nothing to ask", style="dim"))
    console.print()
    running = [each for each in planned if not each.reason]
    writing = sum(1 for each in running if each.check.creates)
    console.print(
        f"{len(running)} checks, {writing} of them write; about {sum(each.requests for each in running)} requests; "
        f"{len(planned) - len(running)} checks would be skipped"
    )
    if skipped:
        console.print()
        for each in planned:
            if each.reason:
                console.print(Text(f"{each.resource.name}  {each.check.name}: {each.reason}", style="dim"))


def _cell(planned: Sequence[Planned]) -> Text:
    running = [each for each in planned if not each.reason]
    if not running:
        return Text("–", style="dim")
    writes = any(each.check.creates for each in running)
    return Text(f"{'w ' if writes else ''}{sum(each.requests for each in running)}", style="yellow" if writes else "")
