"""A PostgreSQL of its own for a trial, where one is installed."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import subprocess
from collections.abc import Iterator
from pathlib import Path


def programs() -> Path | None:
    """The folder with PostgreSQL's server programs; None where there is none."""
    known = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    found = shutil.which("initdb") or (str(known[-1]) if known else "")
    return Path(found).resolve().parent if found else None


@contextlib.contextmanager
def database(folder: Path) -> Iterator[str]:
    """The URL of an empty database, of a server that runs until the end. As root it runs as the user ``postgres``."""
    where = programs()
    assert where is not None
    data = folder / "cluster"
    data.mkdir()
    as_user: list[str] = []
    if os.geteuid() == 0:
        as_user = ["runuser", "-u", "postgres", "--"]
        folder.chmod(0o755)
        shutil.chown(data, "postgres")
    with socket.socket() as opened:
        opened.bind(("127.0.0.1", 0))
        port = int(opened.getsockname()[1])

    def run(*words: str) -> None:
        subprocess.run([*as_user, *words], check=True, stdout=subprocess.DEVNULL, cwd="/")

    run(str(where / "initdb"), "-D", str(data), "-A", "trust", "-U", "bank")
    options = f"-p {port} -k {data} -h 127.0.0.1 -c fsync=off"
    run(str(where / "pg_ctl"), "-D", str(data), "-o", options, "-l", str(data / "log"), "-w", "start")
    try:
        run(str(where / "createdb"), "-h", "127.0.0.1", "-p", str(port), "-U", "bank", "bank")
        yield f"postgres://bank@127.0.0.1:{port}/bank"
    finally:
        run(str(where / "pg_ctl"), "-D", str(data), "-m", "immediate", "stop")


def contents(url: str) -> list[str]:
    """Every row of a database, as statements."""
    where = programs()
    assert where is not None
    dump = [str(where / "pg_dump"), "--data-only", "--inserts", "--no-comments", url]
    lines = subprocess.run(dump, check=True, capture_output=True, text=True).stdout.splitlines()
    return sorted(line for line in lines if line.startswith("INSERT"))
