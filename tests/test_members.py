"""Objects in one query parameter: their members as parameters, and put together again when they are sent."""

from __future__ import annotations

import json
import unittest
from typing import Any

from checkpost.model.infer import infer
from checkpost.model.members import asked_for, put_together, with_members
from tests.support import contract_of

FILTER = {
    "type": "object",
    "properties": {
        "limit": {"type": "integer", "minimum": 1},
        "skip": {"type": "integer"},
        "order": {"oneOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]},
        "where": {"type": "object", "additionalProperties": True},
        "fields": {"type": "array", "items": {"type": "string", "enum": ["id", "label", "grams"]}},
    },
}
ROW = {
    "type": "object",
    "required": ["label"],
    "properties": {
        "id": {"type": "integer", "readOnly": True},
        "label": {"type": "string"},
        "grams": {"type": "number"},
    },
}


def contract(schema: dict[str, Any], media_type: str = "application/json") -> Any:
    parameter = {"name": "filter", "in": "query", "content": {media_type: {"schema": schema}}}
    answer = {"description": "rows", "content": {"application/json": {"schema": {"type": "array", "items": ROW}}}}
    one = {"description": "row", "content": {"application/json": {"schema": ROW}}}
    key = {"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}
    return contract_of(
        {
            "openapi": "3.1.0",
            "info": {"title": "Seeds", "version": "1"},
            "paths": {
                "/lots": {"get": {"parameters": [parameter], "responses": {"200": answer}}},
                "/lots/{id}": {"get": {"parameters": [key], "responses": {"200": one}}},
            },
        }
    )


class Members(unittest.TestCase):
    def test_each_member_is_a_parameter(self) -> None:
        operation = with_members(contract(FILTER).operations[0])
        names = [each.name for each in operation.parameters]
        self.assertEqual(names, [f"filter#/{each}" for each in ("limit", "skip", "order/-", "where", "fields/-")])

    def test_other_parameters_stay_whole(self) -> None:
        for schema, media_type in (({"type": "object"}, "application/json"), (FILTER, "text/plain")):
            operation = contract(schema, media_type).operations[0]
            self.assertIs(with_members(operation), operation)

    def test_what_the_list_can_be_asked_is_understood(self) -> None:
        [lots] = infer(contract(FILTER)).resources
        self.assertEqual(
            (lots.paging.style, lots.paging.limit, lots.paging.position), ("offset", "filter#/limit", "filter#/skip")
        )
        self.assertEqual({each.parameter for each in lots.queries.filterings}, {"filter#/where"})
        self.assertEqual({each.parameter for each in lots.queries.sortings}, {"filter#/order/-"})
        selecting = lots.queries.selecting
        assert selecting is not None
        self.assertEqual(selecting.pairs(("id", "label")), [("filter#/fields/-", "id"), ("filter#/fields/-", "label")])

    def test_members_are_sent_as_one_object(self) -> None:
        pairs = [
            ("filter#/limit", 3),
            ("x", "1"),
            ("filter#/where", '{"grams": {"gt": 2}}'),
            ("filter#/order/-", "id DESC"),
        ]
        sent = dict(put_together(pairs))
        self.assertEqual(sent["x"], "1")
        self.assertEqual(json.loads(sent["filter"]), {"limit": 3, "where": {"grams": {"gt": 2}}, "order": ["id DESC"]})
        self.assertEqual(dict(put_together([("filter#/where", "{not JSON")])), {"filter": '{"where": "{not JSON"}'})

    def test_what_was_asked_is_told_from_a_url(self) -> None:
        query = [("filter", '{"fields": ["id"], "limit": 2}'), ("q", "")]
        for name, there in (
            ("filter#/fields/-", True),
            ("filter#/where", False),
            ("filter", True),
            ("q", True),
            ("r", False),
        ):
            self.assertEqual(asked_for(name, query), there, name)
        self.assertFalse(asked_for("filter#/fields", [("filter", "not JSON")]))


if __name__ == "__main__":
    unittest.main()
