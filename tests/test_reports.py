"""What people read: runs, findings, surveys and plans in a terminal, with and without colour."""

from __future__ import annotations

import io
import unittest
from pathlib import Path
from typing import Any

from checkpost.checks.observe import Observed
from checkpost.checks.registry import FAMILIES
from checkpost.commands.run import exit_status
from checkpost.demo.description import describe
from checkpost.demo.seedbank import TABLES
from checkpost.findings import NOT_CHOSEN
from checkpost.model.flaws import flaws
from checkpost.model.infer import infer
from checkpost.profile.access import rights
from checkpost.profile.credentials import Role
from checkpost.profile.profile import Profile
from checkpost.profile.starter import starter
from checkpost.report.access import access_matrix, frozen
from checkpost.report.console import plain_console
from checkpost.report.surveyed import show_resource, show_survey
from checkpost.report.terminal import cell, headings, show_checks, show_finding, show_list, show_run
from tests.support import contract_of


def check(name: str, outcome: str = "passed", reason: str = "", resource: str = "tags") -> dict[str, Any]:
    return {
        "check": name,
        "family": name.partition(".")[0],
        "resource": resource,
        "role": "r",
        "outcome": outcome,
        "reason": reason,
        "requests": 2,
        "seconds": 0.1,
    }


EXCHANGE = {
    "number": 12,
    "check": "create.stored",
    "role": "keeper",
    "credentials": "right",
    "request": {
        "method": "POST",
        "url": "http://127.0.0.1/tags",
        "headers": [["Content-Type", "application/json"]],
        "body": '{"label": "[bold]x[/bold]"}',
    },
    "answer": {
        "status": 201,
        "headers": [["location", "/tags/8"], ["x-noise", "n"]],
        "body": '{"id": 8}',
        "failure": "",
        "detail": "",
    },
    "seconds": 0.004,
    "attempts": 1,
}


def finding(**changes: Any) -> dict[str, Any]:
    return {
        "id": "0123456789",
        "check": "create.stored",
        "family": "create",
        "resource": "tags",
        "resources": ["tags"],
        "operation": {"method": "POST", "path": "/tags"},
        "operations": [{"method": "POST", "path": "/tags"}],
        "role": "keeper",
        "severity": "error",
        "basis": "contract",
        "title": "A title [red]in brackets[/red]",
        "expected": "this",
        "observed": "that",
        "subjects": [f"field{n}" for n in range(9)],
        "pointer": "/paths/x",
        "document": "c.yaml",
        "line": 41,
        "rows": [{"how": "missing", "key": "7", "values": {"name": None}}],
        "count": 3,
        "reproduce": "curl http://127.0.0.1",
        "exchanges": [EXCHANGE],
        **changes,
    }


def document(findings: list[dict[str, Any]], checks: list[dict[str, Any]], **changes: Any) -> dict[str, Any]:
    severities = [each["severity"] for each in findings]
    outcomes = [each["outcome"] for each in checks]
    return {
        "format": 1,
        "run": {
            "id": "20260101-000000-abcd",
            "checkpost": "0",
            "started": "2026-01-01T00:00:00+00:00",
            "seconds": 1.5,
            "seed": 1,
            "contract": {"location": "c.yaml", "title": "Seeds", "openapi": "3.1.0", "flaws": 2},
            "base_url": "http://127.0.0.1",
            "role": "keeper",
            "no_writes": "",
            "interrupted": False,
        }
        | changes,
        "summary": {
            "checks": {name: outcomes.count(name) for name in ("passed", "failed", "skipped", "blocked")},
            "findings": {name: severities.count(name) for name in ("error", "warning", "note")},
            "requests": 7,
            "operations": 3,
            "left": [],
            "harmed": [],
            "not_exercised": [{"method": "GET", "path": "/x", "reason": "no check reached it"}],
        },
        "findings": findings,
        "checks": checks,
    }


def printed(show: Any, *arguments: Any, width: int = 100, **options: Any) -> str:
    stream = io.StringIO()
    show(*arguments, plain_console(stream, width), **options)
    return stream.getvalue()


