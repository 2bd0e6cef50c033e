"""``checkpost survey``: what a contract exposes and how it was understood."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from checkpost.commands.options import Aimed, profile_of, with_target
from checkpost.errors import CheckPostError

if TYPE_CHECKING:
    from rich.console import Console

    from checkpost.engine.learn import Learnt
    from checkpost.model.resource import Model
    from checkpost.profile.profile import Profile


@click.command()
@with_target
@click.option("--resource", "resources", multiple=True, metavar="NAME", help="Show the fields of this resource.")
@click.option("--reasons", is_flag=True, help="Say for each inference why it was made and how sure it is.")
@click.option("--write", "target", type=click.Path(path_type=Path), metavar="FILE", help="Write a starter profile.")
@click.option("--observe", is_flag=True, help="Try what each role can do, and print it; --write adds it to a profile.")
@click.option("--probe", is_flag=True, help="Settle doubts by reads of the API, and show what was learnt.")
@click.option("--read-only", is_flag=True, help="Let --observe try reads alone.")
@click.option("--allow-writes", multiple=True, metavar="HOST", help="Allow writes on a host other than this machine.")
@click.option("--force", is_flag=True, help="Let --write replace a file.")
def survey(
    aimed: Aimed,
    resources: tuple[str, ...],
    reasons: bool,
    target: Path | None,
    observe: bool,
    probe: bool,
    read_only: bool,
    allow_writes: tuple[str, ...],
    force: bool,
) -> None:
    """Show the resources of CONTRACT, their keys, fields and relations, doubts, and the contract's flaws."""
    from checkpost.commands.options import chosen_resources
    from checkpost.engine.target import aim, load_contract, told_to_roles, understood
    from checkpost.model.flaws import flaws
    from checkpost.profile.claims import claims_of, in_words
    from checkpost.report.console import plain_console
    from checkpost.report.surveyed import show_learnt, show_resource, show_survey, show_told

    if observe:
        _observe(profile_of(aimed, allow_writes), read_only, resources, target)
        return
    profile = profile_of(aimed)
    learnt: list[Learnt] = []
    if probe:
        from checkpost.engine.learn import learn_now
        from checkpost.wire.session import Limits

        aimed_at, learnt = learn_now(aim(profile, True, 10.0, aimed.credentials), Limits())
        read, model, environment = aimed_at.contract, aimed_at.model, dict(aimed_at.environment)
    else:
        read, environment = load_contract(profile, 10.0)
        read, model = understood(read, profile)
    resources = chosen_resources(resources, [resource.name for resource in model.resources])
    console = plain_console()
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
        claims = {name: in_words(claims_of(role, environment)) for name, role in profile.roles.items()}
        known = {name: said for name, said in claims.items() if said}
        show_survey(read, model, flaws(read, model), console, reasons, roles, known)
        _show_database(profile, model, environment, console)
        if probe:
            show_learnt(learnt, console)
            show_told(told_to_roles(profile, load_contract(profile, 10.0)[0], 10.0), console)
    if target is not None:
        from checkpost.profile.starter import SCHEMA, starter

        if target.exists() and not force:
            raise CheckPostError(f"{target} exists; --force replaces it.")
        try:
            target.write_text(starter(read, model, target.resolve().parent), "utf-8")
            target.with_name(SCHEMA.name).write_bytes(SCHEMA.read_bytes())
        except OSError as error:
            raise CheckPostError(f"{target}: the profile cannot be written ({error.strerror}).") from None
        console.print(
            f"wrote {target}, and {SCHEMA.name}, by which editors complete it; look through it, then: "
            f"checkpost run --profile {target}"
        )


def _show_database(profile: Profile, model: Model, environment: dict[str, str], console: Console) -> None:
    """Print what stands behind the resources, where the profile names a database."""
    if profile.witness is None:
        return
    from checkpost.database.behind import open_behind
    from checkpost.report.behind import show_sides

    behind = open_behind(profile, model, environment, 0)
    if behind is not None:
        show_sides(behind.sides, model, behind.database.name, console)
        behind.database.close()


def _observe(profile: Profile, read_only: bool, resources: tuple[str, ...], file: Path | None) -> None:
    """Try what each role can do, print it, and add it to a profile if one is named."""
    from checkpost.commands.options import chosen_resources
    from checkpost.commands.run import carry_out
    from checkpost.engine.plan import plan
    from checkpost.engine.target import aim
    from checkpost.report.access import frozen, observed_matrix
    from checkpost.report.console import plain_console
    from checkpost.wire.session import Limits

    target = aim(profile, read_only, 10.0)
    resources = chosen_resources(resources, [resource.name for resource in target.model.resources])
    planned = plan(target.model, (), resources, target.no_writes, "observe", target.others)
    result = carry_out(target, planned, Limits(), 1)
    console = plain_console()
    console.print(
        f"What roles can do at {target.base_url}, beside {target.role.name}"
        + (f" (reads alone: {target.no_writes})" if target.no_writes else "")
    )
    console.print(observed_matrix(result.observed))
    console.print("some: not all rows, by what rule is not stated", style="dim")
    for each in result.left:
        console.print(f"A row may still be there: {each}; checkpost sweep looks again.", style="bold red")
    if file is None:
        return
    text = frozen(result.observed, target.profile)
    try:
        before = file.read_text("utf-8") if file.exists() else ""
        if any(line.startswith("access:") for line in before.splitlines()):
            raise CheckPostError(f"{file} states rights already, under 'access'; take them out first.")
        file.write_text(before + ("\n" if before else "") + text, "utf-8")
    except OSError as error:
        raise CheckPostError(f"{file}: the profile cannot be written ({error.strerror}).") from None
    console.print(f"added to {file}: look through it, since what a role can do is not yet what it should")
