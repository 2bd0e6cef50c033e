"""A seed bank as Piccolo tables, their endpoints made by PiccoloCRUD: ``server.py PORT DATABASE``."""

from __future__ import annotations

import asyncio
import sys
from datetime import date
from decimal import Decimal

from fastapi import FastAPI
from piccolo.columns import (
    UUID,
    Boolean,
    Date,
    ForeignKey,
    Integer,
    Numeric,
    Serial,
    Text,
    Timestamptz,
    Varchar,
)  # fmt: skip
from piccolo.engine.sqlite import SQLiteEngine
from piccolo.table import Table, create_db_tables
from piccolo_api.crud.endpoints import PiccoloCRUD
from piccolo_api.fastapi.endpoints import FastAPIKwargs, FastAPIWrapper

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
DB = SQLiteEngine(path=DATABASE)


class Species(Table, db=DB):
    id = Serial(primary_key=True)
    name = Varchar(length=60, unique=True, required=True)
    family = Varchar(length=40, required=True)
    protected = Boolean(default=False)


class Accession(Table, db=DB):
    id = Serial(primary_key=True)
    number = Varchar(length=20, unique=True, required=True)
    seeds = Integer(required=True)
    share = Numeric(digits=(5, 2), default=Decimal("1.00"))
    collected = Date(null=True, default=None)
    note = Text(default="")
    token = UUID()
    changed = Timestamptz()
    species = ForeignKey(Species, null=False)


app = FastAPI(title="Seed bank")
for table, url in ((Species, "/species/"), (Accession, "/accessions/")):
    FastAPIWrapper(
        root_url=url, fastapi_app=app, fastapi_kwargs=FastAPIKwargs(all_routes={"tags": [table.__name__]}),
        piccolo_crud=PiccoloCRUD(table=table, read_only=False, allow_bulk_delete=True),
    )  # fmt: skip


async def fill() -> None:
    await create_db_tables(Species, Accession)
    families = ("Poaceae", "Fabaceae", "Rosaceae")
    kinds = [Species(name=f"Species {n}", family=families[n % 3], protected=n % 4 == 0) for n in range(9)]
    for each in kinds:
        await each.save()
    for n in range(30):
        when = date(2001 + n % 20, 1 + n % 12, 3) if n % 7 else None
        await Accession(
            number=f"ACC-{n:04d}", seeds=100 * n, share=Decimal(n) / 4, collected=when, species=kinds[n % 9].id
        ).save()


if __name__ == "__main__":
    import uvicorn

    asyncio.run(fill())
    uvicorn.run(app, host="127.0.0.1", port=PORT, log_level="error")
