"""``checkpost report``: a stored run, written to files."""

from __future__ import annotations

from pathlib import Path

import click

from checkpost.commands.options import PROFILE_NAME, beside_profile
from checkpost.errors import CheckPostError


@click.command()
@click.argument("name", required=False, metavar="[RUN]")
@click.option(
    "--out",
    "files",
    multiple=True,
    required=True,
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="The file to write, as often as given; its ending names the format: .html, .json, .junit.xml, .sarif, .har, "
    ".md, .csv.",
)
@beside_profile
def report(name: str | None, files: tuple[Path, ...], profile_file: Path | None) -> None:
    """Write the latest stored run, or the RUN of a name, to files. Nothing is sent."""
    from checkpost.report.files import write_files, writer_of
    from checkpost.store.runs import load, load_exchanges, names

    folder = (profile_file or Path(PROFILE_NAME)).parent
    for file in files:
        writer_of(file)
    stored = names(folder)
    if not stored:
        raise CheckPostError(f"No run is stored in {folder.resolve()}; checkpost run makes one.")
    run = next((each for each in stored if each.startswith(name or "")), None)
    if run is None:
        raise CheckPostError(f"There is no run whose name begins with {name!r}; checkpost show --list names them.")
    write_files(files, load(folder, run), lambda: load_exchanges(folder, run))
    for file in files:
        click.echo(f"wrote {file}", err=True)
