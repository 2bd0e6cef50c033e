"""Carrying out a plan: what was there before, the checks, their findings, and rows removed behind them."""

from __future__ import annotations

import asyncio
import os
import time
from collections import Counter
from collections.abc import Callable, Coroutine, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import TYPE_CHECKING, Any

from checkpost.checks.case import Case
from checkpost.checks.conformance.observation import CONFORMANCE
from checkpost.checks.observe import Observed
from checkpost.checks.others import read_others
from checkpost.checks.registry import CHECKS
from checkpost.checks.twice import look_twice
from checkpost.checks.world import World
from checkpost.contract.contract import Contract
from checkpost.contract.validators import Validators
from checkpost.engine.addressing import readdress
from checkpost.engine.breakdown import Breakdown
from checkpost.engine.budget import UNLIMITED, Budget
from checkpost.engine.plan import Planned
from checkpost.engine.preflight import preflight
from checkpost.engine.runner import MOST_ASKED, Progress, Runner, tell_of_load
from checkpost.engine.target import Target
from checkpost.errors import NotCompleted
from checkpost.findings import NOT_CHOSEN, CheckResult, Finding, Outcome
from checkpost.model.resource import Resource
from checkpost.rows.journal import FOLDER, Entry, FileLog, Journal, Log
from checkpost.rows.ledger import Ledger
from checkpost.rows.settle import Left, Settlement, settle
from checkpost.rows.table import Harm
from checkpost.wire.client import Client
from checkpost.wire.exchange import Answer, Exchange
from checkpost.wire.session import Limits, Session
from checkpost.wire.transport import Transport

if TYPE_CHECKING:
    from checkpost.database.behind import Behind
    from checkpost.database.contents import Compared


@dataclass(frozen=True, repr=False)  # asyncio would write a whole run out where it hands signals back
class Result:
    """All that a run has found out. ``left`` names rows that stay, or may; ``harmed`` rows of others that requests of
    the run have reached."""

    run: str
    started: datetime
    seconds: float
    seed: int
    target: Target
    checks: tuple[CheckResult, ...]
    findings: tuple[Finding, ...]
    exchanges: tuple[Exchange, ...]
    not_exercised: tuple[tuple[str, str, str], ...]
    left: tuple[Left, ...]
    interrupted: bool
    harmed: tuple[Harm, ...] = ()
    held: int = 0
    #: How the database was behind the run, against how it was before it, where the profile names one.
    compared: Compared | None = None
    #: Rows that were deleted and are kept: by table, the parameter of its list or the path that shows them, or
    #: the operation that brings them back, and how many.
    kept: Mapping[str, tuple[str, int]] = field(default_factory=dict)
    #: Tokens that log-ins have given, by the name that stands for each.
    tokens: dict[str, str] = field(default_factory=dict)
    #: What was seen of roles, by resource and role, where a run was to look.
    observed: Mapping[tuple[str, str], Observed] = field(default_factory=dict)
    lines: dict[str, int] = field(default_factory=dict)


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
    transport: Transport | None = None,
    log: Callable[[str], Log] | None = None,
    name: str = "",
    budget: Budget = UNLIMITED,
) -> Result:
    """Carry out a plan and remove what it made. Setting ``stop`` ends it early, rows removed all the same.
    ``waiting`` are the rows that an earlier run has left; ``transport`` and ``log`` (by the run's name) take the place
    of the network and of the journal's file, ``name`` that of a new name; ``budget`` says how much may be asked.

    Raises CheckPostError or NotCompleted if the API cannot be worked with at all.
    """
    name, started, clock = name or new_run_name(), datetime.now(UTC), time.perf_counter()
    exchanges: dict[int, Exchange] = {}
    role = target.role
    roles = {**target.profile.roles, role.name: role}

    bodies: dict[bytes, bytes] = {}

    def keep(exchange: Exchange) -> None:
        # without what its body was parsed to, and each body once
        of, told = exchange, exchange.answer
        body = bodies.setdefault(told.body, told.body)
        kept = Answer(told.status, told.headers, body, told.failure, told.detail, told.on_the_wire)
        exchanges[of.number] = Exchange(of.number, of.check, of.request, kept, of.seconds, of.attempts, of.started)
        breakdown.note(exchanges[of.number])

    mark = f"cp{name[-4:]}{seed % 1000:03d}"
    async with Session(roles, target.environment, limits, keep, target.base_url, transport) as session:
        breakdown = Breakdown(session, lambda: _reads_harm_nobody(world))
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
            ledger=None,
            chosen=frozenset(each.resource.name for each in planned),
            exchanges=exchanges,
            waiting=waiting,
            access=target.profile.access,
            unexposed=target.profile.unexposed,
            behind=_behind(target, limits),
        )
        resources = list({each.resource.name: each.resource for each in planned}.values())
        if world.behind is not None:
            await world.behind.remember()
        await preflight(world, resources)
        for resource in resources:
            if resource.under and resource.name not in world.above:
                world.state(resource.name).unusable = f"no row of {resource.under} is there to look under"
                world.state(resource.name).not_creatable = f"no row of {resource.under} is there to make rows under"
        writes = any(each.check.creates and not each.reason for each in planned)
        if writes:
            world.ledger = _open_ledger(world, target, (log or _in_folder(target))(name), name)
            _record_known(world, resources)
        if world.chosen >= {each.name for each in target.model.resources} and _reads(planned):
            await read_others(world)

        async def used_up() -> str:
            return await breakdown.settled() or budget.used_up(len(exchanges), time.perf_counter() - clock)

        runner = Runner(world, planned, progress, used_up, breakdown.recovered)
        settled = Settlement()
        try:
            ends = [each for each in (stop, breakdown.over) if each is not None]
            ended = await _until(runner.all(), ends)
            runner.leave_out(await breakdown.settled())
            results = runner.results
            if world.readdressed and not ended:
                again = Runner(
                    world, await readdress(target, planned, world), progress, used_up, breakdown.recovered, MOST_ASKED
                )
                ended = await _until(again.all(), ends)
                again.leave_out(await breakdown.settled())
                anew = {each.resource for each in again.results}
                results = [each for each in results if each.resource not in anew] + again.results
            if not breakdown.why:
                await _tell_of_lists(world)
                await look_twice(world)
        finally:
            if world.ledger is not None:
                settled = await tidy(world)
                purges = (each.purge for each in target.model.resources if each.name in settled.purged)
                world.exercised |= {(each.method, each.path) for each in purges if each is not None}
        compared = await _compared(world, settled.left)
    breakdown.tell(world)
    tell_of_load(world)
    checks = results + _conformance(world, resources)
    asked = Counter(each.check for each in checks if each.outcome in {"passed", "failed"})
    world.findings.unite(asked.__getitem__)
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
        left=settled.left,
        harmed=(*settled.harmed, *world.harmed),
        held=world.held,
        compared=compared,
        kept={name: each for name, each in _kept(world, settled).items() if name not in settled.purged},
        tokens=dict(session.tokens),
        observed=world.observed,
        interrupted=ended and not breakdown.why,
        lines=_lines(target.contract, findings),
    )


