"""Every planted defect is found, and the stand-in without any gives no finding."""

from __future__ import annotations

import itertools
import os
import re
import unittest
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor

from checkpost.checks.registry import FAMILIES
from checkpost.demo.defects import DEFECTS, Defect
from checkpost.demo.seedbank import TABLES
from checkpost.demo.server import InProcess
from checkpost.demo.spellings import SPELLINGS
from checkpost.findings import CheckResult, Finding
from tests.support import not_told, resource_of, run_on_example, run_on_stand_in

#: Findings that one defect may honestly lead to beside its own: a lenient replace is an update, and so on.
MOST_FINDINGS = 3
LISTS = ("page", "filter", "sort", "select", "aggregate")
SEVERAL = ("bulk", "concurrency", "relate")
#: The families that are run for a defect of a kind: for time, what has nothing to do with it is left out.
RUN = {
    "reads": tuple(family for family in FAMILIES if family not in ("access", *LISTS[1:], *SEVERAL)),
    "writes": tuple(family for family in FAMILIES if family not in ("access", *LISTS, *SEVERAL)),
    "access": ("read", "access"),
    **{family: ("read", family) for family in (*LISTS, *SEVERAL)},
}
#: Checks that are left out where a defect is not about single rows, or not about credentials.
ASIDE = (
    "read.changes-nothing",
    "read.malformed-key",
    "access.no-credentials-writes",
    "access.damaged-credentials-writes",
)


#: The usual spelling is run with every family and resource, the others without those that have little to do with
#: lists and related rows.
WHOLLY = ("brackets",)
WHOLE = FAMILIES
ALIKE = ("read", *LISTS, "bulk", "relate")
#: The resources that are run in the others: each in two of them.
_TABLES = [table.name.replace("_", "-") for table in TABLES if table.exposed]
SOME = {
    spelling: [name for place, name in enumerate(_TABLES) if (place + turn) % 3 == 0]
    for turn, spelling in enumerate(each for each in SPELLINGS if each not in WHOLLY)
}


def kind_of(defect: Defect) -> str:
    """What a defect is about: single rows and answers in general, writes, or what lists are asked."""
    if defect.family in (*LISTS, *SEVERAL):
        return defect.family
    if defect.family == "access":
        return "access"
    return "reads" if defect.family in {"read", "shape"} else "writes"


def rounds() -> list[list[Defect]]:
    """The defects in groups of one spelling and kind, at most one a table, so that one stand-in can have a
    whole group."""
    by_table: dict[tuple[str, str, str], list[Defect]] = defaultdict(list)
    for defect in DEFECTS.values():
        if defect.family in {"hold", "database"}:
            continue  # they need a new start, or the tables: tests/test_hold.py, tests/test_database.py
        by_table[defect.spelling, kind_of(defect), defect.table].append(defect)
    return [
        [each for each in group if each]
        for spelling, kind in itertools.product(SPELLINGS, RUN)
        for group in itertools.zip_longest(*(own for key, own in by_table.items() if key[:2] == (spelling, kind)))
    ]


Found = tuple[list[Finding], list[CheckResult], list[str]]


def found_in(names: list[str]) -> Found:
    """What a run finds on a stand-in with these defects; a function of its own, for a process of its own."""
    chosen = [DEFECTS[name] for name in names]
    with InProcess(names, spelling=chosen[0].spelling) as stand_in:
        families = RUN[kind_of(chosen[0])]
        resources = [resource_of(defect.table) for defect in chosen]
        if kind_of(chosen[0]) == "access":
            # one of two technicians is enough, and the auditor matters to one table alone
            leave = ("second_technician", *(() if "collectors" in resources else ("auditor",)))
            before = stand_in.contents()
            result = run_on_example(stand_in, resources, families, leave, ASIDE, direct=True)
            return list(result.findings), list(result.checks), not_told(before, stand_in.contents(), result)
        before = stand_in.contents()
        aside = ("bulk.large", *(ASIDE if kind_of(chosen[0]) not in {"reads", "writes"} else ()))
        # what is about answers in general may be about the wire
        direct = kind_of(chosen[0]) != "reads"
        result = run_on_stand_in(stand_in, resources, families, without=aside, direct=direct)
        return list(result.findings), list(result.checks), not_told(before, stand_in.contents(), result)


def clean_in(spelling: str) -> tuple[Found, list[str], bool]:
    """What a run finds on the sound stand-in in a spelling, what it never asked, and whether all is as before."""
    with InProcess(spelling=spelling) as stand_in:
        before = stand_in.contents()
        if spelling in WHOLLY:
            result = run_on_stand_in(stand_in, families=WHOLE)
        else:
            result = run_on_stand_in(stand_in, SOME[spelling], ALIKE, without=("bulk.large",), direct=True)
        unchanged = stand_in.contents() == before and not result.left
    missed = [" ".join(each) for each in result.not_exercised]
    return (list(result.findings), list(result.checks), []), missed, unchanged


def names_operation(finding: Finding, defect: Defect) -> bool:
    return any(
        (method, re.sub(r"\{\w+\}", "{id}", path)) == (defect.method, defect.path)
        for method, path in finding.operations
    )


