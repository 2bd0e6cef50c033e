"""A run against a bare client that sends the same requests: what judging costs, and how busy the line is kept.

Run: ``python benchmarks/replay.py [DELAY …]``, delays in milliseconds that each answer is late (0, 50 and 100 if none
are named). The stand-in answers from a process of its own. Of three pairs the median counts.
"""

from __future__ import annotations

import asyncio
import os
import resource
import statistics
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence
from pathlib import Path

from checkpost.demo import seedbank
from checkpost.demo.example import write_profile
from checkpost.demo.server import own_process
from checkpost.engine.plan import plan
from checkpost.engine.run import Result, run
from checkpost.engine.target import aim
from checkpost.profile.profile import read_profile
from checkpost.wire.exchange import Answer, Request
from checkpost.wire.loop import run as run_loop
from checkpost.wire.session import Limits, Session
from checkpost.wire.transport import Connections

_PAIRS = 3


class Late:
    """Connections whose answers are late, and what they were kept busy for, in seconds."""

    def __init__(self, connections: Connections, delay: float) -> None:
        self.connections, self.delay, self.busy = connections, delay, 0.0

    async def __call__(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
        started = time.perf_counter()
        await asyncio.sleep(self.delay)
        answer = await self.connections(method, url, headers, body)
        self.busy += time.perf_counter() - started
        return answer


def measured(delay: float, tables: Sequence[str]) -> tuple[float, float, float, float, int]:
    """Seconds of a run and of the replay of its requests, the share of connections that were busy, milliseconds of
    processor time for each request, and the number of requests."""
    limits = Limits()
    with tempfile.TemporaryDirectory() as name, own_process() as address:
        profile = read_profile(write_profile(Path(name), address.base_url, address.contract_url))
        target = aim(profile, False, 10.0)
        planned = plan(target.model, (), tables, target.no_writes, actors=target.actors)

        async def checked() -> tuple[Result, float]:
            async with Connections(limits.timeout, limits.concurrency) as connections:
                late = Late(connections, delay)
                return await run(target, planned, limits, 1, transport=late), late.busy

        started, processor = time.perf_counter(), time.process_time()
        result, busy = run_loop(checked())
        seconds, processor = time.perf_counter() - started, time.process_time() - processor
        requests = [each.request for each in result.exchanges]

        async def replayed() -> None:
            roles = {**target.profile.roles, target.role.name: target.role}
            async with Connections(limits.timeout, limits.concurrency) as connections:
                late = Late(connections, delay)
                session = Session(roles, target.environment, limits, base_url=target.base_url, transport=late)
                session.tokens.update(result.tokens)
                waiting = iter(requests)

                async def sender() -> None:
                    for request in waiting:
                        await _bare(session, request)

                await asyncio.gather(*(sender() for _ in range(limits.concurrency)))

        started = time.perf_counter()
        run_loop(replayed())
        bare = time.perf_counter() - started
    number = len(requests)
    return seconds, bare, busy / seconds / limits.concurrency, 1000 * processor / number, number


async def _bare(session: Session, request: Request) -> None:
    """Send a request with its credentials, and look at nothing."""
    await session._attempt(request)


def main() -> None:
    os.environ |= {seedbank.VARIABLES[user]: token for token, (user, _) in seedbank.TOKENS.items()}
    delays = [float(each) / 1000 for each in sys.argv[1:]] or [0.0, 0.05, 0.1]
    print(f"{'':<34}{'requests':>9}{'seconds':>9}{'to bare':>9}{'busy':>7}{'CPU ms/request':>16}")
    for delay in delays:
        for words, tables in (("all tables", ()), ("one table", ("species",))):
            pairs = [measured(delay, tables) for _ in range(_PAIRS)]
            seconds = statistics.median(each[0] for each in pairs)
            ratio = statistics.median(each[0] / each[1] for each in pairs)
            busy = statistics.median(each[2] for each in pairs)
            processor = statistics.median(each[3] for each in pairs)
            name = f"{words}, {1000 * delay:.0f} ms late"
            print(f"{name:<34}{pairs[0][4]:>9}{seconds:>9.1f}{ratio:>9.2f}{busy:>7.0%}{processor:>16.2f}", flush=True)
    served = resource.getrusage(resource.RUSAGE_CHILDREN)
    print(f"processor time of all stand-ins: {served.ru_utime + served.ru_stime:.0f} s")
    print(f"most memory of this process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")


if __name__ == "__main__":
    main()
