"""``checkpost plan``: what a run would do; sends nothing to the API."""

from __future__ import annotations

import click

from checkpost.commands.options import (
    Aimed,
    Chosen,
    check_families,
    chosen_resources,
    profile_of,
    with_choice,
    with_target,
)
from checkpost.errors import CheckPostError


@click.command()
@with_target
@with_choice
@click.option("--skipped", is_flag=True, help="List the checks that would be skipped, with the reasons.")
def plan(aimed: Aimed, chosen: Chosen, skipped: bool) -> None:
    """List the checks that a run would make, how many requests, and which ones write."""
    from checkpost.engine.learn import open_questions
    from checkpost.engine.plan import plan as make_plan
    from checkpost.engine.target import aim
    from checkpost.report.planned import show_plan

    check_families(chosen.families)
    target = aim(profile_of(aimed, chosen.allow_writes), chosen.read_only, 10.0, aimed.credentials)
    if not target.model.resources:
        raise CheckPostError(
            "The contract leaves open which tables there are, and a plan sends nothing: a run asks the API, as "
            "checkpost survey --probe does; 'tables' in the profile can name them."
        )
    if open_questions(target):
        click.echo("What the contract leaves open of some rows a run asks the API first: more is asked then.", err=True)
    resources = chosen_resources(chosen.resources, [resource.name for resource in target.model.resources])
    from checkpost.report.console import plain_console

    planned = make_plan(
        target.model,
        chosen.families,
        resources,
        target.no_writes,
        actors=target.actors,
        witness=target.profile.witness is not None,
    )
    show_plan(target, planned, plain_console(), skipped)
