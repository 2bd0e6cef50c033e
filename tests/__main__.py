"""Every test, its modules side by side: ``python -m tests``. What they say is what ``python -m unittest`` says."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path

FOLDER = Path(__file__).parent
#: What takes longest begins first.
LONGEST = (
    "test_defects",
    "test_cli",
    "test_quirks",
    "test_faults",
    "test_simulation",
    "test_styles",
    "test_asking",
    "test_shop",
    "test_crash",
    "test_foreign",
    "test_access",
    "test_depot",
    "test_hunt",
    "test_hold",
)


def run(name: str) -> subprocess.CompletedProcess[str]:
    """One module in a process of its own."""
    command = [sys.executable, "-m", "unittest", f"{FOLDER.name}.{name}"]
    return subprocess.run(command, cwd=FOLDER.parent, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)


def main() -> int:
    names = sorted(file.stem for file in FOLDER.glob("test_*.py"))
    names.sort(key=lambda name: LONGEST.index(name) if name in LONGEST else len(LONGEST))
    started = time.perf_counter()
    ran, bad = 0, {"failures": 0, "errors": 0}
    # one more than there are processors: some modules wait for an API that is slow on purpose
    with ThreadPoolExecutor(max(2, os.cpu_count() or 2) + 1) as pool:
        for done in as_completed([pool.submit(run, name) for name in names]):
            result = done.result()
            counted = re.search(r"^Ran (\d+) tests? in (.*)$", result.stdout, re.M)
            ran += int(counted[1]) if counted else 0
            failed = dict(re.findall(r"(failures|errors)=(\d+)", result.stdout.rpartition("FAILED (")[2]))
            if result.returncode and not any(map(int, failed.values())):
                failed = {"errors": "1"}  # it ended before it could count
            for kind, number in failed.items() if result.returncode else ():
                bad[kind] += int(number)
            print(result.args[-1], counted[2] if counted else "", "FAILED" if result.returncode else "ok", flush=True)
            if result.returncode:
                print(result.stdout, flush=True)
    print(f"\nRan {ran} tests in {time.perf_counter() - started:.3f}s\n")
    told = ", ".join(f"{kind}={number}" for kind, number in bad.items() if number)
    print(f"FAILED ({told})" if told else "OK")
    return 1 if told else 0


if __name__ == "__main__":
    sys.exit(main())
