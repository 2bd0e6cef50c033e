"""The installed command, as a user meets it: on files in a folder, against the stand-in on loopback."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import tempfile
import unittest
from pathlib import Path

import jsonschema_rs

from checkpost.cli import COMMANDS
from checkpost.demo.defects import DEFECTS
from checkpost.demo.seedbank import TOKENS
from checkpost.demo.server import InProcess, own_process
from checkpost.demo.spellings import SPELLINGS
from tests.odd_server import OddServer, answer
from tests.support import COMMAND, called, checkpost, write_example

ROOT = Path(__file__).parent.parent
DEFECT_SET = ("update-lost", "required-not-enforced", "missing-key-crashes")


CONTRACT = {
    "openapi": "3.0.3",
    "info": {"title": "t", "version": "1"},
    "paths": {
        "/things": {
            "get": {
                "responses": {
                    "200": {
                        "description": "",
                        "content": {
                            "application/json": {
                                "schema": {
                                    "type": "array",
                                    "items": {"type": "object", "properties": {"id": {"type": "integer"}}},
                                }
                            }
                        },
                    }
                }
            }
        }
    },
}


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def everything_written(self) -> str:
        """All that files in the folder hold, but for the ``.env`` that is the user's own."""
        files = [file for file in self.folder.rglob("*") if file.is_file() and file.name != ".env"]
        return "".join(file.read_bytes().decode("latin-1") for file in files)


class Help(Folder):
    def test_every_command_has_help(self) -> None:
        listed = checkpost("--help", folder=self.folder)
        for name, purpose in COMMANDS.items():
            self.assertIn(purpose.split(",")[0][:40], listed.stdout)
            own = called(name, "--help", folder=self.folder)
            self.assertEqual(own.returncode, 0)
            self.assertIn("Usage: checkpost " + name, own.stdout)

    def test_help_loads_nothing_heavy(self) -> None:
        heavy = ("aiohttp", "rich", "yaml", "jsonschema_rs")
        code = f"import sys, checkpost.cli; print([name for name in {heavy} if name in sys.modules])"
        python = str(COMMAND.with_name("python"))
        done = subprocess.run([python, "-c", code], capture_output=True, text=True)
        self.assertEqual(done.stdout.strip(), "[]")


