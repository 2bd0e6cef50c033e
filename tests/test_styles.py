"""The stand-in in other styles: understood without help, sound where it is sound, its defects found where they are."""

from __future__ import annotations

import os
import re
import unittest
from concurrent.futures import ProcessPoolExecutor

from checkpost.demo.defects import DEFECTS
from checkpost.demo.server import InProcess
from checkpost.demo.styles import STYLES
from checkpost.model.resource import Resource
from tests.support import run_on_example, run_on_stand_in

NAMED = [name for name in STYLES if name != "plain"]
#: What every table can do in each style, as far as the style has it.
ROW = {"create", "read", "list", "delete"}
#: The families that are run, for time; the others say little of a style.
FAMILIES = ("read", "create", "update", "delete", "page", "filter", "errors", "shape")
#: What a style has no way to show: where a row is read from the list, the two cannot differ.
BEYOND = {"by-filter": ("delete-only-from-list",)}
WRITES, LISTS = ("create", "update", "delete"), ("filter", "sort", "page")
#: Tables that are run where nothing is wrong: two or three for each style, all of them over the styles.
SOUND = {
    "brackets": ("vaults", "species-tags", "loans"),
    "by-filter": ("tags", "species-tags", "vaults"),
    "actions": ("collectors", "species-tags"),
    "documents": ("accessions", "vaults"),
    "by-key": ("germination-tests", "vaults"),
    "nested": ("accessions", "tags"),
    "one-path": ("species", "vaults"),
    "forms": ("loans", "tags"),
}
#: Planted in the styles, half of them in each: one at most for each table.
EVERYWHERE = (
    "text-truncated",
    "required-not-enforced",
    "update-lost",
    "delete-only-from-list",
    "list-hides-rows",
    "update-resets-others",
    "update-ignores-field",
)
#: Planted in the spelling that the style goes with.
OWN = {
    "brackets": ("or-is-and", "sort-crashes"),
    "by-filter": ("like-anchored", "content-range-total"),
    "one-path": ("less-is-at-most", "between-leaves-bounds"),
    "forms": ("isnull-ignored", "in-takes-first-only"),
}


Found = tuple[set[str], list[tuple[str, str, str]], list[str], bool, set[str]]


def looked_at(style: str, defects: tuple[str, ...], tables: tuple[str, ...], families: tuple[str, ...]) -> Found:
    """What a run finds: resources with findings, the findings, what broke, whether all is as before, what passed."""
    spelling = STYLES[style].spelling
    with InProcess(defects, spelling=spelling, style=style) as stand_in:
        before = stand_in.contents()
        result = run_on_stand_in(stand_in, tables, families, direct=True)
        unchanged = stand_in.contents() == before and not result.left
    told = [(each.check, each.title, each.observed) for each in result.findings]
    broken = [f"{each.check} {each.resource}: {each.reason}" for each in result.checks if each.outcome == "blocked"]
    passed = {each.check for each in result.checks if each.outcome == "passed"}
    return {name for each in result.findings for name in each.resources}, told, broken, unchanged, passed


def sound(style: str) -> Found:
    return looked_at(style, (), SOUND[style], FAMILIES)


def planted(style: str) -> list[tuple[tuple[str, ...], Found]]:
    """The defects that the style can have, in runs of one a table."""
    tables = {table.name for table in STYLES[style].tables}
    found = []
    for chosen, families in (
        (EVERYWHERE[NAMED.index(style) % 2 :: 2], ("read", *WRITES)),
        (OWN.get(style, ()), ("read", *LISTS)),
    ):
        names = tuple(name for name in chosen if DEFECTS[name].table in tables and name not in BEYOND.get(style, ()))
        if names:
            found.append((names, looked_at(style, names, tuple(map(resource_of, names)), families)))
    return found


def resource_of(defect: str) -> str:
    return DEFECTS[defect].table.replace("_", "-")


class Understood(unittest.TestCase):
    def resources(self, style: str) -> dict[str, Resource]:
        from checkpost.commands.run import with_answers
        from checkpost.engine.target import aim
        from checkpost.profile.profile import Profile
        from checkpost.wire.session import Limits
        from tests.support import CURATOR, ENVIRONMENT, fetched

        with InProcess(spelling=STYLES[style].spelling, style=style) as stand_in, fetched(stand_in) as (folder, file):
            os.environ.update(ENVIRONMENT)
            profile = Profile(folder, contract=file, roles={"curator": CURATOR})
            target = with_answers(aim(profile, True, 10.0), Limits())
        return {each.name: each for each in target.model.resources}

    def test_every_table_is_there_with_all_that_can_be_done(self) -> None:
        for style in NAMED:
            found = self.resources(style)
            with self.subTest(style=style):
                self.assertEqual(set(found), {table.path.strip("/") for table in STYLES[style].tables})
                for table in STYLES[style].tables:
                    resource = found[table.path.strip("/")]
                    assert resource.key is not None
                    own = tuple("id" if style == "documents" else name for name in table.key)
                    self.assertEqual(resource.key.fields[-len(own) :], own, resource.name)
                    self.assertEqual(ROW - set(resource.operations), set(), resource.name)
                    self.assertEqual("update" in resource.operations, table.updatable, resource.name)
                    names = {re.sub(r"_(id|code)$", "", each.name) for each in table.visible if each.references}
                    relations = {re.sub(r"_(id|code)$", "", each.field) for each in resource.relations}
                    self.assertEqual(relations, names, resource.name)


class Runs(unittest.TestCase):
    def test_nothing_is_found_and_nothing_changed_where_all_is_well(self) -> None:
        with ProcessPoolExecutor(os.cpu_count()) as pool:
            results = list(pool.map(sound, NAMED))
        for style, (_, told, broken, unchanged, passed) in zip(NAMED, results, strict=True):
            with self.subTest(style=style):
                self.assertEqual(told, [])
                self.assertEqual(broken, [])
                self.assertTrue(unchanged)
                asked = {
                    "create.stored",
                    "delete.gone",
                    "read.item-equals-list",
                    "create.awkward-values",
                    "filter.rows",
                }
                self.assertEqual(asked - passed, set())

    def test_defects_are_found_in_each_style(self) -> None:
        with ProcessPoolExecutor(os.cpu_count()) as pool:
            results = list(pool.map(planted, NAMED))
        for style, runs in zip(NAMED, results, strict=True):
            for names, (resources, told, *_) in runs:
                for name in names:
                    with self.subTest(style=style, defect=name):
                        self.assertIn(resource_of(name), resources, told)


class Rights(unittest.TestCase):
    """Rights of roles where rows are reached by a filter alone."""

    def found(self, *defects: str) -> list[tuple[str, str]]:
        left_out = ("second_technician", "auditor", "public")
        with InProcess(defects, spelling="prefix", style="by-filter") as stand_in:
            before = stand_in.contents()
            tables = ("germination-tests", "vaults")
            result = run_on_example(stand_in, tables, ["access"], left_out, ("access.ways", "access.related"))
            self.assertEqual(stand_in.contents(), before)
        self.assertEqual([each.reason for each in result.checks if each.outcome == "blocked"], [])
        return [(each.role, each.title) for each in result.findings]

    def test_they_are_kept(self) -> None:
        self.assertEqual(self.found(), [])

    def test_rows_of_others_that_are_changed_are_found(self) -> None:
        found = self.found("technician-updates", "deletes-others-rows")
        self.assertIn(("technician", "A role changes rows that it may not"), found)
        self.assertNotIn("visitor", {role for role, _ in found})


if __name__ == "__main__":
    unittest.main()
