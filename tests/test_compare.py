"""Two runs against each other."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path
from typing import Any

from checkpost.comparison import compared
from checkpost.store.runs import save
from tests.support import checkpost

Json = dict[str, Any]


def finding(name: str, check: str = "read.list", resources: tuple[str, ...] = ("lots",), **more: Any) -> Json:
    return {
        "id": name,
        "check": check,
        "severity": "error",
        "title": f"the departure {name[0]}",
        "role": "public",
        "resources": list(resources),
        "operations": [{"method": "GET", "path": "/lots"}],
        **more,
    }


def document(name: str, findings: list[Json], checks: dict[str, str] | None = None) -> Json:
    outcomes = checks or {"read.list": "failed", "filter.rows": "passed"}
    return {
        "run": {"id": name, "started": name, "contract": {"title": "Seeds"}},
        "findings": findings,
        "checks": [{"check": check, "resource": "lots", "outcome": outcome} for check, outcome in outcomes.items()],
    }


def command(words: list[str], folder: Path, status: int) -> str:
    """What the installed command says, and that it ends so."""
    done = checkpost(*words, folder=folder)
    assert done.returncode == status, (done.returncode, done.stdout, done.stderr)
    return done.stdout + done.stderr


class Compared(unittest.TestCase):
    def test_new_fixed_and_lasting(self) -> None:
        found = compared(document("1", [finding("a"), finding("b")]), document("2", [finding("b"), finding("c")]))
        self.assertEqual([each["id"] for each in found.new], ["c"])
        self.assertEqual([each["id"] for each in found.fixed], ["a"])
        self.assertEqual([each["id"] for each in found.lasting], ["b"])
        self.assertEqual(found.unasked, ())

    def test_what_more_resources_show_now_is_the_same(self) -> None:
        more = finding("a2", resources=("lots", "tests"), title="the departure a")
        found = compared(document("1", [finding("a1")]), document("2", [more]))
        self.assertEqual((len(found.new), len(found.fixed), len(found.lasting)), (0, 0, 1))
        elsewhere = {**more, "operations": [{"method": "GET", "path": "/tests"}]}
        self.assertEqual(len(compared(document("1", [finding("a1")]), document("2", [elsewhere])).new), 1)

    def test_nothing_is_fixed_that_was_not_asked_again(self) -> None:
        for outcome in ("blocked", "skipped"):
            later = document("2", [], {"read.list": outcome, "filter.rows": "passed"})
            shape = finding("s", check="shape.body")
            found = compared(document("1", [finding("a", check="filter.rows"), shape, finding("r")]), later)
            self.assertEqual([each["id"] for each in found.fixed], ["a", "s"], outcome)
            self.assertEqual([each["id"] for each in found.unasked], ["r"], outcome)
        found = compared(document("1", [finding("a", check="gone.check", resources=("others",))]), document("2", []))
        self.assertEqual([each["id"] for each in found.unasked], ["a"])


class Command(unittest.TestCase):
    def test_the_latest_two_a_named_one_and_a_file(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            self.assertIn("two are needed", command(["compare"], folder, 2))
            for run, findings in (("20260101-a", ["a"]), ("20260102-b", ["b"]), ("20260103-c", ["b", "c"])):
                save(folder, document(run, [finding(each) for each in findings]), [])
            said = command(["compare"], folder, 1)
            self.assertIn("1 new, 1 as before", said)
            self.assertIn("Next: checkpost show 20260103-c c", said)
            self.assertNotIn("Fixed", said)
            self.assertIn("Fixed", command(["compare", "20260101", "--fail-on", "never"], folder, 0))
            self.assertIn("0 new, 1 fixed", command(["compare", "20260103", "20260102"], folder, 0))
            self.assertIn("finding", command(["show", "20"], folder, 2), "a number is a finding's, and no year's")
            file = folder / "old.json"
            file.write_text(json.dumps(document("old", [finding("b"), finding("c")])), "utf-8")
            self.assertIn("0 new, 2 as before", command(["compare", str(file)], folder, 0))
            file.write_text("[]", "utf-8")
            self.assertIn("no JSON report", command(["compare", str(file)], folder, 2))
            self.assertIn("neither a stored run", command(["compare", "1999"], folder, 2))


if __name__ == "__main__":
    unittest.main()
