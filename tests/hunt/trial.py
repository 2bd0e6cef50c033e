"""One run against one sound API."""

from __future__ import annotations

import json
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from checkpost.contract.reader import read_contract
from checkpost.engine.plan import plan
from checkpost.engine.run import run
from checkpost.engine.target import Target, understood
from checkpost.profile.credentials import Role
from checkpost.profile.profile import Profile
from checkpost.wire.session import Limits
from tests.hunt.api import BASE, SoundApi
from tests.hunt.faults import FAULTS
from tests.hunt.habits import drawn
from tests.simulation.clock import play
from tests.simulation.wire import Disk

NOBODY = Role("public", ())


@dataclass(frozen=True)
class Trial:
    """What a run against a sound API told: nothing, if all is well."""

    seed: int
    told: tuple[str, ...]
    passed: frozenset[str]
    requests: int
    seconds: float


def tried(seed: int, fault: str = "") -> Trial:
    """Run every check against the API of a seed: a sound one, unless a fault is named."""
    api, started = SoundApi(drawn(seed), seed), time.perf_counter()
    if fault:
        FAULTS[fault].install(api)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "contract.json"
        file.write_text(json.dumps(api.contract()), "utf-8")
        profile = Profile(Path(folder), contract=str(file), base_url=BASE)
        contract, model = understood(read_contract(str(file)), profile)
        target = Target(contract, model, BASE, NOBODY, profile, {}, "")
        planned = plan(target.model, (), (), "")
        result = play(
            run(target, planned, Limits(), seed, transport=api.answer, log=lambda name: Disk(), name=f"hunt-{seed:04d}")
        )
    told = [
        f"{each.severity} {each.check} {each.resource}: {each.title} | {each.expected} | {each.observed}"
        f" | {', '.join(each.subjects[:3])}"
        for each in result.findings
    ]
    told += [f"{each.check} {each.resource}: {each.reason}" for each in result.checks if "itself failed" in each.reason]
    told += [f"left {each.table} {each.key}: {each.why}" for each in result.left if each.certain]
    # what others change meanwhile is told as perhaps harmed, and rightly
    sure = [each for each in result.harmed if each.certain and not api.habits.others]
    told += [f"harmed {each.table} {each.key}: {each.how}" for each in sure]
    told += [f"{name}: rows are not as people left them" for name in api.rows if api.rows[name] != api.foreign[name]]
    passed = frozenset(each.check for each in result.checks if each.outcome == "passed")
    return Trial(seed, tuple(told), passed, api.sent, time.perf_counter() - started)
