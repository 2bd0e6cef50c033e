"""``python -m tests.strangers [NAME …]``: install and start each stranger with a fresh database, prove its departures
by requests, run Check Post against it, and print what was found, missed and found beside, and whether its rows are as
before."""

from __future__ import annotations

import contextlib
import http.client
import json
import shutil
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from tests.strangers import cluster

Json = dict[str, Any]
HERE = Path(__file__).parent
CACHE = Path(tempfile.gettempdir()) / "checkpost-strangers"


def server_of(name: str) -> list[str]:
    """The command that starts a stranger, with what it needs installed once."""
    folder = CACHE / name
    if (HERE / name / "server.js").exists():
        folder.mkdir(parents=True, exist_ok=True)
        for each in (*HERE.glob("*.js"), *(HERE / name).iterdir()):
            shutil.copy(each, folder / each.name)
        if not (folder / "ready").exists():
            subprocess.run(["npm", "install", "--silent", "--no-audit", "--no-fund"], cwd=folder, check=True)
            (folder / "ready").touch()
        return ["node", str(folder / "server.js")]
    python = folder / "bin" / "python"
    if not (folder / "ready").exists():
        subprocess.run([sys.executable, "-m", "venv", str(folder)], check=True)
        wanted = str(HERE / name / "requirements.txt")
        subprocess.run([str(python), "-m", "pip", "install", "-q", "-r", wanted], check=True)
        (folder / "ready").touch()
    return [str(python), str(HERE / name / "server.py")]


def send(base: str, method: str, path: str, body: Any = None) -> int:
    data = (body if isinstance(body, str) else json.dumps(body)).encode() if body is not None else None
    request = urllib.request.Request(base + path, data, {"Content-Type": "application/json"}, method=method)
    try:
        with urllib.request.urlopen(request, timeout=10) as answer:
            return int(answer.status)
    except urllib.error.HTTPError as error:
        return error.code
    except http.client.RemoteDisconnected:
        return 0


def wait_for(url: str) -> None:
    """Wait until a server answers."""
    for _ in range(300):
        try:
            if send(url, "GET", "") == 200:
                return
        except OSError:
            time.sleep(0.1)


def contents(stored: str) -> Any:
    """Every row that a stranger has stored: in PostgreSQL, in SQLite, or in a JSON file of objects by key."""
    if "://" in stored:
        return cluster.contents(stored)
    database = Path(stored)
    if database.read_bytes()[:1] == b"{":
        held = json.loads(database.read_text())
        if "models" in held:
            return {name: sorted(rows.values()) for name, rows in held["models"].items()}
        return {name: sorted(rows, key=str) for name, rows in held.items()}
    with sqlite3.connect(database) as connection:
        connection.text_factory = lambda stored: stored.decode(errors="replace")  # half of a character may be kept
        names = connection.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
        return {name: sorted(connection.execute(f'SELECT * FROM "{name}"'), key=str) for (name,) in names.fetchall()}


def settled(stored: str) -> Any:
    """What a stranger has stored, once that stays the same: some write their file behind their answers."""
    found, before = contents(stored), None
    while found != before:
        time.sleep(0.5)
        found, before = contents(stored), found
    return found


def as_before(before: Any, after: Any, said: Json) -> bool:
    """Whether all rows are there as they were, and no other one: but for so many of a table as an API that removes none
    ``stays`` with, and those of tables in which it has deleted rows ``kept``."""
    if not isinstance(before, dict):
        return bool(before == after)
    if before.keys() != after.keys() or any(row not in after[name] for name, rows in before.items() for row in rows):
        return False
    more = {name: len(rows) - len(before[name]) for name, rows in after.items() if name not in said.get("kept", ())}
    return all(number <= said.get("stays", 0) for number in more.values())


def differing(before: Any, after: Any) -> str:
    """The first row that is not there any more, and the first that was not there, in short."""
    if not isinstance(before, dict):
        return ""
    gone = [f"{name} lacks {row}" for name, rows in before.items() for row in rows if row not in after.get(name, ())]
    new = [f"{name} has {row}" for name, rows in after.items() for row in rows if row not in before.get(name, ())]
    return "; ".join(each[:300] for each in (*gone[:1], *new[:1]))


