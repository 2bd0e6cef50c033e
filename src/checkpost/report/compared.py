"""Two runs side by side, for a terminal."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from checkpost.comparison import Comparison
from checkpost.report.words import places, some

Json = dict[str, Any]
_SIGNS = {"error": ("✗", "red"), "warning": ("▲", "magenta"), "note": ("•", "cyan")}


def show_comparison(before: Json, after: Json, comparison: Comparison, console: Console) -> None:
    """Print what is new first, then what is gone, then what was not asked; what lasts is a number."""
    title = after["run"]["contract"]["title"] or "API"
    console.print(Text.assemble((title, "bold"), f"  {before['run']['id']} and {after['run']['id']}"))
    parts = [
        (f"{len(comparison.new)} new", "bold red" if comparison.new else ""),
        (f"{len(comparison.fixed)} fixed", "green" if comparison.fixed else ""),
        (f"{len(comparison.lasting)} as before", ""),
        (f"{len(comparison.unasked)} not asked again", ""),
    ]
    console.print(Text(", ").join(Text(words, style) for words, style in parts if words[0] != "0" or "new" in words))
    for heading, findings in (
        ("New", comparison.new),
        ("Fixed", comparison.fixed),
        ("Not asked again, so that nothing is known of them", comparison.unasked),
    ):
        _section(heading, findings, console)
    if comparison.new:
        console.print()
        console.print(Text(f"Next: checkpost show {after['run']['id']} {comparison.new[0]['id']}", style="bold"))


def _section(heading: str, findings: Sequence[Json], console: Console) -> None:
    if not findings:
        return
    console.print()
    console.print(Text(heading, style="bold"))
    for finding in findings:
        sign, style = _SIGNS[finding["severity"]]
        where = some(finding["resources"], 3) or places(finding)
        console.print(Text.assemble((f" {sign} ", style), finding["title"], (f"   {where}  {finding['id']}", "dim")))