def _behind(target: Target, limits: Limits) -> Behind | None:
    """The database that the profile names. Raises CheckPostError."""
    if target.profile.witness is None:
        return None
    from checkpost.database.behind import open_behind  # its library takes a while to load

    return open_behind(target.profile, target.model, target.environment, limits.rows)


async def _compared(world: World, left: Sequence[Left]) -> Compared | None:
    """How the database is behind the run, against how it was before it."""
    if world.behind is None:
        return None
    ledger = world.ledger
    made = {name: ledger.made_keys(name) for name in ledger.tables} if ledger is not None else {}
    try:
        return await world.behind.compared(made, [(each.table, each.key) for each in left])
    except NotCompleted as error:  # all else that was found is reported
        return world.behind.not_compared(str(error))
    finally:
        world.behind.database.close()


def _kept(world: World, settled: Settlement) -> dict[str, tuple[str, int]]:
    """The rows that were deleted and are kept, where the list can be asked for them."""
    if world.ledger is None:
        return {}
    left = {(each.table, each.key) for each in settled.left}
    left |= {(each.resource, each.named) for each in world.ledger.journal.entries() if each.held is not None}
    rows = {
        name: sum((name, key) not in left for key in world.ledger.made_keys(name)) - table.purged
        for name, table in world.ledger.tables.items()
    }
    kept = {name: state.kept for name, state in world.states.items() if state.kept}
    return {name: (parameter, rows[name]) for name, parameter in kept.items() if rows.get(name)}


