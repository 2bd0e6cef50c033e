"""Planning, running and ending a run: reasons, gates, interruptions, faults of Check Post's own."""

from __future__ import annotations

import asyncio
import json
import tempfile
import unittest
from collections.abc import AsyncIterator, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

from checkpost.checks.case import Case
from checkpost.checks.order import all_checks
from checkpost.checks.registry import CHECKS, HOLD, OBSERVE, Blocked
from checkpost.checks.world import Watch
from checkpost.demo.description import describe
from checkpost.demo.seedbank import TABLES
from checkpost.demo.server import InProcess
from checkpost.engine.plan import plan
from checkpost.engine.run import Result, run
from checkpost.engine.runner import Runner
from checkpost.engine.target import aim
from checkpost.errors import CheckPostError
from checkpost.findings import Finding
from checkpost.model.correction import Correction
from checkpost.model.infer import infer
from checkpost.profile.profile import Profile
from checkpost.rows.journal import Journal, journals
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.session import Limits, Session
from tests.direct import Direct
from tests.support import CURATOR, ENVIRONMENT, contract_of, fetch, not_told, run_on_stand_in

MODEL = infer(contract_of(describe(TABLES, "http://127.0.0.1/v1")))


class Plans(unittest.TestCase):
    def reasons(self, **options: Any) -> dict[tuple[str, str], str]:
        chosen: dict[str, Any] = {"families": (), "resources": (), "no_writes": "", **options}
        planned = plan(MODEL, chosen["families"], chosen["resources"], chosen["no_writes"], witness=True)
        return {(each.resource.name, each.check.name): each.reason for each in planned}

    def test_every_check_is_planned_for_every_resource_or_has_a_reason(self) -> None:
        reasons = self.reasons()
        usual = [each for each in all_checks() if each.family not in {HOLD, OBSERVE} and not each.per_role]
        self.assertEqual(len(reasons), len(usual) * len(MODEL.resources))
        self.assertEqual(reasons["tags", "update.each-field"], "")
        self.assertEqual(reasons["species-tags", "update.each-field"], "the contract has no update for it")
        held = plan(MODEL, (), ["tags"], "", "hold.kept")
        self.assertEqual([each.check.name for each in held], ["hold.kept"], "nothing else is asked then")

    def test_other_roles_are_looked_at_once_for_each_resource_where_they_are_stated(self) -> None:
        actors = {"tags": {"clerk": "", "guest": "GUEST_TOKEN is not set"}}
        planned = plan(MODEL, ["access"], ["tags", "loans"], "", actors=actors)
        others = [each for each in planned if each.check.per_role]
        self.assertEqual({each.resource.name for each in others}, {"tags"})
        self.assertEqual({each.actor for each in others}, {"clerk", "guest"})
        self.assertEqual({each.reason for each in others if each.actor == "guest"}, {"GUEST_TOKEN is not set"})
        self.assertEqual({each.actor for each in planned if not each.check.per_role}, {""})

    def test_without_writes_only_checks_that_read_run(self) -> None:
        reasons = self.reasons(no_writes="the run is read-only")
        for check in [each for each in all_checks() if each.family not in {HOLD, OBSERVE} and not each.per_role]:
            self.assertEqual(bool(reasons["tags", check.name]), check.creates, check.name)

    def test_rows_that_could_not_be_removed_are_not_made(self) -> None:
        tags = MODEL.resource("tags")
        assert tags is not None
        operations = {purpose: each for purpose, each in tags.operations.items() if purpose != "delete"}
        undeletable = replace(MODEL, resources=(replace(tags, operations=operations),))
        for each in plan(undeletable, (), (), ""):
            if each.check.creates:
                self.assertIn("no delete", each.reason)

    def test_a_family_brings_what_it_stands_on(self) -> None:
        names = {name for _, name in self.reasons(families=("update",), resources=("tags",))}
        self.assertTrue({"read.list", "create.stored", "delete.gone", "update.each-field"} <= names)
        self.assertNotIn("create.rules", names)
        self.assertEqual(
            {
                name
                for _, name in self.reasons(families=("read",), resources=("tags",))
                if not CHECKS[name].creates and not name.startswith("read.")
            },
            set(),
        )

    def test_the_order_is_an_engineers(self) -> None:
        names = [check.name for check in all_checks()]
        self.assertEqual(names[:3], ["read.list", "create.stored", "delete.gone"])
        self.assertEqual(len(names), len(set(names)))
        for check in all_checks():
            self.assertTrue(check.question.endswith("?"), check.name)


