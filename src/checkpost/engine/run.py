"""Carrying out a plan: resources side by side, checks of one resource one after the other."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Callable, Coroutine, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from random import Random
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.conformance import CONFORMANCE
from checkpost.checks.observe import Observed
from checkpost.checks.registry import HOLD, Blocked, Skipped
from checkpost.checks.world import World
from checkpost.contract.contract import Contract
from checkpost.contract.validators import Validators
from checkpost.engine.plan import Planned
from checkpost.engine.preflight import preflight
from checkpost.engine.target import Target
from checkpost.findings import CheckResult, Finding, Outcome
from checkpost.model.resource import Resource
from checkpost.wire.client import Client, Unsafe
from checkpost.wire.curl import curl
from checkpost.wire.exchange import Exchange
from checkpost.wire.journal import FOLDER, Entry, Journal
from checkpost.wire.listing import Key, Row
from checkpost.wire.session import Limits, Session
from checkpost.wire.strays import marked
from checkpost.wire.sweep import sweep


def _own_fault(error: Exception) -> str:
    """A sentence about an error that is Check Post's own, with the line where it happened."""
    import traceback

    frame = traceback.extract_tb(error.__traceback__)[-1]
    where = f"{frame.filename.rpartition('checkpost/')[2]}:{frame.lineno}"
    return f"Check Post itself failed here ({type(error).__name__}: {error}; {where}); please report it"


@dataclass(frozen=True, repr=False)  # asyncio would write a whole run out where it hands signals back
class Result:
    """All that a run has found out. ``left`` names rows that could not be removed."""

    run: str
    started: datetime
    seconds: float
    seed: int
    target: Target
    checks: tuple[CheckResult, ...]
    findings: tuple[Finding, ...]
    exchanges: tuple[Exchange, ...]
    not_exercised: tuple[tuple[str, str, str], ...]
    left: tuple[str, ...]
    interrupted: bool
    held: int = 0
    #: Tokens that log-ins have given, by the name that stands for each.
    tokens: dict[str, str] = field(default_factory=dict)
    #: What was seen of roles, by resource and role, where a run was to look.
    observed: Mapping[tuple[str, str], Observed] = field(default_factory=dict)
    lines: dict[str, int] = field(default_factory=dict)


#: Told of progress: checks done, checks in all, what was done last.
Progress = Callable[[int, int, str], None]


def new_run_name() -> str:
    """A name for a run that sorts by time: its start (UTC) and four letters against chance."""
    letters = "".join(Random().choice("abcdefghijkmnpqrstuvwxyz") for _ in range(4))
    return datetime.now(UTC).strftime("%Y%m%d-%H%M%S-") + letters


async def run(
    target: Target,
    planned: Sequence[Planned],
    limits: Limits,
    seed: int,
    progress: Progress = lambda done, total, label: None,
    stop: asyncio.Event | None = None,
    waiting: Sequence[Entry] = (),
) -> Result:
    """Carry out a plan and remove what it made. Setting ``stop`` ends it early, rows removed all the same.
    ``waiting`` are the rows that an earlier run has left.

    Raises CheckPostError or NotCompleted if the API cannot be worked with at all.
    """
    name, started, clock = new_run_name(), datetime.now(UTC), time.perf_counter()
    exchanges: dict[int, Exchange] = {}
    role = target.role
    roles = {**target.profile.roles, role.name: role}

    def keep(exchange: Exchange) -> None:
        exchanges[exchange.number] = exchange

    mark = f"cp{name[-4:]}{seed % 1000:03d}"
    async with Session(roles, target.environment, limits, keep, target.base_url) as session:
        world = World(
            contract=target.contract,
            model=target.model,
            validators=Validators(target.contract),
            session=session,
            base_url=target.base_url,
            roles=roles,
            role=role,
            seed=seed,
            mark=mark,
            journal=None,
            chosen=frozenset(each.resource.name for each in planned),
            exchanges=exchanges,
            waiting=waiting,
            access=target.profile.access,
            unexposed=target.profile.unexposed,
        )
        resources = list({each.resource.name: each.resource for each in planned}.values())
        await preflight(world, resources)
        for resource in resources:
            if resource.under and resource.name not in world.above:
                world.state(resource.name).unusable = f"no row of {resource.under} is there to look under"
                world.state(resource.name).not_creatable = f"no row of {resource.under} is there to make rows under"
        writes = any(each.check.creates and not each.reason for each in planned)
        if writes:
            world.journal = _open_journal(target, name, mark)
            _record_known(world, resources)
        runner = _Runner(world, planned, progress)
        left: list[str] = []
        try:
            interrupted = await _until(runner.all(resources), stop)
        finally:
            if world.journal is not None:
                left = await tidy(world)
    world.findings.unite()
    checks = runner.results + _conformance(world, resources)
    findings = _with_scripts(world)
    return Result(
        run=name,
        started=started,
        seconds=time.perf_counter() - clock,
        seed=seed,
        target=target,
        checks=tuple(checks),
        findings=tuple(findings),
        exchanges=tuple(exchanges[number] for number in sorted(exchanges)),
        not_exercised=tuple(_not_exercised(target, world, resources)),
        left=tuple(left),
        held=world.held,
        tokens=dict(session.tokens),
        observed=world.observed,
        interrupted=interrupted,
        lines=_lines(target.contract, findings),
    )