class Runs(unittest.TestCase):
    def setUp(self) -> None:
        self.document = document(
            [finding(), finding(id="9999999999", severity="warning", family="update", title="Milder")],
            [
                check("create.stored", "failed"),
                check("read.list"),
                check("update.rules", "failed"),
                check("delete.gone", "blocked", "no row"),
                check("replace.stored", "skipped", "no replace"),
                check("read.list", resource="vaults"),
                check("read.total", "passed", "in part only", "vaults"),
            ],
        )

    def test_the_matrix_tells_without_colour(self) -> None:
        text = printed(show_run, self.document)
        chosen = [line.split() for line in text.splitlines() if line.startswith(("read ", "create "))]
        lines = {name: signs for name, *signs in chosen}
        self.assertEqual(lines, {"read": ["✓", "✓"], "create": ["✗", "1", "–"]})
        self.assertNotIn("\x1b", text)

    def test_nothing_is_left_out(self) -> None:
        text = " ".join(printed(show_run, self.document).split())
        for words in (
            "2 findings: 1 error, 1 warning 2 of 3 operations asked rows as they were",
            "1 ✗ A title [red]in brackets[/red] tags",
            "2 ▲ Milder tags",
            "3 passed, 1 of them in part, 2 failed, 1 skipped, 1 blocked",
            "checkpost show --checks lists each with its reason",
            "Never asked: GET /x.",
            "and 3 more",
            "(3 times)",
            "has 2 flaws",
            "(contract, line 41)",
            "Next: checkpost show 1",
        ):
            self.assertIn(words, text)
        every = " ".join(printed(lambda console: show_checks(self.document, console), width=160).split())
        for words in (
            "! blocked tags delete.gone 2 requests no row",
            "– skipped tags replace.stored 2 requests no replace",
            "✓ passed vaults read.total 2 requests in part only",
            "– missed GET /x no check reached it",
        ):
            self.assertIn(words, every)

    def test_a_run_that_asked_little_judges_nothing(self) -> None:
        families = ("read.list", "create.stored", "filter.rows")
        asked = document([], [check(name) for name in families])
        lacking = [{"method": "GET", "path": f"/{n}", "reason": "its list cannot be used"} for n in range(2)]
        asked["summary"]["not_exercised"] = lacking
        text = printed(show_run, asked)
        self.assertIn("not judged: most operations were never asked", text)
        self.assertIn("Next: checkpost survey", text)
        self.assertEqual(exit_status(asked, "error"), 3)
        # what was not chosen, a run that only reads, and one of a few families were not to ask more
        others = [{**each, "reason": NOT_CHOSEN} for each in lacking]
        for changed in (
            {**asked, "summary": {**asked["summary"], "not_exercised": others}},
            {**asked, "run": {**asked["run"], "no_writes": "the profile says so"}},
            {**asked, "checks": [check("read.list")]},
        ):
            self.assertIn("no findings", printed(show_run, changed))
            self.assertEqual(exit_status(changed, "error"), 0)
        with_one = document([finding(severity="note")], [check(name) for name in families])
        with_one["summary"]["not_exercised"] = lacking
        self.assertEqual(exit_status(with_one, "error"), 0)

    def test_the_verdict_comes_first_and_the_next_step_last(self) -> None:
        lines = [line for line in printed(show_run, self.document, width=80).splitlines() if line.strip()]
        self.assertIn("2 findings: 1 error, 1 warning", lines[2])
        self.assertEqual(lines[-1].strip(), "Next: checkpost show 1")
        sound = [line for line in printed(show_run, document([], [check("read.list")])).splitlines() if line.strip()]
        self.assertIn("no findings", sound[2])
        self.assertNotIn("Next", sound[-1])

    def test_of_many_resources_those_with_findings_are_shown(self) -> None:
        checks = [check("read.list", resource=f"table{number}") for number in range(40)]
        found = finding(resource="table7", resources=["table7", "table9"], family="read")
        text = printed(show_run, document([found], checks))
        self.assertIn("table9", text)
        self.assertNotIn("table8", text)

    def test_what_the_api_said_is_not_taken_for_markup(self) -> None:
        self.assertIn("A title [red]in brackets[/red]", printed(show_run, self.document))
        plain = printed(lambda console: console.print("FIELD[gte] [/x] :seedling:"))
        self.assertEqual(plain.strip(), "FIELD[gte] [/x] :seedling:")
        self.assertIn("[bold]x[/bold]", printed(lambda console: show_finding(self.document, finding(), console)))

    def test_a_narrow_terminal_loses_no_column(self) -> None:
        names = [f"a-rather-long-name-{letter}" for letter in "abcdefgh"]
        crowded = document([], [check("read.list", resource=name) for name in names])
        lines = printed(show_run, crowded, width=80).splitlines()
        place = next(place for place, line in enumerate(lines) if line.startswith("read"))
        self.assertEqual(lines[place].split()[1:], ["✓"] * 8)
        self.assertEqual(lines[place - 1].split(), list("12345678"))
        self.assertIn("8 a-rather-long-name-h", " ".join(lines))

    def test_interruption_and_rows_left_are_told(self) -> None:
        interrupted = document([], [check("read.list")], interrupted=True)
        rows = [("9", "DELETE answers 403", True), ("11", "it is like a row that was removed since", False)]
        interrupted["summary"]["left"] = [
            {"table": "tags", "key": key, "why": why, "certain": certain} for key, why, certain in rows
        ]
        lost = {"table": "lots", "key": "3", "how": "is gone", "row": {"id": 3}, "restored": False, "certain": True}
        interrupted["summary"]["harmed"] = [lost, {**lost, "how": "changed", "restored": True, "certain": False}]
        text = printed(show_run, interrupted)
        self.assertIn("interrupted", text)
        lines = [line.strip() for line in text.splitlines()[4:14]]
        self.assertEqual(
            [line for line in lines if line],
            [
                "1 row of this run is still there:",
                "tags 9: DELETE answers 403",
                "1 row may be of this run, and is left alone:",
                "tags 11: it is like a row that was removed since",
                "1 row of others was changed or removed by the API while this run went on:",
                "lots 3 is gone",
                "1 row of others was changed or removed while this run went on, perhaps by somebody else at work:",
                "lots 3 changed, and has its values again",
                "checkpost sweep looks again, and removes what is the run's.",
            ],
        )

    def test_a_finding_is_shown_with_its_exchanges(self) -> None:
        text = printed(lambda console: show_finding(self.document, finding(), console))
        for words in (
            "POST http://127.0.0.1/tags",
            "as keeper",
            "→  201",
            "location: /tags/8",
            '"id": 8',
            "c.yaml#/paths/x",
        ):
            self.assertIn(words, text)
        self.assertNotIn("x-noise", text)

    def test_lists_of_runs_and_checks(self) -> None:
        self.assertIn("20260101-000000-abcd", printed(show_list, [self.document]))
        self.assertIn("! blocked tags", printed(show_checks, self.document))

    def test_a_matrix_of_many_tables_fits_eighty_columns(self) -> None:
        tables = [f"a_table_of_seeds_{number}" for number in range(25)]
        checks = [check(f"{family}.x", "blocked", "", table) for family in FAMILIES for table in tables[:-1]] * 11
        checks += [check(f"{family}.x", "skipped", "", tables[-1]) for family in FAMILIES]
        lines = printed(show_run, document([], checks), width=80).splitlines()
        heads = next(line for line in lines if line.split()[:3] == ["acc", "rea", "cre"])
        self.assertEqual(heads.split(), [family[:3] for family in FAMILIES])
        self.assertLessEqual(max(map(len, lines)), 80)
        self.assertEqual(sum(line.split()[1:] == ["!11"] * len(FAMILIES) for line in lines), 24)
        self.assertIn(f"Nothing was to be asked of {tables[-1]}.", lines)

    def test_cells(self) -> None:
        self.assertEqual(cell([check("a.b")], [])[0], "✓")
        self.assertEqual(cell([check("a.b"), check("a.c", "blocked")], [])[0], "! 1")
        self.assertEqual(cell([check("a.b", "skipped")], [])[0], "–")
        self.assertEqual(
            cell([check("a.b", "failed")], [finding(severity="note"), finding(severity="warning")])[0], "▲ 2"
        )


