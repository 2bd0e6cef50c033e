"""A stranger: controllers put together of mixins, with tags for versions, rows that are deleted and kept, many rows at
once and statistics. ``server.py PORT DATABASE``."""

from __future__ import annotations

import datetime
import sys
from decimal import Decimal

import django
import waitress
from django.conf import settings

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
settings.configure(
    DEBUG=False,
    SECRET_KEY="none",
    ALLOWED_HOSTS=["*"],
    ROOT_URLCONF=__name__,
    USE_TZ=True,
    INSTALLED_APPS=["django.contrib.contenttypes", "django.contrib.auth", "ninja_devx"],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": DATABASE, "OPTIONS": {"timeout": 20}}},
    DEFAULT_AUTO_FIELD="django.db.models.AutoField",
)
django.setup()

from django.core.validators import MinValueValidator, RegexValidator  # noqa: E402
from django.core.wsgi import get_wsgi_application  # noqa: E402
from django.db import connection, models  # noqa: E402
from django.db.models import Count, Max, Min  # noqa: E402
from django.urls import path  # noqa: E402
from ninja import NinjaAPI  # noqa: E402
from ninja_devx.crud.aggregates import AggregateMixin  # noqa: E402
from ninja_devx.crud.auto import AutoCRUDController  # noqa: E402
from ninja_devx.crud.bulk import BulkCreateMixin, BulkDestroyMixin, BulkUpdateMixin  # noqa: E402
from ninja_devx.crud.soft_delete import SoftDeleteMixin  # noqa: E402
from ninja_devx.http.conditional import ETag  # noqa: E402
from ninja_devx.routing.mounting import mount  # noqa: E402


class Species(models.Model):
    name = models.CharField(max_length=80, unique=True)
    family = models.CharField(max_length=40, choices=[(each, each) for each in ("Poaceae", "Fabaceae", "Rosaceae")])
    described_in = models.IntegerField(null=True, blank=True)
    updated_at = models.DateTimeField(auto_now=True)

    class Meta:
        app_label = "bank"


class Lot(models.Model):
    code = models.CharField(max_length=20, unique=True, validators=[RegexValidator(r"^SB-\d{4}$")])
    species = models.ForeignKey(Species, models.PROTECT)
    grams = models.DecimalField(max_digits=8, decimal_places=2, null=True, blank=True)
    notes = models.TextField(blank=True, default="")
    deleted_at = models.DateTimeField(null=True, blank=True, editable=False)

    class Meta:
        app_label = "bank"


class Test(models.Model):
    lot = models.ForeignKey(Lot, models.CASCADE)
    started_at = models.DateTimeField()
    sown = models.PositiveIntegerField(validators=[MinValueValidator(1)])
    germinated = models.PositiveIntegerField()

    class Meta:
        app_label = "bank"


class SpeciesController(AggregateMixin, AutoCRUDController[Species]):
    search_fields = ("name",)
    filter_fields = {  # noqa: RUF012
        "name": ("exact", "icontains"),
        "family": ("exact", "in"),
        "described_in": ("gte", "lte", "isnull"),
    }
    ordering_fields = ("name", "family", "described_in")
    etag = ETag(field="updated_at")
    aggregate_fields = ("family",)
    aggregate_metrics = {  # noqa: RUF012
        "count": Count("pk"),
        "min_described_in": Min("described_in"),
        "max_described_in": Max("described_in"),
    }


class LotController(SoftDeleteMixin, AutoCRUDController[Lot]):
    search_fields = ("code", "notes")
    filter_fields = {"code": ("exact", "startswith"), "species": ("exact", "in"), "grams": ("gt", "lt", "isnull")}  # noqa: RUF012
    ordering_fields = ("code", "grams")


class TestController(BulkCreateMixin, BulkUpdateMixin, BulkDestroyMixin, AutoCRUDController[Test]):
    filter_fields = {"lot": ("exact", "in"), "sown": ("gte", "lte")}  # noqa: RUF012
    ordering_fields = ("started_at", "sown")
    etag = ETag()


api = NinjaAPI(title="Seed bank")
mount(api, {"/species": SpeciesController, "/lots": LotController, "/tests": TestController})
urlpatterns = [path("api/", api.urls)]


def fill() -> None:
    with connection.schema_editor() as editor:
        for model in (Species, Lot, Test):
            editor.create_model(model)
    families, begin = ("Poaceae", "Fabaceae", "Rosaceae"), datetime.datetime(2020, 1, 1, tzinfo=datetime.UTC)
    for n in range(1, 13):
        Species.objects.create(name=f"Genus {n}", family=families[n % 3], described_in=1750 + n if n % 4 else None)
    for n in range(1, 46):
        grams = Decimal(n) / 4 if n % 5 else None
        Lot.objects.create(
            code=f"SB-{1000 + n}", species_id=1 + n % 12, grams=grams, notes="" if n % 3 else "dry slope"
        )
    for n in range(1, 71):
        Test.objects.create(
            lot_id=1 + n % 45, started_at=begin + datetime.timedelta(hours=n), sown=20 + n % 30, germinated=n % 20
        )


if __name__ == "__main__":
    fill()
    waitress.serve(get_wsgi_application(), host="127.0.0.1", port=PORT, threads=8)