class PlantedDefects(unittest.TestCase):
    def test_there_are_enough(self) -> None:
        self.assertGreaterEqual(len(DEFECTS), 120)
        asked = [each for each in DEFECTS.values() if each.family in {"page", "filter", "sort", "select", "aggregate"}]
        self.assertGreaterEqual(len(asked), 45)
        self.assertGreaterEqual(len([each for each in DEFECTS.values() if each.family in SEVERAL]), 60)
        self.assertEqual({each.spelling for each in asked}, set(SPELLINGS), "spread over the spellings")

    def test_each_is_found_where_it_is(self) -> None:
        groups = rounds()
        with ProcessPoolExecutor(os.cpu_count()) as pool:
            results = list(pool.map(found_in, [[defect.name for defect in group] for group in groups]))
        for group, result in zip(groups, results, strict=True):
            for defect in group:
                with self.subTest(defect=defect.name):
                    self.judge(defect, *result)

    def judge(self, defect: Defect, findings: list[Finding], checks: list[CheckResult], silent: list[str]) -> None:
        self.assertEqual(silent, [], "rows are not as they were, and the run does not tell")
        resource = resource_of(defect.table)
        own = [finding for finding in findings if resource in finding.resources]
        told = "\n".join(f"{finding.check} {finding.role} {finding.operations} {finding.title}" for finding in own)
        matching = [finding for finding in own if names_operation(finding, defect)]
        self.assertTrue(matching, f"no finding names {defect.method} {defect.path}:\n{told}")
        roles = {role for finding in own for role in finding.role.split(", ")}
        self.assertLessEqual(len(own), MOST_FINDINGS, f"too many findings for one cause:\n{told}")
        if defect.behaviour.__module__.endswith(".roles") and defect.name not in {"unexposed-served"}:
            self.assertTrue(roles - {"curator"}, f"no role is named:\n{told}")
        for finding in matching:
            self.assertTrue(finding.expected and finding.observed, finding)
            # only the API knows which rows a filter would reach a day later: no command is given for that
            self.assertTrue(finding.reproduce or finding.check in {"bulk.filtered", "access.by-filter"}, finding)
        broken = [check for check in checks if "itself failed" in check.reason]
        self.assertEqual(broken, [])


class SoundStandIn(unittest.TestCase):
    def test_nothing_is_reported_and_nothing_is_changed_in_any_spelling(self) -> None:
        with ProcessPoolExecutor(os.cpu_count()) as pool:
            results = list(pool.map(clean_in, SPELLINGS))
        for spelling, ((findings, checks, _), missed, unchanged) in zip(SPELLINGS, results, strict=True):
            with self.subTest(spelling=spelling):
                self.assertEqual([(each.check, each.title, each.observed) for each in findings], [])
                self.assertEqual([check for check in checks if check.outcome in {"failed", "blocked"}], [])
                named = [each for each in missed if not each.startswith(("POST /login ", "POST /logout "))]
                self.assertEqual(named if spelling in WHOLLY else [], [])
                self.assertTrue(unchanged)
                self.assertEqual({check.resource for check in checks}, set(SOME.get(spelling, _TABLES)))
                passed = {check.check for check in checks if check.outcome == "passed"}
                asked = {"filter.rows", "filter.combined", "filter.awkward", "sort.each-field", "select.fields"}
                asked |= {"relate.expand", "relate.sublist"}
                self.assertEqual(asked - passed, set(), "each ability is understood in this spelling")

    def test_stated_rights_are_kept(self) -> None:
        with InProcess() as stand_in:
            before = stand_in.contents()
            result = run_on_example(stand_in, families=["access"])
            told = [(each.check, each.role, each.title, each.observed) for each in result.findings]
            self.assertEqual(told, [])
            self.assertEqual(stand_in.contents(), before)
            blocked = [(each.check, each.reason) for each in result.checks if each.outcome == "blocked"]
            self.assertEqual(blocked, [])
            passed = {(each.check, each.role) for each in result.checks if each.outcome == "passed"}
            roles = {"technician", "second_technician", "auditor", "visitor", "public"}
            for check in ("access.rows", "access.read", "access.writes"):
                self.assertEqual({role for name, role in passed if name == check}, roles, check)
            self.assertIn(("access.credentials", "auditor"), passed)
            self.assertIn(("access.related", "technician"), passed)
            self.assertIn(("access.unexposed", "curator"), passed)

    def test_roles_with_fewer_rights_see_no_defect_either(self) -> None:
        from checkpost.demo.seedbank import VARIABLES
        from tests.support import bearer

        roles = [bearer("technician", VARIABLES["tomas"])]
        for role in roles:
            with self.subTest(role=role.name), InProcess() as stand_in:
                before = stand_in.contents()
                result = run_on_stand_in(stand_in, ["species", "germination-tests"], role=role)
                self.assertEqual([(each.check, each.title, each.observed) for each in result.findings], [])
                self.assertEqual(stand_in.contents(), before)
                blocked = [each for each in result.checks if each.outcome == "blocked"]
                self.assertEqual(blocked, [], "what a role may not do is skipped")


if __name__ == "__main__":
    unittest.main()