class Rights(unittest.TestCase):
    """Roles and what they may do, as a terminal shows it."""

    def entry(self, role: str, **changes: Any) -> dict[str, Any]:
        usual = {"resource": "tags", "role": role, "rights": "read", "short": "read", "tried": True, "differs": []}
        return {**usual, **changes}

    def test_a_matrix_marks_what_differs_without_colour(self) -> None:
        entries = [
            self.entry("clerk"),
            self.entry("guest", short="none", differs=["rows", "writes"]),
            self.entry("robot", tried=False),
            self.entry("clerk", resource="loans"),
        ]
        text = printed(lambda console: console.print(access_matrix(entries)))
        lines = {line.split()[0]: line for line in text.splitlines() if line.strip()}
        self.assertIn("✓ read", lines["tags"])
        self.assertIn("✗ none: rows, writes", lines["tags"])
        self.assertIn("? read", lines["tags"])
        self.assertEqual(lines["loans"].count("not stated"), 2)

    def test_a_run_shows_it_where_rights_were_tried(self) -> None:
        run = {**document([], [check("access.rows")]), "access": [self.entry("clerk")]}
        self.assertIn("Roles, and what they may do", printed(lambda console: show_run(run, console)))
        untried = {**run, "access": [self.entry("clerk", tried=False)]}
        self.assertNotIn("Roles, and what", printed(lambda console: show_run(untried, console)))

    def test_a_finding_names_the_role_where_it_is_another(self) -> None:
        other = document([finding(role="clerk, guest")], [])
        self.assertIn("clerk, guest", printed(lambda console: show_run(other, console)))

    def test_what_was_seen_is_frozen_as_lines_of_a_profile(self) -> None:
        seen = Observed({"list", "read", "aggregate"}, "some", ("author", 7), ("notes",))
        own = Observed({"list", "create"}, "some", ("author", "ann"))
        vague = Observed({"list"}, "some")
        profile = Profile(Path("."), roles={name: Role(name, identity=own_id) for name, own_id in IDENTITIES.items()})
        observed = {("tags", "clerk"): seen, ("tags", "ann"): own, ("tags", "guest"): vague}
        text = frozen(observed, profile)
        self.assertIn('clerk: "read where author = 7 hide notes"', text)
        self.assertIn('ann: "list, create own author"', text)
        self.assertRegex(text, r'guest: "list"\s+# some rows: add where')
        for line, identity in (("read where author = 7 hide notes", None), ("list, create own author", "ann")):
            self.assertIsNotNone(rights(line, identity).rows)

    def test_headings_are_cut_as_much_as_the_width_needs(self) -> None:
        names = ["read", "aggregate", "concurrency"]
        self.assertEqual(headings(names, 40), names)
        self.assertEqual(headings(names, 22), ["read", "aggreg.", "concur."][:1] + headings(names, 22)[1:])
        self.assertEqual(headings(names, 5), ["rea", "agg", "con"])