def _open_journal(target: Target, name: str, mark: str) -> Journal:
    heading = {
        "run": name,
        "mark": mark,
        "process": os.getpid(),
        "base_url": target.base_url,
        "contract": target.profile.contract,
        "profile": str(target.profile.file) if target.profile.file else None,
        "role": target.role.name,
        "credentials": [
            {"where": each.where, "name": each.name, "template": each.template, "encoded": each.encoded}
            for each in target.role.credentials
        ],
    }
    return Journal(target.profile.folder / FOLDER / f"journal-{name}.jsonl", heading)


def _record_known(world: World, resources: Sequence[Resource]) -> None:
    assert world.journal is not None
    for resource in resources:
        before = world.state(resource.name).before
        if resource.name in world.above:
            world.journal.above(resource.name, world.above[resource.name])
        if before is not None and "create" in resource.operations:
            world.journal.known(resource.name, before.by_key, before.complete)


async def _until(work: Coroutine[Any, Any, None], stop: asyncio.Event | None) -> bool:
    """Do the work until it is done or ``stop`` is set; whether it was stopped."""
    task = asyncio.create_task(work)
    if stop is None:
        await task
        return False
    waiting = asyncio.create_task(stop.wait())
    await asyncio.wait({task, waiting}, return_when=asyncio.FIRST_COMPLETED)
    waiting.cancel()
    if task.done():
        task.result()
        return False
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    return True


#: The family whose checks make rows of several resources.
_SEVERAL = "relate"


class _Runner:
    def __init__(self, world: World, planned: Sequence[Planned], progress: Progress) -> None:
        self.world, self.planned, self.progress = world, planned, progress
        self.results: list[CheckResult] = []

    async def all(self, resources: Sequence[Resource]) -> None:
        """Resources side by side; then what looks at several of them at once, while nothing is written; then,
        one after the other, what makes rows of several."""
        alone = [each for each in self.planned if each.check.family not in {_SEVERAL, HOLD} and not each.check.per_role]
        others = [each for each in self.planned if each.check.per_role]
        seeing, trying = [[each for each in others if each.check.creates == made] for made in (False, True)]
        several = [each for each in self.planned if each.check.family == _SEVERAL]
        held = [each for each in self.planned if each.check.family == HOLD]
        looking, making = [[each for each in several if each.check.creates == made] for made in (False, True)]
        await asyncio.gather(*(self._resource(resource, alone) for resource in resources))
        await asyncio.gather(*(self._resource(resource, looking) for resource in resources))
        # what a role is shown in lists first: where that is wrong already, no way round it is looked for
        for name in dict.fromkeys(each.check.name for each in seeing):
            same = [each for each in seeing if each.check.name == name]
            await asyncio.gather(*(self._resource(resource, same) for resource in resources))
        for resource in resources:
            await self._resource(resource, [*making, *trying])
        for resource in resources:
            await self._resource(resource, held)

    async def _resource(self, resource: Resource, chosen: Sequence[Planned]) -> None:
        for planned in chosen:
            if planned.resource is resource:
                await self._check(planned)
                self.progress(len(self.results), len(self.planned), f"{resource.name} {planned.check.name}")

    async def _check(self, planned: Planned) -> None:
        check, resource = planned.check, planned.resource
        case = Case(self.world, resource, check, self.world.client(resource), actor=planned.actor)
        started = time.perf_counter()
        outcome: Outcome = "passed"
        reason = planned.reason
        if reason:
            outcome = "skipped"
        else:
            try:
                self._refuse(planned)
                async for finding in check.function(case):
                    outcome = "failed"
                    self.world.findings.add([finding])
            except Skipped as skip:
                outcome, reason = ("failed" if outcome == "failed" else "skipped"), str(skip)
            except (Blocked, Unsafe) as block:
                outcome, reason = ("failed" if outcome == "failed" else "blocked"), str(block)
            except Exception as error:  # a check that breaks must neither end the run nor pass
                outcome, reason = "blocked", _own_fault(error)
            await case.clean()
            reason = reason or "; ".join(case.remarks)
        self.results.append(
            CheckResult(
                check.name,
                check.family,
                resource.name,
                planned.actor or self.world.role.name,
                outcome,
                reason,
                case.requests,
                time.perf_counter() - started,
            )
        )

    def _refuse(self, planned: Planned) -> None:
        """Raise Blocked if something that the check stands on has failed before, Skipped if the role may not
        do what it needs."""
        state = self.world.state(planned.resource.name)
        if state.may_not_read and "list" in planned.check.needs:
            raise Skipped(state.may_not_read)
        if state.may_not_create and planned.check.creates:
            raise Skipped(state.may_not_create)
        if state.unusable and "list" in planned.check.needs and planned.check.name != "read.list":
            raise Blocked(state.unusable)
        if planned.check.creates and planned.check.name != "create.stored":
            if state.not_creatable:
                raise Blocked(state.not_creatable)
            if state.not_removable:
                raise Blocked(state.not_removable)


