"""Every planted defect is found, and the stand-in without any gives no finding."""

from __future__ import annotations

import itertools
import os
import re
import unittest
from collections import Counter, defaultdict
from concurrent.futures import ProcessPoolExecutor

from checkpost.checks.registry import FAMILIES
from checkpost.demo.api import TableApi
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
#: What is run beside reading and a defect's own family: answers in general come from every kind of request.
BESIDE = {"shape": ("create", "update", "errors"), "errors": ("create",)}
#: Set it to run all that touches single rows for each defect of theirs, which takes four times as long: it shows
#: whether one cause is told by several families.
WIDE = "CHECKPOST_TESTS_WIDE" in os.environ
_SINGLE = tuple(family for family in FAMILIES if family not in ("access", "database", *LISTS, *SEVERAL))
#: It shows rows of another table, whose own defects would hide it.
ALONE = {"expansion-opens-scope"}
#: Checks that are left out where a defect is not about single rows, or not about credentials.
ASIDE = (
    "read.changes-nothing",
    "read.malformed-key",
    "access.no-credentials-writes",
    "access.damaged-credentials-writes",
)


#: What is run in each spelling: what has to do with lists and related rows. All is run in the usual spelling by the
#: example (tests/test_cli.py).
ALIKE = ("read", *LISTS, "bulk", "relate")
#: The resources that are run in a spelling: each in two of them.
_TABLES = [table.name.replace("_", "-") for table in TABLES if table.exposed]
SOME = {
    spelling: [name for place, name in enumerate(_TABLES) if (place + turn) % 3 == 0]
    for turn, spelling in enumerate(SPELLINGS)
}


def families_for(defect: Defect) -> tuple[str, ...]:
    """What is run for a defect: for time, what has little to do with it is left out."""
    if WIDE and defect.family in _SINGLE:
        return _SINGLE
    return ("read", *BESIDE.get(defect.family, ()), defect.family)


def rounds() -> list[list[Defect]]:
    """The defects in groups of one spelling and family, so that one stand-in can have a whole group: at most one a
    table, or where they are about rights, one a table and method."""
    groups: dict[tuple[str, str], list[list[Defect]]] = defaultdict(list)
    for defect in DEFECTS.values():
        if defect.family in {"hold", "database"}:
            continue  # they need a new start, or the tables: tests/test_hold.py, tests/test_database.py
        own = groups[defect.spelling, defect.family]
        free = (group for group in own if all(apart(defect, each) for each in group))
        group = next(free, None)
        if group is None:
            own.append(group := [])
        group.append(defect)
    return list(itertools.chain.from_iterable(groups.values()))


def apart(one: Defect, other: Defect) -> bool:
    """Whether two defects can be had at once, and their findings told from each other."""
    if ALONE & {one.name, other.name}:
        return False
    if one.table != other.table:
        return True
    shared = set(one.behaviour.__mro__) & set(other.behaviour.__mro__) - set(TableApi.__mro__)
    return one.family == "access" and not shared and one.method != other.method


Found = tuple[list[Finding], list[CheckResult], list[str]]


def found_in(names: list[str]) -> Found:
    """What a run finds on a stand-in with these defects; a function of its own, for a process of its own."""
    chosen = [DEFECTS[name] for name in names]
    with InProcess(names, spelling=chosen[0].spelling) as stand_in:
        families, family = families_for(chosen[0]), chosen[0].family
        resources = [resource_of(defect.table) for defect in chosen]
        before = stand_in.contents()
        if family == "access":
            # one of two technicians is enough, and the auditor matters to one table alone
            leave = ("second_technician", *(() if "collectors" in resources else ("auditor",)))
            result = run_on_example(stand_in, resources, families, leave, ASIDE, direct=True)
        else:
            aside = ("bulk.large", *(ASIDE if family in (*LISTS, *SEVERAL) else ()))
            # what is about answers in general may be about the wire
            direct = family not in {"read", "shape"}
            result = run_on_stand_in(stand_in, resources, families, without=aside, direct=direct)
        return list(result.findings), list(result.checks), not_told(before, stand_in.contents(), result)


def clean_in(spelling: str) -> tuple[Found, bool]:
    """What a run finds on the sound stand-in in a spelling, and whether all is as before."""
    with InProcess(spelling=spelling) as stand_in:
        before = stand_in.contents()
        result = run_on_stand_in(stand_in, SOME[spelling], ALIKE, without=("bulk.large",), direct=True)
        unchanged = stand_in.contents() == before and not result.left
    return (list(result.findings), list(result.checks), []), unchanged


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
            tables = Counter(defect.table for defect in group)
            for defect in group:
                with self.subTest(defect=defect.name):
                    self.judge(defect, *result, most=MOST_FINDINGS * tables[defect.table])

    def judge(
        self, defect: Defect, findings: list[Finding], checks: list[CheckResult], silent: list[str], most: int
    ) -> None:
        self.assertEqual(silent, [], "rows are not as they were, and the run does not tell")
        resource = resource_of(defect.table)
        own = [finding for finding in findings if resource in finding.resources]
        told = "\n".join(f"{finding.check} {finding.role} {finding.operations} {finding.title}" for finding in own)
        matching = [finding for finding in own if names_operation(finding, defect)]
        self.assertTrue(matching, f"no finding names {defect.method} {defect.path}:\n{told}")
        roles = {role for finding in own for role in finding.role.split(", ")}
        self.assertLessEqual(len(own), most, f"too many findings for one cause:\n{told}")
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
        for spelling, ((findings, checks, _), unchanged) in zip(SPELLINGS, results, strict=True):
            with self.subTest(spelling=spelling):
                self.assertEqual([(each.check, each.title, each.observed) for each in findings], [])
                self.assertEqual([check for check in checks if check.outcome in {"failed", "blocked"}], [])
                self.assertTrue(unchanged)
                self.assertEqual({check.resource for check in checks}, set(SOME[spelling]))
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
