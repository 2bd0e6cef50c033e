"""A stranger: routers made of specifications of models. ``server.py PORT DATABASE``."""

from __future__ import annotations

import sqlite3
import sys
from collections.abc import AsyncGenerator
from decimal import Decimal

from auen import CrudRouterBuilder
from auen.config import FilterConfig, FilterFieldConfig, FilterOp, PaginationConfig
from fastapi import FastAPI
from sqlalchemy.ext.asyncio import create_async_engine
from sqlmodel import Field, SQLModel, create_engine
from sqlmodel.ext.asyncio.session import AsyncSession

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
ENGINE = create_async_engine(f"sqlite+aiosqlite:///{DATABASE}")


class Family(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    name: str = Field(max_length=60, unique=True)
    hardy: bool = True


class Lot(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    label: str = Field(max_length=40)
    family_id: int = Field(foreign_key="family.id")
    grams: Decimal | None = Field(default=None, ge=0, max_digits=8, decimal_places=2)
    note: str | None = None


class Vault(SQLModel, table=True):
    code: str = Field(primary_key=True, max_length=8)
    place: str = Field(max_length=40)


async def session() -> AsyncGenerator[AsyncSession, None]:
    async with AsyncSession(ENGINE) as opened:
        yield opened


app = FastAPI(title="Seed bank")
ASKED = FilterFieldConfig(ops=frozenset({FilterOp.EQ, FilterOp.GT, FilterOp.IN}))
for model in (Family, Lot, Vault):
    every = dict.fromkeys(model.model_fields, ASKED)
    made = (
        CrudRouterBuilder()
        .with_pagination(PaginationConfig(default_limit=20, max_limit=100, include_total=True))
        .with_filters(FilterConfig(fields=every, sort_fields=list(model.model_fields)))
    )
    for router in made.build_routers(models=[model], session_dep=session):
        app.include_router(router)


def fill() -> None:
    SQLModel.metadata.create_all(create_engine(f"sqlite:///{DATABASE}"))
    with sqlite3.connect(DATABASE) as opened:
        opened.executemany("INSERT INTO family VALUES (?, ?, ?)", [(n, f"Family {n}", n % 3 > 0) for n in range(1, 10)])
        rows = [(n, f"Lot {n:03}", 1 + n % 9, n * 2.5, None if n % 4 else "dry") for n in range(1, 40)]
        opened.executemany("INSERT INTO lot VALUES (?, ?, ?, ?, ?)", rows)
        opened.executemany("INSERT INTO vault VALUES (?, ?)", [(f"NV-0{n}", f"Hall {n}") for n in range(1, 4)])


if __name__ == "__main__":
    import uvicorn

    fill()
    uvicorn.run(app, host="127.0.0.1", port=PORT, log_level="error")