async def tidy(world: World) -> list[str]:
    """Remove what is still there of the run's rows, look once more, and close the journal; names of rows
    that are left."""
    journal = world.journal
    assert journal is not None
    clients = {
        each.name: Client(world.session, world.base_url, each, world.role.name, within=world.within(each))
        for each in world.model.resources
    }
    known = {name: tuple(state.before.by_key) for name, state in world.states.items() if state.before is not None}
    passing = [each for each in journal.entries() if each.held is None]
    await sweep(clients, passing, known, world.mark, world.most_rows, lambda entry: journal.gone(entry.number))
    for name, state in world.states.items():
        resource = world.model.resource(name)
        if not state.created or resource is None:
            continue
        still_open = {entry.key for entry in journal.entries(name)}
        for key, row in (await _still_there(clients[name], state.created, world.mark)).items():
            if key not in still_open:
                journal.created(journal.intend(name, row, key), key)
    left = [_named(entry) for entry in journal.entries() if entry.held is None]
    journal.finish()
    return left


async def _still_there(client: Client, created: set[Key], mark: str) -> dict[Key, Row]:
    """The rows that are listed under keys of the run and bear its mark: without it, a row may be somebody
    else's that was given the key of a deleted one."""
    if "list" not in client.resource.operations:
        return {}
    listing = await client.whole_list(client.session.limits.rows, "tidy")
    return {key: row for key, row in listing.by_key.items() if key in created and marked(row, mark)}


def _named(entry: Entry) -> str:
    key = "/".join(map(str, entry.key)) if entry.key else "key unknown"
    return f"{entry.resource} {key}"


def _conformance(world: World, resources: Sequence[Resource]) -> list[CheckResult]:
    """The outcome of the checks that every answer goes through, resource by resource."""
    failed = {(each.check, each.resource) for each in world.findings.by_key.values()}
    undocumented = {
        operation
        for each in world.findings.by_key.values()
        if each.check == "errors.documented"
        for operation in each.operations
    }
    results = []
    for resource in resources:
        answers = world.state(resource.name).answers
        own = {(each.method, each.path) for each in resource.operations.values()}
        for name in CONFORMANCE:
            family = name.partition(".")[0]
            number = answers.get("refusal" if family == "errors" else "answer", 0)
            bad = (name, resource.name) in failed or (name == "errors.documented" and bool(own & undocumented))
            outcome: Outcome = "failed" if bad else ("passed" if number else "skipped")
            reason = "" if number or bad else "no such answer was met"
            results.append(CheckResult(name, family, resource.name, world.role.name, outcome, reason, 0, 0.0))
    return results


def _with_scripts(world: World) -> list[Finding]:
    """The findings, each with a command that reproduces it."""
    from dataclasses import replace

    found = []
    for finding in world.findings.all():
        if not finding.reproduce and finding.exchanges:
            exchange = world.exchanges.get(finding.exchanges[0])
            if exchange is not None:
                finding = replace(finding, reproduce=curl(exchange.request, world.roles.get(exchange.request.role)))
        found.append(finding)
    return found


def _not_exercised(target: Target, world: World, chosen: Sequence[Resource]) -> list[tuple[str, str, str]]:
    usual = f"nothing is written: {target.no_writes}" if target.no_writes else "no check reached it"
    asked = {each for resource in chosen for each in _own_operations(resource)}
    reasons = {
        each: "its resource was not chosen"
        for resource in target.model.resources
        for each in _own_operations(resource)
        if each not in asked
    }
    reasons |= {(operation.method, operation.path): why for operation, why in target.model.others}
    return [
        (operation.method, operation.path, reasons.get((operation.method, operation.path), usual))
        for operation in target.contract.operations
        if (operation.method, operation.path) not in world.exercised
    ]


def _own_operations(resource: Resource) -> set[tuple[str, str]]:
    """A resource's operations by method and path, its aggregates' among them."""
    own = {(each.method, each.path) for each in resource.every_operation}
    aggregating = resource.queries.aggregating
    return own | ({("GET", aggregating.path)} if aggregating else set())


def _lines(contract: Contract, findings: Sequence[Finding]) -> dict[str, int]:
    """The line in the contract of each finding that names a place, by the finding's id."""
    places = {finding.id: finding.place for finding in findings if finding.place is not None}
    known = contract.library.lines(list(places.values()))
    return {name: known[place][0] for name, place in places.items()}
