"""A seed bank over SQLAlchemy models, its endpoints made by FastCRUD: ``server.py PORT DATABASE``."""

from __future__ import annotations

import sys
from contextlib import asynccontextmanager
from datetime import date
from decimal import Decimal

from fastapi import FastAPI
from fastcrud import FilterConfig, crud_router
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import ForeignKey, Numeric, String, event
from sqlalchemy.engine import Engine
from sqlalchemy.ext.asyncio import AsyncSession, async_sessionmaker, create_async_engine
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

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


class Vault(Base):
    __tablename__ = "vault"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    code: Mapped[str] = mapped_column(String(8), unique=True)
    celsius: Mapped[Decimal] = mapped_column(Numeric(5, 2))


class Accession(Base):
    __tablename__ = "accession"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    number: Mapped[str] = mapped_column(String(20), unique=True)
    seeds: Mapped[int] = mapped_column()
    collected: Mapped[date | None] = mapped_column()
    species_id: Mapped[int] = mapped_column(ForeignKey("species.id"))
    vault_id: Mapped[int | None] = mapped_column(ForeignKey("vault.id"))


class SpeciesCreate(BaseModel):
    model_config = ConfigDict(from_attributes=True, extra="forbid")
    name: str = Field(max_length=60)
    family: str = Field(max_length=40)
    protected: bool = False


class SpeciesUpdate(BaseModel):
    name: str | None = Field(default=None, max_length=60)
    family: str | None = Field(default=None, max_length=40)
    protected: bool | None = None


class SpeciesRead(SpeciesCreate):
    id: int


class VaultCreate(BaseModel):
    model_config = ConfigDict(from_attributes=True)
    code: str = Field(max_length=8, pattern=r"^[A-Z]-\d{1,6}$")
    celsius: float = Field(ge=-80, le=20)


class VaultUpdate(BaseModel):
    celsius: float | None = Field(default=None, ge=-80, le=20)


class VaultRead(VaultCreate):
    id: int


class AccessionCreate(BaseModel):
    model_config = ConfigDict(from_attributes=True)
    number: str = Field(max_length=20, min_length=3)
    seeds: int = Field(ge=0, le=100000)
    collected: date | None = None
    species_id: int
    vault_id: int | None = None


class AccessionUpdate(BaseModel):
    seeds: int | None = Field(default=None, ge=0, le=100000)
    collected: date | None = None
    vault_id: int | None = None


class AccessionRead(AccessionCreate):
    id: int


async def session() -> AsyncSession:
    async with sessions() as opened:
        yield opened


@asynccontextmanager
async def filled(app: FastAPI):
    async with engine.begin() as connection:
        await connection.run_sync(Base.metadata.create_all)
    async with sessions() as opened:
        families = ("Poaceae", "Fabaceae", "Rosaceae")
        kinds = [Species(name=f"Species {n}", family=families[n % 3], protected=n % 4 == 0) for n in range(9)]
        vaults = [Vault(code=f"V-{n}", celsius=Decimal(-18) - Decimal(n) / 4) for n in range(4)]
        opened.add_all([*kinds, *vaults])
        await opened.flush()
        for n in range(30):
            when = date(2001 + n % 20, 1 + n % 12, 3) if n % 7 else None
            vault = vaults[n % 4].id if n % 5 else None
            opened.add(
                Accession(
                    number=f"ACC-{n:04d}", seeds=100 * n, collected=when, species_id=kinds[n % 9].id, vault_id=vault
                )
            )
        await opened.commit()
    yield


app = FastAPI(title="Seed bank", lifespan=filled)
for table, create, update, read, url, filters in (
    (Species, SpeciesCreate, SpeciesUpdate, SpeciesRead, "/species", FilterConfig(family=None, name__ilike=None)),
    (Vault, VaultCreate, VaultUpdate, VaultRead, "/vaults", FilterConfig(code=None, celsius__lt=None)),
    (
        Accession, AccessionCreate, AccessionUpdate, AccessionRead, "/accessions",
        FilterConfig(species_id=None, seeds__gte=None, seeds__lt=None, collected__gt=None, number__startswith=None),
    ),
):  # fmt: skip
    app.include_router(
        crud_router(
            session=session, model=table, create_schema=create, update_schema=update, select_schema=read, path=url,
            tags=[url.strip("/")], filter_config=filters,
        )
    )  # fmt: skip

if __name__ == "__main__":
    import uvicorn

    uvicorn.run(app, host="127.0.0.1", port=PORT, log_level="error")
