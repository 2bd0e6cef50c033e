"""How safe runs are: every crash point of every temperament, and real runs killed at random.

Run: ``python benchmarks/crashes.py [--seeds 3] [--kills 50]``. It prints, for each temperament and seed, the crash
points and what was amiss, and for the kills how many left rows before ``sweep`` and how many after.
"""

from __future__ import annotations

import argparse
import os
import random
import re
import signal
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT))


def simulated(seed: int, part: int, parts: int) -> str:
    command = [sys.executable, "-m", "tests.simulation", "--seed", str(seed), "--part", f"{part}/{parts}"]
    return subprocess.run(command, cwd=ROOT, capture_output=True, text=True).stdout


def kills(count: int) -> None:
    """Kill runs against the stand-in at random moments, and sweep behind each."""
    from checkpost.demo.server import InProcess
    from tests.support import COMMAND, ENVIRONMENT, checkpost, write_example

    moments, there, left = random.Random(count), 0, 0
    with tempfile.TemporaryDirectory() as name, InProcess() as stand_in:
        folder = Path(name)
        write_example(folder, stand_in.address)
        before = stand_in.contents()
        for number in range(count):
            process = subprocess.Popen(
                [COMMAND, "run"], cwd=folder, env={**os.environ, **ENVIRONMENT}, stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )  # fmt: skip
            while not list(folder.glob(".checkpost/journal-*")):
                time.sleep(0.01)
            time.sleep(moments.uniform(0.0, 6.0))
            process.send_signal(signal.SIGKILL)
            process.wait()
            there += stand_in.contents() != before
            swept = checkpost("sweep", "--timeout", "1", folder=folder)
            now = stand_in.contents()
            gone = [row for table, rows in before.items() for row in rows if row not in now[table]]
            more = [(table, row) for table, rows in now.items() for row in rows if row not in before[table]]
            named = len(re.findall(r"^  \S+ \S+: ", swept.stderr, re.M))
            left += len(more)
            if gone or len(more) > named:
                print(f"kill {number}: of others gone {gone}; left {more}; told {swept.stderr}")
            for table, row in more:  # named, and removed by hand, so that the next one begins as the first
                chosen = next(each for each in _tables() if each.name == table)
                stand_in.database.delete(chosen, [row[each] for each in chosen.key])
            for journal in folder.glob(".checkpost/journal-*"):
                journal.unlink()
    print(
        f"{count} kills: rows were there after {there}; after the sweep {left} in all, each named, none of others gone"
    )


def _tables() -> tuple:
    from checkpost.demo.seedbank import TABLES

    return TABLES


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=3)
    parser.add_argument("--kills", type=int, default=50)
    given = parser.parse_args()
    parts = os.cpu_count() or 2
    jobs = [(seed, part) for seed in range(1, given.seeds + 1) for part in range(parts)]
    with ThreadPoolExecutor(parts) as pool:
        told = list(pool.map(lambda job: simulated(*job, parts), jobs))
    for (seed, _), text in zip(jobs, told, strict=True):
        for line in text.splitlines():
            print(f"seed {seed}: {line}")
    points = sum(int(found) for text in told for found in re.findall(r"^(\d+) crash points", text, re.M))
    moments = sum(int(found) for text in told for found in re.findall(r"(\d+) of them different", text))
    amiss = sum(int(found) for text in told for found in re.findall(r"(\d+) amiss", text))
    print(f"{points} crash points, {moments} moments swept, {amiss} amiss")
    kills(given.kills)


if __name__ == "__main__":
    main()
