"""Bodies that may hold what rows may not be shown with."""

from __future__ import annotations

import copy
import unittest
from typing import Any

from tests.books import PLAIN, run_on, told
from tests.foreign import Json, Library


class Looser(Library):
    """How long a title is, and how few pages a book has, is said of rows alone; ``enforced`` whether it holds."""

    enforced = False

    def contract(self) -> Json:
        contract = super().contract()
        for name in ("NewBook", "BookChange"):
            fields = contract["components"]["schemas"][name]["properties"]
            fields["title"].pop("maxLength")
            fields["pages"].pop("minimum")
        return contract

    def broken(self, body: Any, partial: bool) -> bool:
        if isinstance(body, dict) and not self.enforced:
            body = {**body, "title": body["title"][:80]} if isinstance(body.get("title"), str) else body
            body = {**body, "pages": max(1, body["pages"])} if type(body.get("pages")) is int else body
        return super().broken(body, partial)


class AsShown(unittest.TestCase):
    def test_what_bodies_may_hold_and_rows_may_not_is_one_finding(self) -> None:
        library = Looser(PLAIN)
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual((library.books, result.left), (before, ()))
        [finding] = told(result)
        self.assertEqual(finding.title, "A change that the contract allows makes a row that it rules out")
        self.assertEqual((finding.severity, finding.operations), ("error", (("PATCH", "/api/books/{id}"),)))
        self.assertEqual(set(finding.subjects), {"title", "pages"})

    def test_an_api_that_keeps_what_is_said_of_rows_is_sound(self) -> None:
        library = Looser(PLAIN)
        library.enforced = True
        result = run_on(library)
        self.assertEqual([each.title for each in told(result)], [])
        [outcome] = [each.outcome for each in result.checks if each.check == "update.as-shown"]
        self.assertEqual(outcome, "passed")
