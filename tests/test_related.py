"""What is understood of related rows, many rows at once and guards in contracts of several makes."""

from __future__ import annotations

import unittest
from typing import Any

from checkpost.checks.case import Case
from checkpost.checks.many import Told, body_of, told_by
from checkpost.model.bulk import Bulk
from checkpost.model.infer import infer
from checkpost.model.resource import Model
from checkpost.wire.client import Client
from checkpost.wire.exchange import Answer
from checkpost.wire.listing import Key
from tests.support import contract_of

Json = dict[str, Any]


def content(schema: Json, kind: str = "application/json") -> Json:
    return {"content": {kind: {"schema": schema}}}


def answer(schema: Json | None = None, status: str = "200", **more: Any) -> Json:
    return {"responses": {status: {"description": "", **(content(schema) if schema else {}), **more}}}


def key(name: str = "id") -> Json:
    return {"name": name, "in": "path", "required": True, "schema": {"type": "integer"}}


PLAIN = {"type": "integer"}
TEXT = {"type": "string"}
SHELF: Json = {"type": "object", "properties": {"id": {**PLAIN, "readOnly": True}, "name": TEXT, "row": PLAIN}}
BOOK: Json = {
    "type": "object",
    "properties": {"id": {**PLAIN, "readOnly": True}, "title": TEXT, "shelf_id": PLAIN, "pages": PLAIN},
}


def model(paths: Json, shelf: Json = SHELF, book: Json = BOOK) -> Model:
    """Shelves and the books on them, with more paths or operations."""
    usual: Json = {}
    for name, row in (("shelves", shelf), ("books", book)):
        new = {"type": "object", "properties": {n: s for n, s in row["properties"].items() if n != "id"}}
        usual[f"/{name}"] = {
            "get": answer({"type": "array", "items": row}),
            "post": {"requestBody": content(new), **answer(row, "201")},
        }
        usual[f"/{name}/{{id}}"] = {
            "parameters": [key()],
            "get": answer(row),
            "patch": {"requestBody": content(new), **answer(row)},
            "delete": answer(None, "204"),
        }
    for path, methods in paths.items():
        usual[path] = {**usual.get(path, {}), **methods}
    document = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": usual}
    return infer(contract_of(document))


def query(name: str, schema: Json, **more: Any) -> Json:
    return {"name": name, "in": "query", "schema": schema, **more}


class Under(unittest.TestCase):
    def under(self, paths: Json, **rows: Json) -> list[tuple[str, str, str | None, bool]]:
        found = model(paths, **rows).resource("shelves")
        assert found is not None
        return [(each.path, each.child, each.via, each.many) for each in found.subcollections]

    def test_by_name_and_by_fields(self) -> None:
        listed = {"parameters": [key("shelf_id")], "get": answer({"type": "array", "items": BOOK})}
        by_name = self.under({"/shelves/{shelf_id}/books": listed})
        self.assertEqual(by_name, [("/shelves/{shelf_id}/books", "books", "shelf_id", True)])
        by_fields = self.under({"/shelves/{id}/contents": listed})
        self.assertEqual(by_fields, [("/shelves/{id}/contents", "books", "shelf_id", True)])

    def test_two_references_leave_open_which(self) -> None:
        book = {
            **BOOK,
            "properties": {**BOOK["properties"], "home_shelf_id": {**PLAIN, "description": "Refers to shelves."}},
        }
        book["properties"]["shelf_id"] = {**PLAIN, "description": "Refers to shelves."}
        listed = {"parameters": [key()], "get": answer({"type": "array", "items": book})}
        self.assertEqual(self.under({"/shelves/{id}/books": listed}, book=book)[0][2], "shelf_id")

    def test_what_is_no_table_is_none(self) -> None:
        status = {"parameters": [key()], "get": answer({"type": "object", "properties": {"full": {"type": "boolean"}}})}
        self.assertEqual(self.under({"/shelves/{id}/status": status}), [])

    def test_one_row_under_another(self) -> None:
        shelf = {"parameters": [key()], "get": answer(SHELF)}
        books = model({"/books/{id}/shelf": shelf}).resource("books")
        assert books is not None
        (found,) = books.subcollections
        self.assertEqual((found.child, found.via, found.many), ("shelves", "shelf_id", False))
        self.assertEqual(set(found.view.operations), {"read"})