def free_port() -> int:
    with socket.socket() as opened:
        opened.bind(("127.0.0.1", 0))
        return int(opened.getsockname()[1])


def said_of(name: str) -> Json:
    """What is said of a stranger: where its contract is, and its departures."""
    said: Json = json.loads((HERE / name / "departures.json").read_text("utf-8"))
    return said


@contextlib.contextmanager
def started(name: str, said: Json, folder: Path) -> Iterator[tuple[str, str]]:
    """A stranger with a fresh database in a folder: its address, and where its rows are stored."""
    with contextlib.ExitStack() as ends:
        database, port = str(folder / "bank.db"), free_port()
        if "database" in said:
            database = ends.enter_context(cluster.database(folder))
        server = subprocess.Popen(
            [*server_of(name), str(port), database],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        try:
            wait_for(f"http://127.0.0.1:{port}{said['contract']}")
            yield f"http://127.0.0.1:{port}", database
        finally:
            server.terminate()
            server.wait()


def run_on(base: str, said: Json, folder: Path) -> tuple[subprocess.CompletedProcess[str], Json]:
    """Run the installed command against an address: how it ended, and its report."""
    report = folder / "report.json"
    command = [str(Path(sys.executable).with_name("checkpost")), "run", base + said["contract"]]
    command += ["--base-url", base + said.get("base", ""), "--out", str(report)]
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True)
    run: Json = json.loads(report.read_text("utf-8"))
    return done, run


def judged(name: str) -> bool:
    """Try one stranger; whether all is found and its rows are as before."""
    said = said_of(name)
    if "database" in said and cluster.programs() is None:
        print(f"{name}: not tried, since no PostgreSQL is installed")
        return True
    with tempfile.TemporaryDirectory() as held, started(name, said, folder := Path(held)) as (base, database):
        proven = []
        for each in said["departures"]:
            if send(base, *each["send"]) == each["status"]:
                proven.append(each)
            wait_for(base + said["contract"])
        before = settled(database)
        done, run = run_on(base, said, folder)
        after = settled(database)
        same = as_before(before, after, said)
    found = {(each["check"], f"{op['method']} {op['path']}") for each in run["findings"] for op in operations(each)}
    wanted = [each for each in proven if each["found"][0]]
    missed = [each["says"] for each in wanted if tuple(each["found"]) not in found]
    expected = {tuple(each["found"]) for each in wanted}
    beside = [
        "{severity} {check}: {title}; {observed:.90}".format(**each)
        + " ({method} {path})".format(**operations(each)[0])
        for each in run["findings"]
        if not any((each["check"], f"{op['method']} {op['path']}") in expected for op in operations(each))
    ]
    number, every = len(run["findings"]), run["summary"]["operations"]
    asked = every - len(run["summary"]["not_exercised"])
    told = f"{len(wanted) - len(missed)} of {len(wanted)} proven departures found, {number} findings in all"
    print(f"{name}: {told}; {asked} of {every} operations asked")
    lost = [each["says"] for each in said["departures"] if each not in proven]
    print(f"  {len(lost)} no longer proven{': ' if lost else ''}{', '.join(lost)}; exit status {done.returncode}")
    rows = "as before" if same else f"NOT as before ({differing(before, after)})"
    print(f"  rows {rows}; left: {run['summary']['left'] or 'none'}")
    unasked = ["{method} {path}: {reason}".format(**each) for each in run["summary"]["not_exercised"]]
    for word, lines in (("missed", missed), ("beside", beside), ("not asked", unasked)):
        for line in lines:
            print(f"  {word}: {line}")
    return same and not missed


def operations(finding: Json) -> list[Json]:
    found = [finding.get("operation"), *finding.get("operations", ())]
    return [each for each in found if each] or [{"method": "", "path": ""}]


def main() -> int:
    names = sys.argv[1:] or sorted(each.parent.name for each in HERE.glob("*/server.*"))
    results = [judged(name) for name in names]
    return 0 if all(results) else 1


if __name__ == "__main__":
    sys.exit(main())
