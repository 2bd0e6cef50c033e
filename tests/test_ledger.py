"""No row harmed, no row left: single rules of the ledger, each against an API in memory that would make them matter."""

from __future__ import annotations

import asyncio
import contextlib
import json
import unittest
from collections.abc import Mapping
from dataclasses import replace
from typing import Any
from unittest import mock

from checkpost.checks.case import Case
from checkpost.commands.run import exit_status
from checkpost.engine import runner
from checkpost.engine.leftover import swept
from checkpost.engine.plan import plan
from checkpost.engine.run import Result, run
from checkpost.engine.target import Target
from checkpost.model.infer import infer
from checkpost.rows.holdings import given_once
from checkpost.rows.journal import Book, BookReader, Entry, Journal
from checkpost.rows.ledger import Ledger
from checkpost.rows.settle import settle
from checkpost.rows.witness import Look, look_again
from checkpost.wire.client import Client
from checkpost.wire.door import Unsafe
from checkpost.wire.exchange import Answer
from checkpost.wire.session import Limits, Session
from tests.simulation.api import BASE, CROPS, LOTS, SOWINGS, TAGS, USERS, Api, Temper
from tests.simulation.clock import play
from tests.simulation.tempers import BY_NAME
from tests.simulation.trial import target_of
from tests.simulation.wire import Disk, Wire, amiss
from tests.support import contract_of

Json = dict[str, Any]
MARK = "cpmark001"


