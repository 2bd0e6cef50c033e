# ruff: noqa: E402, RUF012
"""A seed bank in SQLite, its JSON:API made by Django REST framework: ``server.py PORT DATABASE``"""

import sys

import django
from django.conf import settings

port, database = sys.argv[1], sys.argv[2]
settings.configure(
    DEBUG=False,
    SECRET_KEY="x",
    ALLOWED_HOSTS=["*"],
    ROOT_URLCONF=__name__,
    USE_TZ=True,
    DEFAULT_AUTO_FIELD="django.db.models.AutoField",
    INSTALLED_APPS=[
        "django.contrib.contenttypes",
        "django.contrib.auth",
        "rest_framework",
        "rest_framework_json_api",
        "django_filters",
        "drf_spectacular",
        "drf_spectacular_jsonapi",
    ],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": database, "OPTIONS": {"timeout": 20}}},
    REST_FRAMEWORK={
        "PAGE_SIZE": 10,
        "EXCEPTION_HANDLER": "rest_framework_json_api.exceptions.exception_handler",
        "DEFAULT_PAGINATION_CLASS": "drf_spectacular_jsonapi.schemas.pagination.JsonApiPageNumberPagination",
        "DEFAULT_PARSER_CLASSES": ("rest_framework_json_api.parsers.JSONParser",),
        "DEFAULT_RENDERER_CLASSES": ("rest_framework_json_api.renderers.JSONRenderer",),
        "DEFAULT_METADATA_CLASS": "rest_framework_json_api.metadata.JSONAPIMetadata",
        "DEFAULT_SCHEMA_CLASS": "drf_spectacular_jsonapi.schemas.openapi.JsonApiAutoSchema",
        "DEFAULT_AUTHENTICATION_CLASSES": [],
        "UNAUTHENTICATED_USER": None,
        "DEFAULT_FILTER_BACKENDS": (
            "rest_framework_json_api.filters.QueryParameterValidationFilter",
            "rest_framework_json_api.filters.OrderingFilter",
            "rest_framework_json_api.django_filters.DjangoFilterBackend",
            "rest_framework.filters.SearchFilter",
        ),
        "SEARCH_PARAM": "filter[search]",
    },
    SPECTACULAR_SETTINGS={
        "TITLE": "Seed bank",
        "VERSION": "1",
        "COMPONENT_SPLIT_REQUEST": True,
        "PREPROCESSING_HOOKS": ["drf_spectacular_jsonapi.hooks.fix_nested_path_parameters"],
        "SERVE_PERMISSIONS": [],
    },
)
django.setup()
from datetime import date, timedelta

from django.db import connection, models


class Species(models.Model):
    name = models.CharField(max_length=60, unique=True)
    family = models.CharField(max_length=40)
    protected = models.BooleanField(default=False)

    class Meta:
        app_label = "bank"
        ordering = ["id"]


class Accession(models.Model):
    number = models.CharField(max_length=20, unique=True)
    seeds = models.PositiveIntegerField()
    viability = models.FloatField(null=True, blank=True)
    note = models.TextField(null=True, blank=True)
    kept = models.CharField(max_length=10, choices=[(c, c) for c in ("cold", "dry", "cryo")], default="cold")
    collected = models.DateField(null=True, blank=True)
    price = models.DecimalField(max_digits=8, decimal_places=2, null=True, blank=True)
    species = models.ForeignKey(Species, on_delete=models.PROTECT, related_name="accessions")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        app_label = "bank"
        ordering = ["id"]


from rest_framework_json_api import serializers, views


class SpeciesSerializer(serializers.ModelSerializer):
    class Meta:
        model = Species
        fields = ("name", "family", "protected")


class AccessionSerializer(serializers.ModelSerializer):
    included_serializers = {"species": SpeciesSerializer}

    class Meta:
        model = Accession
        fields = ("number", "seeds", "viability", "note", "kept", "collected", "price", "species", "created_at")


class SpeciesView(views.ModelViewSet):
    queryset = Species.objects.all()
    serializer_class = SpeciesSerializer
    filterset_fields = {"name": ["exact", "icontains"], "family": ["exact", "in"], "protected": ["exact"]}
    search_fields = ["name", "family"]


class AccessionView(views.ModelViewSet):
    queryset = Accession.objects.all()
    serializer_class = AccessionSerializer
    filterset_fields = {
        "number": ["exact"],
        "seeds": ["exact", "gt", "lt", "gte", "lte"],
        "viability": ["exact", "isnull"],
        "collected": ["exact", "lt", "gt"],
        "species": ["exact"],
    }


from django.urls import include, path
from drf_spectacular.views import SpectacularJSONAPIView
from rest_framework.routers import DefaultRouter

router = DefaultRouter(trailing_slash=False)
router.register("species", SpeciesView)
router.register("accessions", AccessionView)
urlpatterns = [
    path(
        "schema",
        SpectacularJSONAPIView.as_view(
            renderer_classes=[__import__("drf_spectacular.renderers", fromlist=["x"]).OpenApiJsonRenderer]
        ),
    ),
    path("", include(router.urls)),
]
with connection.schema_editor() as s:
    if "bank_species" not in connection.introspection.table_names():
        s.create_model(Species)
        s.create_model(Accession)
if not Species.objects.count():
    for n in range(12):
        Species.objects.create(
            name=f"Species {n}", family=["Poaceae", "Fabaceae", "Rosaceae"][n % 3], protected=n % 4 == 0
        )
    for n in range(40):
        Accession.objects.create(
            number=f"ACC-{n:04}",
            seeds=100 * n,
            viability=50 + n if n % 5 else None,
            note=f"dry {n % 2}" if n % 3 else None,
            kept=["cold", "dry", "cryo"][n % 3],
            collected=date(2024, 1, 1) + timedelta(n) if n % 4 else None,
            price=n * 1.25,
            species_id=n % 9 + 1,
        )
from django.core.wsgi import get_wsgi_application
from waitress import serve

serve(get_wsgi_application(), host="127.0.0.1", port=int(port), threads=8)
