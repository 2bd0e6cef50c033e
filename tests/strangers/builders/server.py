"""A seed bank over SQLAlchemy models, its endpoints made by Flask-AppBuilder: ``server.py PORT DATABASE``."""

from __future__ import annotations

import logging
import sys
from datetime import date

from flask import Flask
from flask_appbuilder import AppBuilder, Model, ModelRestApi
from flask_appbuilder.models.sqla.interface import SQLAInterface
from flask_appbuilder.utils.legacy import get_sqla_class
from sqlalchemy import Boolean, Column, Date, Float, ForeignKey, Integer, String
from sqlalchemy.orm import relationship

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
logging.disable(logging.CRITICAL)


class Species(Model):
    __tablename__ = "species"
    id = Column(Integer, primary_key=True)
    name = Column(String(60), unique=True, nullable=False)
    family = Column(String(40), nullable=False)
    protected = Column(Boolean, default=False)

    def __repr__(self) -> str:
        return str(self.name)


class Accession(Model):
    __tablename__ = "accession"
    id = Column(Integer, primary_key=True)
    number = Column(String(20), unique=True, nullable=False)
    seeds = Column(Integer, nullable=False)
    collected = Column(Date)
    share = Column(Float)
    species_id = Column(Integer, ForeignKey("species.id"), nullable=False)
    species = relationship("Species")

    def __repr__(self) -> str:
        return str(self.number)


class SpeciesApi(ModelRestApi):
    resource_name = "species"
    datamodel = SQLAInterface(Species)
    allow_browser_login = True


class AccessionApi(ModelRestApi):
    resource_name = "accession"
    datamodel = SQLAInterface(Accession)
    allow_browser_login = True


app = Flask("seed bank")
app.config.update(
    SQLALCHEMY_DATABASE_URI=f"sqlite:///{DATABASE}", SECRET_KEY="made up, and long enough for it to do",
    FAB_API_SWAGGER_UI=True, AUTH_ROLE_PUBLIC="Public", WTF_CSRF_ENABLED=False, RATELIMIT_ENABLED=False,
)  # fmt: skip
db = get_sqla_class()()


def fill() -> None:
    db.create_all()
    families = ("Poaceae", "Fabaceae", "Rosaceae")
    kinds = [Species(name=f"Species {n}", family=families[n % 3], protected=n % 4 == 0) for n in range(9)]
    db.session.add_all(kinds)
    for n in range(30):
        when = date(2001 + n % 20, 1 + n % 12, 3) if n % 7 else None
        row = Accession(number=f"ACC-{n:04d}", seeds=100 * n, collected=when, share=n / 4, species=kinds[n % 9])
        db.session.add(row)
    db.session.commit()


if __name__ == "__main__":
    with app.app_context():
        db.init_app(app)
        builder = AppBuilder(app, db.session)
        fill()
        builder.add_api(SpeciesApi)
        builder.add_api(AccessionApi)
        public = builder.sm.get_public_role()
        for each in db.session.query(builder.sm.permissionview_model).all():
            if each.view_menu.name in {"Species", "Accession", "SpeciesApi", "AccessionApi", "OpenApi"}:
                builder.sm.add_permission_role(public, each)
    app.run(host="127.0.0.1", port=PORT, threaded=True)
