"""Rights of roles on an API of its own: keys in headers, owners by number, and refusals of several kinds."""

from __future__ import annotations

import asyncio
import copy
import json
import os
import tempfile
import unittest
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.engine.plan import plan
from checkpost.engine.run import Result, run
from checkpost.engine.target import aim
from checkpost.findings import Finding, Findings
from checkpost.profile.profile import read_profile
from checkpost.wire.session import Limits
from tests.foreign import Served

Json = dict[str, Any]
KEYS = {"k-admin": "admin", "k-writer": "writer", "k-reader": "reader"}
WRITER = 7
ROW: Json = {
    "type": "object",
    "properties": {
        "id": {"type": "integer", "readOnly": True},
        "title": {"type": "string", "minLength": 1, "maxLength": 80},
        "author_id": {"type": "integer", "minimum": 1, "maximum": 99},
        "published": {"type": "boolean"},
        "draft": {"type": ["string", "null"], "maxLength": 200},
    },
}
NEW = {**ROW, "required": ["title"], "additionalProperties": False}
PROFILE = """
contract: contract.json
base_url: {url}
roles:
  admin: {{header: {{X-Api-Key: "${{NOTES_ADMIN}}"}}}}
  writer: {{header: {{X-Api-Key: "${{NOTES_WRITER}}"}}, identity: {{author_id: 7}}}}
  reader: {{header: {{X-Api-Key: "${{NOTES_READER}}"}}}}
  public: none
access:
  notes:
    writer: all own author_id
    reader: list, read where published = true hide draft
    public: none
"""


