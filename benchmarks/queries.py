"""The oracle on a large table, as ratios to plain loops doing the same, and the memory that it takes.

Run: ``python benchmarks/queries.py [ROWS]``, 100,000 rows by default. A list of that length is read over HTTP
with the largest page its contract allows; a thousand answers to filters are then held against it.
"""

from __future__ import annotations

import asyncio
import json
import random
import statistics
import sys
import tempfile
import threading
import time
import tracemalloc
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from checkpost.contract.reader import read_contract
from checkpost.demo.server import listen
from checkpost.model.infer import infer
from checkpost.model.query import Compare
from checkpost.model.resource import Resource
from checkpost.oracle.columns import Snapshot
from checkpost.oracle.filter import Answer, Reading, evaluate, judge
from checkpost.wire.client import Client
from checkpost.wire.listing import Listing
from checkpost.wire.session import Limits, Session

PAGE = 1000
ANSWERS = 1000
FIELDS = {
    "id": {"type": "integer"},
    "name": {"type": "string"},
    "price": {"type": ["number", "null"]},
    "stock": {"type": "integer"},
    "seen_at": {"type": "string", "format": "date-time"},
}


def table(count: int) -> list[dict[str, Any]]:
    chance = random.Random(1)
    return [
        {
            "id": number,
            "name": f"{chance.choice('abcdefgh')}{chance.randrange(5000)} ware",
            "price": None if number % 10 == 0 else chance.randrange(100_000) / 8,
            "stock": chance.randrange(10_000),
            "seen_at": f"2024-{chance.randrange(1, 13):02d}-{chance.randrange(1, 29):02d}T10:00:00Z",
        }
        for number in range(count)
    ]


def contract() -> dict[str, Any]:
    number = {"type": "integer"}
    queries = [
        {"name": "limit", "in": "query", "schema": {**number, "minimum": 1, "maximum": PAGE}},
        {"name": "offset", "in": "query", "schema": number},
    ]
    rows = {"type": "array", "items": {"type": "object", "properties": FIELDS}}
    body = {"type": "object", "properties": {"rows": rows, "total": number}}
    answer = {"200": {"description": "", "content": {"application/json": {"schema": body}}}}
    key = {"name": "id", "in": "path", "required": True, "schema": number}
    paths = {
        "/wares": {"get": {"parameters": queries, "responses": answer}},
        "/wares/{id}": {"parameters": [key], "get": {"responses": {"200": {"description": ""}}}},
    }
    return {"openapi": "3.1.0", "info": {"title": "wares", "version": "1"}, "paths": paths}


