"""Which tables of the database stand behind the resources, as a person reads it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console
from rich.table import Table
from rich.text import Text

if TYPE_CHECKING:
    from checkpost.database.mapping import Sides
    from checkpost.model.resource import Model, Resource

_MOST = 4
_NONE = "none found"


def show_sides(sides: Sides, model: Model, database: str, console: Console) -> None:
    """Print each resource with its table, what of both has no counterpart, and why they belong together."""
    console.print()
    console.print(Text(f"Behind it: {database}", style="bold"))
    rows = [_row(resource, sides) for resource in model.resources]
    heads = ("resource", "table", "fields", "without a column", "columns not shown", "reason")
    filled = [place for place, _ in enumerate(heads) if any(row[place] for row in rows)]
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for place in filled:
        table.add_column(heads[place], overflow="fold", no_wrap=place in {0, 1})
    for row in rows:
        table.add_row(*(Text(row[place], "" if row[1] != _NONE else "bold magenta") for place in filled))
    console.print(table)
    if sides.unexposed:
        console.print(f"Tables that no resource shows: {', '.join(sides.unexposed)}")


def _row(resource: Resource, sides: Sides) -> tuple[str, ...]:
    pair = sides.by_resource.get(resource.name)
    if pair is None:
        return resource.name, _NONE, "", "", "", ""
    keyed = "" if pair.key else "; its key has no column, so that rows cannot be paired"
    fields = f"{len(pair.columns)} of {len(resource.fields)}"
    return resource.name, pair.table.name, fields, _few(pair.lacking), _few(pair.hidden), pair.reason.text + keyed


def _few(names: tuple[str, ...]) -> str:
    more = f" and {len(names) - _MOST} more" if len(names) > _MOST else ""
    return ", ".join(names[:_MOST]) + more
