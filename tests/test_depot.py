"""Related rows, many rows at once and guards in dialects that are not the stand-in's: sound ones, and wrong ones."""

from __future__ import annotations

import copy
import json
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from starlette.requests import Request

from checkpost.engine.run import Result
from checkpost.model.infer import infer
from checkpost.model.resource import Resource
from tests.depot import DIALECTS, Depot, Dialect, Refused
from tests.foreign import Served
from tests.support import contract_of, run_against

Json = dict[str, Any]
EMBEDDED, ALWAYS, LINES, LINKED = DIALECTS


def run_on(depot: Depot, *families: str) -> Result:
    with tempfile.TemporaryDirectory() as name, Served(depot.app()) as served:
        file = Path(name) / "contract.json"
        file.write_text(json.dumps(depot.contract()), "utf-8")
        url = served.base_url + "/api"
        return run_against(str(file), url, Path(name), families=families, transport=served.direct)


def told(result: Result) -> list[tuple[str, str, str]]:
    return [(each.check, each.title, each.observed) for each in result.findings]


class Understood(unittest.TestCase):
    def resource(self, dialect: Dialect, name: str) -> Resource:
        found = infer(contract_of(Depot(dialect).contract())).resource(name)
        assert found is not None
        return found

    def test_lists_under_rows_and_links(self) -> None:
        orders = self.resource(EMBEDDED, "orders").subcollections
        self.assertEqual(
            [(each.path, each.child, each.many) for each in orders], [("/orders/{key}/labels", "labels", True)]
        )
        self.assertEqual(
            (str(orders[0].link), str(orders[0].unlink)[:6]), ("PUT /orders/{key}/labels/{code}", "DELETE")
        )
        (under,) = self.resource(EMBEDDED, "customers").subcollections
        self.assertEqual((under.child, under.via, under.through), ("orders", "customer_id", None))
        self.assertEqual(set(under.view.operations), {"list", "create"})
        (by_body,) = self.resource(ALWAYS, "orders").subcollections
        self.assertEqual((str(by_body.link), by_body.linked_by), ("POST /orders/{key}/labels", "label_code"))

    def test_rows_inside_rows(self) -> None:
        orders = self.resource(EMBEDDED, "orders")
        assert orders.expansion is not None
        self.assertEqual((orders.expansion.parameter, orders.expansion.choices), ("_embed", ("customer",)))
        found = [(each.name, each.resource, each.many, each.via) for each in orders.embedded]
        self.assertEqual(found, [("customer", "customers", False, "customer_id")])
        always = self.resource(ALWAYS, "orders").embedded
        self.assertEqual([(each.name, each.always) for each in always], [("customer", True)])
        many = self.resource(LINES, "customers").embedded
        self.assertEqual([(each.name, each.many, each.via) for each in many], [("orders", True, "customer_id")])
        self.assertNotIn("customer", [each.name for each in orders.fields])

    def test_many_rows_at_once(self) -> None:
        array = self.resource(EMBEDDED, "orders").bulk["create"]
        self.assertEqual((array.form, array.atomic, str(array.operation)), ("array", True, "POST /orders"))
        results = self.resource(ALWAYS, "orders").bulk["create"]
        self.assertEqual((results.form, results.name, results.atomic, results.least), ("wrapped", "records", False, 1))
        lines = self.resource(LINES, "orders").bulk["create"]
        self.assertEqual((lines.form, lines.atomic, lines.media_type), ("lines", False, "application/x-ndjson"))
        keys = self.resource(LINKED, "orders").bulk
        self.assertEqual(list(keys), ["delete"])
        self.assertEqual((keys["delete"].form, keys["delete"].name, keys["delete"].keys), ("wrapped", "keys", True))

    def test_guards(self) -> None:
        tag = self.resource(EMBEDDED, "orders").guards
        self.assertEqual((list(tag.matching), list(tag.needs_match)), (["update", "delete"], ["update", "delete"]))
        version = self.resource(ALWAYS, "orders").guards
        self.assertEqual((version.version, version.needs_version), ("version", False))
        needed = self.resource(LINKED, "orders").guards
        self.assertEqual((needed.version, needed.needs_version, needed.once), ("version", True, "Idempotency-Key"))
        self.assertTrue(needed.needs_once)
        self.assertNotIn("version", [each.name for each in self.resource(LINKED, "orders").writable("update")])


