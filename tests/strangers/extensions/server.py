"""A seed bank in SQLite, its endpoints made by Flask-Muck: server.py PORT FILE"""

import datetime
import sys
from pathlib import Path

from flask import Flask
from flask_muck import FlaskMuck, FlaskMuckApiView
from flask_sqlalchemy import SQLAlchemy
from pydantic import BaseModel, ConfigDict
from waitress import serve

port, path = int(sys.argv[1]), sys.argv[2]
app = Flask(__name__)
app.config.update(SQLALCHEMY_DATABASE_URI=f"sqlite:///{path}", MUCK_API_URL_PREFIX="/api/")
db = SQLAlchemy(app)


class Species(db.Model):
    id = db.Column(db.Integer, primary_key=True)
    name = db.Column(db.String(60), nullable=False, unique=True)
    family = db.Column(db.String(40), nullable=False)
    protected = db.Column(db.Boolean, nullable=False, default=False)


class Accession(db.Model):
    id = db.Column(db.Integer, primary_key=True)
    number = db.Column(db.String(20), nullable=False, unique=True)
    seeds = db.Column(db.Integer, nullable=False)
    viability = db.Column(db.Float)
    note = db.Column(db.Text)
    collected = db.Column(db.Date)
    species_id = db.Column(db.Integer, db.ForeignKey(Species.id), nullable=False)


class SpeciesIn(BaseModel):
    model_config = ConfigDict(from_attributes=True)
    name: str
    family: str
    protected: bool = False


class SpeciesOut(SpeciesIn):
    id: int


class AccessionIn(BaseModel):
    model_config = ConfigDict(from_attributes=True)
    number: str
    seeds: int
    viability: float | None = None
    note: str | None = None
    collected: datetime.date | None = None
    species_id: int


class AccessionOut(AccessionIn):
    id: int


class SpeciesView(FlaskMuckApiView):
    session = db.session
    api_name = "species"
    Model = Species
    ResponseSchema = SpeciesOut
    CreateSchema = UpdateSchema = PatchSchema = SpeciesIn
    searchable_columns = (Species.name,)


class AccessionView(FlaskMuckApiView):
    session = db.session
    api_name = "accessions"
    Model = Accession
    ResponseSchema = AccessionOut
    CreateSchema = UpdateSchema = PatchSchema = AccessionIn
    searchable_columns = (Accession.number,)


with app.app_context():
    muck = FlaskMuck()
    muck.init_app(app)
    muck.register_muck_views([SpeciesView, AccessionView])
    if not Path(path).exists():
        db.create_all()
        families = ["Poaceae", "Fabaceae", "Rosaceae"]
        for n in range(12):
            db.session.add(Species(name=f"Species {n}", family=families[n % 3], protected=n % 4 == 0))
        db.session.commit()
        for n in range(40):
            row = {"viability": 50 + n if n % 5 else None, "note": f"dry {n % 2}" if n % 3 else None}
            day = datetime.date(2024, 1, 1) + datetime.timedelta(n) if n % 4 else None
            db.session.add(Accession(number=f"ACC-{n:04}", seeds=100 * n, collected=day, species_id=n % 9 + 1, **row))
        db.session.commit()
serve(app, host="127.0.0.1", port=port, threads=8)
