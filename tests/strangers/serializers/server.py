"""A seed bank over Django models that are serializers as well, with viewsets of django-ninja-aio-crud, one of which
keeps what is deleted: ``server.py PORT DATABASE``."""

from __future__ import annotations

import random
import sys
from datetime import UTC, date, datetime

import django
from django.conf import settings

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
sys.modules["bank"] = sys.modules[__name__]  # an application of one file
settings.configure(
    DEBUG=False, SECRET_KEY="made up", ALLOWED_HOSTS=["*"], ROOT_URLCONF=__name__, USE_TZ=True,
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": DATABASE}},
    INSTALLED_APPS=["django.contrib.contenttypes", "bank"], DEFAULT_AUTO_FIELD="django.db.models.BigAutoField",
    MIDDLEWARE=[],
)  # fmt: skip
django.setup()

import uvicorn  # noqa: E402
from django.core.asgi import get_asgi_application  # noqa: E402
from django.db import connection, models  # noqa: E402
from django.urls import path  # noqa: E402
from ninja_aio import APIViewSet, ModelSerializer, NinjaAIO, SchemaConfig  # noqa: E402
from ninja_aio.schemas import M2MRelationSchema  # noqa: E402
from ninja_aio.views import mixins  # noqa: E402


class Family(ModelSerializer):
    name = models.CharField(max_length=80, unique=True)
    remark = models.TextField(null=True, blank=True)

    class Meta:
        app_label, verbose_name_plural = "bank", "families"

    class Schemas:
        create = SchemaConfig(fields=["name"], optionals=[("remark", str)])
        update = SchemaConfig(optionals=[("name", str), ("remark", str)])
        read = SchemaConfig(fields=["id", "name", "remark"])


class Species(ModelSerializer):
    family = models.ForeignKey(Family, on_delete=models.PROTECT, related_name="species")
    name = models.CharField(max_length=80, unique=True)
    edible = models.BooleanField(default=False)
    seeds_per_gram = models.FloatField(null=True)

    class Meta:
        app_label, verbose_name_plural = "bank", "species"

    class Schemas:
        create = SchemaConfig(fields=["family", "name"], optionals=[("edible", bool), ("seeds_per_gram", float)])
        update = SchemaConfig(optionals=[("family", int), ("name", str), ("edible", bool), ("seeds_per_gram", float)])
        read = SchemaConfig(fields=["id", "family", "name", "edible", "seeds_per_gram"])


class Tag(ModelSerializer):
    title = models.CharField(max_length=30, unique=True)

    class Meta:
        app_label = "bank"

    class Schemas:
        create = SchemaConfig(fields=["title"])
        update = SchemaConfig(optionals=[("title", str)])
        read = SchemaConfig(fields=["id", "title"])


class Lot(ModelSerializer):
    species = models.ForeignKey(Species, on_delete=models.CASCADE, related_name="lots")
    label = models.CharField(max_length=40)
    grams = models.FloatField()
    collected_on = models.DateField(null=True)
    checked_at = models.DateTimeField(null=True)
    note = models.TextField(null=True)
    is_deleted = models.BooleanField(default=False)
    tags = models.ManyToManyField(Tag, related_name="lots")

    class Meta:
        app_label = "bank"

    class Schemas:
        create = SchemaConfig(fields=["species", "label", "grams"], optionals=[("collected_on", str), ("note", str)])
        update = SchemaConfig(optionals=[("species", int), ("label", str), ("grams", float), ("note", str)])
        read = SchemaConfig(fields=["id", "species", "label", "grams", "collected_on", "checked_at", "note"])


with connection.schema_editor() as editor:
    for model in (Family, Species, Tag, Lot):
        editor.create_model(model)
chance = random.Random(3)
families = [Family.objects.create(name=f"Family {n}", remark=None if n % 3 else f"remark {n}") for n in range(1, 9)]
species = [
    Species.objects.create(
        family=families[n % 8],
        name=f"Species {n:02d}",
        edible=bool(n % 2),
        seeds_per_gram=None if n % 5 == 0 else round(chance.random() * 90, 2),
    )
    for n in range(1, 31)
]
tags = [Tag.objects.create(title=f"Tag {n}") for n in range(1, 7)]
for n in range(1, 121):
    lot = Lot.objects.create(
        species=species[n % 30],
        label=f"LOT-{n:04d}",
        grams=round(chance.random() * 500, 1),
        collected_on=date(2010 + n % 14, 1 + n % 9, 10 + n % 9),
        checked_at=datetime(2024, 1 + n % 9, 11, n % 9, 30, tzinfo=UTC),
        note=None if n % 5 else f"note, {n} & co",
    )
    lot.tags.set(chance.sample(tags, 2))

api = NinjaAIO(title="Seed bank")


@api.viewset(model=Family)
class Families(mixins.IcontainsFilterViewSetMixin, mixins.SearchViewSetMixin, APIViewSet):
    query_params = {"name": (str, None)}  # noqa: RUF012
    search_fields = ["name", "remark"]  # noqa: RUF012
    ordering_fields = ["id", "name"]  # noqa: RUF012
    bulk_operations = ["create", "update", "delete"]  # noqa: RUF012


@api.viewset(model=Species)
class AllSpecies(
    mixins.IcontainsFilterViewSetMixin, mixins.BooleanFilterViewSetMixin, mixins.FieldSelectionViewSetMixin, APIViewSet
):
    query_params = {"name": (str, None), "edible": (bool, None)}  # noqa: RUF012
    ordering_fields = ["id", "name", "seeds_per_gram"]  # noqa: RUF012


@api.viewset(model=Tag)
class Tags(APIViewSet):
    pass


@api.viewset(model=Lot)
class Lots(mixins.SoftDeleteViewSetMixin, mixins.NumericFilterViewSetMixin, APIViewSet):
    query_params = {"species_id": (int, None)}  # noqa: RUF012
    ordering_fields = ["id", "label", "grams"]  # noqa: RUF012
    m2m_relations = [M2MRelationSchema(model=Tag, related_name="tags")]  # noqa: RUF012


urlpatterns = [path("api/", api.urls)]
uvicorn.run(get_asgi_application(), host="127.0.0.1", port=PORT, log_level="critical")
