"""Rows that hold their record in one member, and their key among what is told of it."""

from __future__ import annotations

import json
import tempfile
import unittest
import uuid
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from tests.foreign import Served
from tests.support import run_against

Json = dict[str, Any]
CONTRACT = Path(__file__).parent / "contracts" / "record-beside-meta.yaml"
FAMILIES = ("read", "create", "update", "replace", "delete")


class Lots:
    """Lots in memory; ``forgets`` leaves out what a change should do."""

    def __init__(self, forgets: bool = False) -> None:
        self.forgets = forgets
        self.rows: dict[str, Json] = {str(uuid.uuid4()): {"label": f"lot {n}", "seeds": n} for n in range(5)}
        routes = [Route("/lots", self.all, methods=["GET", "POST"])]
        routes.append(Route("/lots/{key}", self.one, methods=["GET", "PUT", "PATCH", "DELETE"]))
        self.app = Starlette(routes=routes)

    def meta(self, key: str) -> Json:
        return {"uid": key, "resource_id": key, "total": 1}

    async def all(self, request: Request) -> Response:
        if request.method == "GET":
            return JSONResponse([{"data": row, "meta": self.meta(key)} for key, row in self.rows.items()])
        record = await _record(request)
        if record is None:
            return JSONResponse({"detail": "not valid"}, 422)
        key = str(uuid.uuid4())
        self.rows[key] = record
        return JSONResponse(self.meta(key))

    async def one(self, request: Request) -> Response:
        key = request.path_params["key"]
        if key not in self.rows:
            return JSONResponse({"detail": "no such lot"}, 404)
        if request.method == "GET":
            return JSONResponse({"data": self.rows[key], "meta": self.meta(key)})
        if request.method == "DELETE":
            self.rows.pop(key)
            return JSONResponse(self.meta(key))
        record = await (_record(request) if request.method == "PUT" else _patched(request, self.rows[key]))
        if record is None:
            return JSONResponse({"detail": "not valid"}, 422)
        if not self.forgets:
            self.rows[key] = record
        return JSONResponse(self.meta(key))


def _valid(record: Any) -> Json | None:
    kinds = {"label": str, "seeds": int}
    sound = isinstance(record, dict) and "label" in record and all(type(record[n]) is kinds.get(n) for n in record)
    return record if sound else None


async def _record(request: Request) -> Json | None:
    try:
        return _valid(json.loads(await request.body()))
    except ValueError:
        return None


async def _patched(request: Request, row: Json) -> Json | None:
    try:
        operations = json.loads(await request.body())
    except ValueError:
        return None
    if not isinstance(operations, list) or not all(
        isinstance(e, dict) and e.get("op") == "replace" for e in operations
    ):
        return None
    return _valid({**row, **{each["path"].lstrip("/"): each.get("value") for each in operations}})


class Enclosed(unittest.TestCase):
    def run_on(self, lots: Lots) -> Any:
        with tempfile.TemporaryDirectory() as name, Served(lots.app) as served:
            url, direct = served.base_url, served.direct
            return run_against(str(CONTRACT), url, Path(name), families=FAMILIES, role=None, transport=direct)

    def test_they_are_written_as_records_and_read_inside(self) -> None:
        lots = Lots()
        before = dict(lots.rows)
        result = self.run_on(lots)
        outcomes = {each.check: each.outcome for each in result.checks}
        for check in ("create.stored", "update.each-field", "replace.stored", "delete.gone", "create.awkward-values"):
            self.assertEqual(outcomes[check], "passed", check)
        self.assertEqual((lots.rows, result.left), (before, ()))
        told = [(each.title, each.observed) for each in result.findings if each.check != "errors.documented"]
        self.assertEqual(told, [])

    def test_changes_that_are_forgotten_are_found(self) -> None:
        titles = {each.title for each in self.run_on(Lots(forgets=True)).findings}
        self.assertIn("Update returns success but does not store the value", titles)


if __name__ == "__main__":
    unittest.main()