class OnStandIn(Folder):
    """One run on a stand-in with defects, looked at from all sides."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.stand_in = cls.enterClassContext(InProcess(DEFECT_SET))
        cls.shared = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        write_example(cls.shared, cls.stand_in.address)
        chosen = [word for name in ("loans", "tags", "species") for word in ("--resource", name)]
        cls.ran = checkpost("run", *chosen, "--out", "report.json", folder=cls.shared)
        cls.report = json.loads((cls.shared / "report.json").read_text("utf-8"))

    def test_it_fails_and_says_what_it_found(self) -> None:
        self.assertEqual(self.ran.returncode, 1, self.ran.stderr)
        for words in ("Seed bank", "as curator", "PATCH /loans/{id}", "POST /tags", "GET /species/{id}", "3 errors"):
            self.assertIn(words, self.ran.stdout)
        self.assertEqual(self.ran.stderr, "")
        self.assertNotIn("\x1b[", self.ran.stdout)

    def test_the_report_keeps_its_published_schema(self) -> None:
        schema = json.loads((ROOT / "docs" / "report.schema.json").read_text("utf-8"))
        validator = jsonschema_rs.Draft202012Validator(schema, validate_formats=True)
        self.assertEqual([error.message for error in validator.iter_errors(self.report)], [])
        self.report["findings"][0].pop("severity")
        self.assertFalse(validator.is_valid(self.report))

    def test_the_report_has_evidence_lines_and_commands(self) -> None:
        findings = {finding["check"]: finding for finding in self.report["findings"]}
        required = findings["create.rules"]
        text = (self.shared / "seedbank.yaml").read_text("utf-8").splitlines()
        self.assertIn("required", text[required["line"] - 1])
        lost = findings["update.each-field"]
        self.assertEqual([each["request"]["method"] for each in lost["exchanges"]], ["POST", "PATCH", "GET"])
        self.assertIn("${SEEDBANK_CURATOR_TOKEN}", lost["reproduce"])
        numbers = self.report["summary"]["checks"]
        self.assertEqual(sum(numbers.values()), len(self.report["checks"]))
        self.assertEqual(numbers["failed"], sum(check["outcome"] == "failed" for check in self.report["checks"]))

    def test_the_command_to_copy_shows_the_defect_again(self) -> None:
        lost = next(each for each in self.report["findings"] if each["check"] == "update.each-field")
        token = next(token for token, (_, role) in TOKENS.items() if role == "curator")
        environment = {**os.environ, "SEEDBANK_CURATOR_TOKEN": token}
        done = subprocess.run(
            ["sh", "-c", lost["reproduce"]], env=environment, capture_output=True, text=True, timeout=30
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        patched, read = done.stdout.split("HTTP/1.1 200 OK")[1:]
        field = lost["subjects"][0]
        bodies = [json.loads(part.partition("\n\n")[2].partition("HTTP/")[0]) for part in (patched, read)]
        self.assertNotEqual(bodies[0][field], bodies[1][field])

    def test_no_secret_is_in_any_file_or_output(self) -> None:
        self.folder = self.shared
        written = self.everything_written() + self.ran.stdout + self.ran.stderr
        with sqlite3.connect(self.shared / ".checkpost" / "runs.sqlite") as store:
            written += "".join(row[0] for row in store.execute("SELECT document FROM exchange"))
        self.assertIn("Bearer ${SEEDBANK_CURATOR_TOKEN}", written)
        for token in TOKENS:
            self.assertNotIn(token, written)

    def test_show_reads_the_stored_run(self) -> None:
        run = self.report["run"]["id"]
        self.assertIn(run, checkpost("show", "--list", folder=self.shared).stdout)
        self.assertIn("3 errors", checkpost("show", run, folder=self.shared).stdout)
        self.assertIn("create.awkward-values", called("show", run, "--checks", folder=self.shared).stdout)
        finding = next(each for each in self.report["findings"] if each["check"] == "create.rules")
        shown = called("show", run, finding["id"][:6], folder=self.shared)
        self.assertIn("POST http://127.0.0.1", shown.stdout)
        self.assertIn(finding["title"], shown.stdout)
        number = finding["exchanges"][0]["number"]
        self.assertIn("→  201", called("show", run, "--exchange", str(number), folder=self.shared).stdout)
        nothing = called("show", "zzzz", folder=self.shared)
        self.assertEqual(nothing.returncode, 2)
        self.assertIn("'zzzz'", nothing.stderr)

    def test_ids_are_the_same_in_another_run(self) -> None:
        again = called("run", "--resource", "tags", "--seed", "99", "--out", "again.json", folder=self.shared)
        self.assertEqual(again.returncode, 1)
        ids = {each["id"] for each in json.loads((self.shared / "again.json").read_text())["findings"]}
        self.assertEqual(ids, {each["id"] for each in self.report["findings"] if each["resource"] == "tags"})

    def test_plan_sends_nothing_and_says_what_would_be_sent(self) -> None:
        before = self.stand_in.contents()
        planned = checkpost("plan", "--skipped", folder=self.shared)
        self.assertEqual(planned.returncode, 0, planned.stderr)
        for words in (
            "germination-tests",
            "w ",
            "of them write",
            "species-tags  update.each-field: the contract has no",
        ):
            self.assertIn(words, planned.stdout)
        read_only = called("plan", "--read-only", folder=self.shared)
        self.assertIn(" 0 of them write", read_only.stdout)
        self.assertEqual(self.stand_in.contents(), before)

    def test_read_only_and_only_and_fail_on(self) -> None:
        before = self.stand_in.database.connection.total_changes
        done = called("run", "--read-only", "--resource", "tags", "--out", "ro.json", folder=self.shared)
        self.assertEqual(done.returncode, 0, done.stdout)
        self.assertEqual(self.stand_in.database.connection.total_changes, before)
        report = json.loads((self.shared / "ro.json").read_text())
        self.assertIn("the run is read-only", {check["reason"].partition(": ")[2] for check in report["checks"]})
        never = called(
            "run", "--resource", "tags", "--only", "create", "--fail-on", "never", "--out", "o.json", folder=self.shared
        )
        self.assertEqual(never.returncode, 0)
        families = {check["family"] for check in json.loads((self.shared / "o.json").read_text())["checks"]}
        self.assertNotIn("update", families)

    def test_what_is_waived_is_shown_last_and_does_not_fail(self) -> None:
        found = {each["check"]: each for each in self.report["findings"]}
        profile = (self.shared / "checkpost.yaml").read_text("utf-8")
        waivers = (
            f"waivers:\n  - {{finding: '{found['create.rules']['id']}', why: until the next release, by: Ana}}\n"
            "  - {check: update, resource: loans, why: known, until: 2999-01-31}\n"
            "  - {check: errors.server-error, why: it was, until: 2020-01-31}\n"
            "  - {finding: '0123456789', why: long gone}\n"
        )
        (self.shared / "waived.yaml").write_text(profile + waivers, "utf-8")
        chosen = [word for name in ("loans", "tags", "species") for word in ("--resource", name)]
        files = [word for name in ("w.json", "w.sarif", "w.junit.xml") for word in ("--out", name)]
        done = called("run", "--profile", "waived.yaml", *chosen, *files, folder=self.shared)
        self.assertEqual(done.returncode, 1, done.stderr)
        for words in (
            "1 finding: 1 error, 2 waived",
            "until the next release (Ana)",
            "until 2999-01-31: known",
            "The waiver of errors.server-error does nothing: it ended on 2020-01-31.",
            "The waiver of 0123456789 does nothing: no finding is like it.",
        ):
            self.assertIn(words, done.stdout)
        report = json.loads((self.shared / "w.json").read_text())
        self.assertEqual([bool(each["waived"]) for each in report["findings"]], [False, True, True])
        results = json.loads((self.shared / "w.sarif").read_text())["runs"][0]["results"]
        self.assertEqual([len(each.get("suppressions", ())) for each in results], [0, 1, 1])
        self.assertEqual((self.shared / "w.junit.xml").read_text().count("<failure"), 1)

    def test_a_budget_ends_a_run_early_and_what_was_left_out_is_told(self) -> None:
        done = called("run", "--max-requests", "60", "--resource", "ta*", "--out", "b.json", folder=self.shared)
        report = json.loads((self.shared / "b.json").read_text())
        left_out = [each for each in report["checks"] if each["reason"] == "left out: --max-requests 60 was reached"]
        self.assertEqual({each["resource"] for each in report["checks"]}, {"tags"})
        self.assertGreater(len(left_out), 20)
        self.assertLess(report["summary"]["requests"], 200, "what is under way comes to its end")
        self.assertIn(f"{len(left_out)} of {len(report['checks'])} checks, of 1 resource, were left out", done.stdout)
        self.assertEqual(report["summary"]["left"], [])

    def test_without_a_profile(self) -> None:
        words = (
            "run",
            str(self.shared / "seedbank.yaml"),
            "--base-url",
            self.stand_in.address.base_url,
            "--credential",
            "bearer=SEEDBANK_CURATOR_TOKEN",
            "--resource",
            "tags",
        )
        done = called(*words, folder=self.folder)
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertIn("A record without a required field is accepted", done.stdout)
        from_url = called(
            "run",
            self.stand_in.address.contract_url,
            "--resource",
            "species",
            "--read-only",
            "--fail-on",
            "never",
            folder=self.folder,
        )
        self.assertEqual(from_url.returncode, 0, from_url.stderr)

    def test_a_contract_whose_url_is_protected(self) -> None:
        text = (self.shared / "seedbank.yaml").read_bytes()
        good = next(token for token, (_, role) in TOKENS.items() if role == "curator")

        def script(line: str) -> bytes:
            allowed = f"authorization: bearer {good}".lower() in odd.heads[-1].lower()
            return answer(text, media_type="application/yaml") if allowed else answer(b"{}", "401 Unauthorized")

        with OddServer(script) as odd:
            url = f"{odd.base_url}/openapi.yaml"
            refused = called("survey", url, folder=self.folder)
            self.assertEqual(refused.returncode, 2)
            self.assertIn("contract_role", refused.stderr)
            roles = "roles: {curator: {bearer: '${SEEDBANK_CURATOR_TOKEN}'}}\n"
            (self.folder / "checkpost.yaml").write_text(f"contract: {url}\ncontract_role: curator\n{roles}")
            read = called("survey", folder=self.folder)
            self.assertEqual(read.returncode, 0, read.stderr)
            self.assertIn("germination-tests", read.stdout)

    def test_survey_and_its_starter_profile(self) -> None:
        seen = called("survey", str(self.shared / "seedbank.yaml"), "--reasons", folder=self.folder)
        self.assertEqual(seen.returncode, 0, seen.stderr)
        for words in ("germination-tests", "paging offset", "HTTP bearer", "no flaws", "likely"):
            self.assertIn(words, " ".join(seen.stdout.split()))
        written = called("survey", str(self.shared / "seedbank.yaml"), "--write", "mine.yaml", folder=self.folder)
        self.assertEqual(written.returncode, 0, written.stderr)
        token = next(token for token, (_, role) in TOKENS.items() if role == "curator")
        ran = checkpost("run", "--profile", "mine.yaml", "--resource", "vaults", folder=self.folder, API_TOKEN=token)
        self.assertEqual(ran.returncode, 0, ran.stdout + ran.stderr)
        self.assertEqual(
            called("survey", str(self.shared / "seedbank.yaml"), "--write", "mine.yaml", folder=self.folder).returncode,
            2,
        )
        fields = called("survey", str(self.shared / "seedbank.yaml"), "--resource", "loans", folder=self.folder)
        self.assertIn("write-only", fields.stdout)

    def test_wrong_credentials(self) -> None:
        done = called("run", folder=self.shared, SEEDBANK_CURATOR_TOKEN="nonsense-token")
        self.assertEqual(done.returncode, 2)
        self.assertIn("credentials of the role 'curator' are refused", done.stderr)
        self.assertIn("SEEDBANK_CURATOR_TOKEN", done.stderr)
        self.assertNotIn("nonsense-token", done.stderr)


class Mistakes(Folder):
    """Each mistake ends in one sentence and the right exit status."""

    def fails(self, status: int, words: str, *command: str, **environment: str) -> None:
        done = called(*command, folder=self.folder, **environment)
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        self.assertIn(words, done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        self.assertEqual(done.stderr.count("\n"), 1, done.stderr)

    def test_of_the_user(self) -> None:
        (self.folder / "c.json").write_text(json.dumps(CONTRACT))
        url = ("--base-url", "http://127.0.0.1:9")
        self.fails(2, "No contract is named", "run")
        self.fails(2, "No such file", "run", "none.yaml", *url)
        self.fails(2, "--base-url", "run", "c.json")
        self.fails(2, "did you mean 'things'", "run", "c.json", *url, "--resource", "thing")
        self.fails(2, "no family 'creat'", "run", "c.json", *url, "--only", "creat")
        self.fails(2, ".json", "run", "c.json", *url, "--out", "report.xyz")
        self.fails(2, "folder of the report", "run", "c.json", *url, "--out", "gone/report.json")
        self.fails(2, "NOT_SET_ANYWHERE", "run", "c.json", *url, "--credential", "NOT_SET_ANYWHERE")
        self.fails(2, "does not belong on a command line", "run", "c.json", *url, "--credential", "a b c")
        self.fails(2, "cannot be used", "run", "c.json", "--base-url", "nonsense")
        self.fails(2, "no role 'x'", "run", "c.json", *url, "--role", "x")
        self.fails(2, "No run is stored", "show")
        self.fails(2, "did you mean 'update-lost'", "demo", "--serve", "--defect", "update-lots")
        (self.folder / "checkpost.yaml").write_text("contract: c.json\nrols: {}\n")
        self.fails(2, "checkpost.yaml, line 2", "run")
        (self.folder / "checkpost.yaml").write_text("contract: c.json\nroles: {a: {bearer: '${UNSET_TOKEN}'}}\n")
        self.fails(2, "UNSET_TOKEN", "run", *url)

    def test_of_the_contract(self) -> None:
        (self.folder / "c.yaml").write_text("openapi: 3.1.0\ninfo: {}\npaths:\n  /a:\n    $ref: '#/gone'\n")
        self.fails(2, "line 4", "run", "c.yaml", "--base-url", "http://127.0.0.1:9")
        surveyed = called("survey", "c.yaml", folder=self.folder)
        self.assertIn("line 4: the reference '#/gone' leads to nothing", surveyed.stdout)

    def test_of_the_api(self) -> None:
        (self.folder / "c.json").write_text(json.dumps(CONTRACT))
        self.fails(3, "cannot be reached", "run", "c.json", "--base-url", "http://127.0.0.1:9")
        cases = [
            ("HTML", lambda line: answer(b"<html></html>", media_type="text/html")),
            ("not valid JSON", lambda line: answer(b'[{"id": 1')),
            ("ended before the body", lambda line: answer(b"[]", length=99)),
            ("longer than its Content-Length", lambda line: answer(b'[{"id": 1}]', length=3)),
            ("over and over", lambda line: answer(b"", "302 Found", extra="Location: /things\r\n")),
            ("answers 404", lambda line: answer(b"{}", "404 Not Found")),
            ("answers 503", lambda line: answer(b"{}", "503 Busy")),
            ("not HTTP", lambda line: b"hello\r\n\r\n"),
        ]
        for words, script in cases:
            with self.subTest(words), OddServer(script) as odd:
                self.fails(3, words, "run", "c.json", "--base-url", odd.base_url, "--timeout", "5")
        with OddServer(lambda line: answer(b"[", length=10**9), drip=0.05) as odd:
            self.fails(
                3, "no whole answer within 0.5 s", "run", "c.json", "--base-url", odd.base_url, "--timeout", "0.5"
            )
        with OddServer(lambda line: answer(b"{}", "401 Unauthorized")) as odd:
            self.fails(2, "wants credentials", "run", "c.json", "--base-url", odd.base_url)

    def test_elsewhere_than_on_this_machine_nothing_is_written(self) -> None:
        (self.folder / "c.json").write_text(json.dumps(CONTRACT))
        planned = called("plan", "c.json", "--base-url", "http://api.example.org/v1", folder=self.folder)
        self.assertIn("--allow-writes api.example.org", " ".join(planned.stdout.split()))
        self.assertIn(" 0 of them write", planned.stdout)


class Demo(Folder):
    def test_the_example_runs_and_is_silent_on_the_sound_api(self) -> None:
        done = checkpost("demo", folder=self.folder)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        sound, faulty = done.stdout.split("planted defects")
        self.assertIn("no findings", sound)
        self.assertIn("92 of 94 operations asked", sound)  # all but log-in and log-out
        self.assertIn("row for row, what they were", sound)
        self.assertIn("16 errors", faulty)
        shown = checkpost("show", folder=self.folder / "checkpost-demo")
        self.assertIn("16 errors", shown.stdout)

    def test_spellings_are_listed_and_an_unknown_one_is_told(self) -> None:
        listed = called("demo", "--list-spellings", folder=self.folder)
        self.assertEqual(len(listed.stdout.splitlines()), len(SPELLINGS))
        for name in SPELLINGS:
            self.assertIn(f"{name} ", listed.stdout)
        wrong = called("demo", "--spelling", "sql", folder=self.folder)
        self.assertEqual(wrong.returncode, 2)
        self.assertIn("There is no spelling 'sql'; the spellings are brackets,", wrong.stderr)

    def test_another_spelling_from_the_command_line(self) -> None:
        with own_process(["less-is-at-most"], spelling="infix") as address:
            write_example(self.folder, address)
            survey = called("survey", folder=self.folder)
            self.assertIn("where=an expression", survey.stdout)
            done = called("run", "--resource", "accessions", "--only", "filter", "--read-only", folder=self.folder)
        self.assertEqual(done.returncode, 1, done.stdout + done.stderr)
        self.assertIn("1 finding: 1 error ", done.stdout)
        self.assertIn("Filter returns rows that do not match", done.stdout)
        shown = called("show", "1", folder=self.folder)
        self.assertIn("does not match", shown.stdout)
        self.assertIn("where=", shown.stdout)

    def test_defects_are_listed(self) -> None:
        listed = called("demo", "--list-defects", folder=self.folder)
        self.assertEqual(len(listed.stdout.splitlines()), len(DEFECTS))
        self.assertIn("update-lost", listed.stdout)


if __name__ == "__main__":
    unittest.main()