class Runs(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.stand_in = self.enterContext(InProcess())
        self.before = self.stand_in.contents()
        self.enterContext(mock.patch.dict("os.environ", ENVIRONMENT))
        contract = fetch(self.stand_in.address.contract_url, self.folder / "seedbank.yaml")
        self.profile = Profile(self.folder, contract=contract, roles={"curator": CURATOR})

    def test_a_stopped_run_leaves_nothing_and_says_so(self) -> None:
        target = aim(self.profile, False, 10)

        async def work() -> Any:
            stop = asyncio.Event()
            asyncio.get_running_loop().call_later(0.7, stop.set)
            return await run(target, plan(target.model, (), (), ""), Limits(), 1, stop=stop)

        result = asyncio.run(work())
        self.assertTrue(result.interrupted)
        self.assertEqual(result.left, ())
        self.assertEqual(self.stand_in.contents(), self.before)
        self.assertEqual(journals(self.folder), [])

    def failing(self, first: int, last: int) -> tuple[Result, list[str]]:
        """A run against an API that fails from one request to another, however it is asked."""
        self.enterContext(mock.patch("checkpost.engine.breakdown.PAUSES", (0.01,) * 6))
        direct, asked = Direct(self.stand_in.app), []

        async def transport(method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
            asked.append(url)
            return Answer(500) if first <= len(asked) < last else await direct(method, url, headers, body)

        target = aim(self.profile, False, 10)
        planned = plan(target.model, (), ("tags", "species", "vaults"), "")
        return asyncio.run(run(target, planned, Limits(), 1, transport=transport)), asked

    def test_an_api_that_answers_nothing_any_more_is_one_finding_and_the_end(self) -> None:
        result, asked = self.failing(150, 10**9)
        self.assertEqual([each.title for each in result.findings], ["The API answers nothing any more"])
        self.assertLess(len(asked), 700)
        left_out = [each for each in result.checks if each.reason == "left out: the API answers nothing any more"]
        self.assertGreater(len(left_out), 50)
        self.assertFalse(result.interrupted)
        named = {(each.table, each.key) for each in result.left}
        after = self.stand_in.contents()
        self.assertEqual(not_told(self.before, after, result), [])
        self.assertTrue(named)

    def test_an_api_that_fails_for_a_while_is_asked_on(self) -> None:
        result, _ = self.failing(150, 176)
        self.assertNotIn("The API answers nothing any more", [each.title for each in result.findings])
        self.assertFalse([each for each in result.checks if each.reason.startswith("left out")])
        self.assertEqual((result.left, self.stand_in.contents()), ((), self.before))

    def test_a_check_that_breaks_is_blocked_and_rows_are_removed(self) -> None:
        async def breaking(case: Case) -> AsyncIterator[Finding]:
            await case.own(2)
            raise ZeroDivisionError("a fault")
            yield

        broken = replace(CHECKS["create.rules"], function=breaking)
        target = aim(self.profile, False, 10)
        planned = [
            replace(each, check=broken) if each.check.name == "create.rules" else each
            for each in plan(target.model, ("create",), ("tags",), "")
        ]
        result = asyncio.run(run(target, planned, Limits(), 1))
        outcome = next(each for each in result.checks if each.check == "create.rules")
        self.assertEqual(outcome.outcome, "blocked")
        self.assertIn("Check Post itself failed here (ZeroDivisionError: a fault; ", outcome.reason)
        self.assertEqual(self.stand_in.contents(), self.before)
        self.assertEqual(next(each for each in result.checks if each.check == "create.location").outcome, "passed")

    def ran(self, check: str, function: Any) -> Any:
        """A run of one family on one table, in which a check does something else."""
        other = replace(CHECKS[check], function=function)
        target = aim(self.profile, False, 10)
        planned = [
            replace(each, check=other) if each.check.name == check else each
            for each in plan(target.model, ("create",), ("tags",), "")
        ]
        return asyncio.run(run(target, planned, Limits(), 1))

    def test_what_a_check_has_found_counts_though_it_breaks_then(self) -> None:
        async def breaking(case: Case) -> AsyncIterator[Finding]:
            yield case.finding("error", "expectation", "Something is wrong", "a", "b", cause="it")
            raise Blocked("no more could be asked")

        result = self.ran("create.rules", breaking)
        self.assertEqual([each.title for each in result.findings], ["Something is wrong"])
        [outcome] = [each for each in result.checks if each.check == "create.rules"]
        self.assertEqual((outcome.outcome, outcome.reason), ("failed", "no more could be asked"))

    def test_what_is_seen_once_beside_others_is_a_remark(self) -> None:
        asked: list[int] = []

        async def once(case: Case) -> AsyncIterator[Finding]:
            asked.append(case.turn)
            if case.turn == 0:
                yield case.finding("error", "expectation", "Something is wrong", "a", "b", cause="it")

        result = self.ran("create.rules", once)
        self.assertEqual((asked, result.findings), ([0, 1], ()))
        [outcome] = [each for each in result.checks if each.check == "create.rules"]
        self.assertEqual(outcome.outcome, "passed")
        self.assertIn("seen once, and not again: Something is wrong", outcome.reason)

    def test_corrections_that_name_no_resource_are_refused(self) -> None:
        profile = replace(self.profile, resources={"tag": Correction(unique=("label",))})
        with self.assertRaises(CheckPostError) as caught:
            aim(profile, False, 10)
        self.assertIn("no resource 'tag'", str(caught.exception))

    def test_progress_is_told_to_the_end(self) -> None:
        target = aim(self.profile, True, 10)
        planned = plan(target.model, (), ("tags", "vaults"), target.no_writes)
        told: list[tuple[int, int]] = []
        asyncio.run(run(target, planned, Limits(), 1, lambda done, total, label: told.append((done, total))))
        self.assertEqual(told[-1], (len(planned), len(planned)))
        self.assertEqual([done for done, _ in told], list(range(1, len(planned) + 1)))

    def test_an_empty_parent_table_gets_a_row_and_loses_it_again(self) -> None:
        for table in ("germination_tests", "loans", "accessions"):
            self.stand_in.database.connection.execute(f"DELETE FROM {table}")
        before = self.stand_in.contents()
        result = run_on_stand_in(self.stand_in, ["loans"])
        self.assertEqual([each.title for each in result.findings], [])
        passed = {each.check for each in result.checks if each.outcome == "passed"}
        self.assertIn("create.awkward-values", passed)
        self.assertEqual(self.stand_in.contents(), before)

    def test_the_same_seed_sends_the_same_values_whatever_runs_beside(self) -> None:
        names = ("seeds", "lent_at", "due_on", "temperature_c", "sown", "capacity")

        def bodies(result: Any) -> list[Any]:
            records = [
                json.loads(each.request.body)
                for each in result.exchanges
                if each.request.method == "POST"
                and each.check.startswith("create.")
                and "/loans" in each.request.url
                # what other tables show decides whether half of a character is written
                and each.check != "create.extreme-values"
            ]
            return sorted(
                str({name: record.get(name) for name in names if name in record})
                for record in records
                if isinstance(record, dict)
            )

        alone = bodies(run_on_stand_in(self.stand_in, ["loans"], ["create"]))
        together = bodies(run_on_stand_in(self.stand_in, ["loans", "tags", "vaults"], ["create"]))
        self.assertEqual(alone, together)
        self.assertGreater(len(alone), 30)


class Gates(unittest.TestCase):
    """What is built on something that fails is blocked, not reported once more."""

    def blocked(self, defect: str, resource: str) -> tuple[set[str], list[Finding]]:
        with InProcess([defect]) as stand_in:
            result = run_on_stand_in(stand_in, [resource])
        return {each.check for each in result.checks if each.outcome == "blocked"}, list(result.findings)

    def test_rows_that_are_not_stored(self) -> None:
        blocked, findings = self.blocked("create-not-stored", "tags")
        self.assertEqual([finding.check for finding in findings], ["create.stored"])
        self.assertTrue({"create.rules", "update.each-field", "replace.stored", "delete.gone"} <= blocked)

    def test_rows_that_cannot_be_removed(self) -> None:
        with InProcess(["delete-not-done"]) as stand_in:
            before = len(stand_in.contents()["tags"])
            result = run_on_stand_in(stand_in, ["tags"])
            after = len(stand_in.contents()["tags"])
        # two rows are needed to find out; no more are made, and both are named
        self.assertEqual(after - before, len(result.left))
        self.assertLessEqual(after - before, 2)
        self.assertTrue(all(each.table == "tags" and each.certain and each.key for each in result.left))


class JournalFirst(unittest.TestCase):
    def test_a_row_is_on_disk_before_its_request_goes_out(self) -> None:
        told: list[str] = []
        transmit, intend, synced = Session.transmit, Journal.intend, Journal.synced

        async def sent(self: Session, request: Any, check: str = "") -> Any:
            if request.method == "POST":
                told.append("send")
            return await transmit(self, request, check)

        def meant(self: Journal, kind: str, *rest: Any) -> Any:
            if kind == "create":
                waiting.append(1)
            return intend(self, kind, *rest)  # type: ignore[arg-type]

        async def safe(self: Journal) -> None:
            number = len(waiting)
            await synced(self)
            told.extend(["sync"] * (number - told.count("sync")))

        waiting: list[int] = []
        patches = {"intend": meant, "synced": safe}
        with mock.patch.object(Session, "transmit", sent), mock.patch.multiple(Journal, **patches), InProcess() as api:
            run_on_stand_in(api, ["tags"], ["create"])
        self.assertGreater(told.count("send"), 10)
        open_ = 0
        for word in told:
            open_ += 1 if word == "sync" else -1
            self.assertGreaterEqual(open_, 0, "a request went out before its row was on the disk")

    def test_a_connection_that_ended_is_no_finding_where_the_request_is_answered(self) -> None:
        failure = Finding(
            "errors.server-error", "errors", "tags", "curator", "error", "standard", "t", "", "", "c", exchanges=(1,)
        )
        ended, failing = Answer(0, {}, b"", "closed", "reset"), Answer(500, {}, b"")
        for first, second, lasts in (
            (ended, failing, False),
            (ended, ended, True),
            (failing, failing, True),
            (failing, Answer(200, {}, b"[]"), False),
        ):
            world = mock.Mock(
                exchanges={1: Exchange(1, "", Request("GET", "http://127.0.0.1/tags", "curator"), first, 0.1)}
            )
            world.session.send = mock.AsyncMock(return_value=mock.Mock(answer=second))
            runner = Runner(world, [], lambda *told: None)
            self.assertEqual(asyncio.run(runner._fails_again(failure, Watch())), lasts, (first, second))

    def test_a_failure_that_quotes_a_value_lasts_unless_it_says_that_others_held_it_up(self) -> None:
        failure = Finding(
            "errors.server-error", "errors", "tags", "curator", "error", "standard", "t", "", "", "c", exchanges=(1,)
        )
        request = Request("POST", "http://127.0.0.1/tags", "curator", {}, b'{"label": "alpine"}')
        for said, lasts in (("value too long: alpine", True), ("database is locked: INSERT (alpine)", False)):
            answer = Answer(500, {}, json.dumps({"error": said, "sent": "alpine"}).encode())
            world = mock.Mock(exchanges={1: Exchange(1, "", request, answer, 0.1)})
            world.ledger = None
            runner = Runner(world, [], lambda *told: None)
            self.assertEqual(asyncio.run(runner._fails_again(failure, Watch())), lasts, said)


if __name__ == "__main__":
    unittest.main()