class Sound(unittest.TestCase):
    def test_nothing_is_reported_and_all_is_as_before(self) -> None:
        for dialect in DIALECTS:
            with self.subTest(dialect=dialect.name):
                depot = Depot(dialect)
                before = copy.deepcopy((depot.tables, depot.labelled))
                result = run_on(depot)
                self.assertEqual(told(result), [])
                self.assertEqual((depot.tables, depot.labelled), before)
                broken = [(each.check, each.reason) for each in result.checks if each.outcome == "blocked"]
                self.assertEqual(broken, [])
                passed = {(each.check, each.resource) for each in result.checks if each.outcome == "passed"}
                self.assertIn(("create.awkward-keys", "labels"), passed)
                self.assertIn(("relate.sublist", "customers"), passed)
                self.assertIn(("relate.moved", "customers"), passed)
                self.assertEqual(("relate.expand", "orders") in passed, bool(dialect.embed))
                self.assertEqual(("relate.row-links", "orders") in passed, bool(dialect.href))
                self.assertEqual(("relate.linked", "orders") in passed, bool(dialect.link))
                self.assertEqual(("bulk.create", "orders") in passed, dialect.many != "keys")
                self.assertEqual(("bulk.delete", "orders") in passed, dialect.many == "keys")
                self.assertEqual(("concurrency.version", "orders") in passed, "version" in dialect.guard)
                self.assertEqual(("concurrency.stale", "orders") in passed, "tag" in dialect.guard)
                self.assertEqual(("concurrency.retry", "orders") in passed, bool(dialect.once))
                self.assertIn(("concurrency.unique", "orders"), passed)


class OtherCustomer(Depot):
    def customer_of(self, row: Json) -> int:
        return int(row["customer_id"]) % 4 + 1


class SomeOrders(Depot):
    def orders_of(self, customer: int) -> list[int]:
        return super().orders_of(customer)[1:]


class LabelTwice(Depot):
    def __init__(self, dialect: Dialect) -> None:
        super().__init__(dialect)
        self.twice: list[tuple[int, str]] = []

    def put_on(self, order: int, code: str) -> None:
        self.twice.append((order, code))
        super().put_on(order, code)

    def page(self, rows: list[Json]) -> Any:
        again = [row for row in rows if any(code == row.get("code") for _, code in self.twice) and len(rows) < 3]
        return super().page(rows + again if len(self.twice) > 1 else rows)

    def take_off(self, order: int, code: str) -> None:
        self.twice.clear()
        super().take_off(order, code)


class LabelStays(Depot):
    def take_off(self, order: int, code: str) -> None:
        if self.tables["labels"][code]["text"] is None or code in {"fragile", "50%"}:
            super().take_off(order, code)


class Unchecked(Depot):
    def all_or_none(self, table: str, items: list[Any]) -> list[Json]:
        return [self.shown(table, self.store(table, item)) for item in items]


class AllWell(Depot):
    def each_result(self, table: str, items: list[Any]) -> list[Json]:
        return [{**each, "success": True, "error": None} for each in super().each_result(table, items)]


class Stamped(Depot):
    """It sets a moment itself, which the contract lets a client send, and calls a bad item among many forbidden."""

    def contract(self) -> Json:
        found = copy.deepcopy(super().contract())
        for name in ("orders", "orders-new"):
            found["components"]["schemas"][name]["properties"]["entered"] = {
                "type": ["string", "null"],
                "format": "date-time",
            }
        return found

    def store(self, table: str, body: Any) -> Any:
        entered = body.pop("entered", None) if isinstance(body, dict) else None
        try:
            datetime.fromisoformat(entered or "2025-01-01")
        except (TypeError, ValueError):
            raise Refused(422) from None
        key = super().store(table, body)
        if table == "orders":
            self.tables[table][key]["entered"] = datetime.now(UTC).isoformat()
        return key

    def all_or_none(self, table: str, items: list[Any]) -> list[Json]:
        try:
            return super().all_or_none(table, items)
        except Refused:
            raise Refused(403) from None


class KeptOrders(Depot):
    """Deleted orders are kept, shown nowhere, and keep what they refer to from being deleted."""

    def __init__(self, dialect: Dialect) -> None:
        super().__init__(dialect)
        self.kept: list[Json] = []

    def remove(self, table: str, key: Any) -> None:
        if table == "customers" and any(row["customer_id"] == key for row in self.kept):
            raise Refused(409)
        kept = self.tables["orders"].get(key) if table == "orders" else None
        super().remove(table, key)
        self.kept += [kept] if kept is not None else []


class LinesLost(Depot):
    def each_result(self, table: str, items: list[Any]) -> list[Json]:
        results = super().each_result(table, items)
        if len(items) > 2 and all(each["success"] for each in results):
            self.remove(table, results[-1]["row"]["id"] if table != "labels" else results[-1]["row"]["code"])
        return results


