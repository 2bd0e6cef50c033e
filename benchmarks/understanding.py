"""How long a contract of N generated tables takes to be understood, and how that grows.

Run: ``python benchmarks/understanding.py [N …]``, 10, 100 and 1,000 tables by default. Each has ten fields, a parameter
for each field and operator, and refers to the one before. Printed are the CPU time of reading and of understanding,
each also as a multiple of parsing the same JSON, and how both grow from one N to the next: 1.0 is in proportion.
"""

from __future__ import annotations

import json
import math
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from checkpost.contract.reader import read_contract
from checkpost.engine.target import understood
from checkpost.profile.profile import Profile

Json = dict[str, Any]
_OPERATORS = ("eq", "ne", "gt", "gte", "lt", "lte", "in", "like")


def contract_of(tables: int) -> Json:
    paths: Json = {}
    schemas: Json = {}
    for number in range(tables):
        name, schema = f"table_{number}", f"Table{number}"
        fields: Json = {"id": {"type": "integer", "readOnly": True}}
        fields |= {f"text_{place}": {"type": "string", "maxLength": 40} for place in range(4)}
        fields |= {f"number_{place}": {"type": "integer"} for place in range(3)}
        fields["created_at"] = {"type": "string", "format": "date-time"}
        if number:
            fields[f"table_{number - 1}_id"] = {"type": "integer"}
        schemas[schema] = {"type": "object", "required": ["text_0"], "properties": fields}
        row = {"$ref": f"#/components/schemas/{schema}"}
        paths |= _paths(name, row, fields)
    info = {"title": f"{tables} tables", "version": "1"}
    return {"openapi": "3.0.3", "info": info, "paths": paths, "components": {"schemas": schemas}}


def _paths(name: str, row: Json, fields: Json) -> Json:
    def answer(schema: Json) -> Json:
        return {"description": "", "content": {"application/json": {"schema": schema}}}

    names = [f"{field}[{operator}]" for field in fields for operator in _OPERATORS]
    queries = [{"name": each, "in": "query", "schema": {"type": "string"}} for each in names]
    queries += [{"name": each, "in": "query", "schema": {"type": "integer"}} for each in ("limit", "offset")]
    body = {"content": {"application/json": {"schema": row}}}
    rows = {"type": "object", "properties": {"data": {"type": "array", "items": row}, "total": {"type": "integer"}}}
    key = [{"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}]
    return {
        f"/{name}": {
            "get": {"parameters": queries, "responses": {"200": answer(rows)}},
            "post": {"requestBody": body, "responses": {"201": answer(row)}},
        },
        f"/{name}/{{id}}": {
            "parameters": key,
            "get": {"responses": {"200": answer(row), "404": {"description": ""}}},
            "put": {"requestBody": body, "responses": {"200": answer(row)}},
            "delete": {"responses": {"204": {"description": ""}}},
        },
    }


def main() -> None:
    sizes = [int(word) for word in sys.argv[1:]] or [10, 100, 1000]
    last: tuple[int, float] | None = None
    for size in sizes:
        text = json.dumps(contract_of(size))
        started = time.process_time()
        json.loads(text)
        parsed = time.process_time() - started
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "contract.json"
            file.write_text(text, "utf-8")
            started = time.process_time()
            contract = read_contract(str(file))
            read = time.process_time() - started
            started = time.process_time()
            _, model = understood(contract, Profile(Path(folder)))
            told = time.process_time() - started
        assert len(model.resources) == size
        both = read + told
        growth = math.log(both / last[1]) / math.log(size / last[0]) if last else math.nan
        print(
            f"{size:6} tables, {len(text) / 1e6:6.2f} MB: read {read:6.2f} s ({read / parsed:5.0f} times the parse), "
            f"understood {told:6.2f} s ({told / parsed:5.0f} times), growth {growth:.2f}"
        )
        last = size, both


if __name__ == "__main__":
    main()
