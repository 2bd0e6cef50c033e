"""The profile: what it may say, and errors that name file and line."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path
from typing import Any, ClassVar

import jsonschema_rs

from checkpost.contract.parse import parse
from checkpost.demo.example import write_profile
from checkpost.demo.server import InProcess
from checkpost.engine.target import aim, is_loopback, why_no_writes
from checkpost.errors import CheckPostError
from checkpost.model.correction import Correction
from checkpost.profile.profile import (
    _QUERY_KEYS,
    _ROLE_KEYS,
    Profile,
    read_environment,
    read_profile,
    require_variables,
)
from checkpost.profile.starter import SCHEMA
from tests.foreign import STYLES, Library


class Profiles(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def write(self, text: str) -> Path:
        file = self.folder / "checkpost.yaml"
        file.write_text(text, "utf-8")
        return file

    def test_everything_it_may_say(self) -> None:
        profile = read_profile(
            self.write(
                "contract: api.yaml\nbase_url: http://127.0.0.1:1/v1\nallow_writes: [test.example.org]\n"
                "roles:\n"
                '  keeper: {bearer: "${TOKEN}"}\n'
                '  clerk: {basic: {user: clerk, password: "${PASSWORD}"}, header: {X-Key: "${KEY}"}}\n'
                "  public: none\n"
                "run_as: clerk\n"
                "resources:\n  a-b:\n    key: [x, y]\n    unique: name\n    rows: /data\n    values: {country: NO}\n"
                "  c: {skip: true}\n"
            )
        )
        self.assertEqual(profile.contract, str(self.folder / "api.yaml"))
        self.assertEqual(profile.role.name, "clerk")
        self.assertEqual(profile.role.variables, ("PASSWORD", "KEY"))
        self.assertEqual(profile.resources["a-b"].key, ("x", "y"))
        self.assertEqual(profile.resources["a-b"].unique, ("name",))
        self.assertEqual(profile.resources["a-b"].values, {"country": "NO"})
        self.assertTrue(profile.resources["c"].skip)
        self.assertEqual(profile.roles["public"].credentials, ())

    def test_errors_name_file_line_and_what_to_do(self) -> None:
        cases = [
            ("contract: a\nbase_ur: x\n", "line 2", "did you mean 'base_url'"),
            ("base_url: ftp://x\n", "line 1", "http://"),
            ("roles:\n  a:\n    bearer: abc123\n", "line 3", "${NAME}"),
            ("roles:\n  a:\n    baerer: ${A}\n", "line 3", "did you mean 'bearer'"),
            ("roles: {a: none}\nrun_as: b\n", "line 2", "not among the roles"),
            ("resources:\n  x:\n    rows: data\n", "line 3", "begin with '/'"),
            ("resources: [1]\n", "line 1", "mapping"),
            ("a: 1\na: 2\n", "line 2", "twice"),
            ("contract: [\n", "line 2", "not valid YAML"),
        ]
        for text, *parts in cases:
            with self.subTest(text=text), self.assertRaises(CheckPostError) as caught:
                read_profile(self.write(text))
            message = str(caught.exception)
            for part in ("checkpost.yaml", *parts):
                self.assertIn(part, message)
            self.assertNotIn("abc123", message)

    def test_what_cannot_be_meant_is_an_error_with_its_line_and_the_nearest_name(self) -> None:
        (self.folder / "api.json").write_text(json.dumps(Library(STYLES[0]).contract()), "utf-8")
        head = "contract: api.json\nbase_url: http://127.0.0.1:1\n"
        cases = [
            ("resources:\n  book: {total: /a}\n", "line 4", "'book' in the contract; did you mean 'books'"),
            ("resources:\n  books:\n    key: [idd]\n", "line 5", "'idd' in the contract; did you mean 'id'"),
            ("resources:\n  books:\n    unique: [titel]\n", "line 5", "did you mean 'title'"),
            ("resources:\n  books:\n    values: {page: 3}\n", "line 5", "did you mean 'pages'"),
            ("resources:\n  books:\n    references: {author_id: book}\n", "line 5", "did you mean 'books'"),
            ("access:\n  bookz: {a: all}\nroles: {a: none}\n", "line 4", "did you mean 'books'"),
            ("queries:\n  sort: {ascending: '{field}'}\n", "line 4", "sort needs the name of its parameter"),
            ("queries:\n  select: {separator: ' '}\n", "line 4", "select needs the name of its parameter"),
            ("queries:\n  count: {value: exact}\n", "line 4", "count needs the name"),
            ("queries:\n  filter:\n    operators: {eq: '{feild}={value}'}\n", "line 5", "did you mean 'field'"),
            ("writes_by_filter: maybe\n", "line 3", "true or false"),
        ]
        for text, *parts in cases:
            with self.subTest(text=text), self.assertRaises(CheckPostError) as caught:
                aim(read_profile(self.write(head + text)), False, 1.0)
            for part in ("checkpost.yaml", *parts):
                self.assertIn(part, str(caught.exception))

    def test_variables_come_from_the_environment_or_env_file(self) -> None:
        profile = read_profile(self.write("roles:\n  a:\n    bearer: ${CHECKPOST_NOT_SET}\n"))
        with self.assertRaises(CheckPostError) as caught:
            require_variables(profile.role, read_environment(self.folder), profile)
        self.assertIn("CHECKPOST_NOT_SET", str(caught.exception))
        (self.folder / ".env").write_text("CHECKPOST_NOT_SET=now-it-is\n")
        require_variables(profile.role, read_environment(self.folder), profile)
        self.assertEqual(profile.role.credentials[0].value(read_environment(self.folder)), "Bearer now-it-is")
        bare = read_profile(self.write("contract: c.json\nbase_url: http://127.0.0.1:1\n"))
        paths = {"/lots": {"get": {"responses": {"200": {"description": "rows"}}}}, "/lots/{id}": {"get": {}}}
        text = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths}
        (self.folder / "c.json").write_text(json.dumps(text))
        for value, sent in (("now-it-is", "Bearer now-it-is"), ("Token now-it-is", "Token now-it-is")):
            (self.folder / ".env").write_text(f"CHECKPOST_NOT_SET={value}\n")
            [given] = aim(bare, False, 1.0, ["CHECKPOST_NOT_SET"]).role.credentials
            self.assertEqual(given.value(read_environment(self.folder)), sent)

    def test_where_writes_are_allowed(self) -> None:
        for host in ("localhost", "127.0.0.1", "127.8.9.1", "::1", "api.localhost"):
            self.assertTrue(is_loopback(host), host)
        for host in ("10.0.0.1", "example.org", "localhost.example.org", "0.0.0.0", None):
            self.assertFalse(is_loopback(host), host)
        self.assertIn("--allow-writes api.example.org", why_no_writes("https://api.example.org/v1", False, ()))
        self.assertEqual(why_no_writes("https://api.example.org/v1", False, ("api.example.org",)), "")
        self.assertEqual(why_no_writes("http://localhost:1", False, ()), "")
        self.assertTrue(why_no_writes("http://localhost:1", True, ("localhost",)))


class Schema(unittest.TestCase):
    """The schema that editors complete profiles by says what the code takes, and nothing else."""

    schema: ClassVar[dict[str, Any]] = json.loads(SCHEMA.read_text("utf-8"))

    def valid(self, text: str) -> bool:
        return jsonschema_rs.Draft202012Validator(self.schema).is_valid(parse("p.yaml", text.encode())[0])

    def test_it_names_the_keys_that_can_be_read(self) -> None:
        known = {name for name in Profile.__dataclass_fields__ if name not in {"folder", "file"}}
        self.assertEqual(set(self.schema["properties"]), known)
        correction = self.schema["$defs"]["correction"]["properties"]
        # what a read alone can show is nothing to be stated
        learnt = {"shown_key", "shown_paging", "telling", "addressed", "numbered", "linked"}
        self.assertEqual(set(correction), set(Correction.__dataclass_fields__) - learnt)
        self.assertEqual(set(self.schema["$defs"]["role"]["oneOf"][2]["properties"]), set(_ROLE_KEYS))
        for part, keys in _QUERY_KEYS.items():
            stated = self.schema["$defs"]["queries"]["properties"][part]["oneOf"][1]["properties"]
            self.assertEqual(set(stated), set(keys), part)

    def test_the_example_is_valid(self) -> None:
        with InProcess() as stand_in, tempfile.TemporaryDirectory() as name:
            file = write_profile(Path(name), stand_in.address.base_url, stand_in.address.contract_url)
            self.assertTrue(self.valid(file.read_text("utf-8")))

    def test_what_the_code_refuses_is_not_valid(self) -> None:
        self.assertTrue(self.valid("contract: a\nresources: {x: {key: id, rows: /data}}\n"))
        for text in (
            "contrakt: a\n",
            "base_url: ftp://x\n",
            "roles: {a: {bearer: abc123}}\n",
            "roles: {a: {baerer: '${A}'}}\n",
            "resources: {x: {rows: data}}\n",
            "resources: {x: {keys: id}}\n",
            "queries: {filter: {form: words}}\n",
        ):
            self.assertFalse(self.valid(text), text)


if __name__ == "__main__":
    unittest.main()
