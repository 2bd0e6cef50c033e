"""Speed as ratios, which hold from machine to machine better than times do.

Run: ``python benchmarks/ratios.py``. Each line gives the median of paired measurements: how many times as
long the first takes as the second.
"""

from __future__ import annotations

import asyncio
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from checkpost.contract.positions import locate
from checkpost.contract.reader import read_contract
from checkpost.contract.validators import Validators
from checkpost.demo import seedbank
from checkpost.demo.example import write_profile
from checkpost.demo.server import own_process
from checkpost.engine.plan import plan
from checkpost.engine.run import run
from checkpost.engine.target import aim
from checkpost.profile.profile import read_profile
from checkpost.wire.session import Limits


def timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def ratio(name: str, first: Callable[[], object], second: Callable[[], object], pairs: int = 5) -> None:
    first(), second()
    measured = [timed(first) / timed(second) for _ in range(pairs)]
    print(f"{name:<78} {statistics.median(measured):6.2f}  ({min(measured):.2f} to {max(measured):.2f})")


def start(*words: str) -> Callable[[], object]:
    return lambda: subprocess.run([sys.executable, *words], check=True, stdout=subprocess.DEVNULL)


def main() -> None:
    ratio(
        "checkpost --help to a Python that only imports click",
        start("-m", "checkpost", "--help"),
        start("-c", "import click"),
    )
    os.environ |= {seedbank.VARIABLES[user]: token for token, (user, _) in seedbank.TOKENS.items()}
    with tempfile.TemporaryDirectory() as name, own_process() as address:
        folder = Path(name)
        profile = read_profile(write_profile(folder, address.base_url, address.contract_url))
        target = aim(profile, False, 10.0)
        planned = plan(target.model, (), ("tags", "vaults", "loans"), "")

        def whole(concurrency: int) -> Callable[[], object]:
            return lambda: asyncio.run(run(target, planned, Limits(concurrency=concurrency), 1))

        ratio("a run with 1 request at once to one with 16", whole(1), whole(16), 3)

        text = (folder / "seedbank.yaml").read_text("utf-8")
        contract = target.contract
        pointers = [operation.place.pointer for operation in contract.operations]
        ratio(
            "reading the contract to finding the lines of 46 places in it",
            lambda: read_contract(str(folder / "seedbank.yaml")),
            lambda: locate(text, False, pointers),
        )
        listed = contract.operation("GET", "/species")
        assert listed is not None
        schema = listed.responses[0].content[0].schema
        assert schema is not None
        validators = Validators(contract)
        rows = {"items": seedbank.rows()["species"] * 5, "total": 200, "next": None}
        body = json.dumps(rows)
        ratio(
            "validating a page of 200 rows to parsing it",
            lambda: [list(validators.violations(schema, rows, "response")) for _ in range(20)],
            lambda: [json.loads(body) for _ in range(20)],
        )


if __name__ == "__main__":
    main()
