"""Carrying out a plan: checks at once where none disturbs another, findings, and rows removed behind them."""

from __future__ import annotations

import asyncio
import contextlib
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
from checkpost.checks.conformance import CONFORMANCE, LOAD
from checkpost.checks.observe import Observed
from checkpost.checks.others import read_others
from checkpost.checks.registry import CHECKS, Blocked, Skipped
from checkpost.checks.world import WATCH, Watch, World
from checkpost.contract.contract import Contract
from checkpost.contract.validators import Validators
from checkpost.engine.addressing import readdress
from checkpost.engine.budget import UNLIMITED, Budget
from checkpost.engine.plan import Planned
from checkpost.engine.preflight import preflight
from checkpost.engine.schedule import Footprint, Work, carry_out
from checkpost.engine.target import Target
from checkpost.engine.works import works_of
from checkpost.errors import NotCompleted
from checkpost.findings import NOT_CHOSEN, CheckResult, Finding, Outcome
from checkpost.model.resource import Resource
from checkpost.rows.journal import FOLDER, Entry, FileLog, Journal, Log
from checkpost.rows.ledger import Ledger
from checkpost.rows.settle import Left, Settlement, settle
from checkpost.rows.table import Harm
from checkpost.wire.client import Client
from checkpost.wire.door import Unsafe
from checkpost.wire.exchange import Answer, Exchange, texts_in
from checkpost.wire.session import Limits, Session
from checkpost.wire.transport import Transport

if TYPE_CHECKING:
    from checkpost.database.behind import Behind
    from checkpost.database.contents import Compared


def _own_fault(error: Exception) -> str:
    """A sentence about an error that is Check Post's own, with the line where it happened."""
    import traceback

    frame = traceback.extract_tb(error.__traceback__)[-1]
    where = f"{frame.filename.rpartition('checkpost/')[2]}:{frame.lineno}"
    return f"Check Post itself failed here ({type(error).__name__}: {error}; {where}); please report it"


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
    #: Rows that were deleted and that the API keeps: by table, the parameter of its list that shows them, and how many.
    kept: Mapping[str, tuple[str, int]] = field(default_factory=dict)
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
        kept = Answer(told.status, told.headers, body, told.failure, told.detail)
        exchanges[of.number] = Exchange(of.number, of.check, of.request, kept, of.seconds, of.attempts, of.started)

    mark = f"cp{name[-4:]}{seed % 1000:03d}"
    async with Session(roles, target.environment, limits, keep, target.base_url, transport) as session:
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

        def used_up() -> str:
            return budget.used_up(len(exchanges), time.perf_counter() - clock)

        runner = _Runner(world, planned, progress, used_up)
        settled = Settlement()
        try:
            interrupted = await _until(runner.all(), stop)
            results = runner.results
            if world.readdressed and not interrupted:
                again = _Runner(world, await readdress(target, planned, world), progress, used_up, _MOST_ASKED)
                interrupted = await _until(again.all(), stop)
                anew = {each.resource for each in again.results}
                results = [each for each in results if each.resource not in anew] + again.results
            await _tell_of_lists(world)
        finally:
            if world.ledger is not None:
                settled = await tidy(world)
                purges = (each.purge for each in target.model.resources if each.name in settled.purged)
                world.exercised |= {(each.method, each.path) for each in purges if each is not None}
        compared = await _compared(world, settled.left)
    _tell_of_load(world)
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
        harmed=settled.harmed,
        held=world.held,
        compared=compared,
        kept={name: each for name, each in _kept(world).items() if name not in settled.purged},
        tokens=dict(session.tokens),
        observed=world.observed,
        interrupted=interrupted,
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


def _kept(world: World) -> dict[str, tuple[str, int]]:
    """The rows that were deleted and are kept, where the list can be asked for them."""
    if world.ledger is None:
        return {}
    rows = {name: len(world.ledger.made_keys(name) - world.ledger.own_keys(name)) for name in world.ledger.tables}
    kept = {name: state.kept for name, state in world.states.items() if state.kept}
    return {name: (parameter, rows[name]) for name, parameter in kept.items() if rows.get(name)}