class Inside(unittest.TestCase):
    def test_a_list_of_names_or_a_hint(self) -> None:
        for parameter, expected in (
            (query("expand", {"type": "array", "items": {"enum": ["shelf"]}}), ("expand", None, ("shelf",))),
            (query("include", {"type": "string", "enum": ["shelf"]}), ("include", ",", ("shelf",))),
            (query("$expand", TEXT), ("$expand", ",", ())),
        ):
            with self.subTest(parameter=parameter["name"]):
                listed = {"get": {"parameters": [parameter], **answer({"type": "array", "items": BOOK})}}
                books = model({"/books": listed}).resource("books")
                assert books is not None and books.expansion is not None
                found = books.expansion
                self.assertEqual((found.parameter, found.separator, found.choices), expected)
                named = [(each.name, each.resource, each.via) for each in books.embedded]
                self.assertEqual(named, [("shelf", "shelves", "shelf_id")])
                certain = {each.reason.certainty for each in books.embedded}
                self.assertEqual(certain == {"guess"}, not found.choices, "without names that of a reference is tried")

    def test_a_flag_or_a_number_is_no_expansion(self) -> None:
        for schema in ({"type": "boolean"}, PLAIN):
            listed = {"get": {"parameters": [query("include", schema)], **answer({"type": "array", "items": BOOK})}}
            books = model({"/books": listed}).resource("books")
            assert books is not None
            self.assertIsNone(books.expansion)

    def test_rows_that_can_be_made_along(self) -> None:
        inner = {"type": "object", "properties": {"title": TEXT, "pages": PLAIN}, "required": ["title"]}
        new = {"type": "object", "properties": {"name": TEXT, "row": PLAIN, "books": {"type": "array", "items": inner}}}
        post = {"post": {"requestBody": content(new), **answer(SHELF, "201")}}
        shelves = model({"/shelves": post}).resource("shelves")
        assert shelves is not None
        self.assertEqual(
            [(each.name, each.resource, each.via) for each in shelves.nested], [("books", "books", "shelf_id")]
        )
        self.assertNotIn("books", [each.name for each in shelves.fields])

    def test_a_json_column_stays_a_field(self) -> None:
        book = {**BOOK, "properties": {**BOOK["properties"], "extent": {"type": "object", "properties": {"w": PLAIN}}}}
        books = model({}, book=book).resource("books")
        assert books is not None
        self.assertIn("extent", [each.name for each in books.fields])


class Many(unittest.TestCase):
    def bulk(self, paths: Json) -> dict[str, tuple[str, str, bool, bool | None]]:
        found = model(paths).resource("books")
        assert found is not None
        return {purpose: (each.form, each.name, each.keys, each.atomic) for purpose, each in found.bulk.items()}

    def test_shapes(self) -> None:
        rows = {"type": "array", "items": BOOK}
        keys = {"type": "array", "items": PLAIN}
        done = answer({"type": "object"})
        for paths, expected in (
            ({"/books/bulk": {"post": {"requestBody": content(rows), **done}}}, {"create": ("array", "", False, None)}),
            (
                {"/books:batchCreate": {"post": {"requestBody": content(rows), **done}}},
                {"create": ("array", "", False, None)},
            ),
            (
                {"/bulk/books": {"post": {"requestBody": content({"properties": {"items": rows}}), **done}}},
                {"create": ("wrapped", "items", False, None)},
            ),
            (
                {"/books/_bulk-delete": {"post": {"requestBody": content({"properties": {"ids": keys}}), **done}}},
                {"delete": ("wrapped", "ids", True, None)},
            ),
            (
                {"/books": {"delete": {"parameters": [query("ids", keys)], **done}}},
                {"delete": ("query", "ids", True, None)},
            ),
            (
                {"/books/import": {"post": {"requestBody": content(BOOK, "application/jsonl"), **done}}},
                {"create": ("lines", "", False, None)},
            ),
            ({"/books/search": {"post": {"requestBody": content(rows), **done}}}, {}),
        ):
            with self.subTest(paths=list(paths)):
                self.assertEqual(self.bulk(paths), expected)

    def test_words_tell_whether_one_bad_row_stops_all(self) -> None:
        for words, atomic in (
            ("All rows are stored in one transaction.", True),
            ("Either all or none are created; the request is atomic.", True),
            ("Each row has its own result.", False),
            ("Invalid rows are skipped.", False),
            ("Create rows.", None),
        ):
            body = content({"type": "array", "items": BOOK})
            post = {"post": {"description": words, "requestBody": body, **answer({"type": "object"})}}
            self.assertEqual(self.bulk({"/books/bulk": post})["create"][3], atomic, words)

    def test_bodies(self) -> None:
        books = model({}).resource("books")
        assert books is not None
        operation = books.operations["create"]
        items = [{"title": "ä"}, {"title": "b"}]
        self.assertEqual(
            body_of(Bulk("create", operation, "array"), items).decode(), '[{"title": "ä"}, {"title": "b"}]'
        )
        self.assertEqual(body_of(Bulk("create", operation, "wrapped", "rows"), items)[:9], b'{"rows": ')
        self.assertEqual(body_of(Bulk("create", operation, "lines"), items).count(b"\n"), 2)