class Watched(Wire):
    """A wire that keeps what was sent, and how many writes to one address were on their way at once."""

    def __init__(self, api: Api, seed: int = 1) -> None:
        super().__init__(api, seed)
        self.seen: list[tuple[str, str, bytes | None]] = []
        self.flying: dict[str, int] = {}
        self.most = 0

    async def __call__(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
        self.seen.append((method, url.removeprefix(BASE), body))
        writes = method in {"PUT", "PATCH"}
        self.flying[url] = self.flying.get(url, 0) + writes
        self.most = max(self.most, self.flying[url])
        try:
            return await super().__call__(method, url, headers, body)
        finally:
            self.flying[url] -= writes


def run_on(
    temper: Temper, *checks: str, target: Target | None = None, seed: int = 1
) -> tuple[Result, Watched, Api, Disk]:
    """Some checks (all of them if none is named) against an API in memory."""
    api, disk = Api(temper, seed), Disk()
    wire, target = Watched(api, seed), target or target_of(temper)

    async def whole() -> Result:
        planned = plan(target.model, (), (), "")
        gates = {"read.list", "create.stored", "delete.gone"}
        planned = [each for each in planned if not checks or each.check.name in {*gates, *checks}]
        limits = Limits(10.0, 8, 500)
        name = f"simulated-{seed:04d}"
        return await run(target, planned, limits, seed, transport=wire, log=lambda name: disk, name=name)

    return play(whole()), wire, api, disk


class Runs(unittest.TestCase):
    def assert_as_before(self, result: Result, api: Api) -> None:
        self.assertEqual(amiss(api, result.left), [])
        self.assertEqual(result.left, ())

    def test_keys_in_lists_of_one_and_beside_the_row_are_found(self) -> None:
        for answers in ("row", "key", "list of one", "beside", "nothing"):
            with self.subTest(answers=answers):
                result, _, api, disk = run_on(Temper(f"answers {answers}", answers=answers))
                self.assert_as_before(result, api)
                self.assertTrue(disk.removed, "nothing is left, so that the journal is gone")
                outcomes = {each.check: each.outcome for each in result.checks}
                self.assertEqual(outcomes["update.each-field"], "passed")

    def test_a_row_that_reading_shows_to_be_another_is_neither_changed_nor_removed(self) -> None:
        result, wire, api, _ = run_on(Temper("wrong key", answers="wrong key"))
        self.assert_as_before(result, api)
        people = [f"/{name}/{key[0]}" for name, rows in api.foreign.items() for key in rows]
        self.assertEqual(
            [each for each in wire.seen if each[0] not in {"GET", "HEAD", "OPTIONS"} and each[1] in people], []
        )

    def test_rows_of_bodies_without_values_are_known_by_the_list_before_and_the_answer(self) -> None:
        result, _, api, _ = run_on(Temper("values of its own", (CROPS,), accepts_all=True, defaults=True))
        self.assert_as_before(result, api)
        bare = [
            each for each in result.exchanges if each.request.method == "POST" and each.request.body in {b"", b"{}"}
        ]
        self.assertTrue(any(each.answer.ok for each in bare), "no row was made of nothing, so that nothing was tried")

    def test_a_check_that_is_asked_again_writes_under_the_same_row(self) -> None:
        result, _, api, _ = run_on(Temper("under", (CROPS, SOWINGS, TAGS), late=0.1, lost=0.05), seed=8)
        self.assertEqual(amiss(api, result.left), [])

    def test_what_is_deleted_and_kept_is_removed_for_good(self) -> None:
        for name in ("soft delete, and a way to remove for good", "a way to remove for good, key given again"):
            result, wire, api, _ = run_on(replace(BY_NAME[name], others=0.0))
            self.assert_as_before(result, api)
            self.assertEqual(
                {name: set(rows) for name, rows in api.rows.items()}, {n: set(r) for n, r in api.foreign.items()}
            )
            asked = [path for method, path, _ in wire.seen if method == "DELETE" and path.endswith("/hard-delete")]
            self.assertEqual(len(asked) > 10, "soft" in name, "where nothing is kept, few are asked of")
            unasked = {path for method, path, _ in result.not_exercised if "hard-delete" in path}
            self.assertEqual(bool(unasked), "soft" not in name)

    def test_where_deleted_rows_are_kept_others_are_removed_for_good_at_once(self) -> None:
        result, _, api, _ = run_on(replace(BY_NAME["soft delete, and a way to remove what is not deleted"], others=0.0))
        self.assert_as_before(result, api)
        kept = {name: sum("~gone" in row for row in rows.values()) for name, rows in api.rows.items()}
        self.assertEqual({name: number for name, (_, number) in result.kept.items()}, kept)
        self.assertLess(sum(kept.values()), 20)

    def test_writes_go_to_keys_alone_that_the_api_has_given_out(self) -> None:
        temper = Temper("upserts by put", (CROPS, LOTS), upserts=True)
        result, wire, api, _ = run_on(temper)
        self.assert_as_before(result, api)
        written = {path.rpartition("/")[2] for method, path, _ in wire.seen if method in {"PUT", "PATCH", "DELETE"}}
        self.assertTrue({"update.missing-key", "replace.missing-key"} <= {each.check for each in result.checks})
        self.assertLess(max(map(int, written)), 1000, "a far key would move the API's sequence for ever")
        self.assertEqual(max(api.next.values()), max(int(each) for each in written) + 1)

    def test_a_key_that_is_given_out_again_is_not_written_to(self) -> None:
        result, wire, api, _ = run_on(Temper("lowest again", keys_reused="lowest", others=0.1), seed=3)
        self.assertEqual(amiss(api, result.left), [])
        reasons = {each.check: each.reason for each in result.checks if each.outcome in {"skipped", "blocked"}}
        self.assertIn("given out again", reasons["delete.missing-key"])
        self.assertTrue(wire.seen)

    def test_rows_go_by_the_role_that_made_them_or_by_another_that_may(self) -> None:
        result, _, api, _ = run_on(Temper("maker may not", maker_may_not_delete=True))
        self.assert_as_before(result, api)
        # where no role may, the rows are named with the reason
        target = target_of(Temper("maker may not", maker_may_not_delete=True))
        alone = replace(target, profile=replace(target.profile, roles={"maker": target.role}))
        result, _, api, _ = run_on(Temper("maker may not", maker_may_not_delete=True), target=alone)
        self.assertEqual(amiss(api, result.left), [])
        self.assertEqual({each.why for each in result.left}, {"DELETE answers 403, and the row is still there"})

    def test_reading_that_removes_rows_is_found_on_an_own_row_and_nobody_elses_is_read(self) -> None:
        result, wire, api, _ = run_on(Temper("reading removes", (CROPS,), reading_removes=True))
        self.assertEqual(amiss(api, result.left), [])
        [found] = [each for each in result.findings if each.severity == "error"]
        self.assertEqual((found.title, found.basis), ("Reading a row removes it", "standard"))
        people = {f"/crops/{key[0]}" for key in api.foreign["crops"]}
        self.assertEqual({path for _, path, _ in wire.seen} & people, set())

    def test_rows_that_another_field_finds_are_asked_for_by_that_and_it_is_told_once(self) -> None:
        result, _, api, disk = run_on(Temper("by uid", (CROPS,), found_by_uid=True))
        self.assert_as_before(result, api)
        self.assertTrue(disk.removed)
        told = [each.title for each in result.findings if each.severity == "error"]
        self.assertEqual(told, ["Rows are found by uid, and not by the documented key id"])
        outcomes = {each.check: each.outcome for each in result.checks}
        for check in ("update.each-field", "replace.stored", "delete.gone", "read.item-equals-list"):
            self.assertEqual(outcomes[check], "passed", check)

    def test_a_row_that_was_made_and_is_shown_nowhere_is_named_as_one_that_may_be_there(self) -> None:
        result, _, api, disk = run_on(Temper("unseen", (CROPS,), unseen=True))
        self.assertEqual(amiss(api, result.left), [])
        self.assertTrue(result.left)
        self.assertFalse(any(each.certain for each in result.left))
        self.assertFalse(disk.removed)

    def test_broken_bodies_go_to_a_row_one_after_the_other(self) -> None:
        temper = Temper("forks", (CROPS,), replace_forks=True)
        result, wire, api, _ = run_on(temper, "update.rules", "replace.rules", "errors.broken-body")
        self.assertEqual(amiss(api, result.left), [])
        self.assertEqual(wire.most, 1)
        self.assertGreater(sum(method == "PATCH" for method, _, _ in wire.seen), 3)

    def test_a_create_that_is_put_off_is_sent_again_only_if_it_was_not_done(self) -> None:
        done, api, _ = self.put_off(True)
        self.assertEqual(len(done), 1, "the API was busy, and did the work all the same")
        again, api, _ = self.put_off(False)
        self.assertEqual(len(again), 2)
        self.assertEqual(len(api.rows["crops"]), 5)

    def put_off(self, does: bool) -> tuple[list[bytes | None], Api, int]:
        """A create that is first answered 503: the bodies sent, and the status in the end."""
        api, bodies = Api(Temper("busy", (CROPS,)), 1), []

        class Busy(Watched):
            async def __call__(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
                if method != "POST":
                    return await super().__call__(method, url, headers, body)
                bodies.append(body)
                if len(bodies) > 1 or does:
                    answer = await super().__call__(method, url, headers, body)
                    if len(bodies) > 1:
                        return answer
                return Answer(503, (("Retry-After", "1"),), b"{}")

        async def work(ledger: Ledger, client: Client) -> int:
            answer = (await client.send("create", record={"name": f"x {MARK}", "note": None, "year": 1})).answer
            return answer.status

        return bodies, api, with_ledger(api, work, Busy(api))

    def test_no_check_writes_behind_one_that_has_failed(self) -> None:
        clean, broken = runner.clean, []

        async def failing(case: Case) -> None:
            await clean(case)
            if case.check.name == "create.required-only" and case.resource.name == "crops":
                broken.append(case.check.name)
                raise RuntimeError("broken on purpose")

        with mock.patch.object(runner, "clean", failing):
            result, _, api, disk = run_on(Temper("sound", (CROPS, LOTS)))
        self.assertEqual(broken, ["create.required-only"])
        self.assert_as_before(result, api)
        self.assertTrue(disk.removed)
        reasons = [each.reason for each in result.checks if each.check == "create.required-only"]
        self.assertTrue(any("broken on purpose" in reason for reason in reasons), reasons)

    def test_empty_tables_that_refer_to_each_other_do_not_wait_for_each_other(self) -> None:
        result, _, api, _ = run_on(BY_NAME["tables that refer to each other"])  # play() raises Stuck for a hang
        self.assertEqual(amiss(api, result.left), [])
        outcomes = {(each.check, each.resource): each.outcome for each in result.checks}
        self.assertEqual(outcomes["create.stored", "heads"], "passed")

    def test_a_filter_that_is_ignored_is_not_written_by_where_others_have_rows(self) -> None:
        temper = Temper("filter ignored", (CROPS,), by_filter=True, filter_ignored=True)
        result, wire, api, _ = run_on(temper)
        self.assert_as_before(result, api)
        self.assertEqual({method for method, _, _ in wire.seen} & {"POST", "PATCH", "PUT", "DELETE"}, set())
        reasons = {each.reason for each in result.checks if each.outcome == "blocked"}
        self.assertTrue(any("'writes_by_filter: true' in the profile allows it" in each for each in reasons), reasons)

    def test_tables_whose_key_repeats_or_is_only_guessed_are_not_written_to(self) -> None:
        repeats = Api(Temper("guess", (CROPS,)), 1).contract()
        guessed = json.loads(json.dumps(repeats))
        path = guessed["paths"].pop("/crops/{id}")
        path["parameters"][0]["name"] = "crop_year"  # a field's name ends alike, and it is not what the path takes
        guessed["paths"]["/crops/{crop_year}"] = path
        row = guessed["components"]["schemas"]["Crops"]
        row["properties"].pop("id")
        row["required"].remove("id")
        self.not_written(repeats, True)
        self.not_written(guessed, False)

    def not_written(self, document: Json, repeats: bool) -> None:
        api = Api(Temper("guess", (CROPS,)), 1)
        model = infer(contract_of(document))
        target = replace(target_of(Temper("guess", (CROPS,))), model=model)

        class Twice(Watched):
            async def __call__(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
                answer = await super().__call__(method, url, headers, body)
                if repeats and "?" in url and answer.ok:
                    value = json.loads(answer.body)
                    value["items"] += value["items"][:1]
                    return replace(answer, body=json.dumps({**value, "total": value["total"] + 1}).encode())
                return answer

        wire = Twice(api)

        async def whole() -> Result:
            planned = plan(model, ("create", "delete"), (), "")
            return await run(target, planned, Limits(10.0, 8, 500), 1, transport=wire, log=lambda name: Disk())

        result = play(whole())
        self.assertEqual({method for method, _, _ in wire.seen} - {"GET"}, set())
        blocked = {each.reason for each in result.checks if each.outcome == "blocked" and each.check == "create.stored"}
        wanted = "shows one key twice" if repeats else "resources: {crops: {key: [year]}}"
        self.assertIn(wanted, " ".join(blocked))


def with_ledger(api: Api, work: Any, wire: Watched | None = None) -> Any:
    """Do something with a ledger and a client for the API's first table."""
    target = target_of(api.temper)
    resource = target.model.resource(api.temper.tables[0].name)
    assert resource is not None

    async def whole() -> Any:
        async with Session(
            target.profile.roles, {}, Limits(10.0, 8, 500), base_url=BASE, transport=wire or Watched(api)
        ) as session:

            def reach(name: str) -> Client:
                return Client(session, BASE, resource, "maker", door=ledger)

            ledger = Ledger(session, Journal.begin(Disk(), {}), MARK, reach, 500)
            return await work(ledger, reach(resource.name))

    return play(whole())


class Rules(unittest.TestCase):
    def setUp(self) -> None:
        self.api = Api(Temper("rules", (CROPS,)), 1)

    def test_rows_of_others_are_refused_whatever_asks_for_it(self) -> None:
        async def work(ledger: Ledger, client: Client) -> None:
            for purpose in ("update", "replace", "delete"):
                for key in ((1,), (999,), (2_000_000_000,)):
                    with self.assertRaises(Unsafe):
                        await client.send(purpose, key=key, record={"name": MARK})

        before = dict(self.api.rows["crops"])
        with_ledger(self.api, work)
        self.assertEqual(self.api.rows["crops"], before)

    def test_an_own_row_is_read_before_it_is_touched_and_not_again(self) -> None:
        wire = Watched(self.api)

        async def work(ledger: Ledger, client: Client) -> None:
            await client.send("create", record={"name": f"own {MARK}"})
            [key] = ledger.own_keys("crops")
            await client.send("update", key=key, record={"name": f"new {MARK}"})
            await client.send("update", key=key, record={"note": "x"})

        with_ledger(self.api, work, wire)
        reads = [path for method, path, _ in wire.seen if method == "GET" and "?" not in path]
        self.assertEqual(reads, ["/crops/5"])

    def test_a_record_that_bears_nothing_in_sight_is_not_sent_once_a_create_was_not_answered_in_time(self) -> None:
        api = Api(Temper("silent", (USERS,), late=1.0), 1)
        told: list[str] = []

        async def work(ledger: Ledger, client: Client) -> None:
            exchange = await client.send("create", record={"login": f"own {MARK}", "password": "x"})
            self.assertFalse(ledger.marks("users", {"login": "1", "password": f"own {MARK}"}))
            self.assertEqual(exchange.answer.failure, "timeout")
            try:
                await client.send("create", record={"login": "1", "password": f"own {MARK}"})
            except Unsafe as why:
                told.append(str(why))
            await client.send("create", record={"login": f"another {MARK}", "password": "x"})

        with_ledger(api, work)
        self.assertEqual(len(told), 1)
        self.assertIn("has not answered a create in time", told[0])

    def test_keys_that_no_server_makes_twice_are_known_by_their_form(self) -> None:
        once = ("0d136230-87e0-4979-9729-b356fbdc3b3a", "507f1f77bcf86cd799439011", "01ARZ3NDEKTSV4RRFFQ69G5FAV")
        once += ("lot:0d136230-87e0-4979-9729-b356fbdc3b3a", "lot_507f1f77bcf86cd799439011")
        often = (5, "5", "12345678901234567890123", "alpine-seeds-of-the-north", "EG-70")
        for key, wanted in (*((each, True) for each in once), *((each, False) for each in often)):
            self.assertEqual(given_once((key,)), wanted, key)

    def test_what_was_sent_is_known_again_as_lenient_servers_keep_it(self) -> None:
        async def work(ledger: Ledger, client: Client) -> None:
            await client.send("create", record={"name": f"own {MARK}", "note": {"not": "text"}})
            await client.send("create", record={"name": f"own {MARK}", "note": True})
            kept = [str({"not": "text"}), '{"not": "text"}', True, "true", "1", 1]
            self.assertEqual([each for each in kept if not ledger.has_sent("crops", "note", each)], [])
            self.assertFalse(ledger.has_sent("crops", "note", "2"))
            self.assertFalse(ledger.has_sent("crops", "name", "1"))

        with_ledger(self.api, work)

    def test_a_row_that_somebody_else_was_given_the_key_of_is_left_alone(self) -> None:
        api = Api(Temper("again", (CROPS,), keys_reused="largest"), 1)

        async def work(ledger: Ledger, client: Client) -> None:
            await client.send("create", record={"name": f"own {MARK}"})
            [key] = ledger.own_keys("crops")
            await client.send("delete", key=key)  # answered with success: from here the key may be anybody's
            api.somebody_adds(CROPS)
            self.assertIn(key, api.foreign["crops"])
            for purpose in ("update", "delete"):
                with self.assertRaises(Unsafe):
                    await client.send(purpose, key=key, record={"name": MARK})  # type: ignore[arg-type]

        with_ledger(api, work)
        self.assertEqual(amiss(api, ()), [])

    def test_a_removal_that_fails_holds_creates_up_only_where_the_row_is_still_there(self) -> None:
        for removes in (True, False):

            class Failing(Watched):
                async def __call__(
                    self, method: str, url: str, headers: Mapping[str, str], body: bytes | None, does: bool = removes
                ) -> Answer:
                    if method != "DELETE":
                        return await super().__call__(method, url, headers, body)
                    if does:
                        await super().__call__(method, url, headers, body)
                    return Answer(500, (), b"{}")

            async def work(ledger: Ledger, client: Client) -> None:
                await client.send("create", record={"name": f"own {MARK}"})
                [key] = ledger.own_keys("crops")
                await client.send("delete", key=key)
                with contextlib.suppress(Unsafe):
                    await client.send("create", record={"name": f"next {MARK}"})

            wire = Failing(Api(Temper("fails", (CROPS,)), 1))
            with self.subTest(removes=removes):
                with_ledger(wire.api, work, wire)
                self.assertEqual([method for method, *_ in wire.seen].count("POST"), 2 if removes else 1)

    def test_a_second_look_knows_no_more_of_a_list_that_was_too_long_before_the_run(self) -> None:
        async def work(ledger: Ledger, client: Client) -> Look | None:
            await client.send("create", record={"name": f"own {MARK}"})
            [key] = ledger.own_keys("crops")
            [entry] = ledger.journal.entries("crops")
            self.api.rows["crops"][key] = {"id": key[0], "name": "", "note": None, "year": None}  # somebody's blank one
            ledger.table("crops").whole = False
            last = Look(dict(self.api.rows["crops"]), whole=True, pages=20, own={key: entry})
            return await look_again(ledger, "crops", last)

        found = with_ledger(self.api, work)
        self.assertEqual((found.own, len(found.rows)), ({}, 5))

    def test_what_was_sent_to_an_earlier_row_of_a_key_proves_nothing_of_a_later_one(self) -> None:
        def entry(number: int, kind: Any, record: Json, **more: Any) -> Entry:
            return Entry(number, "crops", record, kind=kind, role="maker", status=200, sure=True, **more)

        one = {"id": 67, "note": None, "name": "x", "year": 3}
        entries = [
            entry(1, "create", {"name": "a", "year": 1}, answered=(67,), removed=True),
            entry(2, "change", {"name": 7}, key=(67,)),
            entry(3, "change", {"year": "no number"}, key=(67,)),
            entry(4, "create", {"name": "x", "year": 3}, answered=(67,), shown=one, proved=True),
        ]
        book = Book({}, {each.number: each for each in entries}, {"crops": frozenset({(1,)})}, frozenset({"crops"}))

        async def work(ledger: Ledger, client: Client) -> list[bool]:
            ledger.take_up(book)
            later = {"note": None, "name": "somebody's", "year": 9, "id": 67}
            before = ledger.shows(entries[3], (67,), later)
            ledger.table("crops").changes[67,] = [{"year": 9}, {"name": 7}]
            return [before, ledger.shows(entries[3], (67,), later), ledger.shows(entries[3], (67,), {**one, "year": 9})]

        self.assertEqual(with_ledger(self.api, work), [False, False, True])

    def test_a_create_that_was_stopped_before_it_was_sent_left_nothing(self) -> None:
        wire = Watched(self.api)

        async def work(ledger: Ledger, client: Client) -> tuple[int, int]:
            never = asyncio.Event()
            with mock.patch.object(ledger.journal, "synced", never.wait):
                making = asyncio.create_task(client.send("create", record={"name": f"own {MARK}"}))
                while not (ledger.journal.entries() or making.done()):
                    await asyncio.sleep(0.01)
                making.cancel()
                await asyncio.wait({making})
            settled = await settle(ledger, lambda name, role: ledger.reach(name), ["maker"], 10.0)
            return len(settled.left), len(ledger.journal.entries())

        self.assertEqual(with_ledger(self.api, work, wire), (0, 0))
        self.assertEqual([method for method, *_ in wire.seen if method != "GET"], [])

    def test_an_interrupt_waits_for_what_is_on_its_way(self) -> None:
        wire = Watched(self.api)

        async def work(ledger: Ledger, client: Client) -> tuple[bool, Any]:
            task = asyncio.ensure_future(client.send("create", record={"name": f"own {MARK}"}))
            while not any(method == "POST" for method, _, _ in wire.seen):
                await asyncio.sleep(0.001)
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)
            settled = await settle(ledger, lambda name, role: ledger.reach(name), ["maker"], 10.0, 100.0)
            return task.cancelled(), settled

        cancelled, settled = with_ledger(self.api, work, wire)
        self.assertTrue(cancelled)
        self.assertEqual((settled.left, settled.removed), ((), 1))
        self.assertEqual(amiss(self.api, ()), [])

    def test_rows_of_others_that_went_are_told_and_for_certain_if_nobody_else_was_at_work(self) -> None:
        for others in (False, True):
            api = Api(Temper("rules", (CROPS,)), 1)

            async def work(ledger: Ledger, client: Client, others: bool = others, api: Api = api) -> Any:
                await client.send("create", record={"name": f"own {MARK}"})
                del api.rows["crops"][2,]
                api.rows["crops"][3,] = {**api.rows["crops"][3,], "note": "other"}
                if others:
                    api.somebody_adds(CROPS)
                return await settle(ledger, lambda name, role: ledger.reach(name), ["maker"], 10.0)

            settled = with_ledger(api, work)
            told = {(each.key, each.how, each.row["note"]) for each in settled.harmed}
            self.assertEqual(
                told, {((2,), "is gone", "note 2 of people"), ((3,), "has another note", "note 3 of people")}
            )
            self.assertEqual({each.certain for each in settled.harmed}, {not others})

    def test_what_is_left_and_what_was_harmed_come_before_findings(self) -> None:
        summary = {"findings": {"error": 1, "warning": 0, "note": 0}, "left": [], "harmed": []}
        run = {"interrupted": False}
        row = {"table": "lots", "key": "1", "certain": True}
        for changes, status in (
            ({}, 1),
            ({"left": [row]}, 3),
            ({"harmed": [row]}, 3),
            ({"harmed": [{**row, "certain": False}]}, 1),
        ):
            document = {"run": run, "summary": {**summary, **changes}}
            self.assertEqual(exit_status(document, "error"), status, changes)

    def test_a_create_that_nothing_can_be_told_of_is_named_until_the_user_lets_go_of_it(self) -> None:
        for reads, left in ((True, 0), (False, 1)):
            api = Api(Temper("fails", (CROPS,)), 1)

            class Failing(Watched):
                async def __call__(
                    self, method: str, url: str, headers: Mapping[str, str], body: bytes | None, reads: bool = reads
                ) -> Answer:
                    broken = method == "GET" and not reads and any(each[0] == "POST" for each in self.seen)
                    answer = await super().__call__("GET" if method == "POST" else method, url, headers, body)
                    if method == "POST":
                        self.seen.append((method, url, body))
                    return Answer(500, (), b"{}") if broken or method == "POST" else answer

            async def work(ledger: Ledger, client: Client) -> tuple[Any, Any]:
                await client.send("create", record={"name": f"own {MARK}"})
                settled = await settle(ledger, lambda name, role: ledger.reach(name), ["maker"], 10.0)
                return settled.left, ledger.journal.entries()

            rows, entries = with_ledger(api, work, Failing(api))
            self.assertEqual((len(rows), len(entries)), (left, left))
            if rows:
                self.assertEqual((rows[0].key, rows[0].certain), (None, False))
                self.assertIn("cannot be determined: it answers 500", rows[0].why)
                self.assertIn("of unknown key", str(rows[0]))
                self.let_go(api)

    def let_go(self, api: Api) -> None:
        """Sweep, with what a crash would leave of such a create: it stays named, until it is let go of."""
        target, entry = target_of(api.temper), Entry(1, "crops", {"name": f"own {MARK}"}, status=500)
        book = Book({"mark": MARK}, {1: entry}, {"crops": frozenset()}, frozenset())

        class Broken(Watched):
            async def __call__(self, *request: Any) -> Answer:
                return Answer(500, (), b"{}")

        for forget in (False, True):
            disk = Disk()
            settled = play(swept(target, book, disk, 10.0, age=100.0, forget=forget, transport=Broken(api)))
            self.assertEqual((len(settled.left), disk.removed), (0, True) if forget else (1, False))

    def test_a_journal_tells_the_role_and_what_was_answered(self) -> None:
        disk = Disk()

        async def work(ledger: Ledger, client: Client) -> None:
            ledger.journal.log = disk
            await client.send("create", record={"name": f"own {MARK}"})
            await client.send("create", record={})

        with_ledger(self.api, work)
        reader = BookReader()
        reader.feed(disk.upto(10**6))
        entries = list(reader.book().entries.values())
        self.assertEqual(
            [(each.role, each.status, each.sure, each.answered) for each in entries],
            [("maker", 201, True, (5,)), ("maker", 422, True, None)],
        )


if __name__ == "__main__":
    unittest.main()