async def _tell_of_lists(world: World) -> None:
    """Findings for lists that cannot be read any more, since a create failed that left a row behind."""
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
            "A create fails, and the list fails since",
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


def _record_known(world: World, resources: Sequence[Resource]) -> None:
    assert world.ledger is not None
    for resource in resources:
        before = world.state(resource.name).before
        if resource.name in world.above:
            world.ledger.journal.above(resource.name, world.above[resource.name])
        if before is not None:
            world.ledger.know(resource.name, before)


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


#: Checks under way at once, for each request that may be.
_CHECKS_AT_ONCE = 2
_NOT_AGAIN = "seen once, and not again: {titles}"
#: How often a check is asked at the most that finds something else each time.
_MOST_ASKED = 3
#: What is tried of the row that stays where the API removes none, one after the other.
_ON_ONE_ROW = frozenset({"update.each-field", "replace.stored"})
#: Families whose checks only read, or write to their own rows in ways that cannot reach others: those that find
#: something are asked again at no risk. What finds rows of others changed is not.
_READING = frozenset({"page", "filter", "sort", "select", "aggregate"})
#: Checks whose requests have to be under way at the same moment.
_AT_ONCE = frozenset({"concurrency.unique", "concurrency.fields"})
_READS_TOO = frozenset({"errors.bad-parameter"})


@dataclass
class _Asked:
    """What came of a check that is asked again: what it found, by title, each time, and how the API failed at first."""

    titles: list[tuple[str, ...]]
    failures: tuple[Finding, ...]


def _only_reads(planned: Planned) -> bool:
    """Whether a check may be asked again at no risk, so that what it finds has to come again."""
    check = planned.check
    return (check.family in _READING or check.name in _READS_TOO) and not check.gate and not check.per_role


