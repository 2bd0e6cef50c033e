"""A seed bank over Django models, its endpoints made by django-ninja-crud: ``server.py PORT DATABASE``."""

from __future__ import annotations

import sys
from datetime import date

import django
from django.conf import settings

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
settings.configure(
    DEBUG=False, SECRET_KEY="made up", ALLOWED_HOSTS=["*"], ROOT_URLCONF=__name__, USE_TZ=True,
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": DATABASE}},
    INSTALLED_APPS=["django.contrib.contenttypes"], DEFAULT_AUTO_FIELD="django.db.models.BigAutoField",
)  # fmt: skip
django.setup()

from django.db import connection, models  # noqa: E402
from django.urls import path  # noqa: E402
from ninja import NinjaAPI, Router  # noqa: E402
from ninja.orm import create_schema  # noqa: E402
from ninja_crud import views, viewsets  # noqa: E402


class Species(models.Model):
    name = models.CharField(max_length=60, unique=True)
    family = models.CharField(max_length=40)
    protected = models.BooleanField(default=False)

    class Meta:
        app_label = "bank"


class Vault(models.Model):
    code = models.CharField(max_length=8, primary_key=True)
    celsius = models.DecimalField(max_digits=5, decimal_places=2)

    class Meta:
        app_label = "bank"


class Accession(models.Model):
    number = models.CharField(max_length=20, unique=True)
    species = models.ForeignKey(Species, on_delete=models.PROTECT)
    vault = models.ForeignKey(Vault, on_delete=models.SET_NULL, null=True, blank=True)
    seeds = models.PositiveIntegerField()
    collected = models.DateField(null=True, blank=True)
    note = models.TextField(blank=True, default="")

    class Meta:
        app_label = "bank"


class GerminationTest(models.Model):
    accession = models.ForeignKey(Accession, on_delete=models.CASCADE)
    tested = models.DateField()
    sown = models.IntegerField()
    germinated = models.IntegerField()

    class Meta:
        app_label = "bank"


TABLES = (Species, Vault, Accession, GerminationTest)
api = NinjaAPI(title="Seed bank", version="1.0")


def key_type(field: models.Field) -> object:
    kind = str if field.related_model is Vault else int
    return kind | None if field.null else kind


def schemas(table: type[models.Model], own_key: bool) -> tuple[type, type]:
    fields = [each.name for each in table._meta.fields]
    taken = fields if own_key else [name for name in fields if name != "id"]
    # the model's own names of references, as the generator's guide has them
    related = [each for each in table._meta.fields if each.is_relation]
    keys = [(each.attname, key_type(each), None if each.null else ...) for each in related]
    plain = [name for name in fields if name not in {each.name for each in related}]
    out = create_schema(table, name=f"{table.__name__}Out", fields=plain, custom_fields=keys)
    taken = [name for name in plain if name in taken]
    into = create_schema(table, name=f"{table.__name__}In", fields=taken, custom_fields=keys)
    return into, out


def viewset(table: type[models.Model], url: str, key: str) -> None:
    into, out = schemas(table, key == "code")
    item = "/{" + key + "}"
    router = Router()
    api.add_router(url, router)
    members = {
        "router": router, "api": None, "model": table,
        "list_rows": views.ListView(path="/", response_body=list[out]),
        "create_row": views.CreateView(path="/", request_body=into, response_body=out),
        "read_row": views.ReadView(path=item, response_body=out),
        "update_row": views.UpdateView(path=item, request_body=into, response_body=out),
        "delete_row": views.DeleteView(path=item),
    }  # fmt: skip
    members.pop("api")
    type(f"{table.__name__}Views", (viewsets.APIViewSet,), {"__module__": __name__, **members})


viewset(Species, "species", "id")
viewset(Vault, "vaults", "code")
viewset(Accession, "accessions", "id")
viewset(GerminationTest, "germination-tests", "id")
urlpatterns = [path("api/", api.urls)]


def fill() -> None:
    with connection.schema_editor() as editor:
        for table in TABLES:
            editor.create_model(table)
    families = ("Poaceae", "Fabaceae", "Rosaceae")
    kinds = [
        Species.objects.create(name=f"Species {n}", family=families[n % 3], protected=n % 4 == 0) for n in range(9)
    ]
    vaults = [Vault.objects.create(code=f"V-{n}", celsius=-18 - n / 4) for n in range(4)]
    for n in range(30):
        made = Accession.objects.create(
            number=f"ACC-{n:04d}", species=kinds[n % 9], vault=vaults[n % 4] if n % 5 else None, seeds=100 * n,
            collected=date(2001 + n % 20, 1 + n % 12, 3) if n % 7 else None, note="dry" if n % 3 else "",
        )  # fmt: skip
        for m in range(n % 3):
            GerminationTest.objects.create(
                accession=made, tested=date(2020 + m, 5, 1), sown=50, germinated=10 * m + n % 40
            )


if __name__ == "__main__":
    import uvicorn
    from django.core.handlers.asgi import ASGIHandler

    fill()
    uvicorn.run(ASGIHandler(), host="127.0.0.1", port=PORT, log_level="error")