class OneTooMany(Depot):
    def remove_all(self, table: str, keys: list[Any]) -> None:
        super().remove_all(table, keys)
        rest = [key for key in self.tables[table] if table == "orders" and key not in keys]
        if rest:
            self.remove(table, rest[-1])  # the newest of the others


class Trusting(Depot):
    """A tag or version that is stated is never looked at."""

    def guarded(self, request: Request, table: str, key: Any, body: Json) -> Json:
        try:
            return super().guarded(request, table, key, dict(body))
        except Refused as refused:
            if refused.status in {409, 412}:
                return {name: value for name, value in body.items() if name != "version"}
            raise


class Forgetful(Depot):
    """Create sent again with the same idempotency key makes a second row."""

    async def collection(self, request: Request, table: str) -> Any:
        self.done.clear()
        return await super().collection(request, table)


class SelfAstray(Depot):
    def links(self, table: str, row: Json) -> Json:
        return (
            {**super().links(table, row), "customer": "/api/customers/1"}
            if table == "orders"
            else super().links(table, row)
        )


class PlusIsSpace(Depot):
    """Takes a plus in a path for a space, as only a query's is."""

    def there(self, table: str, key: str) -> Any:
        known = key.replace("+", " ") if key not in {"cp"} and "+" in key else key
        if table == "labels" and known not in self.tables[table] and key in self.tables[table]:
            self.tables[table].pop(key)  # so that the run can end
            raise Refused(404)
        return super().there(table, key)


class Wrong(unittest.TestCase):
    def found(self, depot: Depot, family: str, check: str, resource: str = "orders") -> None:
        result = run_on(depot, "read", family)
        mine = [each for each in result.findings if each.check == check and resource in each.resources]
        self.assertTrue(mine, f"{check} of {resource} found nothing: {told(result)}")
        self.assertTrue(all(each.severity in {"error", "warning"} for each in mine))
        self.assertTrue(all(each.reproduce for each in mine))
        self.assertLessEqual(len([each for each in result.findings if resource in each.resources]), 3, told(result))

    def test_rows_inside_rows_of_somebody_else(self) -> None:
        for dialect in (EMBEDDED, ALWAYS, LINES):
            with self.subTest(dialect=dialect.name):
                self.found(OtherCustomer(dialect), "relate", "relate.expand")

    def test_lists_under_rows_that_lack_some(self) -> None:
        self.found(SomeOrders(LINKED), "relate", "relate.sublist", "customers")

    def test_links_that_stay_or_come_twice(self) -> None:
        self.found(LabelStays(EMBEDDED), "relate", "relate.linked")
        self.found(LabelTwice(EMBEDDED), "relate", "relate.linked")

    def test_links_in_rows_that_lead_astray(self) -> None:
        self.found(SelfAstray(LINKED), "relate", "relate.row-links")

    def test_what_deleted_rows_that_are_kept_refer_to_is_not_left(self) -> None:
        depot = KeptOrders(EMBEDDED)
        before = copy.deepcopy(depot.tables)
        result = run_on(depot, "read", "create", "delete", "relate")
        self.assertEqual((result.left, depot.tables), ((), before))
        self.assertIn(("relate.deleted", "customers"), {(each.check, each.resource) for each in result.checks})
        self.assertTrue(depot.kept)

    def test_many_rows_with_what_the_api_sets_itself(self) -> None:
        result = run_on(Stamped(EMBEDDED), "read", "create", "bulk")
        self.assertEqual([each[1] for each in told(result)], ["The refusal 403 is not documented"])
        outcomes = {each.check: each.outcome for each in result.checks if each.resource == "orders"}
        self.assertEqual((outcomes["bulk.create"], outcomes["bulk.bad-item"]), ("passed", "passed"))

    def test_many_rows_at_once(self) -> None:
        self.found(Unchecked(EMBEDDED), "bulk", "bulk.bad-item")
        self.found(AllWell(ALWAYS), "bulk", "bulk.bad-item")
        self.found(LinesLost(LINES), "bulk", "bulk.create")
        self.found(OneTooMany(LINKED), "bulk", "bulk.delete")

    def test_keys_that_are_not_escaped(self) -> None:
        self.found(PlusIsSpace(EMBEDDED), "create", "create.awkward-keys", "labels")

    def test_guards_that_do_not_guard(self) -> None:
        self.found(Trusting(EMBEDDED), "concurrency", "concurrency.stale")
        self.found(Trusting(ALWAYS), "concurrency", "concurrency.version")
        self.found(Trusting(LINKED), "concurrency", "concurrency.version")
        self.found(Forgetful(LINES), "concurrency", "concurrency.retry")


if __name__ == "__main__":
    unittest.main()
