"""``checkpost demo``: the stand-in API, and the complete example against it."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from checkpost.errors import CheckPostError

#: What the example's second run is to find: one defect for each part of the work.
EXAMPLE = (
    "text-truncated",
    "required-not-enforced",
    "update-lost",
    "update-resets-others",
    "delete-only-from-list",
    "at-least-is-more",
    "sort-numbers-as-text",
    "average-counts-nulls",
    "missing-key-crashes",
    "field-undocumented",
    "body-breaks-schema",
    "sublist-leaves-out",
    "many-changes-first",
    "stale-update-done",
    "technician-deletes",
    "value-stale-everywhere",
)


@click.command()
@click.option("--serve", is_flag=True, help="Only serve the stand-in, until interrupted.")
@click.option("--defect", "defects", multiple=True, metavar="NAME", help="Switch a planted defect on.")
@click.option("--list-defects", is_flag=True, help="List the planted defects and what a finding should say.")
@click.option(
    "--port",
    type=click.IntRange(0, 65535),
    default=8765,
    show_default=True,
    help="The port for --serve; 0 takes a free one.",
)
@click.option(
    "--spelling",
    metavar="NAME",
    help="How the stand-in's lists are queried [default: as the first defect has it, or brackets].",
)
@click.option("--list-spellings", is_flag=True, help="List the ways in which the stand-in's lists can be queried.")
@click.option("--style", metavar="NAME", help="How paths and bodies of the stand-in look [default: plain].")
@click.option("--list-styles", is_flag=True, help="List the styles of paths and bodies that the stand-in can have.")
@click.option("--database", default=":memory:", metavar="FILE", help="Keep the tables in a file [default: in memory].")
@click.option(
    "--folder",
    type=click.Path(path_type=Path),
    default=Path("checkpost-demo"),
    show_default=True,
    help="Where the example's profile and runs are put.",
)
def demo(
    serve: bool,
    defects: tuple[str, ...],
    list_defects: bool,
    port: int,
    spelling: str | None,
    list_spellings: bool,
    style: str | None,
    list_styles: bool,
    database: str,
    folder: Path,
) -> None:
    """Serve a made-up seed bank's data API on this machine and run the complete example against it."""
    from checkpost.demo.defects import DEFECTS
    from checkpost.demo.spellings import SPELLINGS
    from checkpost.demo.styles import STYLES

    if list_styles:
        for way in STYLES.values():
            click.echo(f"{way.name:<10} {way.says}")
        return
    if style is not None and style not in STYLES:
        raise CheckPostError(f"There is no style {style!r}; the styles are {', '.join(STYLES)}.")
    chosen = STYLES[style or "plain"]
    if list_spellings:
        for each in SPELLINGS.values():
            click.echo(f"{each.name:<10} {each.says}")
        return
    if spelling is None:
        spelling = next((DEFECTS[name].spelling for name in defects if name in DEFECTS), chosen.spelling)
    if spelling not in SPELLINGS:
        raise CheckPostError(f"There is no spelling {spelling!r}; the spellings are {', '.join(SPELLINGS)}.")
    for name in defects:
        if name not in DEFECTS:
            import difflib

            near = difflib.get_close_matches(name, DEFECTS, 1)
            hint = f"did you mean {near[0]!r}?" if near else "--list-defects names them."
            raise CheckPostError(f"There is no planted defect {name!r}; {hint}")
    if list_defects:
        for defect in DEFECTS.values():
            where = f"{defect.method} {defect.path}"
            click.echo(f"{defect.name:<26} {defect.spelling:<9} {where:<32} {defect.says}")
        return
    if serve:
        _serve(defects, database, port, spelling, chosen.name)
        return
    sys.exit(_example(defects or EXAMPLE, folder, spelling, chosen.name))


def _serve(defects: tuple[str, ...], database: str, port: int, spelling: str, style: str) -> None:
    from checkpost.demo.seedbank import TOKENS, VARIABLES
    from checkpost.demo.server import serve

    if sys.stdout.isatty():
        click.echo("Tokens of the made-up users:", err=True)
        for token, (user, role) in TOKENS.items():
            click.echo(f"  export {VARIABLES[user]}={token}  # {user}, {role}", err=True)
    serve(defects, database, port, spelling, style)


def _example(defects: tuple[str, ...], folder: Path, spelling: str, style: str) -> int:
    """Survey, a run on the sound stand-in, a run on one with planted defects; the exit status."""
    from checkpost.commands.run import exit_status, show
    from checkpost.demo.server import own_process
    from checkpost.errors import CLEAN, NOT_COMPLETED
    from checkpost.report.console import plain_console

    console = plain_console()
    folder.mkdir(parents=True, exist_ok=True)
    console.rule("A sound API: every promise kept", align="left", style="dim")
    database = _fresh(folder / "seedbank.db")
    with own_process(database=str(database), spelling=spelling, style=style) as address:
        sound, unchanged = _run(address.base_url, address.contract_url, folder, database)
    show(sound)
    _compare(console, unchanged)
    console.print()
    console.rule(f"The same API with {len(defects)} planted defects", align="left", style="dim")
    database = _fresh(folder / "seedbank.db")
    with own_process(defects, str(database), spelling=spelling, style=style) as address:
        faulty, _ = _run(address.base_url, address.contract_url, folder, database)
    show(faulty)
    console.print(f"The profile and both runs are in {folder}: cd {folder} && checkpost show", style="dim")
    clean = exit_status(sound, "note") == CLEAN and unchanged
    return CLEAN if clean and faulty["findings"] else NOT_COMPLETED


def _compare(console: object, unchanged: bool) -> None:
    words = "The tables are, row for row, what they were." if unchanged else "The tables are not what they were."
    console.print(words)  # type: ignore[attr-defined]


def _fresh(database: Path) -> Path:
    """A file for the stand-in's tables, where nothing is left of an earlier one."""
    for ending in ("", "-wal", "-shm"):
        database.with_name(database.name + ending).unlink(missing_ok=True)
    return database.resolve()


def _run(base_url: str, contract_url: str, folder: Path, database: Path) -> tuple[dict[str, object], bool]:
    """A run against the stand-in: its document, and whether every list is afterwards what it was."""
    from checkpost.commands.run import carry_out, keep
    from checkpost.demo.example import lists, write_profile
    from checkpost.engine.plan import plan
    from checkpost.engine.target import aim
    from checkpost.profile.profile import read_profile
    from checkpost.wire.session import Limits

    profile = read_profile(write_profile(folder, base_url, contract_url, database.name))
    target = aim(profile, False, 10.0)
    before = lists(target)
    planned = plan(target.model, (), (), target.no_writes, actors=target.actors, witness=True)
    result = carry_out(target, planned, Limits(), 1)
    return keep(result), lists(target) == before