class _Runner:
    """Asks the planned checks. What fails while other checks make rows in the same table is asked again, alone: what
    they do there may be what was seen. Where the API itself failed, or a list answered otherwise than it should,
    nothing else is under way then."""

    def __init__(
        self,
        world: World,
        planned: Sequence[Planned],
        progress: Progress,
        used_up: Callable[[], str] = lambda: "",
        turn: int = 0,
    ) -> None:
        """``used_up`` says why no more checks are to be begun, ``turn`` how often they may have been asked before, with
        values that are used now."""
        self.world, self.planned, self.progress, self.used_up, self.turn = world, planned, progress, used_up, turn
        self._results: dict[int, CheckResult] = {}
        self._first: dict[int, _Asked] = {}

    @property
    def results(self) -> list[CheckResult]:
        """How the checks went, in the plan's order."""
        return [self._results[number] for number in sorted(self._results)]

    async def all(self) -> None:
        for number, planned in enumerate(self.planned):
            if planned.reason:
                self._end(number, self._case(planned, 0), "skipped", planned.reason)
        most = _CHECKS_AT_ONCE * self.world.session.limits.concurrency
        await carry_out(works_of(self.world, self.planned), self._ask, most)

    def _case(self, planned: Planned, turn: int) -> Case:
        client = self.world.client(planned.resource)
        turn += self.turn
        return Case(self.world, planned.resource, planned.check, client, actor=planned.actor, turn=turn)

    async def _ask(self, work: Work, footprint: Footprint) -> Footprint | None:
        """Ask one check; how it has to have its tables to be asked again, if it has."""
        planned, number = self.planned[work.number], work.number
        state, first = self.world.state(planned.resource.name), self._first.get(number)
        case = self._case(planned, len(first.titles) if first is not None else 0)
        if first is None and (left_out := self.used_up()):
            self._end(number, case, "skipped", left_out)
            return None
        watch = Watch()
        WATCH.set(watch)
        started = time.perf_counter()
        found: list[Finding] = []
        outcome: Outcome = "passed"
        reason = ""
        calm = contextlib.AsyncExitStack()
        if first is not None and self._nothing_else(footprint):
            if first.failures:
                await self.world.session.renew()
            if _only_reads(planned) or (first.failures and planned.check.name not in _AT_ONCE):
                await calm.enter_async_context(self.world.session.one_by_one())
        try:
            self._refuse(planned)
            if first is not None and planned.check.family == "page":
                state.before = await case.listing()  # what pages are held against: others may have been at work
            async for finding in planned.check.function(case):
                found.append(finding)  # noqa: PERF401 - what comes before an exception counts
        except Skipped as skip:
            outcome, reason = "skipped", str(skip)
        except (Blocked, Unsafe) as block:
            outcome, reason = "blocked", str(block)
        except NotCompleted as error:  # a log-in that fails, say
            outcome, reason = "blocked", str(error)
        except Exception as error:  # a check that breaks must neither end the run nor pass
            outcome, reason = "blocked", _own_fault(error)
        finally:
            await calm.aclose()
        outcome = "failed" if found else outcome
        try:
            await case.clean()
        except NotCompleted as error:
            case.remark(str(error))
        except Exception as error:  # its rows are looked for at the end
            case.remark(_own_fault(error))
        failures = watch.failures
        shared = planned.check.creates and "own" in footprint.values() and outcome in {"failed", "blocked"}
        titles = tuple(dict.fromkeys(each.title for each in found if each.severity != "note"))
        before = {title for each in first.titles for title in each} if first is not None else set()
        reading = _only_reads(planned)
        new = reading and bool(titles) and not before & set(titles)
        # a connection may be closed by chance twice
        cut = first is not None and any(self._cut(each) for each in failures)
        left = _MOST_ASKED - 1 - (len(first.titles) if first is not None else 0)
        if (first is None and (shared or failures)) or ((new or cut) and left > 0):
            if first is None:
                first = self._first[number] = _Asked([], tuple(failures))
            elif cut:
                first.failures = tuple(each for each in first.failures if not self._cut(each)) + tuple(failures)
            first.titles.append(titles)
            case.unlearn()
            state.forget(planned.check.name)
            tables = [each.name for each in self.world.model.resources] if failures or new else footprint
            return dict.fromkeys(tables, "alone")
        if first is not None:
            # asked alone, a connection that ends has ended for the request on it, unless a failure went just before
            failures = [each for each in failures if self._failure(each) != "dropped"]
            again = {each.key for each in failures}
            for each in first.failures:
                if each.key not in again:
                    lasting = await self._fails_again(each, watch)
                    (failures if lasting else self.world.overloaded).append(each)
                    if not lasting and self._failed_write(each):
                        self.world.session.gentle = True
            if reading:
                found = [each for each in found if each.severity == "note" or each.title in before]
                outcome = "passed" if outcome == "failed" and not found else outcome
            once = before - {each.title for each in found}
            if once:
                case.remark(_NOT_AGAIN.format(titles=", ".join(sorted(once))))
        self.world.findings.add([*found, *failures])
        self._end(number, case, outcome, reason or "; ".join(case.remarks), time.perf_counter() - started)
        return None

    def _nothing_else(self, footprint: Footprint) -> bool:
        """Whether a check that uses tables so has all of them for itself."""
        return set(footprint) >= {each.name for each in self.world.model.resources} and {*footprint.values()} == {
            "alone"
        }

    def _cut(self, failure: Finding) -> bool:
        """Whether a connection was closed under a request."""
        return self._failure(failure) in {"closed", "dropped", "truncated"}

    def _failed_write(self, failure: Finding) -> bool:
        """Whether a request that may change rows was answered with a server error."""
        exchange = self.world.exchanges[failure.exchanges[0]]
        return not exchange.request.safe and exchange.answer.status >= 500

    def _failure(self, failure: Finding) -> str:
        return self.world.exchanges[failure.exchanges[0]].answer.failure

    async def _fails_again(self, failure: Finding, watch: Watch) -> bool:
        """Whether what failed, and did not when the check was asked again, fails with nothing else under way. Where the
        check did not come to ask it again, a read is sent once more, and a write is taken to fail."""
        first = self.world.exchanges[failure.exchanges[0]]
        request = first.request
        places = {(*operation, situation) for operation in failure.operations for situation in failure.subjects}
        if first.answer.status >= 500 and _names_a_value(first):
            return True
        if request.safe:
            answer = (await self.world.session.send(request, failure.check)).answer
            return bool(answer.failure) or answer.status >= 500
        ledger = self.world.ledger
        if ledger is not None and first.number in ledger.recovered:
            return False
        # a connection that is closed once, be it for an error before, is what connections do
        return not places & watch.asked and first.answer.status >= 500 and not self.world.session.gentle

    def _end(self, number: int, case: Case, outcome: Outcome, reason: str, seconds: float = 0.0) -> None:
        check, role = case.check, case.actor or self.world.role.name
        self._results[number] = CheckResult(
            check.name, check.family, case.resource.name, role, outcome, reason, case.requests, seconds
        )
        self.progress(len(self._results), len(self.planned), f"{case.resource.name} {check.name}")

    def _refuse(self, planned: Planned) -> None:
        """Raise Blocked if something that the check stands on has failed before, Skipped if the role may not
        do what it needs."""
        state, key = self.world.state(planned.resource.name), planned.resource.key
        other = self.world.readdressed.get(planned.resource.name)
        if other is not None and key is not None and key.fields != (other,):
            raise Skipped(f"its rows are found by {other}, with which it is asked anew")
        if state.may_not_read and "list" in planned.check.needs:
            raise Skipped(state.may_not_read)
        if state.may_not_create and planned.check.creates:
            raise Skipped(state.may_not_create)
        if state.unusable and "list" in planned.check.needs and planned.check.name != "read.list":
            raise Blocked(state.unusable)
        if self.world.session.gentle and planned.check.name in _AT_ONCE:
            raise Skipped("writes are sent one at a time, since several at once fail")
        if planned.check.creates and planned.check.name != "create.stored":
            if state.not_creatable:
                raise Blocked(state.not_creatable)
            stays = ledger.stuck(planned.resource.name) if (ledger := self.world.ledger) is not None else None
            if state.not_removable and (stays is None or planned.check.name not in _ON_ONE_ROW):
                raise Blocked(state.not_removable)


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


