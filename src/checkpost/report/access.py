"""Roles and their rights as a terminal shows them."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

if TYPE_CHECKING:  # a stored run is shown without all that runs the checks
    from checkpost.checks.observe import Observed
    from checkpost.engine.rollcall import Standing
    from checkpost.profile.profile import Profile

Json = dict[str, Any]
#: Letters that a role's name may have to stand in one line over its column.
_NARROW = 12


def _plain(*columns: str) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for column in columns:
        table.add_column(column, overflow="fold", no_wrap=column == "role")
    return table


def show_standings(base_url: str, standings: Sequence[Standing], console: Console) -> None:
    """Print how each role fares."""
    console.print(Text(base_url, style="bold"))
    table = _plain("role", "", "credentials", "asked", "answer", "what the token says")
    for each in standings:
        sign = Text("✗", style="bold red") if each.problem else Text("✓", style="green")
        answer = f"{each.seen}: {each.problem}" if each.problem and each.seen else each.problem or each.seen
        table.add_row(Text(each.role, style="bold"), sign, each.how, each.asked, answer, each.claims)
    console.print(table)


def access_matrix(entries: Sequence[Json]) -> Table:
    """What each role may do with each resource; marked where a run found it otherwise."""
    roles = list(dict.fromkeys(each["role"] for each in entries))
    table = _by_role(roles)
    known = {(each["resource"], each["role"]): each for each in entries}
    for resource in dict.fromkeys(each["resource"] for each in entries):
        table.add_row(Text(resource), *(_cell(known.get((resource, role))) for role in roles))
    return table


def _by_role(roles: Sequence[str]) -> Table:
    """A table with a column for each role."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    table.add_column("", no_wrap=True, min_width=17)
    for role in roles:
        table.add_column(_heading(role), overflow="fold")
    return table


def _heading(role: str) -> str:
    """A role's name over a narrow column: a long one is divided where its words are."""
    return role if len(role) <= _NARROW else re.sub(r"[_\W]+", r"\g<0>\n", role, count=1)


def _cell(entry: Json | None) -> Text:
    if entry is None:
        return Text("not stated", style="dim")
    if entry["differs"]:
        return Text(f"✗ {entry['short']}: {', '.join(entry['differs'])}", style="bold red")
    if not entry["tried"]:
        return Text(f"? {entry['short']}", style="dim")
    return Text(f"✓ {entry['short']}", style="green")


def observed_matrix(observed: Mapping[tuple[str, str], Observed]) -> Table:
    """What each role was seen to do with each resource."""
    roles = list(dict.fromkeys(role for _, role in observed))
    table = _by_role(roles)
    for resource in dict.fromkeys(name for name, _ in observed):
        cells = [observed.get((resource, role)) for role in roles]
        table.add_row(Text(resource), *(Text(_seen(each)) if each is not None else Text("-") for each in cells))
    return table


def _seen(each: Observed) -> str:
    return each.line + (" (some)" if each.rows == "some" and each.common is None else "")


def frozen(observed: Mapping[tuple[str, str], Observed], profile: Profile) -> str:
    """The part of a profile that states just what was seen."""
    lines = [
        "# What each role was seen to do. Look through it: what a role can do is not yet what it should.",
        "access:",
    ]
    for resource in dict.fromkeys(name for name, _ in observed):
        lines.append(f"  {resource}:")
        for (name, role), each in observed.items():
            if name != resource:
                continue
            said = each.line
            if each.common is not None and profile.roles[role].identity == each.common[1]:
                said = re.sub(r" where .*?(?= hide |$)", f" own {each.common[0]}", said)
            note = "  # some rows: add where CONDITION" if each.rows == "some" and each.common is None else ""
            lines.append(f"    {role}: {json.dumps(said, ensure_ascii=False)}{note}")
    return "\n".join(lines) + "\n"
