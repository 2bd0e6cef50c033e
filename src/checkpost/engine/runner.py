"""Asking the planned checks: at once where none disturbs another, and again where what was seen may be for others."""

from __future__ import annotations

import contextlib
import re
import time
from collections import Counter
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, replace

from checkpost.checks.case import Case
from checkpost.checks.conformance.observation import LOAD
from checkpost.checks.registry import Blocked, Skipped
from checkpost.checks.removal import clean
from checkpost.checks.standing import standing_on_own
from checkpost.checks.world import WATCH, Watch, World
from checkpost.engine.plan import Planned
from checkpost.engine.schedule import Footprint, Work, carry_out
from checkpost.engine.works import AT_ONCE, works_of
from checkpost.errors import NotCompleted
from checkpost.findings import CheckResult, Finding, Outcome
from checkpost.wire.door import Unsafe
from checkpost.wire.exchange import Exchange, texts_in

#: Told of progress: checks done, checks in all, what was done last.
Progress = Callable[[int, int, str], None]
#: Checks under way at once, for each request that may be.
_CHECKS_AT_ONCE = 2
_NOT_AGAIN = "seen once, and not again: {titles}"
#: How often a check is asked at the most that finds something else each time.
MOST_ASKED = 3
#: What can be asked of changes where none is accepted.
_WITHOUT_CHANGE = frozenset({"update.each-field", "update.missing-key", "replace.stored", "replace.missing-key"})
#: What is tried of the row that stays where the API removes none, one after the other.
_ON_ONE_ROW = frozenset({"update.each-field", "replace.stored"})
#: Families whose checks only read, or write to their own rows in ways that cannot reach others: those that find
#: something are asked again at no risk. What finds rows of others changed is not.
_READING = frozenset({"page", "filter", "sort", "select", "aggregate"})
#: What failures say that come of other requests under way, whatever value they quote beside.
_OF_LOAD = re.compile(
    r"\b(?:database (?:table )?is locked|deadlock|lock wait|could not (?:serialize|obtain)"
    r"|too many (?:connections|clients)|connection pool|pool (?:limit|exhausted)|remaining connection slots"
    r"|under (?:pressure|(?:heavy|high) load)|overloaded|(?:server|service) is (?:too )?busy)\b",
    re.I,
)
_READS_TOO = frozenset({"errors.bad-parameter"})


@dataclass
class _Asked:
    """What came of a check that is asked again: what it found, by title, each time, and how the API failed and what was
    found at first."""

    titles: list[tuple[str, ...]]
    failures: tuple[Finding, ...]
    found: tuple[Finding, ...] = ()


def _only_reads(planned: Planned) -> bool:
    """Whether a check may be asked again at no risk, so that what it finds has to come again."""
    check = planned.check
    return (check.family in _READING or check.name in _READS_TOO) and not check.gate and not check.per_role


async def _never() -> str:
    """The answer that a run may go on."""
    return ""


