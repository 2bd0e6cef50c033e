"""Rows that the API itself changes or keeps when another is written: a flag that one row alone has, a delete that wants
force."""

from __future__ import annotations

import copy
import json
import unittest
from dataclasses import replace
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from checkpost.model.field import Field
from tests.books import PLAIN, run_on, told
from tests.foreign import Json, Library


class OneDefault(Library):
    """Whatever book is made the default takes that from the one that was; the flag is read leniently."""

    def __init__(self) -> None:
        super().__init__(PLAIN)
        for key, book in self.books.items():
            book["is_default"] = key == 3

    def book_schema(self, writable: bool, required: bool) -> Json:
        schema = super().book_schema(writable, required)
        schema["properties"]["is_default"] = {"type": "boolean"}
        return schema

    def taken(self, body: Json) -> Json:
        values = super().taken(body)
        if "is_default" in body:
            values["is_default"] = bool(body["is_default"])
        if values.get("is_default"):
            for book in self.books.values():
                book["is_default"] = False
        return values

    async def create(self, request: Request) -> Response:
        answer = await super().create(request)
        if answer.status_code < 300:
            self.books[self.last].setdefault("is_default", False)
        return answer


class Forced(Library):
    """A book is removed by force alone."""

    def contract(self) -> Json:
        contract = super().contract()
        delete = contract["paths"][self.path + self.style.item.format("{" + self.style.parameter + "}")]["delete"]
        delete["parameters"] = [{"name": "force", "in": "query", "schema": {"type": "boolean"}}]
        return contract

    async def item(self, request: Request) -> Response:
        if request.method == "DELETE" and request.query_params.get("force") != "true":
            return self.refused(409)
        return await super().item(request)


def flag(name: str, *types: str) -> Field:
    return Field(name, {}, frozenset(types), False, False, False, False, True, True, True, True, False)


class Placed(Library):
    """A book that is put at a place which another has moves all behind it; what is no number goes to the front."""

    def __init__(self) -> None:
        super().__init__(PLAIN)
        for place, book in enumerate(self.books.values(), 1):
            book["position"] = place

    def book_schema(self, writable: bool, required: bool) -> Json:
        schema = super().book_schema(writable, required)
        schema["properties"]["position"] = {"type": "integer", "nullable": True}
        return schema

    def taken(self, body: Json) -> Json:
        values = super().taken(body)
        if body.get("position") is not None:
            place = body["position"] if type(body["position"]) is int else 1
            if any(book.get("position") == place for book in self.books.values()):
                for book in self.books.values():
                    if (book.get("position") or 0) >= place:
                        book["position"] += 1
            values["position"] = place
        elif "position" in body:
            values["position"] = None
        return values

    def shown(self, book: Json) -> Json:
        return super().shown({"position": None, **book})


class Harmless(unittest.TestCase):
    def test_what_one_row_alone_may_have_is_never_taken_from_it(self) -> None:
        library = OneDefault()
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual((library.books, result.left, result.harmed), (before, (), ()))
        sent: list[Any] = []
        for each in result.exchanges:
            try:
                body = json.loads(each.request.body or b"null")
            except ValueError:
                continue
            sent += [body["is_default"]] if isinstance(body, dict) and "is_default" in body else []
        self.assertIn(False, sent)
        self.assertFalse(any(sent), sent)

    def test_rows_are_put_behind_all_others(self) -> None:
        library = Placed()
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual((library.books, result.left, result.harmed), (before, (), ()))
        made = [json.loads(each.request.body or b"{}") for each in result.exchanges if each.check == "create.stored"]
        self.assertTrue(any(each.get("position", 0) > len(before) for each in made if isinstance(each, dict)))

    def test_flags_of_one_row_are_told_by_their_names(self) -> None:
        for name in (
            "is_default",
            "default",
            "isPrimary",
            "primary_contact",
            "current",
            "main-address",
            "isLatestVersion",
        ):
            self.assertTrue(flag(name, "boolean").singles_out, name)
        for name in ("in_print", "active", "domain", "default_language", "remaining", "currently_read"):
            self.assertFalse(flag(name, "boolean").singles_out, name)
        self.assertFalse(flag("default", "string").singles_out)
        for name in ("locked", "is_locked", "isDeleted", "read_only", "finalized", "lock"):
            self.assertTrue(flag(name, "boolean").locks, name)
        for name in ("lockable", "active", "protected", "frozen", "final", "closed"):
            self.assertFalse(flag(name, "boolean").locks, name)

    def test_a_row_whose_delete_is_refused_is_removed_by_force_where_the_contract_has_it(self) -> None:
        library = Forced(replace(PLAIN, documented=("404", "409", "422")))
        before = copy.deepcopy(library.books)
        result = run_on(library)
        self.assertEqual((library.books, result.left), (before, ()))
        refused = [each for each in told(result) if each.title == "Delete is refused"]
        self.assertEqual([each.severity for each in refused], ["warning"])
        forced = [each for each in result.exchanges if each.request.url.endswith("?force=true")]
        self.assertEqual({each.check for each in forced}, {"tidying up"})
