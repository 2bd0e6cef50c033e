"""A seed bank in SQLite, its endpoints made by BetterCRUD's controllers: server.py PORT FILE"""

from __future__ import annotations

import sys
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import date

import uvicorn
from better_crud import BetterCrudGlobalConfig, crud
from better_crud.service.sqlalchemy import SqlalchemyCrudService
from fastapi import APIRouter, Depends, FastAPI
from pydantic import BaseModel, Field
from sqlalchemy import Boolean, ForeignKey, String, Text
from sqlalchemy.ext.asyncio import AsyncSession, async_sessionmaker, create_async_engine
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column
from sqlalchemy.pool import NullPool

port, path = int(sys.argv[1]), sys.argv[2]
engine = create_async_engine(f"sqlite+aiosqlite:///{path}", poolclass=NullPool)
Session = async_sessionmaker(engine, expire_on_commit=False)


async def get_session() -> AsyncIterator[AsyncSession]:
    async with Session() as session:
        yield session


BetterCrudGlobalConfig.init(backend_config={"sqlalchemy": {"db_session": get_session}})


class Base(DeclarativeBase):
    pass


class Species(Base):
    __tablename__ = "species"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    family: Mapped[str] = mapped_column(String(40))
    protected: Mapped[bool] = mapped_column(Boolean, default=False)


class Accession(Base):
    __tablename__ = "accession"
    id: Mapped[int] = mapped_column(primary_key=True)
    number: Mapped[str] = mapped_column(String(20), unique=True)
    seeds: Mapped[int]
    collected: Mapped[date | None]
    note: Mapped[str | None] = mapped_column(Text)
    species_id: Mapped[int] = mapped_column(ForeignKey("species.id"))


class SpeciesCreate(BaseModel):
    name: str = Field(min_length=1, max_length=60)
    family: str = Field(max_length=40)
    protected: bool = False


class SpeciesUpdate(BaseModel):
    name: str | None = Field(None, min_length=1, max_length=60)
    family: str | None = Field(None, max_length=40)
    protected: bool | None = None


class SpeciesPublic(SpeciesCreate):
    id: int


class AccessionCreate(BaseModel):
    number: str = Field(min_length=3, max_length=20)
    seeds: int = Field(ge=0)
    collected: date | None = None
    note: str | None = None
    species_id: int


class AccessionUpdate(BaseModel):
    number: str | None = Field(None, min_length=3, max_length=20)
    seeds: int | None = Field(None, ge=0)
    collected: date | None = None
    note: str | None = None
    species_id: int | None = None


class AccessionPublic(AccessionCreate):
    id: int


class SpeciesService(SqlalchemyCrudService[Species]):
    def __init__(self) -> None:
        super().__init__(Species)


class AccessionService(SqlalchemyCrudService[Accession]):
    def __init__(self) -> None:
        super().__init__(Accession)


species, accessions = APIRouter(), APIRouter()


@crud(species, dto={"create": SpeciesCreate, "update": SpeciesUpdate}, serialize={"base": SpeciesPublic})
class SpeciesController:
    service: SpeciesService = Depends(SpeciesService)


@crud(accessions, dto={"create": AccessionCreate, "update": AccessionUpdate}, serialize={"base": AccessionPublic})
class AccessionController:
    service: AccessionService = Depends(AccessionService)


@asynccontextmanager
async def filled(_: FastAPI) -> AsyncIterator[None]:
    async with engine.begin() as connection:
        await connection.run_sync(Base.metadata.create_all)
    families = ["Poaceae", "Fabaceae", "Rosaceae"]
    async with Session() as session:
        session.add_all(Species(name=f"Species {n}", family=families[n % 3], protected=n % 4 == 0) for n in range(9))
        await session.flush()
        session.add_all(
            Accession(
                number=f"ACC-{n:04}",
                seeds=100 * n,
                collected=date(2001 + n % 20, n % 12 + 1, 3) if n % 7 else None,
                note="dry" if n % 3 else None,
                species_id=n % 9 + 1,
            )
            for n in range(30)
        )
        await session.commit()
    yield


app = FastAPI(title="Seed bank", lifespan=filled)
app.include_router(species, prefix="/species")
app.include_router(accessions, prefix="/accessions")
uvicorn.run(app, host="127.0.0.1", port=port, log_level="error")
