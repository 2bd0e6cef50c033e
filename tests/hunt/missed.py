"""``python -m tests.hunt.missed [EACH] [NAME…]``: run against APIs with each fault, as many as EACH, and print which of
the faults (those with a NAME in theirs) nothing was told of."""

from __future__ import annotations

import os
import sys
from concurrent.futures import ProcessPoolExecutor

from tests.hunt.faults import FAULTS
from tests.hunt.habits import drawn
from tests.hunt.trial import Trial, tried


def seeds_for(name: str, number: int, first: int = 0) -> list[int]:
    """The first seeds whose habits a fault fits, of APIs that nobody else is at work in."""
    fitting = (seed for seed in range(first, first + 2000) if _quiet(seed) and FAULTS[name].fits(drawn(seed)))
    return [seed for seed, _ in zip(fitting, range(number), strict=False)]


def _quiet(seed: int) -> bool:
    habits = drawn(seed)
    return not habits.others and not habits.slow


def trial_of(pair: tuple[str, int]) -> Trial:
    return tried(pair[1], pair[0])


def main() -> int:
    each = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    words = sys.argv[2:] or [""]
    names = [name for name in FAULTS if any(word in name for word in words)]
    pairs = [(name, seed) for name in names for seed in seeds_for(name, each)]
    missed: dict[str, list[int]] = {}
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for (name, seed), trial in zip(pairs, pool.map(trial_of, pairs), strict=True):
            if not trial.told:
                missed.setdefault(name, []).append(seed)
            shown = "; ".join(line.partition(" |")[0] for line in trial.told) or "NOTHING"
            print(f"{name}, seed {seed}: {len(trial.told)} told: {shown}", flush=True)
    for name, seeds in missed.items():
        print(f"missed: {name}: {len(seeds)} of {sum(pair[0] == name for pair in pairs)}, seeds {seeds}")
    none = [name for name in names if not any(pair[0] == name for pair in pairs)]
    print(f"{len(pairs)} APIs with faults, nothing told of {sum(map(len, missed.values()))}; never fitting: {none}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
