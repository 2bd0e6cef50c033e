"""Defects of who sees and may do what."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import Any

from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.api import BASE, Caller, Key, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect
from checkpost.demo.question import Sql, Wanted
from checkpost.demo.related import RelatedRows
from checkpost.demo.relations import Related
from checkpost.demo.seedbank import EXPIRED

TESTS = "germination_tests"


class _Everything(Caller):
    """A caller who sees all rows."""

    def __init__(self, caller: Caller) -> None:
        super().__init__(caller.user, "curator")


# -- rows --------------------------------------------------------------------------------------------


@defect("scope-not-in-read", TESTS, "GET", "access", "A technician reads the tests of others by key.", item=True)
class ScopeNotInRead(TableApi):
    async def on_read(self, request: Request) -> Response:
        row = self.fetch(self.key_of(request))
        if self.caller(request).role == "technician" and row is not None:
            return self.row_answer(row)
        return await super().on_read(request)


class _ChangesOthers(TableApi):
    method = ""

    def existing(self, caller: Caller, key: Key) -> Row:
        return super().existing(_Everything(caller) if self.busy == self.method else caller, key)

    busy = ""

    async def on_update(self, request: Request) -> Response:
        self.busy = "PATCH"
        try:
            return await super().on_update(request)
        finally:
            self.busy = ""

    async def on_replace(self, request: Request) -> Response:
        self.busy = "PUT"
        try:
            return await super().on_replace(request)
        finally:
            self.busy = ""

    async def on_delete(self, request: Request) -> Response:
        self.busy = "DELETE"
        try:
            return await super().on_delete(request)
        finally:
            self.busy = ""


@defect("changes-others-rows", TESTS, "PATCH", "access", "A technician changes the tests of others.", item=True)
class ChangesOthersRows(_ChangesOthers):
    method = "PATCH"


@defect("replaces-others-rows", TESTS, "PUT", "access", "A technician replaces the tests of others.", item=True)
class ReplacesOthersRows(_ChangesOthers):
    method = "PUT"


@defect("deletes-others-rows", TESTS, "DELETE", "access", "A technician deletes the tests of others.", item=True)
class DeletesOthersRows(_ChangesOthers):
    method = "DELETE"


@defect("scope-not-in-list", TESTS, "GET", "access", "The list shows a technician the tests of others.")
class ScopeNotInList(TableApi):
    def scope(self, caller: Caller) -> Sql:
        return super().scope(_Everything(caller) if caller.role == "technician" else caller)


@defect("many-deletes-others", TESTS, "DELETE", "access", "A technician deletes many tests of others.", at="/bulk")
class ManyDeletesOthers(TableApi):
    def deleting(self, caller: Caller) -> Any:
        return super().deleting(_Everything(caller))


@defect("total-tells-all", TESTS, "GET", "access", "The total counts the tests of others.")
class TotalTellsAll(TableApi):
    def counted(self, matching: Sql) -> int:
        return super().counted(("", []) if "entered_by" in matching[0] else matching)


@defect("aggregate-tells-all", TESTS, "GET", "access", "Aggregates count the tests of others.", at="/aggregate")
class AggregateTellsAll(TableApi):
    async def on_aggregate(self, request: Request) -> Response:
        self.all_rows = True
        try:
            return await super().on_aggregate(request)
        finally:
            self.all_rows = False

    all_rows = False

    def scope(self, caller: Caller) -> Sql:
        return ("", []) if self.all_rows else super().scope(caller)


@defect("filter-opens-scope", TESTS, "GET", "access", "A filter shows a technician the tests of others.")
class FilterOpensScope(TableApi):
    def matching(self, caller: Caller, wanted: Wanted) -> Sql:
        return super().matching(_Everything(caller) if wanted.where is not None else caller, wanted)


@defect(
    "sublist-opens-scope",
    "accessions",
    "GET",
    "access",
    "Under an accession a technician sees the tests of others.",
    at="/{id}/germination-tests",
)
class SublistOpensScope(TableApi):
    def children_matching(self, caller: Caller, other: RelatedRows, wanted: Wanted) -> Sql:
        return super().children_matching(_Everything(caller), other, wanted)


@defect("expansion-opens-scope", "accessions", "GET", "access", "An expansion shows the tests of others.")
class ExpansionOpensScope(TableApi):
    def related_rows(self, caller: Caller, related: Related, row: Row) -> list[Row]:
        return super().related_rows(_Everything(caller), related, row)


@defect("condition-not-in-list", "accessions", "GET", "access", "A visitor is shown accessions that are not active.")
class ConditionNotInList(TableApi):
    def scope(self, caller: Caller) -> Sql:
        return ("", []) if caller.role == "visitor" else super().scope(caller)


@defect("condition-not-in-read", "accessions", "GET", "access", "A visitor reads what is not active.", item=True)
class ConditionNotInRead(TableApi):
    def sees(self, caller: Caller, row: Row) -> bool:
        return caller.role == "visitor" or super().sees(caller, row)


@defect("relation-not-looked-at", TESTS, "GET", "access", "A visitor is shown tests of accessions that are not active.")
class RelationNotLookedAt(TableApi):
    def scope(self, caller: Caller) -> Sql:
        return ("", []) if caller.role == "visitor" else super().scope(caller)


@defect("rows-withheld", TESTS, "GET", "access", "A technician is not shown some of the own tests.")
class RowsWithheld(TableApi):
    def scope(self, caller: Caller) -> Sql:
        condition, values = super().scope(caller)
        return (f"{condition} AND \"medium\" <> 'agar'", values) if caller.role == "technician" else (condition, values)


@defect("list-for-nobody", "loans", "GET", "access", "A visitor is shown the loans.")
class ListForNobody(TableApi):
    def permit(self, caller: Caller, action: str) -> None:
        if caller.role != "visitor" or action != "read":
            super().permit(caller, action)


@defect("list-refused", "species", "GET", "access", "A visitor is refused the species.")
class ListRefused(TableApi):
    async def on_list(self, request: Request) -> Response:
        if self.caller(request).role == "visitor":
            raise Refusal(403, "Not allowed", "Not for visitors.")
        return await super().on_list(request)


@defect("read-refused", "collectors", "GET", "access", "An auditor cannot read a collector.", item=True)
class ReadRefused(TableApi):
    def existing(self, caller: Caller, key: Key) -> Row:
        if caller.role == "auditor":
            raise Refusal(404, "Not found", "No row has this key.")
        return super().existing(caller, key)


@defect("create-refused", TESTS, "POST", "access", "A technician cannot enter tests.")
class CreateRefused(TableApi):
    def permit(self, caller: Caller, action: str) -> None:
        if caller.role == "technician" and action == "create":
            raise Refusal(403, "Not allowed", "Not for technicians.")
        super().permit(caller, action)


@defect("tag-tells", TESTS, "GET", "access", "A known tag tells of the tests of others.", item=True)
class TagTells(TableApi):
    async def on_read(self, request: Request) -> Response:
        self.caller(request)
        row = self.fetch(self.key_of(request))
        if row is not None and request.headers.get("if-none-match") == self.tag(row):
            return Response(status_code=304, headers={"ETag": self.tag(row)})
        return await super().on_read(request)


# -- actions -----------------------------------------------------------------------------------------


class _Permits(TableApi):
    actions: tuple[str, ...] = ()

    def permit(self, caller: Caller, action: str) -> None:
        if caller.role != "technician" or action not in self.actions:
            super().permit(caller, action)


@defect("technician-creates", "species", "POST", "access", "A technician creates species.")
class TechnicianCreates(_Permits):
    actions = ("create",)

    async def on_bulk_create(self, request: Request) -> Response:
        TableApi.permit(self, self.caller(request), "delete")
        return await super().on_bulk_create(request)


@defect("technician-updates", "vaults", "PATCH", "access", "A technician changes vaults.", item=True)
class TechnicianUpdates(_Permits):
    actions = ("update",)


@defect("technician-replaces", "tags", "PUT", "access", "A technician replaces tags.", item=True)
class TechnicianReplaces(_Permits):
    actions = ("replace",)


@defect("technician-deletes", "loans", "DELETE", "access", "A technician deletes loans.", item=True)
class TechnicianDeletes(_Permits):
    async def on_delete(self, request: Request) -> Response:
        self.actions = ("delete",)
        try:
            return await super().on_delete(request)
        finally:
            self.actions = ()


@defect("technician-creates-many", "tags", "POST", "access", "A technician creates many tags at once.", at="/bulk")
class TechnicianCreatesMany(_Permits):
    async def on_bulk_create(self, request: Request) -> Response:
        self.actions = ("create",)
        try:
            return await super().on_bulk_create(request)
        finally:
            self.actions = ()


@defect("technician-deletes-many", "vaults", "DELETE", "access", "A technician deletes many vaults.", at="/bulk")
class TechnicianDeletesMany(_Permits):
    async def on_bulk_delete(self, request: Request) -> Response:
        self.actions = ("delete",)
        try:
            return await super().on_bulk_delete(request)
        finally:
            self.actions = ()


@defect("refused-delete-by-role", "collectors", "DELETE", "access", "A delete that is refused is done.", item=True)
class RefusedDeleteByRole(TableApi):
    async def on_delete(self, request: Request) -> Response:
        try:
            return await super().on_delete(request)
        except Refusal as refusal:
            if refusal.status == 403:
                self.remove(self.key_of(request))
            raise


@defect("refusal-like-success", "species", "PATCH", "access", "A change that is not made is answered 200.", item=True)
class RefusalLikeSuccess(TableApi):
    async def on_update(self, request: Request) -> Response:
        caller = self.caller(request)
        if caller.role == "technician":
            return self.row_answer(self.existing(caller, self.key_of(request)))
        return await super().on_update(request)


@defect("public-creates", "tags", "POST", "access", "Anybody creates tags.")
class PublicCreates(TableApi):
    async def on_create(self, request: Request) -> Response:
        if request.headers.get("authorization") is None:
            return self.create(request, Caller(None, "curator"), await self.body(request))
        return await super().on_create(request)


@defect("owner-as-sent", TESTS, "POST", "access", "A technician enters tests in the name of others.")
class OwnerAsSent(TableApi):
    def store(self, caller: Caller, body: Any) -> Key:
        key = super().store(caller, body)
        if isinstance(body, dict) and isinstance(body.get("entered_by"), str) and caller.role == "technician":
            self.change(key, {"entered_by": body["entered_by"]})
        return key


@defect("owner-given-away", TESTS, "PATCH", "access", "A technician gives a test to another.", item=True)
class OwnerGivenAway(TableApi):
    async def on_update(self, request: Request) -> Response:
        answer = await super().on_update(request)
        body = await self.body(request)
        if isinstance(body.get("entered_by"), str) and self.caller(request).role == "technician":
            self.change(self.key_of(request), {"entered_by": body["entered_by"]})
        return answer


@defect("own-update-refused", TESTS, "PATCH", "access", "A technician cannot change the own tests.", item=True)
class OwnUpdateRefused(TableApi):
    async def on_update(self, request: Request) -> Response:
        if self.caller(request).role == "technician":
            raise Refusal(403, "Not allowed", "Not for technicians.")
        return await super().on_update(request)


@defect("own-update-lost", TESTS, "PATCH", "access", "A technician's change looks saved and is not.", item=True)
class OwnUpdateLost(TableApi):
    async def on_update(self, request: Request) -> Response:
        caller, key = self.caller(request), self.key_of(request)
        before = self.fetch(key)
        answer = await super().on_update(request)
        if caller.role == "technician" and before is not None:
            self.change(key, {name: value for name, value in before.items() if name not in self.table.key})
        return answer


@defect("own-delete-refused", TESTS, "DELETE", "access", "A technician cannot delete the own tests.", item=True)
class OwnDeleteRefused(TableApi):
    async def on_delete(self, request: Request) -> Response:
        if self.caller(request).role == "technician":
            raise Refusal(403, "Not allowed", "Not for technicians.")
        return await super().on_delete(request)


# -- fields ------------------------------------------------------------------------------------------


@defect("hidden-in-list", "accessions", "GET", "access", "The list shows a visitor where plants grow.")
class HiddenInList(TableApi):
    def shown(self, request: Request, caller: Caller, rows: list[Row], wanted: Wanted) -> list[Row]:
        known = super().shown(request, caller, rows, wanted)
        wanted_rows = zip(rows, known, strict=True)
        return [{**self.selected(row, wanted), **each} for row, each in wanted_rows]


@defect("hidden-in-read", "accessions", "GET", "access", "Reading shows a visitor where plants grow.", item=True)
class HiddenInRead(TableApi):
    def one(self, request: Request, caller: Caller, row: Row) -> Response:
        return super().one(request, Caller(caller.user, "curator") if caller.role == "visitor" else caller, row)


@defect("hidden-inside", TESTS, "GET", "access", "An expansion shows a visitor where plants grow.")
class HiddenInside(TableApi):
    def expanded(self, caller: Caller, row: Row, shown: Row, names: Any) -> Row:
        found = super().expanded(caller, row, shown, names)
        inner = found.get("accession")
        raw = self.others["accessions"].fetch((row["accession_id"],)) if inner else None
        return {**found, "accession": {**inner, "latitude": raw["latitude"]}} if inner and raw else found


@defect("hidden-selected", "accessions", "GET", "access", "A selection shows a visitor where plants grow.")
class HiddenSelected(TableApi):
    def refuse_hidden(self, caller: Caller, wanted: Wanted) -> None:
        super().refuse_hidden(caller, replace(wanted, select=()))

    def shown(self, request: Request, caller: Caller, rows: list[Row], wanted: Wanted) -> list[Row]:
        asked = Caller(caller.user, "curator") if wanted.select else caller
        return super().shown(request, asked, rows, wanted)


@defect("hidden-filtered", "accessions", "GET", "access", "A filter tells a visitor where plants grow.")
class HiddenFiltered(TableApi):
    def filtered_by(self, wanted: Wanted) -> set[str]:
        return set()


@defect("hidden-sorted", "accessions", "GET", "access", "An order tells a visitor where plants grow.")
class HiddenSorted(TableApi):
    def ordered_by(self, wanted: Wanted) -> set[str]:
        return set()


# -- credentials and caches ----------------------------------------------------------------------------


@defect("expired-taken", "collectors", "GET", "access", "A token that has expired is taken.")
class ExpiredTaken(TableApi):
    def caller(self, request: Request) -> Caller:
        if EXPIRED in request.headers.get("authorization", ""):
            return Caller("mira", "curator")
        return super().caller(request)


@defect("any-scheme-taken", "loans", "GET", "access", "A token is taken under any scheme.")
class AnySchemeTaken(TableApi):
    def caller(self, request: Request) -> Caller:
        token = request.headers.get("authorization", "").rpartition(" ")[2]
        return Caller(*self.tokens[token]) if token in self.tokens else super().caller(request)


@defect("cached-for-all", "accessions", "GET", "access", "Caches may serve one role's list to others.")
class CachedForAll(TableApi):
    def finished(self, request: Request, answer: Response) -> Response:
        if request.method == "GET":
            answer.headers["Cache-Control"] = "public, max-age=600"
        return super().finished(request, answer)


@defect(
    "unexposed-served", "species", "GET", "access", "A table that is not exposed can be read.", path="/donorContacts"
)
class UnexposedServed(TableApi):
    def routes(self) -> list[Route]:
        async def answer(request: Request) -> Response:
            return json_answer({"items": [{"id": 1, "name": "Not for anyone"}], "total": 1, "next": None})

        return [*super().routes(), Route(f"{BASE}/donorContacts", answer)]


# -- ways round that only writes take ----------------------------------------------------------------


@defect("conflict-tells", TESTS, "POST", "access", "A conflict tells a technician of the tests of others.")
class ConflictTells(TableApi):
    async def on_create(self, request: Request) -> Response:
        body = await self.body(request)
        tray = body.get("tray") if isinstance(body, dict) else None
        taken = self.database.select(self.table, 'WHERE "tray" = ?', [tray]) if isinstance(tray, str) else []
        if taken:
            self.permit(self.caller(request), "create")
            where = f"the tray of the test id {taken[0]['id']}, started_on {taken[0]['started_on']}"
            raise Refusal(409, "Conflict", f"This is {where}.")
        return await super().on_create(request)


@defect(
    "filter-deletes-others", TESTS, "DELETE", "access", "By filter a technician deletes the tests of others.",
    spelling="suffix",
)  # fmt: skip
class FilterDeletesOthers(TableApi):
    async def on_filtered_delete(self, request: Request) -> Response:
        self.everything = True
        try:
            return await super().on_filtered_delete(request)
        finally:
            self.everything = False

    everything = False

    def matching(self, caller: Caller, wanted: Wanted) -> Sql:
        return super().matching(_Everything(caller) if self.everything else caller, wanted)


@defect("filter-changes-any", "loans", "PATCH", "access", "By filter a technician changes loans.", spelling="suffix")
class FilterChangesAny(_Permits):
    async def on_filtered_update(self, request: Request) -> Response:
        self.actions = ("update",)
        try:
            return await super().on_filtered_update(request)
        finally:
            self.actions = ()


class _Linking(TableApi):
    """Whether rows may be linked is not asked while one of these runs."""

    async def unasked(self, request: Request, related: Related, method: str) -> Response:
        between = self.others[related.junction.name] if related.junction else self.others[related.table.name]
        asks, between.permit = between.permit, lambda caller, action: None  # type: ignore[method-assign]
        try:
            return await getattr(super(), method)(request, related)  # type: ignore[no-any-return]
        finally:
            between.permit = asks  # type: ignore[method-assign]


@defect("anyone-links", "species", "PUT", "access", "A technician tags species.", at="/{id}/tags/{id}")
class AnyoneLinks(_Linking):
    async def on_link(self, request: Request, related: Related) -> Response:
        self.caller(request)
        return await self.unasked(request, related, "on_link")


@defect("anyone-unlinks", "tags", "DELETE", "access", "A technician takes tags off.", at="/{id}/species/{id}")
class AnyoneUnlinks(_Linking):
    async def on_unlink(self, request: Request, related: Related) -> Response:
        self.caller(request)
        return await self.unasked(request, related, "on_unlink")


@defect(
    "anyone-makes-under", "accessions", "POST", "access", "Under an accession a visitor enters tests.",
    at="/{id}/germination-tests",
)  # fmt: skip
class AnyoneMakesUnder(_Linking):
    async def on_create_child(self, request: Request, related: Related) -> Response:
        if related.table.name != TESTS or self.caller(request).role != "visitor":
            return await super().on_create_child(request, related)
        return await self.unasked(request, related, "on_create_child")


# -- credentials that should be good no more, or elsewhere ---------------------------------------------


@defect("outlives-log-out", "loans", "GET", "access", "A token that was given up is still taken.")
class OutlivesLogOut(TableApi):
    def caller(self, request: Request) -> Caller:
        given = request.headers.get("authorization", "")
        try:
            found = super().caller(request)
        except Refusal:
            if given not in self.known:
                raise
            return self.known[given]
        if given:
            self.known[given] = found
        return found

    @cached_property
    def known(self) -> dict[str, Caller]:
        return {}


@defect("token-in-query", "collectors", "GET", "access", "A token is taken from the query.")
class TokenInQuery(TableApi):
    def caller(self, request: Request) -> Caller:
        token = request.query_params.get("access_token", "")
        return Caller(*self.tokens[token]) if token in self.tokens else super().caller(request)