class Answers(unittest.TestCase):
    """What an answer to many rows says of each, in the shapes that there are."""

    def told(self, body: str, number: int = 3, keys: tuple[Key, ...] = ()) -> Told:
        books = model({}).resource("books")
        assert books is not None
        client = Client.__new__(Client)
        client.resource = books
        case = Case.__new__(Case)
        case.client = client
        return told_by(case, Answer(200, (), body.encode()), keys or (None,) * number)

    def test_rows(self) -> None:
        told = self.told('[{"id": 1, "title": "a"}, {"id": 2, "title": "b"}, {"id": 3, "title": "c"}]')
        self.assertEqual([row and row["id"] for row in told.rows], [1, 2, 3])
        self.assertFalse(told.each)
        wrapped = self.told('{"data": [{"id": 4}], "count": 1}')
        self.assertEqual(([row and row["id"] for row in wrapped.rows], wrapped.count), ([4], 1))

    def test_a_result_each(self) -> None:
        told = self.told(
            '{"results": [{"index": 1, "status": 422, "error": "no"}, {"index": 0, "status": 201, "row": {"id": 7}}, '
            '{"index": 2, "status": 201, "row": {"id": 8}}]}'
        )
        self.assertEqual([row and row["id"] for row in told.rows], [7, None, 8])
        self.assertEqual((told.refused, told.each), (frozenset({1}), True))
        flags = self.told('[{"success": true, "data": {"id": 7}}, {"success": false, "error": "no"}]', 2)
        self.assertEqual((flags.refused, flags.each), (frozenset({1}), True))

    def test_errors_beside_a_number(self) -> None:
        told = self.told('{"created": 2, "errors": [{"line": 2, "message": "no"}]}')
        self.assertEqual((told.count, told.refused, told.each), (2, frozenset({1}), True))
        some = self.told('{"success_count": 1, "error_count": 1, "errors": []}')
        self.assertEqual((some.count, some.each, some.refused), (1, False, frozenset()), "which one it does not say")
        none = self.told('{"inserted": 3, "errors": []}')
        self.assertEqual((none.count, none.refused), (3, frozenset()))

    def test_refusals_by_key(self) -> None:
        keys = (("a",), ("b",), ("c",))
        told = self.told(
            '{"success": ["a", "c"], "errors": [{"error": "{\'b\'} was not found", "code": "x"}]}', keys=keys
        )
        self.assertEqual((told.refused, told.each), (frozenset({1}), True))
        none = self.told('{"success": [], "errors": [{"error": "b was not found"}]}', keys=keys)
        self.assertEqual((none.refused, none.each), (frozenset({0, 1, 2}), True), "what is not done is refused")
        vague = self.told('{"errors": [{"error": "one of them was not found"}]}', keys=keys)
        self.assertEqual((vague.refused, vague.each), (frozenset(), False), "which one it does not say")

    def test_nothing(self) -> None:
        self.assertEqual(self.told(""), Told())
        self.assertEqual(self.told("3").count, 3)


class Guarded(unittest.TestCase):
    def test_what_is_documented(self) -> None:
        tag = {"headers": {"ETag": {"schema": TEXT}}}
        match = {"name": "If-Match", "in": "header", "schema": TEXT}
        item = {
            "parameters": [key()],
            "get": answer(BOOK, **tag),
            "patch": {"parameters": [match], "requestBody": content(BOOK), **answer(BOOK)},
            "delete": {
                "responses": {"204": {"description": ""}, "412": {"description": ""}, "428": {"description": ""}}
            },
        }
        books = model({"/books/{id}": item}).resource("books")
        assert books is not None
        guards = books.guards
        self.assertEqual(
            (guards.tagged, guards.matching, guards.needs_match), (("read",), ("update", "delete"), ("delete",))
        )
        self.assertFalse(guards.rereads)

    def test_versions_are_told_by_name_and_words(self) -> None:
        for name, words, expected in (
            ("version", "Optimistic locking.", "version"),
            ("version", "The edition of the book.", ""),
            ("lock_version", "", "lock_version"),
            ("rev", "", "rev"),
        ):
            change = {"type": "object", "properties": {"title": TEXT, name: {**PLAIN, "description": words}}}
            book = {**BOOK, "properties": {**BOOK["properties"], name: PLAIN}}
            item = {"parameters": [key()], "patch": {"requestBody": content(change), **answer(book)}}
            books = model({"/books/{id}": item}, book=book).resource("books")
            assert books is not None
            self.assertEqual(books.guards.version, expected, words or name)


if __name__ == "__main__":
    unittest.main()
