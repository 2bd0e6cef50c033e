"""``python -m tests.hunt [FIRST] [LAST]``: run against the sound APIs of those seeds, and print what is told."""

from __future__ import annotations

import os
import sys
from concurrent.futures import ProcessPoolExecutor

from tests.hunt.trial import tried


def main() -> int:
    words = [int(word) for word in sys.argv[1:]]
    first, last = (words + [0, 999][len(words) :])[:2]
    number = requests = found = 0
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for trial in pool.map(tried, range(first, last + 1)):
            number, requests, found = number + 1, requests + trial.requests, found + bool(trial.told)
            for line in trial.told:
                print(f"seed {trial.seed}: {line}", flush=True)
    print(f"{number} sound APIs, {requests} requests: something is told of {found}")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
