"""A stranger: modules of models, whose introduction tells how lists are filtered. ``server.py PORT DATABASE``."""

from __future__ import annotations

import os
import sys
from datetime import date
from pathlib import Path

from emmett import App
from emmett.orm import Database, Field, Model, belongs_to, has_many
from emmett_rest import REST, Serializer

if __name__ == "__main__":
    os.environ["PORT"], os.environ["DATABASE"] = sys.argv[1:]
DATABASE = Path(os.environ["DATABASE"])
app = App(__name__, root_path=str(DATABASE.parent))
app.config.db.uri = f"sqlite://{DATABASE}"


class Species(Model):
    tablename = "species"
    has_many({"lots": "Lot"})
    name = Field.string(length=80, notnull=True, unique=True, validation={"presence": True})
    family = Field.string(notnull=True, validation={"in": ["Poaceae", "Fabaceae", "Rosaceae"]})
    hardy = Field.bool(default=False)


class Lot(Model):
    tablename = "lots"
    belongs_to({"species": "Species"})
    code = Field.string(length=20, unique=True, validation={"presence": True, "match": r"^SB-\d{4}$"})
    grams = Field.float(validation={"allow": "empty", "gt": 0})
    collected_on = Field.date()
    notes = Field.text()


class Identified(Serializer):
    include = ["id"]  # noqa: RUF012


db = Database(app, auto_migrate=True)
db.define_models(Species, Lot)
app.pipeline = [db.pipe]
rest = app.use_extension(REST)
api = app.module(__name__, "api", url_prefix="api")
METHODS = ["index", "create", "read", "update", "delete", "sample", "group", "stats"]
for name, model, fields, numbers, groups in (
    ("species", Species, ["name", "family", "hardy"], ["id"], ["family", "hardy"]),
    ("lots", Lot, ["code", "species", "grams", "collected_on", "notes"], ["grams"], ["species"]),
):
    module = api.rest_module(__name__, name, model, url_prefix=name, enabled_methods=METHODS, serializer=Identified)
    module.allowed_sorts = module.query_allowed_fields = ["id", *fields]
    module.stats_allowed_fields, module.grouping_allowed_fields = numbers, groups
rest.docs_module(
    __name__, "docs", title="Seed bank", version="1", modules_tree_prefix="api", url_prefix="docs", produce_schemas=True
)


def fill() -> None:
    families = ["Poaceae", "Fabaceae", "Rosaceae"]
    with db.connection():
        for n in range(1, 13):
            db.species.insert(name=f"Genus {n}", family=families[n % 3], hardy=n % 4 == 0)
        for n in range(1, 46):
            note = None if n % 3 else "dry slope"
            made = date(2015, 1 + n % 12, 1 + n % 28)
            db.lots.insert(code=f"SB-{1000 + n}", species=1 + n % 12, grams=n * 1.5, collected_on=made, notes=note)
        db.commit()


if __name__ == "__main__":
    fill()
    os.execv(
        str(Path(sys.executable).with_name("emmett")), ["emmett", "-a", __file__, "serve", "--port", os.environ["PORT"]]
    )
