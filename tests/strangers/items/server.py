"""A seed bank in SQLite, its endpoints made by FastAPI-Amis-Admin's CRUD routers: server.py PORT FILE"""

import asyncio
import datetime
import sys

import uvicorn
from fastapi import FastAPI
from fastapi_amis_admin.crud import SqlalchemyCrud
from sqlalchemy_database import AsyncDatabase
from sqlmodel import Field, SQLModel, select
from starlette.middleware.base import BaseHTTPMiddleware

port, path = int(sys.argv[1]), sys.argv[2]
database = AsyncDatabase.create(f"sqlite+aiosqlite:///{path}")


class Species(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    name: str = Field(max_length=60, unique=True)
    family: str = Field(max_length=40)
    protected: bool = False


class Accession(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    number: str = Field(max_length=20, unique=True)
    seeds: int
    viability: float | None = None
    note: str | None = None
    collected: datetime.date | None = None
    species_id: int = Field(foreign_key="species.id")


async def fill() -> None:
    async with database.engine.begin() as connection:
        await connection.run_sync(SQLModel.metadata.create_all)
    async with database.session_maker() as session:
        if (await session.execute(select(Species))).all():
            return
        families = ["Poaceae", "Fabaceae", "Rosaceae"]
        for n in range(12):
            session.add(Species(name=f"Species {n}", family=families[n % 3], protected=n % 4 == 0))
        await session.flush()
        for n in range(40):
            row = {"viability": 50.0 + n if n % 5 else None, "note": f"dry {n % 2}" if n % 3 else None}
            day = datetime.date(2024, 1, 1) + datetime.timedelta(n) if n % 4 else None
            session.add(Accession(number=f"ACC-{n:04}", seeds=100 * n, collected=day, species_id=n % 9 + 1, **row))
        await session.commit()


app = FastAPI(title="Seed bank")
app.add_middleware(BaseHTTPMiddleware, dispatch=database.asgi_dispatch)
for model in (Species, Accession):
    app.include_router(SqlalchemyCrud(model=model, engine=database).register_crud().router)
asyncio.run(fill())
uvicorn.run(app, host="127.0.0.1", port=port, log_level="error")
