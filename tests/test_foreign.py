"""APIs in other styles than the stand-in's: nothing is wrong with them, and nothing is said to be."""

from __future__ import annotations

import copy
import json
import tempfile
import unittest
from pathlib import Path
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from checkpost.engine.run import Result
from tests.foreign import STYLES, Json, Library, Served, Style
from tests.support import run_against


def run_on(library: Library, wire: bool = False, **options: Any) -> Result:
    with tempfile.TemporaryDirectory() as name, Served(library.app()) as served:
        folder = Path(name)
        (folder / "contract.json").write_text(json.dumps(library.contract()), "utf-8")
        transport = None if wire else served.direct
        return run_against(str(folder / "contract.json"), served.base_url, folder, transport=transport, **options)


class ForeignStyles(unittest.TestCase):
    found: list[tuple[Style, Library, Json, Result]]

    @classmethod
    def setUpClass(cls) -> None:
        cls.found = []
        for place, style in enumerate(STYLES):
            library = Library(style)
            before = copy.deepcopy(library.books)
            cls.found.append((style, library, before, run_on(library, wire=place == 0)))

    def test_no_false_finding_and_data_as_before(self) -> None:
        for style, library, before, result in self.found:
            with self.subTest(style=style.name):
                self.assertEqual(library.books, before)
                # what these contracts leave undocumented is a warning for each status, and nothing else
                told = [(each.check, each.title, each.observed) for each in result.findings]
                self.assertEqual([each for each in told if each[0] != "errors.documented"], [])
                self.assertTrue(all(each.severity == "warning" for each in result.findings))
                self.assertEqual(len({each.title for each in result.findings}), len(result.findings))
                self.assertEqual([each for each in result.checks if each.outcome == "blocked"], [])
                self.assertEqual(result.left, ())

    def test_rows_are_written_and_read_in_every_style(self) -> None:
        for style, _, _, result in self.found:
            with self.subTest(style=style.name):
                passed = {each.check for each in result.checks if each.outcome == "passed" and each.resource == "books"}
                wanted = {"create.stored", "create.awkward-values", "create.rules", "delete.gone", "replace.stored"}
                self.assertEqual(wanted - passed, set())
                self.assertEqual("update.each-field" in passed, style.patch)


class Forgetful(Library):
    """A PUT that answers as done and forgets what it was given."""

    async def item(self, request: Request) -> Response:
        before = copy.deepcopy(self.books)
        answer = await super().item(request)
        if request.method == "PUT":
            self.books = before
        return answer


class Sloppy(Library):
    """Lengths and limits are not looked at."""

    def broken(self, body: Any, partial: bool) -> bool:
        if isinstance(body, dict):
            sound = {self.outer("title"): "x", self.outer("pages"): 1, self.outer("subtitle"): None}
            body = {name: sound.get(name, value) for name, value in body.items()}
        return super().broken(body, partial)


class Gone(Library):
    """A missing key is answered with an empty success."""

    async def item(self, request: Request) -> Response:
        answer = await super().item(request)
        return JSONResponse(None) if answer.status_code == 404 and request.method == "GET" else answer


class Talkative(Library):
    """Refusals show where in the code they come from."""

    def refused(self, status: int) -> Response:
        trace = "java.lang.NullPointerException\n\tat com.acme.Book.set(Book.java:10)\n"
        return JSONResponse({"error": trace}, status)


class Crashing(Library):
    """A missing key is answered 500, whatever is asked of it."""

    async def item(self, request: Request) -> Response:
        answer = await super().item(request)
        return self.refused(500) if answer.status_code == 404 else answer


class Local(Library):
    """The offset from UTC is thrown away."""

    def taken(self, body: Any) -> Any:
        values = super().taken(body)
        if "printed_at" in values:
            values["printed_at"] = self.zoned(body[self.outer("printed_at")][:19])
        return values


class ForeignDefects(unittest.TestCase):
    """What is wrong is found in every style, with other keys, envelopes and answers than the stand-in's."""

    def found(self, kind: type[Library], *families: str) -> None:
        self.results = {}
        for style in STYLES:
            findings = run_on(kind(style), resources=["books"], families=families).findings
            self.results[style.name] = [each for each in findings if each.check != "errors.documented"]

    def test_replace_that_is_not_stored(self) -> None:
        self.found(Forgetful, "read", "replace")
        for name, findings in self.results.items():
            with self.subTest(style=name):
                self.assertIn("replace.stored", {each.check for each in findings})
                self.assertEqual({each.operations[0][0] for each in findings}, {"PUT"})

    def test_one_cause_is_one_finding_in_every_style(self) -> None:
        expected = {
            Talkative: ("errors.leak", "An error shows a stack trace"),
            Crashing: ("errors.server-error", "A request fails with 500: refused with 500"),
            Local: ("create.awkward-values", "A value changed silently: its offset from UTC was lost"),
        }
        for kind, cause in expected.items():
            self.found(kind)
            for name, findings in self.results.items():
                with self.subTest(defect=kind.__name__, style=name):
                    self.assertEqual([(each.check, each.title) for each in findings], [cause])

    def test_rules_that_are_not_enforced(self) -> None:
        self.found(Sloppy, "read", "create")
        for name, findings in self.results.items():
            with self.subTest(style=name):
                causes = {each.cause for each in findings}
                self.assertIn("any:accepts broken maxLength", causes)
                self.assertIn("any:accepts broken maximum", causes)

    def test_empty_success_for_a_missing_key(self) -> None:
        self.found(Gone, "read")
        for name, findings in self.results.items():
            with self.subTest(style=name):
                self.assertIn("read.missing-key", {each.check for each in findings})


if __name__ == "__main__":
    unittest.main()
