"""A seed bank over Django models, its endpoints made by Django REST framework: ``server.py PORT DATABASE``."""

from __future__ import annotations

import sys
from datetime import UTC, date, datetime

import django
from django.conf import settings

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
settings.configure(
    DEBUG=False, SECRET_KEY="made up", ALLOWED_HOSTS=["*"], ROOT_URLCONF=__name__, USE_TZ=True,
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": DATABASE}},
    INSTALLED_APPS=[
        "django.contrib.contenttypes", "django.contrib.auth", "django_filters", "rest_framework", "drf_spectacular",
    ],
    DEFAULT_AUTO_FIELD="django.db.models.BigAutoField",
    REST_FRAMEWORK={
        "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
        "DEFAULT_AUTHENTICATION_CLASSES": [], "DEFAULT_PERMISSION_CLASSES": [],
        "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
        "DEFAULT_PARSER_CLASSES": ["rest_framework.parsers.JSONParser"],
        "DEFAULT_PAGINATION_CLASS": "rest_framework.pagination.LimitOffsetPagination", "PAGE_SIZE": 10,
        "DEFAULT_FILTER_BACKENDS": [
            "django_filters.rest_framework.DjangoFilterBackend", "rest_framework.filters.SearchFilter",
            "rest_framework.filters.OrderingFilter",
        ],
    },
    SPECTACULAR_SETTINGS={"TITLE": "Seed bank", "VERSION": "1.0", "COMPONENT_SPLIT_REQUEST": True},
)  # fmt: skip
django.setup()

from django.db import connection, models  # noqa: E402
from django.urls import include, path  # noqa: E402
from drf_spectacular.views import SpectacularJSONAPIView  # noqa: E402
from rest_framework import routers, serializers, viewsets  # noqa: E402


class Species(models.Model):
    name = models.CharField(max_length=60, unique=True)
    family = models.CharField(max_length=40, choices=[(n, n) for n in ("Poaceae", "Fabaceae", "Rosaceae")])
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
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        app_label = "bank"


class GerminationTest(models.Model):
    accession = models.ForeignKey(Accession, on_delete=models.CASCADE, related_name="tests")
    tested = models.DateTimeField()
    sown = models.IntegerField()
    germinated = models.IntegerField()

    class Meta:
        app_label = "bank"
        unique_together = (("accession", "tested"),)


TABLES = (Species, Vault, Accession, GerminationTest)
FILTERS = {
    Species: {"name": ["exact", "icontains", "startswith"], "family": ["exact", "in"], "protected": ["exact"]},
    Vault: {"code": ["exact"], "celsius": ["lt", "gte"]},
    Accession: {
        "number": ["exact", "iexact"], "species": ["exact"], "species__family": ["exact"],
        "seeds": ["exact", "gt", "lte", "range"], "collected": ["exact", "year", "isnull", "lt"],
    },
    GerminationTest: {"accession": ["exact"], "sown": ["exact"], "tested": ["gte", "lt"]},
}  # fmt: skip
SEARCHED = {Species: ["name", "family"], Accession: ["number", "note"]}
router = routers.DefaultRouter()


def viewset(table: type[models.Model], url: str) -> None:
    meta = type("Meta", (), {"model": table, "fields": "__all__"})
    serializer = type(f"{table.__name__}Serializer", (serializers.ModelSerializer,), {"Meta": meta})
    members = {
        "queryset": table.objects.order_by("pk"), "serializer_class": serializer, "filterset_fields": FILTERS[table],
        "search_fields": SEARCHED.get(table, []), "ordering_fields": "__all__",
    }  # fmt: skip
    router.register(url, type(f"{table.__name__}ViewSet", (viewsets.ModelViewSet,), members))


for each, url in zip(TABLES, ("species", "vaults", "accessions", "germination-tests"), strict=True):
    viewset(each, url)
urlpatterns = [path("api/", include(router.urls)), path("schema/", SpectacularJSONAPIView.as_view())]


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
                accession=made, tested=datetime(2020 + m, 5, 1, 8, 30, tzinfo=UTC), sown=50, germinated=10 * m + n % 40
            )


if __name__ == "__main__":
    import uvicorn
    from django.core.handlers.asgi import ASGIHandler

    fill()
    uvicorn.run(ASGIHandler(), host="127.0.0.1", port=PORT, log_level="error")
