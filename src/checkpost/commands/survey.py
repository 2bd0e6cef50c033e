"""``checkpost survey``: what a contract exposes and how it was understood."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import click

from checkpost.commands.options import profile_of
from checkpost.errors import CheckPostError


@click.command()
@click.argument("contract", required=False)
@click.option(
    "--profile",
    "profile_file",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="The profile with corrections [default: checkpost.yaml, if there is one].",
)
@click.option("--resource", "resources", multiple=True, metavar="NAME", help="Show the fields of this resource.")
@click.option("--reasons", is_flag=True, help="Say for each inference why it was made and how sure it is.")
@click.option("--write", "target", type=click.Path(path_type=Path), metavar="FILE", help="Write a starter profile.")
@click.option("--force", is_flag=True, help="Let --write replace a file.")
def survey(
    contract: str | None,
    profile_file: Path | None,
    resources: tuple[str, ...],
    reasons: bool,
    target: Path | None,
    force: bool,
) -> None:
    """Show the resources of CONTRACT, their keys, fields and relations, doubts, and the contract's flaws."""
    from rich.console import Console

    from checkpost.commands.options import check_resources
    from checkpost.engine.target import load_contract
    from checkpost.model.flaws import flaws
    from checkpost.model.infer import infer
    from checkpost.report.surveyed import show_resource, show_survey

    profile = profile_of(contract, profile_file, None, None)
    if contract:
        profile = replace(profile, contract=contract)
    read, environment = load_contract(profile, 10.0)
    model = infer(read, profile.resources, profile.parameters, profile.queries)
    check_resources(resources, [resource.name for resource in model.resources])
    console = Console(highlight=False)
    if resources:
        for name in resources:
            resource = model.resource(name)
            if resource is not None:
                show_resource(resource, console)
    else:
        roles = {
            name: [variable for variable in role.variables if not environment.get(variable)]
            for name, role in profile.roles.items()
        }
        show_survey(read, model, flaws(read, model), console, reasons, roles)
    if target is not None:
        from checkpost.profile.starter import starter

        if target.exists() and not force:
            raise CheckPostError(f"{target} exists; --force replaces it.")
        try:
            target.write_text(starter(read, model, target.resolve().parent), "utf-8")
        except OSError as error:
            raise CheckPostError(f"{target}: the profile cannot be written ({error.strerror}).") from None
        console.print(f"wrote {target}; look through it, then: checkpost run --profile {target}")
