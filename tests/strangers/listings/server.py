"""Lists that are paged by what their description leaves out, rows that are hidden where they are deleted, answers in an
envelope with a code: ``server.py PORT DATABASE``."""

from __future__ import annotations

import asyncio
import sys
from datetime import date
from decimal import Decimal
from typing import ClassVar

import uvicorn
from fast_generic_api.core.exceptions import register_exception_handlers
from fast_generic_api.core.filter import FilterSet
from fast_generic_api.core.pagination import LimitOffsetPagination, PageNumberPagination
from fast_generic_api.core.schemas import AutoSchemas
from fast_generic_api.generics import CustomViewSet
from fast_generic_api.mixins import CreateManyMixin, DestroyManyMixin, UpdateManyMixin
from fastapi import APIRouter, FastAPI
from tortoise import Tortoise, fields
from tortoise.models import Model

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
router = APIRouter()


class Species(Model):
    id = fields.IntField(primary_key=True)
    name = fields.CharField(max_length=60, unique=True)
    family = fields.CharField(max_length=40)
    protected = fields.BooleanField(default=False)
    is_deleted = fields.BooleanField(default=False)


class Accession(Model):
    id = fields.IntField(primary_key=True)
    number = fields.CharField(max_length=20, unique=True)
    seeds = fields.IntField()
    share = fields.DecimalField(max_digits=5, decimal_places=2, null=True)
    collected = fields.DateField(null=True)
    note = fields.TextField(null=True)
    species: fields.ForeignKeyRelation[Species] = fields.ForeignKeyField("models.Species", related_name="accessions")


class SpeciesCreate(AutoSchemas):
    name: str
    family: str
    protected: bool = False


class SpeciesUpdate(AutoSchemas):
    name: str | None = None
    family: str | None = None
    protected: bool | None = None


class SpeciesOut(SpeciesCreate):
    id: int


class AccessionCreate(AutoSchemas):
    number: str
    seeds: int
    share: Decimal | None = None
    collected: date | None = None
    note: str | None = None
    species_id: int


class AccessionUpdate(AutoSchemas):
    number: str | None = None
    seeds: int | None = None
    share: Decimal | None = None
    collected: date | None = None
    note: str | None = None
    species_id: int | None = None


class AccessionOut(AccessionCreate):
    id: int


class SpeciesFilter(FilterSet):
    model = Species
    name__icontains: str | None = None
    family: str | None = None


class AccessionFilter(FilterSet):
    model = Accession
    seeds__gte: int | None = None
    seeds__lte: int | None = None
    number: str | None = None


class SpeciesViewSet(CreateManyMixin, UpdateManyMixin, DestroyManyMixin, CustomViewSet):
    router = router
    prefix = "/api/species"
    queryset = Species
    lookup_field = "id"
    filter_class = SpeciesFilter
    ordering: ClassVar = ["id"]
    pagination_class = PageNumberPagination
    serializer_class = SpeciesOut
    serializer_create_class = SpeciesCreate
    serializer_update_class = SpeciesUpdate


class AccessionViewSet(CreateManyMixin, UpdateManyMixin, DestroyManyMixin, CustomViewSet):
    router = router
    prefix = "/api/accessions"
    queryset = Accession
    lookup_field = "id"
    filter_class = AccessionFilter
    ordering: ClassVar = ["id"]
    pagination_class = LimitOffsetPagination
    serializer_class = AccessionOut
    serializer_create_class = AccessionCreate
    serializer_update_class = AccessionUpdate


app = FastAPI(title="Seed bank")
app.include_router(router)
register_exception_handlers(app)


async def serve() -> None:
    await Tortoise.init(db_url=f"sqlite://{DATABASE}", modules={"models": ["__main__"]})
    await Tortoise.generate_schemas()
    kinds = [await Species.create(name=f"Species {n}", family=("Poaceae", "Fabaceae")[n % 2]) for n in range(9)]
    for n in range(30):
        when = date(2001 + n % 20, 1 + n % 12, 3) if n % 7 else None
        await Accession.create(
            number=f"ACC-{n:04d}", seeds=100 * n, share=Decimal(n) / 4, collected=when, species=kinds[n % 9]
        )
    await uvicorn.Server(uvicorn.Config(app, host="127.0.0.1", port=PORT, log_level="error")).serve()


if __name__ == "__main__":
    asyncio.run(serve())
