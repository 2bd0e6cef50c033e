"""What several tests use: the stand-in, runs in this process, and the installed command."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import re
import subprocess
import sys
import tempfile
import urllib.request
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any
from unittest import mock

from click.testing import CliRunner

from checkpost.cli import main
from checkpost.commands.run import with_answers
from checkpost.contract.contract import Contract
from checkpost.contract.node import Load
from checkpost.contract.reader import load_file, read_contract
from checkpost.demo import seedbank
from checkpost.demo.example import write_profile
from checkpost.demo.seedbank import TABLES
from checkpost.demo.server import Address, InProcess
from checkpost.engine.plan import plan
from checkpost.engine.run import Result, run
from checkpost.engine.target import aim
from checkpost.profile.credentials import Credential, Role
from checkpost.profile.profile import Profile
from checkpost.wire.session import Limits
from checkpost.wire.transport import Transport
from tests.direct import Direct

ENVIRONMENT = {seedbank.VARIABLES[user]: token for token, (user, _) in seedbank.TOKENS.items()}
COMMAND = Path(sys.executable).with_name("checkpost")

Tables = dict[str, list[dict[str, Any]]]
#: Where contracts stay for as long as a test may ask for their lines.
_KEPT = tempfile.TemporaryDirectory()


def bearer(name: str, variable: str) -> Role:
    return Role(name, (Credential("header", "Authorization", f"Bearer ${{{variable}}}"),))


CURATOR = bearer("curator", seedbank.VARIABLES["mira"])


def contract_of(document: Any, folder: Path | None = None) -> Contract:
    """A contract read from a document given as a value."""
    folder = folder or Path(tempfile.mkdtemp(dir=_KEPT.name))
    file = folder / "contract.json"
    file.write_text(json.dumps(document, indent=1), "utf-8")
    return read_contract(str(file))


def fetch(url: str, into: Path) -> str:
    with urllib.request.urlopen(url) as answer:
        into.write_bytes(answer.read())
    return str(into)


def run_against(
    contract: str,
    base_url: str | None,
    folder: Path,
    resources: Sequence[str] = (),
    families: Sequence[str] = (),
    role: Role | None = None,
    read_only: bool = False,
    most_rows: int = 2000,
    timeout: float = 60,
    without: Sequence[str] = (),
    transport: Transport | None = None,
) -> Result:
    """A whole run in this process; ``without`` names checks that are left out for time, ``transport`` takes the
    network's place."""
    os.environ.update(ENVIRONMENT)
    roles = {role.name: role} if role else {}
    profile = Profile(folder, contract=contract, base_url=base_url, roles=roles, writes_by_filter=True)
    target = with_answers(aim(profile, read_only, 10.0), Limits())
    planned = plan(target.model, families, resources, target.no_writes)
    planned = [each for each in planned if each.check.name not in without]
    return asyncio.run(run(target, planned, Limits(timeout=timeout, rows=most_rows), 1, transport=transport))


def described(schema: Any = None, status: str = "200", body: Any = None) -> dict[str, Any]:
    """An operation of a contract: the schema of its answer, and that of its body; it may refuse."""
    shown = {"content": {"application/json": {"schema": schema}}} if schema is not None else {}
    told: dict[str, Any] = {"responses": {status: {"description": "done", **shown}}}
    told["responses"] |= {refusal: {"description": "refused"} for refusal in ("400", "404", "405", "409", "422")}
    if body is not None:
        told["requestBody"] = {"required": True, "content": {"application/json": {"schema": body}}}
    return told


def run_direct(contract: Any, app: Any, base_url: str = "http://127.0.0.1:1", **options: Any) -> Result:
    """A whole run against an application in this process, by a contract given as a value."""
    with tempfile.TemporaryDirectory() as name:
        file = Path(name, "contract.json")
        file.write_text(json.dumps(contract), "utf-8")
        return run_against(str(file), base_url, Path(name), transport=Direct(app), **options)