def served(rows: list[dict[str, Any]]) -> tuple[uvicorn.Server, str]:
    pages = [
        json.dumps({"rows": rows[start : start + PAGE], "total": len(rows)}).encode()
        for start in range(0, len(rows), PAGE)
    ]

    async def listed(request: Request) -> Response:
        return Response(pages[int(request.query_params.get("offset", 0)) // PAGE], media_type="application/json")

    listening = listen()
    config = uvicorn.Config(Starlette(routes=[Route("/wares", listed)]), log_level="error", access_log=False)
    server = uvicorn.Server(config)
    threading.Thread(target=server.run, args=([listening],), daemon=True).start()
    while not server.started:
        time.sleep(0.005)
    return server, f"http://127.0.0.1:{listening.getsockname()[1]}"


def resource() -> Resource:
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "contract.json"
        file.write_text(json.dumps(contract()), "utf-8")
        return infer(read_contract(str(file))).resources[0]


async def read(base_url: str, wares: Resource, count: int) -> Listing:
    async with Session({}, {}, Limits()) as session:
        return await Client(session, base_url, wares, "public").whole_list(count)


def snapshot_of(listing: Listing, wares: Resource) -> Snapshot:
    rows = listing.by_key
    snapshot = Snapshot(list(rows.values()), list(rows), {each.name: each for each in wares.fields})
    for name in FIELDS:
        snapshot.column(name)
    return snapshot


def questions(rows: list[dict[str, Any]]) -> list[Compare]:
    chance = random.Random(2)
    found = []
    for number in range(ANSWERS):
        row = chance.choice(rows[1:]) if rows[0]["price"] is None else chance.choice(rows)
        field = ("price", "stock", "seen_at", "name")[number % 4]
        operator = ("eq", "gt", "le", "ne") if field != "name" else ("eq", "eq", "contains", "starts")
        value = row[field] if row[field] is not None else 100.0
        word = operator[number // 4 % 4]
        found.append(Compare(field, word, value[:4] if word in {"contains", "starts"} else value))  # type: ignore[arg-type]
    return found


def loop(rows: list[dict[str, Any]], condition: Compare) -> list[bool]:
    """What a condition leaves, row by row."""
    name, value = condition.field, condition.value
    tests: dict[str, Callable[[Any], bool]] = {
        "eq": lambda mine: bool(mine == value),
        "ne": lambda mine: bool(mine != value),
        "gt": lambda mine: bool(mine > value),
        "le": lambda mine: bool(mine <= value),
        "contains": lambda mine: value in mine,
        "starts": lambda mine: bool(mine.startswith(value)),
    }
    holds = tests[condition.operator]
    return [row[name] is not None and holds(row[name]) for row in rows]


def timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def memory(work: Callable[[], object]) -> int:
    """What is kept of a result, in bytes."""
    tracemalloc.start()
    kept = work()
    size, _ = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    del kept
    return size


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    wares, rows = resource(), table(count)
    server, base_url = served(rows)
    listings: list[Listing] = []
    reading = timed(lambda: listings.append(asyncio.run(read(base_url, wares, count))))
    server.should_exit = True
    listing = listings[0]
    requests = len(listing.exchanges)
    print(f"{len(listing.rows)} rows read in {requests} requests, whole: {listing.complete}, {reading:.1f} s")
    parsing = timed(lambda: [json.loads(each.answer.body) for each in listing.exchanges])
    print(f"reading over HTTP to parsing the same bodies alone{'':<22} {reading / parsing:6.2f}")
    building = timed(lambda: snapshot_of(listing, wares))
    print(f"building the columns to parsing the bodies{'':<30} {building / parsing:6.2f}")
    snapshot = snapshot_of(listing, wares)
    asked = questions(rows)
    usual = Reading()
    sample = asked[:: max(1, ANSWERS // 40)]
    pairs = [
        timed(lambda each=each: loop(rows, each)) / timed(lambda each=each: evaluate(each, snapshot, usual))  # type: ignore[misc]
        for each in sample
    ]
    print(f"a plain loop over the rows to one reading in columns (median){'':<11} {statistics.median(pairs):6.2f}")
    answers = [Answer(each, evaluate(each, snapshot, usual).true, 0) for each in asked]
    answers = [Answer(each.condition, each.seen, int(each.seen.sum())) for each in answers]
    held = timed(lambda: [judge(snapshot, [each]) for each in answers])
    loops = timed(lambda: [loop(rows, each) for each in sample]) / len(sample) * ANSWERS
    print(f"{ANSWERS} answers judged under every reading: {held:.1f} s; plain loops to it{'':<9} {loops / held:6.2f}")
    wrong = [verdict for each in answers for verdict in judge(snapshot, [each]) if verdict]
    assert not wrong, wrong[:3]
    columns = sum(snapshot.column(name).values.nbytes + snapshot.column(name).null.nbytes for name in FIELDS)
    kept = memory(lambda: [json.loads(each.answer.body) for each in listing.exchanges])
    print(f"memory of the rows to that of their columns{'':<29} {kept / columns:6.2f}  ({columns / 2**20:.1f} MB)")
    assert np.all(snapshot.column("stock").values >= 0)


if __name__ == "__main__":
    main()
