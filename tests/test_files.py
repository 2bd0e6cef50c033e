"""A stored run written to files, read again by programs that read those formats."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
import subprocess
import tempfile
import unittest
from html.parser import HTMLParser
from pathlib import Path

import haralyzer
import junitparser
import sarif_pydantic

from checkpost.demo.server import InProcess
from checkpost.report.console import plain_console
from checkpost.report.files import formats, write_files, writer_of
from checkpost.report.files.junit import write as junit
from checkpost.report.files.lines import write as lines
from checkpost.report.files.markdown import write as markdown
from checkpost.report.files.page import write as page
from checkpost.report.terminal import show_finding
from checkpost.report.words import verdict
from tests.support import called, checkpost, write_example

_BROWSER = shutil.which("chromium") or shutil.which("chromium-browser")


FINDING = {
    "id": "a1", "check": "read.list", "family": "read", "resource": "tags", "resources": ["tags"], "operation": {},
    "operations": [{"method": "GET", "path": "/tags"}], "role": "r", "severity": "error", "basis": "contract",
    "title": "<script>alert(1)</script> | `x`", "expected": "=1+1\0", "observed": "a\nb", "subjects": [],
    "document": None, "pointer": None, "line": None, "rows": [], "count": 1, "reproduce": "echo ```",
    "exchanges": [],
}  # fmt: skip
CHECK = {
    "check": "read.list", "family": "read", "resource": "tags", "role": "r", "outcome": "failed", "reason": "",
    "requests": 1, "seconds": 0.1,
}  # fmt: skip
DOCUMENT = {
    "run": {
        "id": "r1", "checkpost": "0", "started": "2026-01-01T00:00:00+00:00", "seconds": 1.0, "seed": 1,
        "contract": {"location": "c", "title": "T", "openapi": "3.1.0", "flaws": 0}, "base_url": "http://x",
        "role": "r", "no_writes": "", "interrupted": False,
    },
    "summary": {
        "checks": {"passed": 0, "failed": 1, "skipped": 0, "blocked": 0},
        "findings": {"error": 1, "warning": 0, "note": 0}, "requests": 1, "operations": 1, "not_exercised": [],
        "left": [], "harmed": [], "held": 0,
    },
    "access": [], "findings": [FINDING], "checks": [CHECK],
}  # fmt: skip


class Written(unittest.TestCase):
    folder: Path

    @classmethod
    def setUpClass(cls) -> None:
        stand_in = cls.enterClassContext(InProcess(["missing-key-crashes", "required-not-enforced"]))
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        write_example(cls.folder, stand_in.address)
        chosen = ["--resource", "species", "--resource", "tags", "--only", "read", "--only", "create"]
        cls.ran = checkpost("run", *chosen, "--out", "run.html", "--out", "run.junit.xml", folder=cls.folder)
        names = [f"again{ending}" for ending in formats()]
        cls.written = checkpost("report", *(word for name in names for word in ("--out", name)), folder=cls.folder)
        cls.document = json.loads((cls.folder / "again.json").read_text("utf-8"))

    def text(self, name: str) -> str:
        return (self.folder / name).read_text("utf-8")

    def test_run_and_report_write_the_same(self) -> None:
        self.assertEqual((self.ran.returncode, self.written.returncode), (1, 0), self.ran.stderr + self.written.stderr)
        for ending in (".html", ".junit.xml"):
            self.assertEqual(self.text(f"run{ending}"), self.text(f"again{ending}"))

    def test_junit_has_a_case_for_each_check(self) -> None:
        read = junitparser.JUnitXml.fromfile(str(self.folder / "again.junit.xml"))
        cases = [case for suite in read for case in suite]
        self.assertEqual(len(cases), len(self.document["checks"]))
        failed = {
            case.name.partition(" ")[0]
            for case in cases
            for each in case.result
            if each.__class__.__name__ == "Failure"
        }
        errors = {each["check"] for each in self.document["findings"] if each["severity"] == "error"}
        self.assertEqual(failed, errors)
        self.assertEqual(read.skipped, sum(each["outcome"] == "skipped" for each in self.document["checks"]))

    def test_sarif_has_a_result_for_each_finding(self) -> None:
        read = sarif_pydantic.Sarif.model_validate_json(self.text("again.sarif"))
        results = read.runs[0].results or []
        self.assertEqual([each.rule_id for each in results], [each["check"] for each in self.document["findings"]])
        lines = [each.locations[0].physical_location.region.start_line for each in results if each.locations]
        self.assertEqual(lines, [each["line"] for each in self.document["findings"]])

    def test_har_has_every_exchange(self) -> None:
        read = haralyzer.HarParser(json.loads(self.text("again.har")))
        entries = read.har_data["entries"]
        self.assertEqual(len(entries), self.document["summary"]["requests"])
        self.assertEqual(entries, sorted(entries, key=lambda each: int(each["comment"].partition(":")[0])))
        self.assertTrue(all(re.match(r"20\d\d-\d\d-\d\dT", each["startedDateTime"]) for each in entries))
        self.assertNotIn("curator-token", self.text("again.har"))

    def test_csv_and_markdown_name_each_finding(self) -> None:
        rows = list(csv.DictReader(io.StringIO(self.text("again.csv"))))
        self.assertEqual([each["id"] for each in rows], [each["id"] for each in self.document["findings"]])
        for each in self.document["findings"]:
            self.assertIn(f"{each['title']} |", self.text("again.md"))

    def test_the_page_needs_nothing_else(self) -> None:
        found: list[str] = []

        class Reader(HTMLParser):
            def handle_starttag(self, tag: str, pairs: list[tuple[str, str | None]]) -> None:
                found.extend(value or "" for name, value in pairs if name in {"src", "href"})

        text = self.text("again.html")
        Reader().feed(text)
        self.assertTrue(found)
        self.assertEqual([each for each in found if not each.startswith("#f")], [])
        self.assertIn(f'<h1 class="error">{verdict(self.document)}</h1>', text)
        self.assertLess(len(text.encode()), 1_000_000)

    @unittest.skipIf(_BROWSER is None, "no Chromium is installed")
    def test_a_browser_opens_the_finding_that_a_link_names(self) -> None:
        address = (self.folder / "again.html").as_uri() + "#f2"
        words = [str(_BROWSER), "--headless", "--no-sandbox", "--disable-gpu", "--dump-dom", address]
        shown = subprocess.run(words, capture_output=True, text=True, timeout=120).stdout
        opened = re.findall(r'<details class="finding[^>]* id="(f\d+)"[^>]*\bopen\b', shown)
        self.assertEqual(opened, ["f2"])

    def test_what_cannot_be_written_is_told(self) -> None:
        for name, words in (("report.pdf", "which is one of .csv"), ("missing/report.html", "does not exist")):
            told = called("report", "--out", name, folder=self.folder)
            self.assertEqual(told.returncode, 2)
            self.assertIn(words, told.stderr)
            self.assertNotIn("Traceback", told.stderr)
        told = called("report", "nosuch", "--out", "x.md", folder=self.folder)
        self.assertIn("There is no run whose name begins with 'nosuch'", told.stderr)


class Awkward(unittest.TestCase):
    """Texts of APIs that would break out of a format."""

    def test_nothing_breaks_out(self) -> None:
        self.assertNotIn("<script>alert", page(DOCUMENT, list))
        self.assertIn("\\<script\\>alert(1)\\</script\\> \\| \\`x\\`", markdown(DOCUMENT, list))
        self.assertIn("````sh", markdown(DOCUMENT, list))
        self.assertIn("'=1+1", lines(DOCUMENT, list))
        read = junitparser.JUnitXml.fromstring(junit(DOCUMENT, list).encode())
        self.assertEqual(read.failures, 1)

    def test_half_of_a_character_can_be_written(self) -> None:
        body = '{"name": "x\\ud83c"}'
        request = {"method": "POST", "url": "http://x/tags", "headers": [], "body": body}
        answer = {"status": 500, "headers": [], "body": body, "failure": "", "detail": ""}
        sent = {"number": 1, "check": "x", "role": "r", "credentials": "right", "request": request, "answer": answer}
        sent |= {"started": "2026-01-01T00:00:00+00:00", "seconds": 0.1, "attempts": 1}
        broken = {**FINDING, "observed": "\ud83c", "exchanges": [sent]}
        with tempfile.TemporaryDirectory() as folder:
            files = [Path(folder, f"x{ending}") for ending in formats()]
            write_files(files, {**DOCUMENT, "findings": [broken]}, lambda: [sent])
            for file in files:
                self.assertRegex(file.read_text("utf-8"), r"\\ud83c|\ufffd", file)
            with Path(folder, "shown").open("w", encoding="utf-8") as shown:
                show_finding({**DOCUMENT, "findings": [broken]}, broken, plain_console(shown, 100))
            self.assertIn("\\ud83c", Path(folder, "shown").read_text("utf-8"))

    def test_the_longest_ending_counts(self) -> None:
        self.assertIs(writer_of(Path("a.junit.xml")), junit)
        self.assertIs(writer_of(Path("A.CSV")), lines)


if __name__ == "__main__":
    unittest.main()