def run_on_stand_in(
    stand_in: InProcess,
    resources: Sequence[str] = (),
    families: Sequence[str] = (),
    role: Role = CURATOR,
    without: Sequence[str] = (),
    direct: bool = False,
) -> Result:
    """A run against a stand-in as the curator; ``direct``, without a network between."""
    transport = Direct(stand_in.app) if direct else None
    base_url = stand_in.address.base_url
    with fetched(stand_in) as (folder, contract), read_once():
        return run_against(contract, base_url, folder, resources, families, role, without=without, transport=transport)


_READ: dict[bytes, Contract] = {}


@contextlib.contextmanager
def read_once() -> Iterator[None]:
    """Contracts that differ in the stand-in's port alone are read and compiled once, for time."""

    def known(location: str, load: Load = load_file) -> Contract:
        raw = load(location)
        key = re.sub(rb"127\.0\.0\.1:\d+", b"", raw)
        if key not in _READ:
            _READ[key] = read_contract(location, load)
        return _READ[key]

    with mock.patch("checkpost.engine.target.read_contract", known):
        yield


@contextlib.contextmanager
def fetched(stand_in: InProcess) -> Iterator[tuple[Path, str]]:
    """A folder, and in it the contract of a stand-in."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        yield folder, fetch(stand_in.address.contract_url.replace(".yaml", ".json"), folder / "seedbank.json")


def run_on_example(
    stand_in: InProcess,
    resources: Sequence[str] = (),
    families: Sequence[str] = (),
    leave: Sequence[str] = (),
    without: Sequence[str] = (),
    direct: bool = False,
) -> Result:
    """A run as the example's curator, with the rights of the others as its profile states them; ``leave`` names
    roles that are not looked at, ``without`` checks that are left out, for time."""
    from checkpost.profile.profile import read_profile

    with tempfile.TemporaryDirectory() as name, read_once():
        profile = read_profile(write_profile(Path(name), stand_in.address.base_url, stand_in.address.contract_url))
        target = aim(profile, False, 10.0)
        planned = plan(
            target.model,
            families,
            resources,
            target.no_writes,
            actors=target.actors,
            witness=target.profile.witness is not None,
        )
        planned = [each for each in planned if each.actor not in leave and each.check.name not in without]
        transport = Direct(stand_in.app) if direct else None
        return asyncio.run(run(target, planned, Limits(timeout=60), 1, transport=transport))


def checkpost(*words: str, folder: Path, timeout: float = 900, **environment: str) -> subprocess.CompletedProcess[str]:
    """The installed command, run in a folder."""
    return subprocess.run(
        [str(COMMAND), *words],
        cwd=folder,
        env={**os.environ, **ENVIRONMENT, "COLUMNS": "120", **environment},
        capture_output=True,
        text=True,
        timeout=timeout,
    )


def called(*words: str, folder: Path, **environment: str) -> subprocess.CompletedProcess[str]:
    """What the command does in this process, without the time that a process of its own takes to start."""
    with contextlib.chdir(folder):
        runner = CliRunner(env={**ENVIRONMENT, "COLUMNS": "120", **environment})
        done = runner.invoke(main, words, prog_name=COMMAND.name)
    return subprocess.CompletedProcess(words, done.exit_code, done.stdout, done.stderr)


def write_example(folder: Path, address: Address) -> None:
    """The example's profile, contract and ``.env`` for a stand-in that runs."""
    write_profile(folder, address.base_url, address.contract_url)


def resource_of(table: str) -> str:
    return table.replace("_", "-")


def not_told(before: Tables, after: Tables, result: Result) -> list[str]:
    """What is not as it was in the tables, and the run does not tell: rows of others that changed or went, and own
    rows that stay."""
    told = {(each.table, each.key) for each in (*result.left, *result.harmed)}
    found = []
    for table in TABLES:
        keyed = [{tuple(row[name] for name in table.key): row for row in rows[table.name]} for rows in (before, after)]
        for key in keyed[0].keys() | keyed[1].keys():
            then, now = (rows.get(key) for rows in keyed)
            if then != now and (resource_of(table.name), key) not in told:
                found.append(f"{table.name} {key} was {then} and is {now}")
    return found
