"""A stranger: resources made of tables and models, with writes of whole collections beside them. ``server.py PORT
DATABASE``."""

from __future__ import annotations

import datetime
import sqlite3
import sys

import pydantic
import sqlalchemy as sa
from flama import Flama
from flama.resources.crud import CRUDResource
from flama.sqlalchemy import SQLAlchemyModule, metadata

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
SPECIES = sa.Table(
    "species",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("name", sa.String(80), nullable=False, unique=True),
    sa.Column("threatened", sa.Boolean, nullable=False),
)
LOTS = sa.Table(
    "lots",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("code", sa.String(20), nullable=False, unique=True),
    sa.Column("species_id", sa.Integer, sa.ForeignKey("species.id"), nullable=False),
    sa.Column("collected_on", sa.Date),
    sa.Column("grams", sa.Float),
)


class Species(pydantic.BaseModel):
    id: int | None = None
    name: str = pydantic.Field(max_length=80)
    threatened: bool = False


class Lot(pydantic.BaseModel):
    id: int | None = None
    code: str = pydantic.Field(max_length=20, pattern=r"^SB-\d{4}$")
    species_id: int
    collected_on: datetime.date | None = None
    grams: float | None = pydantic.Field(None, gt=0)


class SpeciesResource(CRUDResource):
    name, verbose_name, model, schema = "species", "Species", SPECIES, Species
    filters = {"name": ("eq", "contains"), "threatened": ("eq",)}  # noqa: RUF012


class LotResource(CRUDResource):
    name, verbose_name, model, schema = "lots", "Lot", LOTS, Lot
    filters = {"code": ("eq", "in"), "species_id": ("eq", "gt"), "grams": ("eq", "gt", "lt", "isnull")}  # noqa: RUF012


app = Flama(
    openapi={"info": {"title": "Seed bank", "version": "1"}},
    schema="/schema/",
    schema_library="pydantic",
    modules=[SQLAlchemyModule(f"sqlite+aiosqlite:///{DATABASE}")],
)
app.resources.add_resource("/species", SpeciesResource)
app.resources.add_resource("/lots", LotResource)


def fill() -> None:
    metadata.create_all(sa.create_engine(f"sqlite:///{DATABASE}"))
    with sqlite3.connect(DATABASE) as opened:
        opened.executemany(
            "INSERT INTO species VALUES (?, ?, ?)", [(n, f"Genus {n}", n % 3 == 0) for n in range(1, 13)]
        )
        rows = [(n, f"SB-{1000 + n}", 1 + n % 12, f"2015-03-{1 + n % 28:02}", n * 1.5) for n in range(1, 46)]
        opened.executemany("INSERT INTO lots VALUES (?, ?, ?, ?, ?)", rows)


if __name__ == "__main__":
    import uvicorn

    fill()
    uvicorn.run(app, host="127.0.0.1", port=PORT, log_level="error")
