"""A seed bank of Django models in SQLite, its endpoints made by Lazy Ninja: server.py PORT FILE"""

import datetime
import sys
from decimal import Decimal
from pathlib import Path

import django
from django.conf import settings
from django.core.management import call_command
from django.core.wsgi import get_wsgi_application
from django.db import transaction
from django.urls import path
from waitress import serve

port, database = int(sys.argv[1]), sys.argv[2]
sys.path.insert(0, str(Path(__file__).parent))
settings.configure(
    ALLOWED_HOSTS=["*"],
    SECRET_KEY="made-up",
    ROOT_URLCONF="__main__",
    USE_TZ=True,
    MIDDLEWARE=[],
    INSTALLED_APPS=["django.contrib.contenttypes", "django.contrib.auth", "bank"],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": database, "OPTIONS": {"timeout": 30}}},
    DEFAULT_AUTO_FIELD="django.db.models.AutoField",
)
django.setup()
call_command("migrate", run_syncdb=True, verbosity=0)

# these need what is set up above
from bank.models import Lot, Species, Trial  # noqa: E402
from lazy_ninja.builder import DynamicAPI  # noqa: E402
from ninja import NinjaAPI  # noqa: E402

with transaction.atomic():
    species = [
        Species.objects.create(name=f"Species {n}", family="Poaceae" if n % 3 else None, protected=n % 2 == 0)
        for n in range(8)
    ]
    lots = [
        Lot.objects.create(
            code=f"LOT-{n}",
            grams=Decimal(n) + Decimal("0.5"),
            shelf=n % 7,
            collected=datetime.date(2020, n % 12 + 1, 3),
            note="" if n % 4 else "dry",
            species=species[n % 8],
        )
        for n in range(30)
    ]
    for n in range(12):
        Trial.objects.create(lot=lots[n], sown=50, sprouted=n if n % 5 else None, kind="sand" if n % 2 else "paper")

api = NinjaAPI(title="Seed bank")
DynamicAPI(api, is_async=False).init()
urlpatterns = [path("api/", api.urls)]
serve(get_wsgi_application(), host="127.0.0.1", port=port, threads=8)