async def _tell_of_lists(world: World) -> None:
    """Findings for lists that cannot be read any more, since a create left a row that the API cannot show."""
    if world.ledger is None:
        return
    for name in list(world.ledger.tables):
        await world.ledger.look_again(name)
    for name, made, looked in world.ledger.broken:
        resource = world.model.resource(name)
        if resource is None:
            continue
        case = Case(world, resource, CHECKS["create.rules"], world.client(resource))
        evidence = [world.exchanges[made], world.exchanges[looked]]
        found = case.finding(
            "error",
            "expectation",
            f"A create {'is accepted' if evidence[0].answer.ok else 'fails'}, and the list fails since",
            "the list as before",
            f"{evidence[1].answer.status}, since a create that answered {evidence[0].answer.status}",
            cause="any:list fails",
            purpose="list",
            evidence=evidence,
        )
        world.findings.add([found])


def _reads(planned: Sequence[Planned]) -> bool:
    """Whether a plan is to look at answers in general, and not at one ability alone."""
    return any(each.check.name == "read.list" and not each.reason for each in planned)


def _in_folder(target: Target) -> Callable[[str], Log]:
    return lambda name: FileLog(target.profile.folder / FOLDER / f"journal-{name}.jsonl")


def _open_ledger(world: World, target: Target, log: Log, name: str) -> Ledger:
    location = target.profile.contract or target.contract.location
    heading = {
        "run": name,
        "mark": world.mark,
        "process": os.getpid(),
        "base_url": target.base_url,
        "contract": location if "://" in location else str(Path(location).resolve()),
        "profile": str(target.profile.file.resolve()) if target.profile.file else None,
        "role": target.role.name,
        "credentials": [
            {"where": each.where, "name": each.name, "template": each.template, "encoded": each.encoded}
            for each in target.role.credentials
        ],
        "by_filter": target.profile.writes_by_filter,
    }

    def reach(table: str) -> Client | None:
        resource = world.model.resource(table)
        return world.plain_client(resource) if resource is not None else None

    journal = Journal.begin(log, heading)
    return Ledger(world.session, journal, world.mark, reach, world.most_rows, target.profile.writes_by_filter)


def _reads_harm_nobody(world: World) -> bool:
    """Whether no table is known whose rows change when they are read."""
    return not world.session.harmful


def _record_known(world: World, resources: Sequence[Resource]) -> None:
    assert world.ledger is not None
    for resource in resources:
        before = world.state(resource.name).before
        if resource.name in world.above:
            world.ledger.journal.above(resource.name, world.above[resource.name])
        if before is not None:
            world.ledger.know(resource.name, before)


async def _until(work: Coroutine[Any, Any, None], ends: Sequence[asyncio.Event]) -> bool:
    """Do the work until it is done or one of ``ends`` is set; whether it was stopped."""
    task = asyncio.create_task(work)
    waiting = [asyncio.create_task(each.wait()) for each in ends]
    await asyncio.wait({task, *waiting}, return_when=asyncio.FIRST_COMPLETED)
    for each in waiting:
        each.cancel()
    if task.done():
        task.result()
        return False
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    return True


async def tidy(world: World) -> Settlement:
    """Remove what is still there of the run's rows, look once more, and close the journal."""
    ledger = world.ledger
    assert ledger is not None

    def as_role(table: str, role: str) -> Client | None:
        resource = world.model.resource(table)
        return world.plain_client(resource, role) if resource is not None and world.session.usable(role) else None

    # the run's own role first, then the others whose rights may reach further
    await ledger.landed()
    # a request that had no answer was on its way for as long as it may take, and since
    timeout = world.session.limits.timeout
    age = timeout + asyncio.get_running_loop().time() - ledger.unclear_at
    settled = await settle(ledger, as_role, [world.role.name, *world.roles], timeout, age)
    ledger.journal.finish()
    return settled


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
    found = []
    for finding in world.findings.all():
        if not finding.reproduce and finding.exchanges:
            exchange = world.exchanges.get(finding.exchanges[0])
            if exchange is not None:
                finding = replace(finding, reproduce=world.script([exchange]))
        found.append(finding)
    return found


def _not_exercised(target: Target, world: World, chosen: Sequence[Resource]) -> list[tuple[str, str, str]]:
    usual = f"nothing is written: {target.no_writes}" if target.no_writes else "no check reached it"
    asked = {each for resource in chosen for each in _own_operations(resource)}
    reasons = {
        each: NOT_CHOSEN
        for resource in target.model.resources
        for each in _own_operations(resource)
        if each not in asked
    }
    # where some were chosen, what belongs to none counts if it stands under one of them
    heads = tuple((each.collection or each.item or "").rstrip("/") + "/" for each in chosen)
    every = len(chosen) == len(target.model.resources)
    reasons |= {
        (operation.method, operation.path): why if every or operation.path.startswith(heads) else NOT_CHOSEN
        for operation, why in target.model.others
    }
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
