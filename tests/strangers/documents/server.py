"""A seed bank as JSON:API documents over SQLAlchemy, made by FastAPI-JSONAPI: ``server.py PORT DATABASE``."""

from __future__ import annotations

import sys
from contextlib import asynccontextmanager
from datetime import date
from typing import Annotated, ClassVar

from fastapi import Depends, FastAPI
from fastapi_jsonapi import ApplicationBuilder
from fastapi_jsonapi.data_layers.sqla.orm import SqlalchemyDataLayer
from fastapi_jsonapi.misc.sqla.generics.base import ViewBaseGeneric
from fastapi_jsonapi.types_metadata import RelationshipInfo
from fastapi_jsonapi.views import Operation, OperationConfig
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import ForeignKey, String, event
from sqlalchemy.engine import Engine
from sqlalchemy.ext.asyncio import AsyncSession, async_sessionmaker, create_async_engine
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
engine = create_async_engine(f"sqlite+aiosqlite:///{DATABASE}")
sessions = async_sessionmaker(engine, expire_on_commit=False)


@event.listens_for(Engine, "connect")
def keys_are_kept(connection: object, record: object) -> None:
    connection.execute("PRAGMA foreign_keys=ON")


class Base(DeclarativeBase):
    pass


class Species(Base):
    __tablename__ = "species"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    family: Mapped[str] = mapped_column(String(40))
    protected: Mapped[bool] = mapped_column(default=False)
    accessions: Mapped[list[Accession]] = relationship(back_populates="species")


class Accession(Base):
    __tablename__ = "accession"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    number: Mapped[str] = mapped_column(String(20), unique=True)
    seeds: Mapped[int] = mapped_column()
    collected: Mapped[date | None] = mapped_column()
    species_id: Mapped[int] = mapped_column(ForeignKey("species.id"))
    species: Mapped[Species] = relationship(back_populates="accessions")


class SpeciesSchema(BaseModel):
    model_config = ConfigDict(from_attributes=True)
    name: str = Field(max_length=60)
    family: str = Field(max_length=40)
    protected: bool = False
    accessions: Annotated[list[AccessionSchema] | None, RelationshipInfo(resource_type="accession", many=True)] = None


class AccessionSchema(BaseModel):
    model_config = ConfigDict(from_attributes=True)
    number: str = Field(max_length=20)
    seeds: int = Field(ge=0)
    collected: date | None = None
    species: Annotated[SpeciesSchema | None, RelationshipInfo(resource_type="species")] = None


async def session() -> AsyncSession:
    async with sessions() as opened:
        yield opened


class SessionDependency(BaseModel):
    model_config = ConfigDict(arbitrary_types_allowed=True)
    session: AsyncSession = Depends(session)


class Rows(ViewBaseGeneric):
    data_layer_cls = SqlalchemyDataLayer
    operation_dependencies: ClassVar = {
        Operation.ALL: OperationConfig(
            dependencies=SessionDependency, prepare_data_layer_kwargs=lambda view, dto: {"session": dto.session}
        )
    }


@asynccontextmanager
async def filled(app: FastAPI):
    async with engine.begin() as connection:
        await connection.run_sync(Base.metadata.create_all)
    async with sessions() as opened:
        families = ("Poaceae", "Fabaceae", "Rosaceae")
        kinds = [Species(name=f"Species {n}", family=families[n % 3], protected=n % 4 == 0) for n in range(9)]
        opened.add_all(kinds)
        await opened.flush()
        for n in range(30):
            when = date(2001 + n % 20, 1 + n % 12, 3) if n % 7 else None
            opened.add(Accession(number=f"ACC-{n:04d}", seeds=100 * n, collected=when, species_id=kinds[n % 9].id))
        await opened.commit()
    yield


app = FastAPI(title="Seed bank", lifespan=filled)
builder = ApplicationBuilder(app)
builder.add_resource("/species", ["species"], "species", Rows, Species, SpeciesSchema)
builder.add_resource("/accessions", ["accessions"], "accession", Rows, Accession, AccessionSchema)
builder.initialize()

if __name__ == "__main__":
    import uvicorn

    uvicorn.run(app, host="127.0.0.1", port=PORT, log_level="error")
