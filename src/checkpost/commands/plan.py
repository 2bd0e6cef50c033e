"""``checkpost plan``: what a run would do; sends nothing to the API."""

from __future__ import annotations

from pathlib import Path

import click

from checkpost.commands.options import check_families, check_resources, profile_of, with_choice, with_target


@click.command()
@with_target
@with_choice
@click.option("--skipped", is_flag=True, help="List the checks that would be skipped, with the reasons.")
def plan(
    contract: str | None,
    profile_file: Path | None,
    base_url: str | None,
    credentials: tuple[str, ...],
    role: str | None,
    families: tuple[str, ...],
    resources: tuple[str, ...],
    read_only: bool,
    allow_writes: tuple[str, ...],
    skipped: bool,
) -> None:
    """List the checks that a run would make, how many requests, and which ones write."""
    from checkpost.engine.plan import plan as make_plan
    from checkpost.engine.target import aim
    from checkpost.report.planned import show_plan

    check_families(families)
    profile = profile_of(contract, profile_file, base_url, role, allow_writes)
    target = aim(profile, read_only, 10.0, credentials)
    check_resources(resources, [resource.name for resource in target.model.resources])
    from rich.console import Console

    planned = make_plan(target.model, families, resources, target.no_writes, actors=target.actors)
    show_plan(target, planned, Console(highlight=False), skipped)
