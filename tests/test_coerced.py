"""What a lenient server may read in the place of a key."""

from __future__ import annotations

import unittest
from typing import Any

from checkpost.model.infer import infer
from checkpost.model.resource import Resource
from checkpost.rows.coerced import coerced
from tests.support import contract_of


def resource(kind: str) -> Resource:
    row = {"type": "object", "properties": {"id": {"type": kind}, "name": {"type": "string"}}}
    answer = {"200": {"description": "", "content": {"application/json": {"schema": row}}}}
    key = {"name": "id", "in": "path", "required": True, "schema": {"type": kind}}
    many = {"200": {"description": "", "content": {"application/json": {"schema": {"type": "array", "items": row}}}}}
    item = {"parameters": [key], "get": {"responses": answer}}
    paths = {"/tins": {"get": {"responses": many}}, "/tins/{id}": item}
    return infer(contract_of({"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths})).resources[0]


class Coerced(unittest.TestCase):
    def test_what_a_number_may_be_read_in(self) -> None:
        tins = resource("integer")
        for value, read in (
            (7, []),
            (1.7, [1, 2]),
            (True, [1]),
            ("12 a", [12]),
            ("12", [12]),
            ("a", [0]),
            ([3], [3]),
            (["4x"], ["4x", 4]),
            ({"not": "text"}, []),
            (float("inf"), []),
        ):
            with self.subTest(value=value):
                self.assertEqual([key[0] for key in coerced(tins, (value,))], read)

    def test_what_a_text_may_be_read_in(self) -> None:
        tins = resource("string")
        given: list[Any] = ["12 a", " a ", 5, ["b"]]
        self.assertEqual([[key[0] for key in coerced(tins, (each,))] for each in given], [[], ["a"], [], ["b"]])


if __name__ == "__main__":
    unittest.main()