class Notes:
    """Writers have their own notes, readers the published ones without their drafts. ``refusal`` is the status of
    what is not allowed; 200 answers an empty list, and 404 by key."""

    PROFILE = PROFILE

    def __init__(self, refusal: int = 403) -> None:
        self.refusal = refusal
        self.notes: dict[int, Json] = {
            n: {
                "id": n,
                "title": f"note {n}",
                "author_id": WRITER if n % 3 == 0 else 1 + n % 5,
                "published": n % 2 == 0,
                "draft": f"draft {n}",
            }
            for n in range(1, 31)
        }
        self.last = 100

    def contract(self) -> Json:
        def content(schema: Json) -> Json:
            return {"content": {"application/json": {"schema": schema}}}

        refused = {code: {"description": "refused"} for code in ("400", "401", "403", "404", "415", "422")}
        answer = {"200": {"description": "", **content(ROW)}, **refused}
        listed = {
            "type": "object",
            "properties": {"data": {"type": "array", "items": ROW}, "total": {"type": "integer"}},
        }
        key = {"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}
        return {
            "openapi": "3.0.3",
            "info": {"title": "notes", "version": "1"},
            "security": [{"key": []}],
            "components": {"securitySchemes": {"key": {"type": "apiKey", "in": "header", "name": "X-Api-Key"}}},
            "paths": {
                "/notes": {
                    "get": {"responses": {"200": {"description": "", **content(listed)}, **refused}},
                    "post": {
                        "requestBody": content(NEW),
                        "responses": {"201": {"description": "", **content(ROW)}, **refused},
                    },
                },
                "/notes/{id}": {
                    "parameters": [key],
                    "get": {"responses": answer},
                    "patch": {"requestBody": content({**NEW, "required": []}), "responses": answer},
                    "delete": {"responses": {"204": {"description": ""}, **refused}},
                },
            },
        }

    def role(self, request: Request) -> str:
        key = request.headers.get("x-api-key")
        return KEYS.get(key or "", "wrong" if key else "public")

    def sees(self, role: str, note: Json) -> bool:
        return {"admin": True, "writer": note["author_id"] == WRITER, "reader": bool(note["published"])}.get(
            role, False
        )

    def changes(self, role: str, note: Json) -> bool:
        return role == "admin" or (role == "writer" and note["author_id"] == WRITER)

    def shown(self, role: str, note: Json) -> Json:
        return {name: value for name, value in note.items() if role != "reader" or name != "draft"}

    def total(self, role: str, rows: list[Json]) -> int:
        return len(rows)

    def valid(self, body: Any, partial: bool) -> bool:
        kinds = {"title": str, "author_id": int, "published": bool, "draft": (str, type(None))}
        if not isinstance(body, dict) or set(body) - set(kinds) or (not partial and "title" not in body):
            return False
        if any(not isinstance(value, kinds[name]) for name, value in body.items()):
            return False
        author = body.get("author_id", 1)
        sized = 1 <= len(body.get("title", "x")) <= 80 and len(body.get("draft") or "") <= 200
        return sized and type(author) is int and 1 <= author <= 99

    def owned(self, role: str, body: Json) -> Json:
        return {**body, "author_id": WRITER} if role == "writer" else body

    def kept(self, role: str, body: Json) -> Json:
        return {name: value for name, value in body.items() if role != "writer" or name != "author_id"}

    async def answer(self, request: Request) -> Response:
        role, key = self.role(request), request.path_params.get("id")
        if role in {"public", "wrong"}:
            return Response(status_code=401, headers={"WWW-Authenticate": "Key"})
        if key is None and request.method == "GET":
            rows = [self.shown(role, note) for note in self.notes.values() if self.sees(role, note)]
            return JSONResponse({"data": rows, "total": self.total(role, rows)})
        body: Any = {}
        if request.method in {"POST", "PATCH"}:
            if "json" not in request.headers.get("content-type", ""):
                return Response(status_code=415)
            try:
                body = json.loads(await request.body())
            except ValueError:
                return Response(status_code=400)
        if key is None:
            if not self.changes(role, {"author_id": WRITER}):
                return Response(status_code=403)
            if not self.valid(body, False):
                return Response(status_code=422)
            self.last += 1
            usual = {"author_id": 1, "published": False, "draft": None}
            self.notes[self.last] = {**usual, **self.owned(role, body), "id": self.last}
            return JSONResponse(self.shown(role, self.notes[self.last]), 201)
        note = self.notes.get(int(key)) if str(key).isdigit() else None
        if note is None or not (self.sees(role, note) or (request.method != "GET" and self.changes(role, note))):
            return Response(status_code=404 if note is None or self.refusal == 200 else self.refusal)
        if request.method == "GET":
            return JSONResponse(self.shown(role, note))
        if not self.changes(role, note):
            return Response(status_code=403)
        if request.method == "DELETE":
            del self.notes[note["id"]]
            return Response(status_code=204)
        if not self.valid(body, True):
            return Response(status_code=422)
        note.update(self.kept(role, body))
        return JSONResponse(self.shown(role, note))

    def app(self) -> Starlette:
        methods = ["GET", "POST", "PATCH", "DELETE"]
        return Starlette(
            routes=[
                Route("/notes", self.answer, methods=["GET", "POST"]),
                Route("/notes/{id}", self.answer, methods=methods),
            ]
        )


def run_on(notes: Notes) -> Result:
    os.environ.update({f"NOTES_{role.upper()}": key for key, role in KEYS.items()})
    with tempfile.TemporaryDirectory() as name, Served(notes.app()) as served:
        folder = Path(name)
        (folder / "contract.json").write_text(json.dumps(notes.contract()), "utf-8")
        (folder / "checkpost.yaml").write_text(notes.PROFILE.format(url=served.base_url), "utf-8")
        target = aim(read_profile(folder / "checkpost.yaml"), False, 10.0)
        planned = plan(target.model, ["access"], (), target.no_writes, actors=target.actors)
        return asyncio.run(run(target, planned, Limits(), 1, transport=served.direct))


class Sound(unittest.TestCase):
    def test_refusals_of_any_kind_are_right(self) -> None:
        for refusal in (403, 404, 200):
            with self.subTest(refusal=refusal):
                notes = Notes(refusal)
                before = copy.deepcopy(notes.notes)
                result = run_on(notes)
                self.assertEqual([(each.check, each.role, each.title, each.observed) for each in result.findings], [])
                self.assertEqual(notes.notes, before)
                passed = {(each.check, each.role) for each in result.checks if each.outcome == "passed"}
                for role in ("writer", "reader", "public"):
                    self.assertIn(("access.rows", role), passed)
                    self.assertIn(("access.writes", role), passed)


class Tenants(Notes):
    """The one that runs sees the published notes, the reader the others; ``leaks`` shows the reader one of those."""

    PROFILE = PROFILE.replace("list, read where published = true hide draft", "all where published = false").replace(
        "writer: all own author_id", "writer: none"
    )

    def contract(self) -> Json:
        kind = '"published": {"type": "boolean"'
        return json.loads(json.dumps(super().contract()).replace(kind, kind + ', "readOnly": true'))  # type: ignore[no-any-return]

    def __init__(self, leaks: bool = False, more: int = 0) -> None:
        super().__init__()
        self.leaks, self.more = leaks, more
        if leaks:
            self.notes[99] = {**self.notes[1], "id": 99, "published": True, "title": "seen by the reader alone"}

    def sees(self, role: str, note: Json) -> bool:
        if note["id"] == 99:
            return role == "reader"
        return role in {"admin", "reader"} and note["published"] == (role == "admin")

    def changes(self, role: str, note: Json) -> bool:
        return role in {"admin", "reader"} and (note.get("id") is None or self.sees(role, note))

    def shown(self, role: str, note: Json) -> Json:
        return dict(note)

    def total(self, role: str, rows: list[Json]) -> int:
        return len(rows) + (self.more if role == "reader" else 0)

    def owned(self, role: str, body: Json) -> Json:
        return {**body, "published": role == "admin"}

    def kept(self, role: str, body: Json) -> Json:
        return {name: value for name, value in body.items() if name != "published"}


class RowsOfTheirOwn(unittest.TestCase):
    """Roles of which none sees all rows, as where each has those of its tenant."""

    def found(self, notes: Notes) -> list[tuple[str, str | None, str, str]]:
        return [(each.check, each.role, each.title, each.observed) for each in run_on(notes).findings]

    def test_rows_that_the_run_does_not_see_are_no_departure(self) -> None:
        self.assertEqual(self.found(Tenants()), [])

    def test_one_of_them_that_the_condition_leaves_out_is_a_leak(self) -> None:
        title = "A role is shown rows that it may not see"
        self.assertEqual(self.found(Tenants(leaks=True)), [("access.rows", "reader", title, "1 rows more")])

    def test_a_total_that_counts_more_than_both_see_is_told(self) -> None:
        title = "A total counts rows that the role may not see"
        self.assertEqual(self.found(Tenants(more=15)), [("access.rows", "reader", title, "30")])


class SeesAll(Notes):
    def sees(self, role: str, note: Json) -> bool:
        return role in {"admin", "writer", "reader"}


class ChangesAll(Notes):
    def changes(self, role: str, note: Json) -> bool:
        return role in {"admin", "writer"}


class ShowsDrafts(Notes):
    def shown(self, role: str, note: Json) -> Json:
        return dict(note)


class CountsAll(Notes):
    def total(self, role: str, rows: list[Json]) -> int:
        return len(self.notes)


class SeesTooLittle(Notes):
    def sees(self, role: str, note: Json) -> bool:
        return super().sees(role, note) and not (role == "reader" and note["id"] < 5)


class AnyAuthor(Notes):
    def owned(self, role: str, body: Json) -> Json:
        return {"author_id": WRITER, **body} if role == "writer" else body

    def kept(self, role: str, body: Json) -> Json:
        return body


class ReadersWrite(Notes):
    def changes(self, role: str, note: Json) -> bool:
        return super().changes(role, note) or role == "reader"


class KeyInQuery(Notes):
    def role(self, request: Request) -> str:
        return KEYS.get(request.query_params.get("X-Api-Key", ""), super().role(request))


class Refuses(Notes):
    """Answers those without valid credentials in another way."""

    def __init__(self, status: int, headers: dict[str, str]) -> None:
        super().__init__()
        self.status, self.headers = status, headers

    async def answer(self, request: Request) -> Response:
        if self.role(request) in {"public", "wrong"}:
            return Response(status_code=self.status, headers=self.headers)
        return await super().answer(request)


class UpdatesNothing(Notes):
    def kept(self, role: str, body: Json) -> Json:
        return {} if role == "writer" else body


class LogIns(Notes):
    """Writers get a key by a log-in and give it up; ``forgets`` says whether that ends it."""

    def __init__(self, forgets: bool) -> None:
        super().__init__()
        self.forgets, self.given = forgets, 0
        self.good: set[str] = set()

    def contract(self) -> Json:
        document = super().contract()
        for word, said in (("sign-in", [{}]), ("sign-out", [{"key": []}])):
            answers = {"200": {"description": ""}, "401": {"description": ""}}
            document["paths"]["/session/" + word] = {"post": {"security": said, "responses": answers}}
        return document

    def role(self, request: Request) -> str:
        return "writer" if request.headers.get("x-api-key") in self.good else super().role(request)

    def app(self) -> Starlette:
        async def enter(request: Request) -> Response:
            if await request.body() != b"code=k-writer":
                return Response(status_code=401)
            self.given += 1
            self.good.add(f"s-{self.given}-token")
            return JSONResponse({"session": {"key": f"s-{self.given}-token"}})

        async def leave(request: Request) -> Response:
            if self.forgets:
                self.good.discard(request.headers.get("x-api-key", ""))
            return JSONResponse({})

        app = super().app()
        app.routes.append(Route("/session/sign-in", enter, methods=["POST"]))
        app.routes.append(Route("/session/sign-out", leave, methods=["POST"]))
        return app

    PROFILE = PROFILE.replace(
        'writer: {{header: {{X-Api-Key: "${{NOTES_WRITER}}"}}, identity',
        'writer: {{login: {{url: session/sign-in, form: {{code: "${{NOTES_WRITER}}"}}, token: /session/key,'
        " header: X-Api-Key}}, identity",
    )


class WithoutCredentials(unittest.TestCase):
    def found(self, notes: Notes) -> list[tuple[str, str, str]]:
        return [(each.severity, each.check, each.title) for each in run_on(notes).findings]

    def test_keys_belong_where_the_contract_has_them(self) -> None:
        title = "Credentials in another place are taken"
        self.assertEqual(self.found(KeyInQuery()), [("warning", "access.credentials", title)])

    def test_a_401_says_how(self) -> None:
        title = "A 401 does not say how to authenticate"
        self.assertEqual(self.found(Refuses(401, {})), [("note", "access.no-credentials", title)])

    def test_a_403_is_not_for_those_without(self) -> None:
        title = "Requests without valid credentials are answered 403"
        self.assertEqual(self.found(Refuses(403, {})), [("note", "access.no-credentials", title)])

    def test_a_log_out_ends_the_rights(self) -> None:
        self.assertEqual(self.found(LogIns(forgets=True)), [])
        title = "A role's rights outlive its log-out"
        result = run_on(LogIns(forgets=False))
        self.assertEqual([each.title for each in result.findings], [title])
        self.assertIn("WRITER_TOKEN_NOTES", result.findings[0].reproduce)
        self.assertNotRegex(result.findings[0].reproduce, r"s-\d-token")

    def test_a_change_that_is_not_stored(self) -> None:
        title = "An update by a role is answered with success and not done"
        self.assertIn(("error", "access.writes", title), self.found(UpdatesNothing()))


class Wrong(unittest.TestCase):
    def found(self, notes: Notes) -> dict[str, tuple[str, set[str]]]:
        """What is found, by title: the check and the roles that are named."""
        result = run_on(notes)
        for each in result.findings:
            self.assertEqual((each.basis, each.severity), ("profile", "error"), each)
            self.assertTrue(each.reproduce)
        return {each.title: (each.check, set(each.role.split(", "))) for each in result.findings}

    def test_rows_of_others_are_shown(self) -> None:
        found = self.found(SeesAll())
        self.assertEqual(
            found["A role is shown rows that it may not see"][1] & {"writer", "reader"}, {"writer", "reader"}
        )

    def test_rows_of_others_are_changed(self) -> None:
        found = self.found(ChangesAll())
        self.assertEqual(found["A role changes rows that it may not"], ("access.writes", {"writer"}))
        self.assertEqual(found["A role deletes rows that it may not"], ("access.writes", {"writer"}))

    def test_hidden_fields_are_shown(self) -> None:
        found = self.found(ShowsDrafts())
        self.assertEqual({roles for _, roles in found.values() for roles in roles}, {"reader"})
        self.assertIn("A role is shown fields that are hidden from it", found)

    def test_a_total_tells(self) -> None:
        found = self.found(CountsAll())
        self.assertEqual(
            found, {"A total counts rows that the role may not see": ("access.rows", {"writer", "reader"})}
        )

    def test_rows_are_withheld(self) -> None:
        found = self.found(SeesTooLittle())
        self.assertEqual(found["A role is not shown rows that it may see"], ("access.rows", {"reader"}))

    def test_rows_are_given_away(self) -> None:
        found = self.found(AnyAuthor())
        self.assertIn("A row that a role makes belongs to another", found)
        self.assertEqual({name for _, roles in found.values() for name in roles}, {"writer"})

    def test_readers_write(self) -> None:
        found = self.found(ReadersWrite())
        titles = {title for title, (_, roles) in found.items() if roles == {"reader"}}
        self.assertTrue({"A role creates rows that it may not", "A role changes rows that it may not"} <= titles, found)


class OneCause(unittest.TestCase):
    """Findings that differ in the role alone are one, and keep apart what is not."""

    def finding(self, role: str, cause: str = "any:leak", resource: str = "notes") -> Finding:
        return Finding("access.rows", "access", resource, role, "error", "profile", "t", "e", "o", cause)

    def test_roles_are_joined(self) -> None:
        findings = Findings()
        findings.add([self.finding("writer"), self.finding("reader"), self.finding("reader", "any:other")])
        findings.add([self.finding("writer", resource="books")])
        findings.unite()
        told = sorted((each.resource or "", each.role, each.cause) for each in findings.all())
        expected = [
            ("books", "writer", "any:leak"),
            ("notes", "reader", "any:other"),
            ("notes", "reader, writer", "any:leak"),
        ]
        self.assertEqual(told, expected)
        self.assertEqual({each.count for each in findings.all()}, {1, 2})


if __name__ == "__main__":
    unittest.main()
