"""A plan as a person reads it: requests by resource and family, writes marked."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from checkpost.checks.registry import FAMILIES, HOLD
from checkpost.engine.plan import Planned
from checkpost.engine.target import Target

#: How wide the names of families are.
_FAMILY = 13


def show_plan(target: Target, planned: Sequence[Planned], console: Console, skipped: bool) -> None:
    """Print a plan; with ``skipped`` also what would not run, and why."""
    writes = f"nothing is written: {target.no_writes}" if target.no_writes else "writes rows, and removes them again"
    console.print(
        Text.assemble((target.contract.title or "API", "bold"), f"  {target.base_url}  as {target.role.name}")
    )
    console.print(Text(writes, style="dim"))
    console.print()
    resources = list(dict.fromkeys(each.resource.name for each in planned))
    fits = sum(max(len(name), 5) + 2 for name in resources) + _FAMILY <= console.width
    console.print(_by_family(planned, resources) if fits else _by_resource(planned, resources))
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


def _by_family(planned: Sequence[Planned], resources: Sequence[str]) -> Table:
    """About how many requests, by family and resource."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    table.add_column("requests", no_wrap=True)
    for name in resources:
        table.add_column(name, justify="right", no_wrap=True)
    for family in (*FAMILIES, HOLD):
        own = [each for each in planned if each.check.family == family]
        if own:
            table.add_row(family, *(_cell([each for each in own if each.resource.name == name]) for name in resources))
    table.add_row(
        Text("in all", style="bold"),
        *(Text(str(sum(each.requests for each in planned if each.resource.name == name))) for name in resources),
    )
    return table


def _by_resource(planned: Sequence[Planned], resources: Sequence[str]) -> Table:
    """How many checks of each resource, where families have no room beside."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    table.add_column("resource", no_wrap=True, overflow="ellipsis")
    for name in ("checks", "requests"):
        table.add_column(name, justify="right", no_wrap=True)
    for name in resources:
        own = [each for each in planned if each.resource.name == name]
        table.add_row(name, str(sum(not each.reason for each in own)), _cell(own))
    return table


def _cell(planned: Sequence[Planned]) -> Text:
    running = [each for each in planned if not each.reason]
    if not running:
        return Text("–", style="dim")
    writes = any(each.check.creates for each in running)
    return Text(f"{'w ' if writes else ''}{sum(each.requests for each in running)}", style="magenta" if writes else "")
