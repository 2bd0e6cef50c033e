"""Options that several commands have, and the profile that they and the file come to."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields, replace
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from checkpost.errors import CheckPostError

if TYPE_CHECKING:
    from checkpost.profile.profile import Profile

PROFILE_NAME = "checkpost.yaml"
#: Which stored runs a command is about.
beside_profile = click.option(
    "--profile",
    "profile_file",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="The profile beside which the runs are stored.",
)


@dataclass(frozen=True)
class Aimed:
    """What the options say of the contract, and of where and as whom it is to be held against the API."""

    contract: str | None = None
    profile_file: Path | None = None
    base_url: str | None = None
    server: str | None = None
    credentials: tuple[str, ...] = ()
    role: str | None = None


@dataclass(frozen=True)
class Chosen:
    """What the options say of which checks to run, and whether to write."""

    families: tuple[str, ...] = ()
    resources: tuple[str, ...] = ()
    read_only: bool = False
    allow_writes: tuple[str, ...] = ()


def _gathered(kind: type[Aimed] | type[Chosen], name: str, options: Sequence[Callable[..., Any]]) -> Callable[..., Any]:
    """A decorator that adds options to a command and hands them over as one value."""

    def decorate(function: Callable[..., Any]) -> Callable[..., Any]:
        @wraps(function)
        def gathering(**given: Any) -> Any:
            own = {each.name: given.pop(each.name) for each in fields(kind)}
            return function(**{name: kind(**own)}, **given)

        decorated: Callable[..., Any] = gathering
        for option in reversed(options):
            decorated = option(decorated)
        return decorated

    return decorate


#: The contract and where it is to be held against; the command gets them as ``aimed``.
with_target = _gathered(
    Aimed,
    "aimed",
    (
        click.argument("contract", required=False),
        click.option(
            "--profile",
            "profile_file",
            type=click.Path(path_type=Path),
            metavar="FILE",
            help=f"The profile [default: {PROFILE_NAME}, if there is one].",
        ),
        click.option("--base-url", metavar="URL", help="The instance to check."),
        click.option("--server", metavar="NAME", help="The instance to check: one of the contract's servers."),
        click.option(
            "--credential",
            "credentials",
            multiple=True,
            metavar="[SCHEME=]VARIABLE",
            help="An environment variable with a credential, for a security scheme of the contract.",
        ),
        click.option("--role", metavar="NAME", help="The role of the profile to run as [default: the first]."),
    ),
)

#: Which checks of which resources, and whether to write; the command gets them as ``chosen``.
with_choice = _gathered(
    Chosen,
    "chosen",
    (
        click.option("--only", "families", multiple=True, metavar="FAMILY", help="Only checks of this family."),
        click.option(
            "--resource",
            "resources",
            multiple=True,
            metavar="NAME",
            help="Only this resource; * stands for any letters.",
        ),
        click.option("--read-only", is_flag=True, help="Ask only what needs no write."),
        click.option(
            "--allow-writes", multiple=True, metavar="HOST", help="Allow writes on a host other than this machine."
        ),
    ),
)


def profile_of(aimed: Aimed, allow_writes: tuple[str, ...] = ()) -> Profile:
    """The profile with what the options say over it. Raises CheckPostError."""
    from checkpost.profile.profile import Profile, read_profile

    default, file = Path(PROFILE_NAME), aimed.profile_file
    if file is None and default.is_file():
        file = default
    profile = read_profile(file) if file else Profile(Path("."))
    if aimed.role is not None and aimed.role not in profile.roles:
        known = ", ".join(profile.roles) or "none"
        where = profile.file or "no profile is used"
        raise CheckPostError(f"There is no role {aimed.role!r} ({where}); the roles are: {known}.")
    if aimed.base_url and aimed.server:
        raise CheckPostError("--base-url and --server both say which instance to check; give one.")
    return replace(
        profile,
        contract=aimed.contract or profile.contract,
        base_url=aimed.base_url or (None if aimed.server else profile.base_url),
        server=aimed.server or profile.server,
        run_as=aimed.role or profile.run_as,
        allow_writes=(*profile.allow_writes, *allow_writes),
    )


def check_families(families: tuple[str, ...]) -> None:
    """Raise CheckPostError for a family that there is not."""
    from checkpost.checks.registry import FAMILIES

    for family in families:
        if family not in FAMILIES:
            raise CheckPostError(f"There is no family {family!r} of checks; the families are {', '.join(FAMILIES)}.")


def chosen_resources(resources: tuple[str, ...], known: list[str]) -> tuple[str, ...]:
    """The resources that are meant, in the contract's order; ``*`` and ``?`` stand for letters, and a path for the
    resource that it ends with, as that path for its end. Raises CheckPostError for a name that means none."""
    import difflib
    import fnmatch

    meant: set[str] = set()
    for name in resources:
        found = {name} & set(known) or set(fnmatch.filter(known, name))
        ending = [each for each in known if each.endswith(f"/{name}") or name.endswith(f"/{each}")]
        found = found or (set(ending) if len(ending) == 1 else set())
        if not found:
            near = difflib.get_close_matches(name, known, 1)
            hint = f"did you mean {near[0]!r}?" if near else f"the resources are {', '.join(known)}."
            raise CheckPostError(f"There is no resource {name!r} in the contract; {hint}")
        meant |= found
    return tuple(name for name in known if name in meant)


def fail_on(words: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """The option that names the least severity that makes a command fail; ``words`` are its help."""
    kinds = click.Choice(["error", "warning", "note", "never"])
    return click.option("--fail-on", type=kinds, default="error", show_default=True, help=words)


def failing(least: str) -> list[str]:
    """The severities from the least one on; none for ``never``."""
    order = ["note", "warning", "error"]
    return order[order.index(least) :] if least in order else []
