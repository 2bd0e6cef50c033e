"""One run against one temperament, crashed at every boundary of its requests, and swept behind each crash."""

from __future__ import annotations

import asyncio
import json
import tempfile
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from random import Random
from unittest import mock

from checkpost.contract.reader import read_contract
from checkpost.engine.leftover import swept
from checkpost.engine.plan import plan
from checkpost.engine.run import Result, run
from checkpost.engine.target import Target, understood
from checkpost.profile.access import rights
from checkpost.profile.credentials import Credential, Role
from checkpost.profile.profile import Profile
from checkpost.rows.journal import Book, BookReader
from checkpost.rows.settle import Settlement
from checkpost.wire.session import Limits
from tests.simulation.api import BASE, ROLE, Api, Temper
from tests.simulation.clock import play
from tests.simulation.wire import LATE, TIMEOUT, Disk, Moment, Wire, amiss, resumed

ROLES = {name: Role(name, (Credential("header", ROLE, name),)) for name in ("maker", "keeper")}


@dataclass
class Trial:
    """What came of it: how many boundaries were crashed at (those between which nothing had changed are one moment,
    swept once), how many moments were swept, and what was amiss at which."""

    temper: Temper
    seed: int
    requests: int = 0
    boundaries: int = 0
    moments: int = 0
    amiss: list[str] = field(default_factory=list)
    result: Result | None = None


#: Where contracts stay while their lines may be asked for.
_KEPT = tempfile.TemporaryDirectory()


@cache
def target_of(temper: Temper) -> Target:
    folder = Path(tempfile.mkdtemp(dir=_KEPT.name))
    file = folder / "contract.json"
    file.write_text(json.dumps(Api(temper, 0).contract()), "utf-8")
    owned = {"crops": "note", "lots": "label"} if temper.apart else {}
    access = {(name, "keeper"): rights(f"all own {each}", "keeper") for name, each in owned.items()}
    profile = Profile(folder, contract=str(file), base_url=BASE, roles=ROLES, run_as="maker", access=access)
    contract, model = understood(read_contract(str(file)), profile)
    return Target(contract, model, BASE, ROLES["maker"], profile, {}, "")


def try_temper(
    temper: Temper, seed: int, families: Sequence[str] = (), most: int = 0, only: int | None = None
) -> Trial:
    """Run, and sweep every moment of it, or ``most`` of them drawn by seed, or the one with the number ``only``."""
    trial, api, target = Trial(temper, seed), Api(temper, seed), target_of(temper)
    disk = Disk()
    moments: dict[tuple[int, int, int], Moment] = {}
    met: Counter[tuple[int, int, int]] = Counter()

    def at(wire: Wire) -> None:
        state = (api.version, disk.synced, len(wire.pending))
        met[state] += 1
        if state not in moments:
            moments[state] = wire.moment(disk.synced, asyncio.get_running_loop().time())

    async def whole() -> Result:
        wire = Wire(api, seed, at)
        limits = Limits(TIMEOUT, 8, 500)
        actors = {name: {role: ""} for name, role in target.profile.access}
        planned = plan(target.model, families, (), "", actors=actors)
        name = f"simulated-{seed:04d}"
        result = await run(target, planned, limits, seed, transport=wire, log=lambda name: disk, name=name)
        trial.requests = wire.sent
        await asyncio.sleep(LATE)
        return result

    with mock.patch("os.getpid", return_value=10 ** (seed % 7)):  # its length is part of the journal's
        trial.result = play(whole())
    trial.amiss += [f"after the run: {each}" for each in amiss(api, trial.result.left)]
    ordered = sorted(moments.items(), key=lambda each: each[1].synced)
    chosen = set(range(len(ordered)))
    if only is not None:
        chosen = {only}
    elif most:
        chosen = set(Random(seed).sample(range(len(ordered)), min(most, len(ordered))))
    reader, read, text = BookReader(), 0, disk.upto(disk.synced)
    for number, (state, moment) in enumerate(ordered):
        reader.feed(text[read : moment.synced])
        read = moment.synced
        if number not in chosen:
            continue
        trial.moments += 1
        trial.boundaries += met[state]
        if moment.synced:  # before the journal is begun, nothing is written that could be left
            left = sweep_at(api, target, reader.book(), moment)
            trial.amiss += [f"crashed at moment {number}: {each}" for each in left]
        else:
            again = resumed(api, moment)
            trial.amiss += [f"crashed at moment {number}: {each}" for each in amiss(again, ())]
    return trial


def sweep_at(api: Api, target: Target, book: Book, moment: Moment) -> list[str]:
    """What is amiss after a crash at a moment and a sweep behind it."""
    again = resumed(api, moment)

    async def sweep() -> Settlement:
        wire = Wire(again, moment.synced)
        for each in moment.pending:
            wire.pending.append(each)
            asyncio.get_running_loop().call_later(each.due, wire._carry_out, each)
        settled = await swept(target, book, Disk(), TIMEOUT, transport=wire)
        await asyncio.sleep(LATE)
        return settled

    settled = play(sweep())
    return amiss(again, settled.left)
