"""References between two tables of a small API: what databases do with them is sound, and what harms them is found."""

from __future__ import annotations

import copy
import json
import tempfile
import unittest
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from checkpost.engine.run import Result
from tests.foreign import Served
from tests.support import run_against

Json = dict[str, Any]
METHODS = ["GET", "POST", "PATCH", "DELETE"]


class Store:
    """Shelves, and boxes that stand on them. ``described`` says whether the contract calls the reference one;
    ``on_delete`` what becomes of the boxes of a shelf."""

    def __init__(self, described: bool = True, on_delete: str = "refuse", enforced: bool = True) -> None:
        self.described, self.on_delete, self.enforced = described, on_delete, enforced
        self.shelves: dict[int, Json] = {n: {"id": n, "name": f"shelf {n}"} for n in range(1, 5)}
        self.boxes: dict[int, Json] = {
            n: {"id": n, "label": f"box {n}", "shelf_id": 1 + n % 4 if n % 5 else None} for n in range(1, 11)
        }
        self.last = 100

    def contract(self) -> Json:
        reference: Json = {"type": ["integer", "null"]}
        if self.described:
            reference["description"] = "Refers to `shelves`."
        text = {"type": "string", "maxLength": 80, "minLength": 1}
        fields = {
            "shelves": {"id": {"type": "integer", "readOnly": True}, "name": text},
            "boxes": {"id": {"type": "integer", "readOnly": True}, "label": text, "shelf_id": reference},
        }
        paths: Json = {}
        refusals = {code: {"description": "refused"} for code in ("400", "404", "409", "415", "422")}
        for name, properties in fields.items():
            row = {"type": "object", "properties": properties}
            new = {**row, "required": [list(properties)[1]], "additionalProperties": False}

            def content(schema: Json) -> Json:
                return {"content": {"application/json": {"schema": schema}}}

            answer = {"description": "", **content(row)}
            listed = {"description": "", **content({"type": "array", "items": row})}
            key = {"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}
            paths[f"/{name}"] = {
                "get": {"responses": {"200": listed}},
                "post": {"requestBody": content(new), "responses": {"201": answer, **refusals}},
            }
            change = {**row, "additionalProperties": False}
            paths[f"/{name}/{{id}}"] = {
                "parameters": [key],
                "get": {"responses": {"200": answer, **refusals}},
                "patch": {"requestBody": content(change), "responses": {"200": answer, **refusals}},
                "delete": {"responses": {"204": {"description": ""}, **refusals}},
            }
        return {"openapi": "3.1.0", "info": {"title": "store", "version": "1"}, "paths": paths}

    # -- what is kept ------------------------------------------------------------------------------

    def broken(self, name: str, body: Any, partial: bool) -> int:
        """The status of a refusal; 0 for a sound body."""
        texts = {"shelves": "name", "boxes": "label"}
        known = {texts[name], "id", *(["shelf_id"] if name == "boxes" else [])}
        if not isinstance(body, dict) or set(body) - known or (not partial and texts[name] not in body):
            return 422
        text = body.get(texts[name], "x")
        reference = body.get("shelf_id")
        if not isinstance(text, str) or not 1 <= len(text) <= 80 or type(reference) not in {int, type(None)}:
            return 422
        return 409 if self.enforced and reference is not None and reference not in self.shelves else 0

    def orphaned(self, key: int) -> int:
        """What a delete of a shelf does to its boxes; the status of a refusal."""
        mine = [number for number, box in self.boxes.items() if box["shelf_id"] == key]
        if mine and self.on_delete == "refuse":
            return 409
        for number in mine:
            if self.on_delete == "cascade":
                del self.boxes[number]
            elif self.on_delete == "null":
                self.boxes[number] = {**self.boxes[number], "shelf_id": None}
        return 0

    # -- answers -----------------------------------------------------------------------------------

    async def body(self, request: Request) -> Any:
        if "json" not in request.headers.get("content-type", ""):
            return Response(status_code=415)
        try:
            return json.loads(await request.body())
        except ValueError:
            return Response(status_code=400)

    async def collection(self, request: Request) -> Response:
        name = request.url.path.strip("/")
        rows: dict[int, Json] = getattr(self, name)
        if request.method == "GET":
            return JSONResponse(list(rows.values()))
        body = await self.body(request)
        if isinstance(body, Response):
            return body
        status = self.broken(name, body, False)
        if status:
            return Response(status_code=status)
        self.last += 1
        usual = {"shelves": {"name": ""}, "boxes": {"label": "", "shelf_id": None}}[name]
        rows[self.last] = {**usual, **body, "id": self.last}
        return JSONResponse(rows[self.last], 201)

    async def item(self, request: Request) -> Response:
        name, text = request.url.path.strip("/").split("/")
        rows: dict[int, Json] = getattr(self, name)
        if not text.lstrip("-").isdigit():
            return Response(status_code=400)
        key = int(text)
        if key not in rows:
            return Response(status_code=404)
        if request.method == "PATCH":
            body = await self.body(request)
            if isinstance(body, Response):
                return body
            status = self.broken(name, body, True)
            if status:
                return Response(status_code=status)
            rows[key] = {**rows[key], **body, "id": key}
        if request.method == "DELETE":
            status = self.orphaned(key) if name == "shelves" else 0
            if not status:
                del rows[key]
            return Response(status_code=status or 204)
        return JSONResponse(rows[key])

    def app(self) -> Starlette:
        routes = []
        for name in ("shelves", "boxes"):
            routes.append(Route(f"/{name}", self.collection, methods=METHODS[:2]))
            routes.append(Route(f"/{name}/{{key}}", self.item, methods=["GET", "PATCH", "DELETE"]))
        return Starlette(routes=routes)


def run_on(store: Store) -> Result:
    with tempfile.TemporaryDirectory() as name, Served(store.app()) as served:
        file = Path(name) / "contract.json"
        file.write_text(json.dumps(store.contract()), "utf-8")
        return run_against(str(file), served.base_url, Path(name), transport=served.direct)


class Sound(unittest.TestCase):
    def test_whatever_a_database_does_with_those_left_behind(self) -> None:
        for on_delete in ("refuse", "cascade", "null"):
            with self.subTest(on_delete=on_delete):
                store = Store(on_delete=on_delete)
                before = copy.deepcopy((store.shelves, store.boxes))
                result = run_on(store)
                self.assertEqual([(each.check, each.title, each.observed) for each in result.findings], [])
                self.assertEqual((store.shelves, store.boxes), before)
                outcomes = {(each.check, each.resource): each.outcome for each in result.checks}
                self.assertEqual(outcomes["relate.resolves", "boxes"], "passed")
                self.assertEqual(outcomes["relate.absent", "boxes"], "passed")
                self.assertEqual(outcomes["relate.deleted", "shelves"], "passed")
                self.assertEqual(outcomes["relate.deleted", "boxes"], "skipped")

    def test_what_only_a_name_suggests_is_a_note(self) -> None:
        store = Store(described=False, enforced=False, on_delete="leave")
        store.boxes[3]["shelf_id"] = 77
        result = run_on(store)
        self.assertEqual({each.severity for each in result.findings}, {"note"})
        self.assertEqual(
            {each.check for each in result.findings}, {"relate.absent", "relate.deleted", "relate.resolves"}
        )


class Half(Store):
    """A reference is refused but stored."""

    def broken(self, name: str, body: Any, partial: bool) -> int:
        status = super().broken(name, body, partial)
        if status == 409 and not partial:
            self.last += 1
            self.boxes[self.last] = {"id": self.last, "label": body["label"], "shelf_id": body["shelf_id"]}
        return status


class Wrong(unittest.TestCase):
    def titles(self, store: Store) -> list[tuple[str, str]]:
        before = copy.deepcopy((store.shelves, store.boxes))
        result = run_on(store)
        self.assertEqual((store.shelves, store.boxes), before, "the data are as they were")
        self.assertTrue(all(each.severity == "error" for each in result.findings))
        return [(each.check, each.title) for each in result.findings]

    def test_a_reference_to_nothing_is_taken(self) -> None:
        found = self.titles(Store(enforced=False))
        self.assertEqual(found, [("relate.absent", "A reference to a missing row is accepted")])

    def test_those_that_refer_are_left_behind(self) -> None:
        found = self.titles(Store(on_delete="leave"))
        self.assertEqual(found, [("relate.deleted", "Delete leaves rows behind that refer to the deleted one")])

    def test_a_reference_that_leads_nowhere(self) -> None:
        store = Store()
        store.boxes[3]["shelf_id"] = 77
        self.assertEqual(self.titles(store), [("relate.resolves", "A reference points to no row")])

    def test_half_of_it_is_stored(self) -> None:
        self.assertIn(("relate.absent", "A reference is refused but stored"), self.titles(Half()))


if __name__ == "__main__":
    unittest.main()
