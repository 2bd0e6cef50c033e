"""A seed bank as JSON:API documents over Flask-SQLAlchemy, made by SAFRS: ``server.py PORT DATABASE``."""

from __future__ import annotations

import sys
from datetime import date

from flask import Flask
from flask_sqlalchemy import SQLAlchemy
from safrs import SAFRSAPI, SAFRSBase
from sqlalchemy import event
from sqlalchemy.engine import Engine

PORT, DATABASE = int(sys.argv[1]), sys.argv[2]
db = SQLAlchemy()


@event.listens_for(Engine, "connect")
def keys_are_kept(connection: object, record: object) -> None:
    connection.execute("PRAGMA foreign_keys=ON")


class Species(SAFRSBase, db.Model):
    """A species."""

    __tablename__ = "species"
    id = db.Column(db.Integer, primary_key=True)
    name = db.Column(db.String(60), unique=True, nullable=False)
    family = db.Column(db.String(40), nullable=False, default="")
    protected = db.Column(db.Boolean, default=False)
    accessions = db.relationship("Accession", back_populates="species")


class Accession(SAFRSBase, db.Model):
    """An accession."""

    __tablename__ = "accessions"
    id = db.Column(db.Integer, primary_key=True)
    number = db.Column(db.String(20), unique=True, nullable=False)
    seeds = db.Column(db.Integer, nullable=False, default=0)
    collected = db.Column(db.Date)
    share = db.Column(db.Float)
    species_id = db.Column(db.Integer, db.ForeignKey("species.id"))
    species = db.relationship("Species", back_populates="accessions")


app = Flask("seed bank")
app.config.update(SQLALCHEMY_DATABASE_URI=f"sqlite:///{DATABASE}", SECRET_KEY="made up")
db.init_app(app)


def fill() -> None:
    db.create_all()
    families = ("Poaceae", "Fabaceae", "Rosaceae")
    kinds = [Species(name=f"Species {n}", family=families[n % 3], protected=n % 4 == 0) for n in range(9)]
    db.session.add_all(kinds)
    for n in range(30):
        when = date(2001 + n % 20, 1 + n % 12, 3) if n % 7 else None
        kinds[n % 9].accessions.append(Accession(number=f"ACC-{n:04d}", seeds=100 * n, collected=when, share=n / 4))
    db.session.commit()


if __name__ == "__main__":
    with app.app_context():
        fill()
        api = SAFRSAPI(app, host="127.0.0.1", port=PORT, prefix="/api")
        api.expose_object(Species)
        api.expose_object(Accession)
    app.run(host="127.0.0.1", port=PORT, threaded=True)