class Runner:
    """Asks the planned checks. What fails while other checks make rows in the same table is asked again, alone: what
    they do there may be what was seen. Where the API itself failed, or a list answered otherwise than it should,
    nothing else is under way then."""

    def __init__(
        self,
        world: World,
        planned: Sequence[Planned],
        progress: Progress,
        used_up: Callable[[], Awaitable[str]] = _never,
        recovered: Callable[[], Awaitable[object]] = _never,
        turn: int = 0,
    ) -> None:
        """``used_up`` says why no more checks are to be begun, ``recovered`` waits for an API that did not answer in
        time, ``turn`` is how often they may have been asked before, with values that are used now."""
        self.world, self.planned, self.progress, self.turn = world, planned, progress, turn
        self.used_up, self.recovered = used_up, recovered
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

    def leave_out(self, reason: str) -> None:
        """Say of what was not asked, or not to the end, why; of nothing where there is no reason."""
        for number, planned in enumerate(self.planned if reason else ()):
            if number not in self._results:
                self._end(number, self._case(planned, 0), "skipped", reason)

    def _case(self, planned: Planned, turn: int) -> Case:
        client = self.world.client(planned.resource)
        turn += self.turn
        return Case(self.world, planned.resource, planned.check, client, actor=planned.actor, turn=turn)

    async def _ask(self, work: Work, footprint: Footprint) -> Footprint | None:
        """Ask one check; how it has to have its tables to be asked again, if it has."""
        planned, number = self.planned[work.number], work.number
        state, first = self.world.state(planned.resource.name), self._first.get(number)
        case = self._case(planned, len(first.titles) if first is not None else 0)
        if first is None and (left_out := await self.used_up()):
            self._end(number, case, "skipped", left_out)
            return None
        watch = Watch()
        WATCH.set(watch)
        started = time.perf_counter()
        found: list[Finding] = []
        outcome: Outcome = "passed"
        reason = ""
        unmendable = self.world.unmendable
        calm = contextlib.AsyncExitStack()
        if first is not None and self._nothing_else(footprint):
            if first.failures:
                await self.world.session.renew()
            if any(self._failure(each) == "timeout" for each in first.failures):
                await self.recovered()
            if _only_reads(planned) or (first.failures and planned.check.name not in AT_ONCE):
                await calm.enter_async_context(self.world.session.pace.alone())
        try:
            self._refuse(planned)
            if first is not None and planned.check.family == "page":
                state.before = await case.listing()  # what pages are held against: others may have been at work
            async with standing_on_own(case):
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
            await clean(case)
        except NotCompleted as error:
            case.remark(str(error))
        except Exception as error:  # its rows are looked for at the end
            case.remark(_own_fault(error))
        failures = watch.failures
        # what makes the first rows of a table has that for itself
        shared = planned.check.creates and not planned.check.gate and "own" in footprint.values()
        shared = shared and outcome in {"failed", "blocked"}
        # what has left a row that nobody can mend is not done twice
        shared = shared and self.world.unmendable == unmendable
        titles = tuple(dict.fromkeys(each.title for each in found if each.severity != "note"))
        before = {title for each in first.titles for title in each} if first is not None else set()
        reading = _only_reads(planned)
        new = reading and bool(titles) and not before & set(titles)
        # a connection may be closed by chance twice
        cut = first is not None and any(self._cut(each) for each in failures)
        # what failed while others were at work, though its own tables had been left to it
        beside = first is not None and bool(failures) and not self._nothing_else(footprint)
        left = MOST_ASKED - 1 - (len(first.titles) if first is not None else 0)
        if (first is None and (shared or failures)) or ((new or cut or beside) and left > 0):
            if first is None:
                first = self._first[number] = _Asked([], tuple(failures), tuple(found))
            elif cut or beside:
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
            busy = [each for each in failures if self._is_busy(each)]
            self.world.overloaded += busy
            failures = [each for each in failures if each not in busy]
            for each in first.failures:
                if each.key not in again:
                    lasting = await self._fails_again(each, watch)
                    (failures if lasting else self.world.overloaded).append(each)
                    if not lasting and self._of_a_write(each):
                        self.world.session.gentle = True
            if outcome == "blocked" and first.found and self._no_more_rows(planned):
                found, outcome = list(first.found), "failed"  # what was seen is why it cannot be asked again
            if reading:
                found = [each for each in found if each.severity == "note" or each.title in before]
                outcome = "passed" if outcome == "failed" and not found else outcome
            once = before - {each.title for each in found}
            if once:
                case.remark(_NOT_AGAIN.format(titles=", ".join(sorted(once))))
        self.world.findings.add([*found, *failures])
        self._end(number, case, outcome, reason or "; ".join(case.remarks), time.perf_counter() - started)
        return None

    def _no_more_rows(self, planned: Planned) -> bool:
        """Whether no rows can be made in a table any more, since one cannot be shown."""
        ledger = self.world.ledger
        return ledger is not None and bool(ledger.table(planned.resource.name).broken)

    def _nothing_else(self, footprint: Footprint) -> bool:
        """Whether a check that uses tables so has all of them for itself."""
        return set(footprint) >= {each.name for each in self.world.model.resources} and {*footprint.values()} == {
            "alone"
        }

    def _cut(self, failure: Finding) -> bool:
        """Whether a connection was closed under a request."""
        return self._failure(failure) in {"closed", "dropped", "truncated"}

    def _of_a_write(self, failure: Finding) -> bool:
        """Whether a request that may change rows, or one beside it, was answered with a server error, or not in
        time."""
        exchange = self.world.exchanges[failure.exchanges[0]]
        failed = exchange.answer.status >= 500 or exchange.answer.failure == "timeout"
        return failed and (not exchange.request.safe or any(not each.request.safe for each in self._beside(exchange)))

    def _is_busy(self, failure: Finding) -> bool:
        """Whether a request was put off for now (503; RFC 9110, 15.6.4) by an operation that is answered at other
        times: what keeps the API busy need not be this run."""
        exchange = self.world.exchanges[failure.exchanges[0]]
        return exchange.answer.status == 503 and any(each in self.world.served for each in failure.operations)

    def _beside(self, exchange: Exchange) -> list[Exchange]:
        """What was under way at the same moment."""
        reach = 2 * self.world.session.limits.concurrency
        numbers = range(exchange.number - reach, exchange.number + reach)
        near = [self.world.exchanges[each] for each in numbers if each in self.world.exchanges]
        ended = exchange.started + exchange.seconds
        return [each for each in near if each.started < ended and each.started + each.seconds > exchange.started]

    def _failure(self, failure: Finding) -> str:
        return self.world.exchanges[failure.exchanges[0]].answer.failure

    async def _fails_again(self, failure: Finding, watch: Watch) -> bool:
        """Whether what failed, and did not when the check was asked again, fails with nothing else under way. Where the
        check did not come to ask it again, a read is sent once more, and a write is taken to fail."""
        first = self.world.exchanges[failure.exchanges[0]]
        request = first.request
        places = {(*operation, situation) for operation in failure.operations for situation in failure.subjects}
        of_load = bool(_OF_LOAD.search(first.answer.text))
        if first.answer.status >= 500 and _names_a_value(first) and not of_load:
            return True
        if first.check in AT_ONCE and first.answer.status >= 500 and _TAKEN.search(first.answer.text):
            return True  # of one value at the same moment that is what was asked, and no load
        if request.safe:
            answer = (await self.world.session.send(request, failure.check)).answer
            # where a connection ended, and the request is answered now, that it is an error is another finding
            return bool(answer.failure) or (answer.status >= 500 and not first.answer.failure)
        ledger = self.world.ledger
        if (ledger is not None and first.number in ledger.recovered) or self._is_busy(failure):
            return False
        # a connection that is closed once, be it for an error before, is what connections do
        sure = first.answer.status >= 500 and not of_load
        return not places & watch.asked and sure and not self.world.session.gentle

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
        if planned.resource.under and planned.resource.name not in self.world.above:
            raise Blocked(state.unusable)
        other = self.world.readdressed.get(planned.resource.name)
        if other is not None and key is not None and key.fields != (other,):
            raise Skipped(f"its rows are found by {other}, with which it is asked anew")
        if state.may_not_read and "list" in planned.check.needs:
            raise Skipped(state.may_not_read)
        if state.may_not_create and planned.check.creates:
            raise Skipped(state.may_not_create)
        if state.unusable and "list" in planned.check.needs and planned.check.name != "read.list":
            raise Blocked(state.unusable)
        if self.world.session.gentle and planned.check.name in AT_ONCE:
            raise Skipped("writes are sent one at a time, since several at once fail")
        refused = {"update": state.not_changeable, "replace": state.not_replaceable}.get(planned.check.family)
        if refused and planned.check.name not in _WITHOUT_CHANGE:
            raise Blocked(refused)
        if planned.check.creates and planned.check.name != "create.stored":
            if state.not_creatable:
                raise Blocked(state.not_creatable)
            stays = ledger.stuck(planned.resource.name) if (ledger := self.world.ledger) is not None else None
            if state.not_removable and (stays is None or planned.check.name not in _ON_ONE_ROW):
                raise Blocked(state.not_removable)


