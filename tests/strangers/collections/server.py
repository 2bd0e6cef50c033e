"""A seed bank in SQLite, its endpoints made by fastapi-crud-generator: ``server.py PORT DATABASE``"""

import sys
from contextlib import asynccontextmanager
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

import uvicorn
from fastapi import FastAPI
from fastapi_crud_generator import CRUDCollection
from fastapi_crud_generator.orm.sqlmodel import SQLModelAdapter
from sqlalchemy import event
from sqlalchemy.ext.asyncio import create_async_engine
from sqlmodel import Field, Relationship, SQLModel, select
from sqlmodel.ext.asyncio.session import AsyncSession

port, database = int(sys.argv[1]), sys.argv[2]
engine = create_async_engine(f"sqlite+aiosqlite:///{database}")


@event.listens_for(engine.sync_engine, "connect")
def fk(c, _):
    c.execute("PRAGMA foreign_keys=ON")


async def get_session():
    async with AsyncSession(engine, expire_on_commit=False) as s:
        yield s


class Species(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    name: str = Field(max_length=60, unique=True)
    family: str = Field(max_length=40)
    protected: bool = False
    accessions: list["Accession"] = Relationship(back_populates="species")


class Accession(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    number: str = Field(max_length=20, unique=True)
    seeds: int = Field(ge=0)
    viability: float | None = None
    note: str | None = None
    collected: date | None = None
    price: Decimal | None = Field(default=None, max_digits=8, decimal_places=2)
    species_id: int = Field(foreign_key="species.id")
    species: Species | None = Relationship(back_populates="accessions")
    tests: list["GerminationTest"] = Relationship(back_populates="accession")


class GerminationTest(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    accession_id: int = Field(foreign_key="accession.id")
    started: datetime
    germinated: int
    accession: Accession | None = Relationship(back_populates="tests")


@asynccontextmanager
async def life(app):
    async with engine.begin() as c:
        await c.run_sync(SQLModel.metadata.create_all)
    async with AsyncSession(engine) as s:
        if not (await s.exec(select(Species))).first():
            for n in range(12):
                s.add(
                    Species(
                        name=f"Species {n}", family=["Poaceae", "Fabaceae", "Rosaceae"][n % 3], protected=n % 4 == 0
                    )
                )
            await s.flush()
            for n in range(40):
                s.add(
                    Accession(
                        number=f"ACC-{n:04}",
                        seeds=100 * n,
                        viability=50 + n if n % 5 else None,
                        note=f"dry {n % 2}" if n % 3 else None,
                        collected=date(2024, 1, 1) + timedelta(n) if n % 4 else None,
                        price=Decimal(n) * Decimal("1.25"),
                        species_id=n % 9 + 1,
                    )
                )
            await s.flush()
            for n in range(30):
                s.add(
                    GerminationTest(
                        accession_id=n % 6 + 1,
                        started=datetime(2024, 2, 1, n % 24, tzinfo=UTC) + timedelta(n),
                        germinated=n % 100,
                    )
                )
            await s.commit()
    yield


app = FastAPI(title="Seed bank", lifespan=life)
sp = CRUDCollection(orm_adapter=SQLModelAdapter(model=Species, get_session=get_session))
ac = CRUDCollection(orm_adapter=SQLModelAdapter(model=Accession, get_session=get_session))
ac.add_nested_collection(
    "/tests", CRUDCollection(orm_adapter=SQLModelAdapter(model=GerminationTest, get_session=get_session))
)
app.include_router(sp.get_router(prefix="/species"))
app.include_router(ac.get_router(prefix="/accessions"))
uvicorn.run(app, host="127.0.0.1", port=port, log_level="error")