IDENTITIES = {"clerk": None, "ann": "ann", "guest": None}


class Surveys(unittest.TestCase):
    def test_related_rows_and_many_at_once_are_shown(self) -> None:
        contract = contract_of(describe(TABLES, "http://127.0.0.1/v1"))
        model = infer(contract)
        text = printed(lambda console: show_survey(contract, model, [], console, True), width=180)
        for words in ("Under:", "/species/{id}/tags", "Expand:", "At once:", "ids=KEYS", "Guards:", "Idempotency-Key"):
            self.assertIn(words, text)
        self.assertIn("through species-tags", " ".join(text.split()))

    def test_many_resources_are_told_by_what_they_have_in_common(self) -> None:
        row = {
            "type": "object",
            "properties": {"id": {"type": "integer", "readOnly": True}, "name": {"type": "string"}},
        }
        rows = {
            "200": {"description": "", "content": {"application/json": {"schema": {"type": "array", "items": row}}}}
        }
        sort = [{"name": "sort", "in": "query", "schema": {"type": "string"}}]
        paths: dict[str, Any] = {f"/t{n}": {"get": {"parameters": sort, "responses": rows}} for n in range(40)}
        paths["/t7"]["post"] = {"requestBody": {"content": {"application/json": {"schema": row}}}, "responses": rows}
        contract = contract_of({"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths})
        model = infer(contract)
        text = printed(lambda console: show_survey(contract, model, [], console, False), width=80)
        self.assertLess(len(text.splitlines()), 30)
        self.assertIn("39         L·····", text)
        self.assertIn("1          LC····", text)
        self.assertEqual(text.count("is not described; a run tries"), 1)
        self.assertIn("and 36 more", text)

    def setUp(self) -> None:
        self.contract = contract_of(describe(TABLES, "http://127.0.0.1:1/v1"))
        self.model = infer(self.contract)

    def test_resources_security_and_reasons(self) -> None:
        text = printed(
            lambda console: show_survey(self.contract, self.model, flaws(self.contract, self.model), console, True),
            width=160,
        )
        for words in (
            "species-tags",
            "species_id, tag_id (client)",
            "accessions by accession_id",
            "open to the public: species list",
            "rows at /items, paged by limit, offset: every resource",
            "its description calls it unique",
            "no flaws",
        ):
            self.assertIn(words, text)

    def test_fields_and_their_rules(self) -> None:
        loans = self.model.resource("loans")
        assert loans is not None
        text = printed(lambda console: show_resource(loans, console), width=160)
        for words in (
            "string uuid",
            "minimum 1, maximum 100000",
            "default False",
            "refers to accessions",
            "write-only",
        ):
            self.assertIn(words, text)

    def test_the_starter_profile_prefers_a_test_instance(self) -> None:
        from pathlib import Path

        document = describe(TABLES, "https://api.example.org/v1")
        document["servers"] = [{"url": f"https://{host}.example.org"} for host in ("api", "staging-api")]
        contract = contract_of(document)
        lines = starter(contract, infer(contract), Path("/")).splitlines()
        self.assertIn('base_url: "https://staging-api.example.org"', lines)
        self.assertIn('# base_url: "https://api.example.org"', lines)

    def test_the_starter_profile_reads_back_and_says_what_was_understood(self) -> None:
        import tempfile
        from pathlib import Path

        from checkpost.profile.profile import read_profile

        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            text = starter(self.contract, self.model, folder)
            (folder / "checkpost.yaml").write_text(text, "utf-8")
            profile = read_profile(folder / "checkpost.yaml")
            self.assertEqual(set(profile.resources), {resource.name for resource in self.model.resources})
            assert profile.contract is not None
            self.assertEqual(Path(profile.contract).resolve(), Path(self.contract.location).resolve())
            self.assertEqual(profile.role.variables, ("API_TOKEN",))
            # every line that is commented out may be taken in as it stands
            taken = "\n".join(
                line.replace("    # ", "    ", 1) if line.startswith("    # ") else line for line in text.splitlines()
            )
            (folder / "all.yaml").write_text(taken, "utf-8")
            settled = read_profile(folder / "all.yaml").resources["accessions"]
        self.assertEqual(settled.key, ("id",))
        self.assertEqual(settled.unique, ("number",))
        self.assertEqual(
            dict(settled.references), {"species_id": "species", "vault_code": "vaults", "collector_id": "collectors"}
        )
        again = infer(self.contract, {"accessions": settled}).resource("accessions")
        assert again is not None and again.key is not None
        self.assertEqual(again.key.reason.certainty, "stated")
        self.assertEqual([relation.reason.certainty for relation in again.relations], ["stated"] * 3)


if __name__ == "__main__":
    unittest.main()
