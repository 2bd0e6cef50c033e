"""A seed bank in SQLite, its endpoints made by DRF Auto-REST from Django's models: server.py PORT FILE"""

from __future__ import annotations

import datetime
import sys
from types import ModuleType
from typing import Any

import django
from django.conf import settings

port, path = int(sys.argv[1]), sys.argv[2]
ANYBODY = ["rest_framework.permissions.AllowAny"]
settings.configure(
    SECRET_KEY="made up",
    ALLOWED_HOSTS=["*"],
    ROOT_URLCONF="routes",
    USE_TZ=True,
    DEFAULT_AUTO_FIELD="django.db.models.AutoField",
    INSTALLED_APPS=["django.contrib.contenttypes", "django.contrib.auth", "rest_framework", "drf_spectacular", "bank"],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": path}},
    REST_FRAMEWORK={
        "DEFAULT_SCHEMA_CLASS": "auto_rest.openapi.AutoRestAutoSchema",
        "DEFAULT_PERMISSION_CLASSES": ANYBODY,
        "DEFAULT_AUTHENTICATION_CLASSES": [],
        "UNAUTHENTICATED_USER": None,
    },
    AUTO_REST={"DEFAULT_PERMISSION_CLASSES": ANYBODY},
)
django.setup()

from bank.models import Accession, Germination, Species  # noqa: E402
from django.core.wsgi import get_wsgi_application  # noqa: E402
from django.db import connection  # noqa: E402
from waitress import serve  # noqa: E402

with connection.schema_editor() as editor:
    known = connection.introspection.table_names()
    for model in (Species, Accession, Germination):
        if model._meta.db_table not in known:
            editor.create_model(model)
if not Species.objects.count():
    families = ["Poaceae", "Fabaceae", "Rosaceae"]
    for n in range(12):
        Species.objects.create(name=f"Species {n}", family=families[n % 3], protected=n % 4 == 0)
    for n in range(40):
        row: dict[str, Any] = {"viability": 50 + n if n % 5 else None, "note": f"dry {n % 2}" if n % 3 else None}
        day = datetime.date(2024, 1, 1) + datetime.timedelta(n) if n % 4 else None
        Accession.objects.create(number=f"ACC-{n:04}", seeds=100 * n, collected=day, species_id=n % 9 + 1, **row)
    for n in range(25):
        day = datetime.date(2024, 2, 1) + datetime.timedelta(n)
        Germination.objects.create(accession_id=n % 40 + 1, started=day, germinated=n % 100)

from auto_rest.routers import AutoRestRouter  # noqa: E402

routes = ModuleType("routes")
router = AutoRestRouter()
router.auto_register_models(["bank"])
routes.urlpatterns = router.all_urls  # type: ignore[attr-defined]
sys.modules["routes"] = routes
serve(get_wsgi_application(), host="127.0.0.1", port=port, threads=8)