#: What an API says of a value that another row has.
_TAKEN = re.compile(r"\bduplicate\b|\bunique\b|\balready (?:exists|taken|in use)\b", re.I)


def _names_a_value(exchange: Exchange) -> bool:
    """Whether an answer quotes a text that was sent: what failed was that value, whatever else was under way."""
    sent = [value for value in texts_in(exchange.request.json) if len(value) >= 4]
    return any(value in said for said in texts_in(exchange.answer.json) for value in sent)


def _beside_a_broken_list(world: World, exchange: Exchange) -> bool:
    """Whether a request was sent while a list could not be read for a row that a create had left."""
    if world.ledger is None:
        return False
    spans = [(world.exchanges[made], world.exchanges[looked]) for _, made, looked in world.ledger.broken]
    return any(made.started <= exchange.started <= looked.started + looked.seconds for made, looked in spans)


def tell_of_load(world: World) -> None:
    """One finding for all that failed beside other requests and not by itself."""
    # a connection that was closed under a request, once, is what connections do
    closed = {"unreachable", "closed", "dropped", "truncated", "not-http"}
    met = [each for each in world.overloaded if world.exchanges[each.exchanges[0]].answer.failure not in closed]
    met = [each for each in met if not _beside_a_broken_list(world, world.exchanges[each.exchanges[0]])]
    if not met:
        return
    numbers = [number for each in met for number in each.exchanges]
    since = "; writes were sent one at a time from then on" if world.session.gentle else ""
    if (fewer := world.session.pace.at_once) < world.session.limits.concurrency:
        since += f"; {fewer} at once were sent in the end"
    told = ", ".join(f"{count} with {words}" for words, count in Counter(each.observed[:40] for each in met).items())
    observed = f"{len(numbers)} of {len(world.exchanges)} requests failed ({told}), and not when asked alone"
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
                observed=f"{observed}{since}",
                cause="everywhere:load",
                operations=tuple(dict.fromkeys(place for each in met for place in each.operations)),
                subjects=tuple(dict.fromkeys(words for each in met for words in each.subjects)),
                exchanges=tuple(numbers[:3]),
                count=len(numbers),
                source=LOAD,
            )
        ]
    )


def _own_fault(error: Exception) -> str:
    """A sentence about an error that is Check Post's own, with the line where it happened."""
    import traceback

    frame = traceback.extract_tb(error.__traceback__)[-1]
    where = f"{frame.filename.rpartition('checkpost/')[2]}:{frame.lineno}"
    return f"Check Post itself failed here ({type(error).__name__}: {error}; {where}); please report it"
