"""A seed bank in SQLite, its endpoints made by Django Ninja Extra's model controllers: server.py PORT FILE"""

from __future__ import annotations

import datetime
import os
import sys

import django
import uvicorn
from django.conf import settings

port, path = int(sys.argv[1]), sys.argv[2]
os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "1"
settings.configure(
    DEBUG=False,
    SECRET_KEY="none",
    ALLOWED_HOSTS=["*"],
    ROOT_URLCONF=__name__,
    INSTALLED_APPS=["django.contrib.contenttypes", "ninja_extra"],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": path, "OPTIONS": {"timeout": 20}}},
    DEFAULT_AUTO_FIELD="django.db.models.BigAutoField",
)
django.setup()

from django.core.asgi import get_asgi_application  # noqa: E402
from django.db import connection, models  # noqa: E402
from django.urls import path as route  # noqa: E402
from ninja_extra import ModelConfig, ModelControllerBase, ModelSchemaConfig, NinjaExtraAPI, api_controller  # noqa: E402


class Species(models.Model):
    name = models.CharField(max_length=60, unique=True)
    family = models.CharField(max_length=40)
    protected = models.BooleanField(default=False)

    class Meta:
        app_label = "bank"


class Accession(models.Model):
    number = models.CharField(max_length=20, unique=True)
    seeds = models.PositiveIntegerField()
    collected = models.DateField(null=True, blank=True)
    note = models.TextField(null=True, blank=True)
    species = models.ForeignKey(Species, on_delete=models.PROTECT)

    class Meta:
        app_label = "bank"


fields = ModelSchemaConfig(read_only_fields=["id"])


@api_controller("/species")
class SpeciesController(ModelControllerBase):
    model_config = ModelConfig(model=Species, schema_config=fields)


@api_controller("/accessions")
class AccessionController(ModelControllerBase):
    model_config = ModelConfig(model=Accession, schema_config=fields)


api = NinjaExtraAPI(title="Seed bank")
api.register_controllers(SpeciesController, AccessionController)
urlpatterns = [route("api/", api.urls)]

with connection.schema_editor() as editor:
    editor.create_model(Species)
    editor.create_model(Accession)
for n in range(9):
    family = ["Poaceae", "Fabaceae", "Rosaceae"][n % 3]
    Species.objects.create(name=f"Species {n}", family=family, protected=n % 4 == 0)
for n in range(30):
    Accession.objects.create(
        number=f"ACC-{n:04}",
        seeds=100 * n,
        collected=datetime.date(2001 + n % 20, n % 12 + 1, 3) if n % 7 else None,
        note="dry" if n % 3 else None,
        species_id=n % 9 + 1,
    )
uvicorn.run(get_asgi_application(), host="127.0.0.1", port=port, log_level="critical", lifespan="off")
