"""Roles: their rights as the profile states them, their log-ins, what they are seen to do, and secrets that stay so."""

from __future__ import annotations

import base64
import json
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from unittest import mock

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.demo.seedbank import EXPIRED, PASSWORDS, TOKENS
from checkpost.demo.server import InProcess
from checkpost.model.access import ACTIONS, READS
from checkpost.model.query import Compare, Either, Every, Not
from checkpost.oracle.rights import holds
from checkpost.profile.access import RightsError, rights
from checkpost.profile.claims import claims_of, in_words
from checkpost.profile.credentials import Credential, Role
from checkpost.profile.profile import ProfileError, read_profile
from tests.foreign import Served
from tests.support import called, write_example

Json = dict[str, Any]


class Lines(unittest.TestCase):
    """A role's rights from their line."""

    def test_actions(self) -> None:
        for text, expected in (
            ("none", set()),
            ("all", set(ACTIONS)),
            ("read", set(READS)),
            ("list, create update", {"list", "create", "update", "replace", "bulk"}),
            ("read, delete", {*READS, "delete", "bulk"}),
            ("list, read", {"list", "read"}),
        ):
            self.assertEqual(set(rights(text, None).actions), expected, text)

    def test_clauses(self) -> None:
        found = rights("all own entered_by hide notes, code keep status", "tomas")
        self.assertEqual(found.rows, Compare("entered_by", "eq", "tomas"))
        self.assertEqual((found.owner, found.identity), ("entered_by", "tomas"))
        self.assertEqual((found.hidden, found.kept), (("notes", "code"), ("status",)))
        self.assertEqual(found.short, "all own in part")
        self.assertIn("entered_by = 'tomas'", found.in_words)
        by_field = rights("read own user_id", {"user_id": 7, "team": "a"})
        self.assertEqual(by_field.rows, Compare("user_id", "eq", 7))

    def test_conditions(self) -> None:
        both = rights("read own owner where status = 'it''s' or (size >= 3 and not code in (1, 2))", "me!").rows
        assert isinstance(both, Every)
        self.assertEqual(both.parts[0], Compare("owner", "eq", "me!"))
        inner = Every((Compare("size", "ge", 3), Not(Compare("code", "in", (1, 2)))))
        self.assertEqual(both.parts[1], Either((Compare("status", "eq", "it's"), inner)))
        self.assertEqual(rights("list where shelf_id.row is not null", None).rows, Compare("shelf_id.row", "not_null"))
        self.assertEqual(rights("list where team = me", {"team": "a"}).rows, Compare("team", "eq", "a"))
        self.assertEqual(rights("list where price < 2.5", None).rows, Compare("price", "lt", 2.5))

    def test_what_cannot_be_read_is_told(self) -> None:
        for text, words in (
            ("", "say first what"),
            ("reed", "no action 'reed'"),
            ("read own owner", "no identity for owner"),
            ("read where status = active", "must be quoted"),
            ("read where status = 'a' 'b'", "goes on after its end"),
            ("read where status", "ends too early"),
            ("read where (a = 1", "ends too early"),
            ("read where a ~ 1", "cannot be read"),
            ("read where a like 'x'", "'like' compares nothing"),
            ("read hide a hide b", "appears twice"),
        ):
            with self.subTest(text=text), self.assertRaises(RightsError) as caught:
                rights(text, None)
            self.assertIn(words, str(caught.exception), text)

    def test_the_profile_names_the_line(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "checkpost.yaml"
            file.write_text("roles:\n  clerk: none\naccess:\n  books:\n    clerk: read where x = y\n", "utf-8")
            with self.assertRaises(ProfileError) as caught:
                read_profile(file)
            self.assertRegex(str(caught.exception), r"line 5: the text 'y' must be quoted")
            file.write_text("roles:\n  clerk: none\naccess:\n  books: {clark: read}\n", "utf-8")
            with self.assertRaises(ProfileError) as caught:
                read_profile(file)
            self.assertRegex(str(caught.exception), r"line 4: there is no role 'clark'; did you mean 'clerk'")


class Rows(unittest.TestCase):
    """Which rows a condition leaves."""

    def left(self, text: str) -> list[int]:
        rows: list[Json] = [
            {"id": 1, "status": "active", "size": 3, "shelf": {"row": 7}},
            {"id": 2, "status": "gone", "size": None, "shelf": {"row": None}},
            {"id": 3, "status": None, "size": 11, "shelf": {}},
        ]

        def look(row: Any, path: str) -> tuple[Any, None]:
            name, _, rest = path.partition(".")
            return (row[name].get(rest) if rest else row[name]), None

        condition = rights(f"read where {text}", None).rows
        return [row["id"] for row in rows if holds(condition, row, look)]

    def test_conditions(self) -> None:
        for text, expected in (
            ("status = 'active'", [1]),
            ("status != 'active'", [2]),
            ("not status = 'active'", [2, 3]),
            ("size > 3", [3]),
            ("size >= 3 and status is not null", [1]),
            ("size is null or status is null", [2, 3]),
            ("status in ('active', 'gone')", [1, 2]),
            ("status contains 'on'", [2]),
            ("status starts 'act'", [1]),
            ("shelf.row = 7", [1]),
            ("size > 'a'", []),
        ):
            self.assertEqual(self.left(text), expected, text)


def token(**claims: Any) -> str:
    part = base64.urlsafe_b64encode(json.dumps(claims).encode()).decode().rstrip("=")
    return f"eyJhbGciOiJIUzI1NiJ9.{part}.c2lnbmF0dXJl"


class Claims(unittest.TestCase):
    ROLE = Role("clerk", (Credential("header", "Authorization", "Bearer ${T}"),))

    def test_a_token_says_whose_it_is(self) -> None:
        known = claims_of(
            self.ROLE, {"T": token(sub="mira", roles=["curator", "staff"], exp=1_700_000_000, jti="secret")}
        )
        self.assertEqual(known, {"sub": "mira", "roles": ["curator", "staff"], "exp": 1_700_000_000})
        moment = datetime(2023, 11, 14, tzinfo=UTC)
        self.assertEqual(in_words(known, moment), "sub mira, roles curator, staff, expires 2023-11-14T22:13+00:00")
        self.assertIn("expired 2023", in_words(known))

    def test_other_tokens_say_nothing(self) -> None:
        for text in ("abc", "a.b", "a.b.c", f"x.{base64.urlsafe_b64encode(b'[1]').decode()}.y"):
            self.assertEqual(claims_of(self.ROLE, {"T": text}), {}, text)
        self.assertEqual(claims_of(self.ROLE, {}), {})


class Desk:
    """Items for those who have logged in: by JSON, or by OAuth 2.0; the first token has expired when it is given."""

    def __init__(self, lasts: int = 9) -> None:
        self.lasts, self.given, self.asked, self.most = lasts, 0, 0, 10_000
        self.left: dict[str, int] = {}
        self.log: list[tuple[str, str]] = []

    def new_token(self) -> str:
        self.given += 1
        made = f"desk-token-{self.given}"
        self.left[made] = self.lasts if self.given > 1 else 0  # the first one has expired already
        return made

    async def login(self, request: Request) -> Response:
        if self.given >= self.most:
            return JSONResponse({"error": "enough for today"}, 403)
        body = await request.json()
        self.log.append((request.headers["content-type"], body.get("user", "")))
        if body != {"user": "clerk", "password": "correct-horse"}:
            return JSONResponse({"error": "no"}, 401)
        return JSONResponse({"data": {"token": self.new_token()}})

    async def oauth(self, request: Request) -> Response:
        text = (await request.body()).decode()
        self.log.append((request.headers["content-type"], text))
        if "client_secret=robot-secret" not in text:
            return JSONResponse({"error": "invalid_client"}, 401)
        return JSONResponse({"access_token": self.new_token(), "token_type": "Bearer"})

    async def items(self, request: Request) -> Response:
        self.asked += 1
        held = request.headers.get("authorization", "").removeprefix("Bearer ")
        if self.left.get(held, 0) <= 0:
            return Response(status_code=401, headers={"WWW-Authenticate": "Bearer"})
        self.left[held] -= 1
        return JSONResponse([{"id": n, "name": f"item {n}"} for n in range(1, 6)])

    def app(self) -> Starlette:
        return Starlette(
            routes=[
                Route("/login", self.login, methods=["POST"]),
                Route("/oauth/token", self.oauth, methods=["POST"]),
                Route("/items", self.items, methods=["GET"]),
            ]
        )


CONTRACT: Json = {
    "openapi": "3.1.0",
    "info": {"title": "desk", "version": "1"},
    "security": [{"bearer": []}],
    "components": {"securitySchemes": {"bearer": {"type": "http", "scheme": "bearer"}}},
    "paths": {
        "/items": {
            "get": {
                "responses": {
                    "200": {
                        "description": "",
                        "content": {
                            "application/json": {
                                "schema": {
                                    "type": "array",
                                    "items": {
                                        "type": "object",
                                        "properties": {"id": {"type": "integer"}, "name": {"type": "string"}},
                                    },
                                }
                            }
                        },
                    },
                    "401": {"description": "log in first"},
                }
            }
        }
    },
}
PROFILE = """
contract: desk.json
base_url: {url}
roles:
  clerk:
    login: {{url: /login, json: {{user: clerk, password: "${{CLERK_PASSWORD}}"}}, token: /data/token}}
  robot:
    oauth: {{token_url: oauth/token, client_id: robot, client_secret: "${{ROBOT_SECRET}}", scope: items}}
  lost:
    bearer: ${{LOST_TOKEN}}
  public: none
"""
SECRETS = {"CLERK_PASSWORD": "correct-horse", "ROBOT_SECRET": "robot-secret"}


class LoggingIn(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.desk = Desk()
        served = Served(self.desk.app())
        self.enterContext(served)
        (self.folder / "desk.json").write_text(json.dumps(CONTRACT), "utf-8")
        (self.folder / "checkpost.yaml").write_text(PROFILE.format(url=served.base_url), "utf-8")

    def everything(self, *outputs: str) -> str:
        files = [file for file in self.folder.rglob("*") if file.is_file() and file.name != ".env"]
        return "".join([*outputs, *(file.read_bytes().decode("utf-8", "replace") for file in files)])

    def test_a_log_in_that_fails_later_on_is_told_as_such(self) -> None:
        self.desk.lasts, self.desk.most = 3, 3  # no more tokens than these, each good for a few requests
        done = called("run", "--role", "clerk", folder=self.folder, **SECRETS)
        self.assertNotIn("Check Post itself", done.stdout + done.stderr)
        self.assertIn("The role 'clerk' cannot log in: POST", " ".join((done.stdout + done.stderr).split()))

    def test_each_role_is_tried_before_anything_else(self) -> None:
        done = called("roles", folder=self.folder, **SECRETS)
        self.assertEqual(done.returncode, 1, done.stderr)
        lines = {line.split()[0]: line for line in done.stdout.splitlines() if line.strip()}
        self.assertIn("✓", lines["clerk"])
        self.assertIn("200, 5 rows", lines["robot"])
        self.assertIn("LOST_TOKEN is not set", lines["lost"])
        self.assertIn("✓", lines["public"])
        kinds = dict.fromkeys(kind for kind, _ in self.desk.log)
        self.assertEqual(list(kinds), ["application/json", "application/x-www-form-urlencoded"])
        self.assertIn("grant_type=client_credentials", self.desk.log[-1][1])
        wrong = called("roles", folder=self.folder, **{**SECRETS, "CLERK_PASSWORD": "wrong-one"})
        self.assertIn("the log-in fails", wrong.stdout)
        self.assertNotIn("wrong-one", wrong.stdout + wrong.stderr)

    def test_a_run_logs_in_again_when_its_token_has_expired(self) -> None:
        for role in ("clerk", "robot"):
            self.desk.given = 0
            with self.subTest(role=role):
                done = called("run", "--role", role, "--out", "report.json", folder=self.folder, **SECRETS)
                self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
                self.assertGreater(self.desk.given, 1, "the first token has expired already")
                written = self.everything(done.stdout, done.stderr)
                for secret in (*SECRETS.values(), *self.desk.left):
                    self.assertNotIn(secret, written)

    def test_a_log_in_that_fails_ends_the_run_in_one_sentence(self) -> None:
        done = called("run", "--role", "clerk", folder=self.folder, **{**SECRETS, "CLERK_PASSWORD": "wrong-one"})
        self.assertEqual(done.returncode, 3)
        self.assertRegex(done.stderr, r"The role 'clerk' cannot log in: POST http\S+/login answers 401")
        self.assertNotIn("Traceback", done.stderr)

    def test_a_password_in_the_profile_is_refused(self) -> None:
        file = self.folder / "checkpost.yaml"
        file.write_text("roles:\n  clerk:\n    login: {url: /login, json: {user: a, password: b}}\n", "utf-8")
        with self.assertRaises(ProfileError) as caught:
            read_profile(file)
        self.assertIn("line 3: the log-in sends no secret", str(caught.exception))


class Seen(unittest.TestCase):
    """What roles are seen to do on the stand-in, and what is made of it."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_observed_rights_are_frozen_and_hold(self) -> None:
        with InProcess() as stand_in:
            before = stand_in.contents()
            write_example(self.folder, stand_in.address)
            profile = self.folder / "checkpost.yaml"
            text = profile.read_text("utf-8")
            head, rest = text[: text.index("# What each may do")], text[text.index("unexposed:") :]
            profile.write_text(head + rest, "utf-8")
            chosen = ("--resource", "accessions", "--resource", "germination-tests")
            done = called("survey", "--observe", *chosen, "--write", "checkpost.yaml", folder=self.folder)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertEqual(stand_in.contents(), before)
            again = called("survey", "--observe", *chosen, "--write", "checkpost.yaml", folder=self.folder)
            self.assertIn("states rights already", again.stderr)
            access = read_profile(profile).access
            visitor = access["accessions", "visitor"]
            self.assertEqual(
                (visitor.rows, visitor.hidden), (Compare("status", "eq", "active"), ("latitude", "longitude"))
            )
            technician = access["germination-tests", "technician"]
            self.assertEqual(technician.owner, "entered_by")
            self.assertEqual(set(technician.actions), set(ACTIONS))
            self.assertEqual(access["germination-tests", "public"].actions, frozenset())
            held = called("run", "--only", "access", "--resource", "accessions", folder=self.folder)
            self.assertEqual(held.returncode, 0, held.stdout)
            self.assertIn("Roles, and what they may do", held.stdout)

    def test_a_later_run_tells_the_difference_and_shows_it(self) -> None:
        with InProcess(["technician-updates"]) as stand_in:
            write_example(self.folder, stand_in.address)
            words = ("run", "--only", "access", "--resource", "vaults", "--out", "report.json")
            done = called(*words, folder=self.folder)
        self.assertEqual(done.returncode, 1)
        report = json.loads((self.folder / "report.json").read_text("utf-8"))
        (finding,) = report["findings"]
        self.assertEqual(finding["role"], "second_technician, technician")
        self.assertEqual(finding["basis"], "profile")
        wrong = {each["role"]: each["differs"] for each in report["access"] if each["differs"]}
        self.assertEqual(wrong, {"technician": ["writes"], "second_technician": ["writes"]})
        self.assertIn("✗ read: writes", done.stdout)
        written = done.stdout + "".join(
            file.read_bytes().decode("utf-8", "replace")
            for file in self.folder.rglob("*")
            if file.is_file() and file.name != ".env"
        )
        for secret in (*TOKENS, EXPIRED, PASSWORDS["ines"][0]):
            self.assertNotIn(secret, written)

    def test_a_role_whose_variable_is_not_set_is_left_out_and_told(self) -> None:
        with InProcess() as stand_in:
            write_example(self.folder, stand_in.address)
            env = self.folder / ".env"
            lines = [line for line in env.read_text().splitlines() if "AUDITOR" not in line]
            env.write_text("\n".join(lines) + "\n")
            with mock.patch.dict("os.environ"):
                words = ("run", "--only", "access", "--resource", "tags")
                done = called(*words, folder=self.folder, SEEDBANK_AUDITOR_PASSWORD="")
        self.assertEqual(done.returncode, 0, done.stdout)
        self.assertIn("SEEDBANK_AUDITOR_PASSWORD is not set", done.stdout)


if __name__ == "__main__":
    unittest.main()
