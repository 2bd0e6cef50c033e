"""A seed bank in SQLite, its endpoints made by FastAPI-Restly's views: server.py PORT FILE"""

import asyncio
import datetime
import sys
from decimal import Decimal

import fastapi_restly as fr
import uvicorn
from fastapi import FastAPI
from sqlalchemy import ForeignKey, String, func
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

port, path = int(sys.argv[1]), sys.argv[2]
fr.configure(async_database_url=f"sqlite+aiosqlite:///{path}")


class Base(DeclarativeBase):
    pass


class Species(Base):
    __tablename__ = "species"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    family: Mapped[str | None]
    protected: Mapped[bool] = mapped_column(default=False)


class Vault(Base):
    __tablename__ = "vault"
    code: Mapped[str] = mapped_column(String(12), primary_key=True)
    celsius: Mapped[float]
    shelves: Mapped[int]


class Accession(Base):
    __tablename__ = "accession"
    id: Mapped[int] = mapped_column(primary_key=True)
    number: Mapped[str] = mapped_column(String(20), unique=True)
    species_id: Mapped[int] = mapped_column(ForeignKey("species.id"))
    collected: Mapped[datetime.date]
    grams: Mapped[Decimal]
    germination: Mapped[float | None]
    note: Mapped[str | None]
    recorded: Mapped[datetime.datetime] = mapped_column(server_default=func.now())


class Trial(Base):
    __tablename__ = "trial"
    id: Mapped[int] = mapped_column(primary_key=True)
    accession_id: Mapped[int] = mapped_column(ForeignKey("accession.id"))
    sown: Mapped[int]
    sprouted: Mapped[int]
    on: Mapped[datetime.date]


async def filled() -> None:
    await fr.db.async_create_all(Base)
    async with fr.db.open_async_session() as session:
        for n in range(1, 9):
            family = f"Family {n % 4}" if n % 3 else None
            session.add(Species(id=n, name=f"Species {n}", family=family, protected=n % 2 == 0))
        for code in ("A1", "B2", "C-3", "D 4", "E5"):
            session.add(Vault(code=code, celsius=-18.5 - len(code), shelves=len(code) * 4))
        await session.flush()
        for n in range(1, 31):
            session.add(
                Accession(
                    id=n,
                    number=f"ACC-{n:04}",
                    species_id=n % 8 + 1,
                    collected=datetime.date(2019 + n % 5, n % 12 + 1, n % 28 + 1),
                    grams=Decimal("1.25") * n,
                    germination=n / 31 if n % 4 else None,
                    note=None if n % 5 else f"note, {n}",
                )
            )
        await session.flush()
        for n in range(1, 41):
            on = datetime.date(2024, n % 12 + 1, 3)
            session.add(Trial(id=n, accession_id=n % 30 + 1, sown=50, sprouted=n, on=on))
        await session.commit()
    await fr.db.get_async_engine().dispose()


asyncio.run(filled())
app = FastAPI(title="Seed bank")


@fr.include_view(app)
class SpeciesView(fr.AsyncRestView):
    prefix = "/species"
    model = Species


@fr.include_view(app)
class VaultView(fr.AsyncRestView):
    prefix = "/vaults"
    model = Vault
    id_type = str


@fr.include_view(app)
class AccessionView(fr.AsyncRestView):
    prefix = "/accessions"
    model = Accession


@fr.include_view(app)
class TrialView(fr.AsyncReactAdminView):
    prefix = "/trials"
    model = Trial


uvicorn.run(app, host="127.0.0.1", port=port, log_level="warning")
