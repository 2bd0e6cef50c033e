"""Every planted defect is found, and the stand-in without any gives no finding."""

from __future__ import annotations

import itertools
import re
import unittest
from collections import defaultdict

from checkpost.demo.defects import DEFECTS, Defect
from checkpost.demo.seedbank import TABLES
from checkpost.demo.server import InProcess
from checkpost.engine.run import Result
from checkpost.findings import Finding
from tests.support import run_on_stand_in

#: Findings that one defect may honestly lead to beside its own: a lenient replace is an update, and so on.
MOST_FINDINGS = 3


def resource_of(table: str) -> str:
    return table.replace("_", "-")


def rounds() -> list[list[Defect]]:
    """The defects in groups of at most one a table, so that one stand-in can have a whole group."""
    by_table: dict[str, list[Defect]] = defaultdict(list)
    for defect in DEFECTS.values():
        by_table[defect.table].append(defect)
    return [[each for each in group if each] for group in itertools.zip_longest(*by_table.values())]


def names_operation(finding: Finding, defect: Defect) -> bool:
    return any(
        (method, re.sub(r"\{\w+\}", "{id}", path)) == (defect.method, defect.path)
        for method, path in finding.operations
    )


class PlantedDefects(unittest.TestCase):
    def test_there_are_enough(self) -> None:
        self.assertGreaterEqual(len(DEFECTS), 30)

    def test_each_is_found_where_it_is(self) -> None:
        for group in rounds():
            with InProcess([defect.name for defect in group]) as stand_in:
                result = run_on_stand_in(stand_in, [resource_of(defect.table) for defect in group])
            for defect in group:
                with self.subTest(defect=defect.name):
                    self.judge(defect, result)

    def judge(self, defect: Defect, result: Result) -> None:
        resource = resource_of(defect.table)
        own = [finding for finding in result.findings if finding.resource == resource]
        told = "\n".join(f"{finding.check} {finding.operations} {finding.title}" for finding in own)
        matching = [finding for finding in own if names_operation(finding, defect)]
        self.assertTrue(matching, f"no finding names {defect.method} {defect.path}:\n{told}")
        self.assertLessEqual(len(own), MOST_FINDINGS, f"too many findings for one cause:\n{told}")
        for finding in matching:
            self.assertTrue(finding.expected and finding.observed and finding.reproduce, finding)
        broken = [check for check in result.checks if "itself failed" in check.reason]
        self.assertEqual(broken, [])


class SoundStandIn(unittest.TestCase):
    def test_nothing_is_reported_and_nothing_is_changed(self) -> None:
        with InProcess() as stand_in:
            before = stand_in.contents()
            result = run_on_stand_in(stand_in)
            self.assertEqual(stand_in.contents(), before)
        self.assertEqual([finding.title for finding in result.findings], [])
        self.assertEqual([check for check in result.checks if check.outcome in {"failed", "blocked"}], [])
        self.assertEqual(result.not_exercised, ())
        self.assertEqual(result.left, ())
        exposed = {resource_of(table.name) for table in TABLES if table.exposed}
        self.assertEqual({check.resource for check in result.checks}, exposed)

    def test_roles_with_fewer_rights_see_no_defect_either(self) -> None:
        from checkpost.demo.seedbank import VARIABLES
        from checkpost.profile.credentials import PUBLIC
        from tests.support import bearer

        roles = [bearer("technician", VARIABLES["tomas"]), bearer("auditor", VARIABLES["ines"]), PUBLIC]
        for role in roles:
            with self.subTest(role=role.name), InProcess() as stand_in:
                before = stand_in.contents()
                result = run_on_stand_in(stand_in, ["species", "germination-tests", "tags"], role=role)
                self.assertEqual([(each.check, each.title, each.observed) for each in result.findings], [])
                self.assertEqual(stand_in.contents(), before)
                blocked = [each for each in result.checks if each.outcome == "blocked"]
                self.assertEqual(blocked, [], "what a role may not do is skipped")


if __name__ == "__main__":
    unittest.main()
