"""A seed bank in PostgreSQL, its endpoints made by flarchitect from SQLAlchemy models: ``server.py PORT DATABASE``"""

import sys
from datetime import date, datetime, timedelta
from decimal import Decimal

from flarchitect import Architect
from flask import Flask
from flask_sqlalchemy import SQLAlchemy
from sqlalchemy import ForeignKey, Numeric, String, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

port, database = int(sys.argv[1]), sys.argv[2].replace("postgres://", "postgresql+psycopg2://")


class Base(DeclarativeBase):
    def get_session(*a):
        return db.session


db = SQLAlchemy(model_class=Base)
app = Flask(__name__)
app.config.update(
    SQLALCHEMY_DATABASE_URI=database,
    API_TITLE="Seed bank",
    API_VERSION="1.0",
    API_BASE_MODEL=db.Model,
    API_ALLOW_CASCADE_DELETE=False,
    API_ADD_RELATIONS=True,
    API_IGNORE_UNDERSCORE_ATTRIBUTES=True,
)


class Species(db.Model):
    __tablename__ = "species"

    class Meta:
        tag = "Species"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    family: Mapped[str] = mapped_column(String(40))
    protected: Mapped[bool] = mapped_column(default=False)
    accessions: Mapped[list["Accession"]] = relationship(back_populates="species")


class Accession(db.Model):
    __tablename__ = "accessions"

    class Meta:
        tag = "Accession"

    id: Mapped[int] = mapped_column(primary_key=True)
    number: Mapped[str] = mapped_column(String(20), unique=True)
    seeds: Mapped[int]
    viability: Mapped[float | None]
    note: Mapped[str | None] = mapped_column(Text)
    kept: Mapped[str] = mapped_column(String(10), default="cold")
    collected: Mapped[date | None]
    price: Mapped[Decimal | None] = mapped_column(Numeric(8, 2))
    species_id: Mapped[int] = mapped_column(ForeignKey("species.id"))
    created_at: Mapped[datetime] = mapped_column(default=datetime.utcnow)
    species: Mapped[Species] = relationship(back_populates="accessions")


with app.app_context():
    db.init_app(app)
    db.create_all()
    if not db.session.query(Species).count():
        for n in range(12):
            db.session.add(
                Species(name=f"Species {n}", family=["Poaceae", "Fabaceae", "Rosaceae"][n % 3], protected=n % 4 == 0)
            )
        db.session.flush()
        for n in range(40):
            db.session.add(
                Accession(
                    number=f"ACC-{n:04}",
                    seeds=100 * n,
                    viability=50 + n if n % 5 else None,
                    note=f"dry {n % 2}" if n % 3 else None,
                    kept=["cold", "dry", "cryo"][n % 3],
                    collected=date(2024, 1, 1) + timedelta(n) if n % 4 else None,
                    price=Decimal(n) * Decimal("1.25"),
                    species_id=n % 9 + 1,
                )
            )
        db.session.commit()
    Architect(app)
app.run(port=port, threaded=True)
