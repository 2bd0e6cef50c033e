"""Options that several commands have, and the profile that they and the file come to."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from checkpost.errors import CheckPostError

if TYPE_CHECKING:
    from checkpost.profile.profile import Profile

F = TypeVar("F", bound=Callable[..., Any])

PROFILE_NAME = "checkpost.yaml"


def with_target(function: F) -> F:
    """The contract and where it is to be held against."""
    options = (
        click.argument("contract", required=False),
        click.option(
            "--profile",
            "profile_file",
            type=click.Path(path_type=Path),
            metavar="FILE",
            help=f"The profile [default: {PROFILE_NAME}, if there is one].",
        ),
        click.option("--base-url", metavar="URL", help="The instance to check."),
        click.option(
            "--credential",
            "credentials",
            multiple=True,
            metavar="[SCHEME=]VARIABLE",
            help="An environment variable with a credential, for a security scheme of the contract.",
        ),
        click.option("--role", metavar="NAME", help="The role of the profile to run as [default: the first]."),
    )
    for option in reversed(options):
        function = option(function)
    return function


def with_choice(function: F) -> F:
    """Which checks of which resources, and whether to write."""
    options = (
        click.option("--only", "families", multiple=True, metavar="FAMILY", help="Only checks of this family."),
        click.option("--resource", "resources", multiple=True, metavar="NAME", help="Only this resource."),
        click.option("--read-only", is_flag=True, help="Ask only what needs no write."),
        click.option(
            "--allow-writes", multiple=True, metavar="HOST", help="Allow writes on a host other than this machine."
        ),
    )
    for option in reversed(options):
        function = option(function)
    return function


def profile_of(
    contract: str | None,
    profile_file: Path | None,
    base_url: str | None,
    role: str | None,
    allow_writes: tuple[str, ...] = (),
) -> Profile:
    """The profile with what the options say over it. Raises CheckPostError."""
    from checkpost.profile.profile import Profile, read_profile

    default = Path(PROFILE_NAME)
    if profile_file is None and default.is_file():
        profile_file = default
    profile = read_profile(profile_file) if profile_file else Profile(Path("."))
    if role is not None and role not in profile.roles:
        known = ", ".join(profile.roles) or "none"
        where = profile.file or "no profile is used"
        raise CheckPostError(f"There is no role {role!r} ({where}); the roles are: {known}.")
    return replace(
        profile,
        contract=contract or profile.contract,
        base_url=base_url or profile.base_url,
        run_as=role or profile.run_as,
        allow_writes=(*profile.allow_writes, *allow_writes),
    )


def check_families(families: tuple[str, ...]) -> None:
    """Raise CheckPostError for a family that there is not."""
    from checkpost.checks.registry import FAMILIES

    for family in families:
        if family not in FAMILIES:
            raise CheckPostError(f"There is no family {family!r} of checks; the families are {', '.join(FAMILIES)}.")


def check_resources(resources: tuple[str, ...], known: list[str]) -> None:
    """Raise CheckPostError for a resource that there is not."""
    import difflib

    for name in resources:
        if name not in known:
            near = difflib.get_close_matches(name, known, 1)
            hint = f"did you mean {near[0]!r}?" if near else f"the resources are {', '.join(known)}."
            raise CheckPostError(f"There is no resource {name!r} in the contract; {hint}")