def _names_a_value(exchange: Exchange) -> bool:
    """Whether an answer quotes a text that was sent: what failed was that value, whatever else was under way."""
    sent = [value for value in texts_in(exchange.request.json) if len(value) >= 4]
    return any(value in said for said in texts_in(exchange.answer.json) for value in sent)


def _tell_of_load(world: World) -> None:
    """One finding for all that failed beside other requests and not by itself."""
    # a connection that was closed under a request, once, is what connections do
    closed = {"unreachable", "closed", "dropped", "truncated", "not-http"}
    met = [each for each in world.overloaded if world.exchanges[each.exchanges[0]].answer.failure not in closed]
    if not met:
        return
    numbers = [number for each in met for number in each.exchanges]
    told = ", ".join(f"{count} with {words}" for words, count in Counter(each.observed[:40] for each in met).items())
    world.findings.add(
        [
            replace(
                met[0],
                check=LOAD,
                family="errors",
                resource=None,
                severity="warning",
                basis="expectation",
                title="Requests fail while others are under way",
                expected=f"answers as good as one at a time, with {world.session.limits.concurrency} requests at once",
                observed=f"{len(numbers)} of {len(world.exchanges)} requests failed ({told}), and not when asked alone",
                cause="everywhere:load",
                operations=tuple(dict.fromkeys(place for each in met for place in each.operations)),
                subjects=tuple(dict.fromkeys(words for each in met for words in each.subjects)),
                exchanges=tuple(numbers[:3]),
                count=len(numbers),
                source=LOAD,
            )
        ]
    )


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
