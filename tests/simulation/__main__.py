"""``python -m tests.simulation [TEMPER] [--seed N] [--moment N]``: try temperaments, print counts and what is amiss."""

from __future__ import annotations

import argparse
import os
import sys
import time

from tests.simulation.tempers import BY_NAME, TEMPERS
from tests.simulation.trial import try_temper


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m tests.simulation", description=__doc__)
    parser.add_argument("tempers", nargs="*", help="names of temperaments; all of them if none is given")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--moment", type=int, help="sweep this one alone")
    parser.add_argument("--most", type=int, default=0, help="sweep so many moments of each, drawn by seed")
    parser.add_argument("--part", default="0/1", help="I/N: the I-th of N parts of the temperaments")
    parser.add_argument("--family", action="append", default=[])
    given = parser.parse_args()
    place, parts = map(int, given.part.split("/"))
    chosen = [BY_NAME[name] for name in given.tempers] or list(TEMPERS[place::parts])
    failed = boundaries = 0
    for temper in chosen:
        started = time.perf_counter()
        trial = try_temper(temper, given.seed, given.family, given.most, given.moment)
        boundaries += trial.boundaries
        took = time.perf_counter() - started
        print(
            f"{temper.name}: {trial.requests} requests, {trial.boundaries} crash points, "
            f"{trial.moments} of them different, {len(trial.amiss)} amiss, {took:.1f} s",
            flush=True,
        )
        for each in trial.amiss[:12]:
            print(f"  {each}")
        if trial.amiss:
            failed += 1
            print(f"  again: python -m tests.simulation {temper.name!r} --seed {given.seed}")
    print(f"{boundaries} crash points, {failed} temperaments with something amiss")
    return 1 if failed else 0


if __name__ == "__main__":
    if os.environ.get("PYTHONHASHSEED") != "0":  # the order of sets is part of what a seed has to repeat
        os.execve(
            sys.executable,
            [sys.executable, "-m", "tests.simulation", *sys.argv[1:]],
            {**os.environ, "PYTHONHASHSEED": "0"},
        )
    sys.exit(main())
