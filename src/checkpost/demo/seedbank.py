"""The seed bank: its tables, its roles and its made-up rows, the same at every start."""

from __future__ import annotations

import uuid
from datetime import UTC, date, datetime, timedelta
from random import Random
from typing import Any

from checkpost.demo.database import Row
from checkpost.demo.tables import Column, Grant, Table

#: The bearer tokens of the made-up users: token -> (user, role).
TOKENS = {
    "seedbank-demo-curator-7Qm2": ("mira", "curator"),
    "seedbank-demo-technician-4Xp9": ("tomas", "technician"),
    "seedbank-demo-technician-8Lw3": ("wen", "technician"),
    "seedbank-demo-auditor-5Rk6": ("ines", "auditor"),
    "seedbank-demo-visitor-3Hn1": ("nils", "visitor"),
}
#: The passwords of those who log in: user -> (password, role).
PASSWORDS = {"ines": ("seedbank-demo-password-6Tb8", "auditor")}
#: A token that was valid once.
EXPIRED = "seedbank-demo-curator-0Zz0"
#: The environment variable that the example profile reads for each user's token.
VARIABLES = {
    "mira": "SEEDBANK_CURATOR_TOKEN",
    "tomas": "SEEDBANK_TECHNICIAN_TOKEN",
    "wen": "SEEDBANK_SECOND_TECHNICIAN_TOKEN",
    "ines": "SEEDBANK_AUDITOR_TOKEN",
    "nils": "SEEDBANK_VISITOR_TOKEN",
}

_STAFF: dict[str, Grant] = {"technician": "read", "curator": "write", "auditor": "read"}
_OPEN: dict[str, Grant] = {"public": "read", "visitor": "read", **_STAFF}
_ID = Column("id", "integer", read_only=True)
_CREATED = Column("created_at", "date-time", read_only=True)

TABLES = (
    Table(
        "species",
        (
            _ID,
            Column("scientific_name", "text", required=True, unique=True, min_length=1, max_length=120),
            Column("common_name", "text", nullable=True, max_length=80),
            Column("conservation_status", "text", enum=("LC", "NT", "VU", "EN", "CR"), default="LC"),
            Column("seed_mass_mg", "decimal", scale=4, nullable=True, minimum=0, maximum=99999999),
            Column("orthodox", "boolean", default=True),
            Column("described_on", "date", nullable=True),
            Column("notes", "text", nullable=True, max_length=2000),
            _CREATED,
        ),
        grants=_OPEN,
    ),
    Table(
        "collectors",
        (
            _ID,
            Column("name", "text", required=True, min_length=1, max_length=100),
            Column("email", "text", nullable=True, unique=True, format="email", max_length=120),
            Column("field_number", "text", nullable=True, pattern="^[0-9]{4}$"),
            Column("active", "boolean", default=True),
            Column("access_code", "text", write_only=True, nullable=True, min_length=8, max_length=64),
            _CREATED,
        ),
        grants=_STAFF,
    ),
    Table(
        "vaults",
        (
            Column("code", "text", required=True, pattern="^[A-Z]{2}-[0-9]{2}$"),
            Column("name", "text", required=True, min_length=1, max_length=60),
            Column("temperature_c", "decimal", required=True, scale=1, minimum=-80, maximum=30),
            Column("capacity", "integer", required=True, minimum=0, maximum=1000000),
            Column("opened_on", "date", nullable=True),
        ),
        key=("code",),
        key_from="client",
        grants=_OPEN,
    ),
    Table(
        "accessions",
        (
            _ID,
            Column("number", "text", required=True, unique=True, pattern="^[0-9]{6}$"),
            Column("species_id", "integer", required=True, references="species"),
            Column("vault_code", "text", required=True, references="vaults"),
            Column("collector_id", "integer", nullable=True, references="collectors"),
            Column("collected_at", "date-time", nullable=True),
            Column("latitude", "decimal", nullable=True, scale=6, minimum=-90, maximum=90),
            Column("longitude", "decimal", nullable=True, scale=6, minimum=-180, maximum=180),
            Column("seed_count", "integer", required=True, minimum=0, maximum=2147483647),
            Column("status", "text", enum=("active", "depleted", "quarantined"), default="active"),
            Column("remark", "text", nullable=True, max_length=500),
            _CREATED,
        ),
        nested=("germination_tests",),
        scopes={"visitor": "\"status\" = 'active'"},
        hides={"visitor": ("latitude", "longitude")},
        grants={"visitor": "read", **_STAFF},
    ),
    Table(
        "germination_tests",
        (
            _ID,
            Column("accession_id", "integer", required=True, references="accessions"),
            Column("started_on", "date", required=True),
            Column("temperature_c", "decimal", required=True, scale=1, minimum=-80, maximum=60),
            Column("sown", "integer", required=True, minimum=1, maximum=10000),
            Column("germinated", "integer", minimum=0, maximum=10000, default=0),
            Column("medium", "text", enum=("agar", "paper", "sand", "soil"), default="agar"),
            Column("treatment", "text", nullable=True, max_length=200),
            Column("passed", "boolean", nullable=True),
            Column("tray", "text", nullable=True, unique=True, min_length=1, max_length=20),
            Column("entered_by", "text", read_only=True),
            _CREATED,
        ),
        owner="entered_by",
        scopes={"visitor": '"accession_id" IN (SELECT "id" FROM accessions WHERE "status" = \'active\')'},
        grants={"technician": "own", "curator": "write", "auditor": "read", "visitor": "read"},
    ),
    Table(
        "loans",
        (
            Column("id", "uuid", read_only=True),
            Column("accession_id", "integer", required=True, references="accessions"),
            Column("borrower", "text", required=True, min_length=1, max_length=100),
            Column("seeds", "integer", required=True, minimum=1, maximum=100000),
            Column("lent_at", "date-time", required=True),
            Column("due_on", "date", required=True),
            Column("returned", "boolean", default=False),
            Column("release_code", "text", write_only=True, nullable=True, min_length=4, max_length=20),
            _CREATED,
            Column("version", "integer", read_only=True),
        ),
        version="version",
        grants=_STAFF,
    ),
    Table(
        "tags",
        (
            _ID,
            Column("label", "text", required=True, unique=True, min_length=1, max_length=40),
            Column("colour", "text", pattern="^#[0-9a-f]{6}$", default="#888888"),
        ),
        grants=_OPEN,
    ),
    Table(
        "species_tags",
        (
            Column("species_id", "integer", required=True, references="species", on_delete="cascade"),
            Column("tag_id", "integer", required=True, references="tags", on_delete="cascade"),
        ),
        key=("species_id", "tag_id"),
        key_from="client",
        updatable=False,
        grants=_OPEN,
    ),
    Table(
        "donor_contacts",
        (_ID, Column("name", "text", required=True), Column("phone", "text", required=True)),
        exposed=False,
    ),
)

_START = datetime(2019, 3, 4, 8, 0, tzinfo=UTC)
_NAMES = ("Abies alba", "Bellis perennis", "Carex nigra", "Daucus carota", "Erica cinerea", "Festuca rubra")
_GENERA = ("Silene", "Trifolium", "Viola", "Salvia", "Linum", "Papaver", "Quercus", "Rosa", "Allium", "Lupinus")
_EPITHETS = ("montana", "vulgaris", "alpina", "officinalis")
_AWKWARD = (
    "O'Brien's \"pink\"",
    "100% wild_type",
    "çe\u0301dille e\u0301te\u0301",
    "𝒮eed 🌱",
    "MiXeD cAsE",
    "mixed case",
    "0042",
    "",
    "comma, semicolon; colon:",
    "a+b&c=d?",
    "\\back/slash",
    "Ærø – Łódź",
)


def _instant(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def _day(offset: int) -> str:
    return (date(2019, 1, 1) + timedelta(days=offset)).isoformat()


def _species(random: Random) -> list[Row]:
    names = list(_NAMES) + [f"{genus} {epithet}" for genus in _GENERA for epithet in _EPITHETS][:34]
    masses = (0.0004, 12345678.9012, 0.0, 1.5, 1.5, None, 33.3333)
    return [
        {
            "id": number,
            "scientific_name": name,
            "common_name": (*_AWKWARD, None)[number % 13],
            "conservation_status": ("LC", "NT", "VU", "EN", "CR")[number % 5],
            "seed_mass_mg": masses[number % 7],
            "orthodox": number % 3 > 0,
            "described_on": None if number % 6 == 0 else f"{1753 + number}-0{1 + number % 9}-1{number % 10}",
            "notes": None if number % 2 else _AWKWARD[random.randrange(12)],
            "created_at": _instant(_START + timedelta(hours=number)),
        }
        for number, name in enumerate(names, 1)
    ]


def _accessions(random: Random) -> list[Row]:
    vaults = ("NV-01", "NV-02", "SV-01", "SV-07")
    return [
        {
            "id": number,
            "number": f"{number * 37:06d}",
            "species_id": 1 + random.randrange(40),
            "vault_code": vaults[random.randrange(4)],
            "collector_id": None if number % 5 == 0 else 1 + random.randrange(12),
            "collected_at": None if number % 7 == 0 else _instant(_START + timedelta(minutes=97 * number)),
            "latitude": None if number % 9 == 0 else round(random.uniform(-90, 90), 6),
            "longitude": None if number % 9 == 0 else round(random.uniform(-180, 180), 6),
            "seed_count": random.choice((0, 10, 250, 250, 999, 120000)),
            "status": random.choice(("active", "active", "depleted", "quarantined")),
            "remark": None if number % 3 else _AWKWARD[number // 3 % 12],
            "created_at": _instant(_START + timedelta(hours=2 * number)),
        }
        for number in range(1, 301)
    ]


def _tests(random: Random) -> list[Row]:
    return [
        {
            "id": number,
            "accession_id": 1 + random.randrange(300),
            "started_on": _day(random.randrange(1500)),
            "temperature_c": random.choice((-20.0, -0.5, 0.0, 5.0, 15.5, 20.0, 25.0)),
            "sown": random.choice((10, 25, 50, 100)),
            "germinated": random.randrange(11),
            "medium": random.choice(("agar", "paper", "sand", "soil")),
            "treatment": None if number % 4 else _AWKWARD[number // 4 % 12],
            "passed": (True, False, None)[number % 3],
            "tray": None if number % 5 == 0 else f"T{number:05d}",
            "entered_by": ("tomas", "wen")[number % 2],
            "created_at": _instant(_START + timedelta(hours=3 * number)),
        }
        for number in range(1, 901)
    ]


def rows() -> dict[str, list[Row]]:
    """Every row of every table, by table name. The same values at every call."""
    random = Random(20190304)
    people = ("Asel", "Bram", "Chidi", "Dunja", "Eero", "Fatou", "Goran", "Hana", "Ilir", "Jun", "Kofi", "Lena")
    contents: dict[str, list[dict[str, Any]]] = {
        "species": _species(random),
        "collectors": [
            {
                "id": number,
                "name": name,
                "email": None if number % 4 == 0 else f"{name.lower()}@seedbank.example",
                "field_number": None if number % 5 == 0 else f"{number * 7:04d}",
                "active": number % 6 > 0,
                "access_code": f"code-{number:04d}",
                "created_at": _instant(_START + timedelta(days=number)),
            }
            for number, name in enumerate(people, 1)
        ],
        "vaults": [
            {"code": code, "name": name, "temperature_c": temperature, "capacity": capacity, "opened_on": opened}
            for code, name, temperature, capacity, opened in (
                ("NV-01", "North vault", -20.0, 4000, "1998-05-01"),
                ("NV-02", "North vault annex", -18.5, 1500, None),
                ("SV-01", "South vault", -20.0, 6000, "2004-02-29"),
                ("SV-07", "Zúñiga’s 50% store", 4.0, 0, "2011-11-11"),
            )
        ],
        "accessions": _accessions(random),
        "germination_tests": _tests(random),
        "loans": [
            {
                "id": str(uuid.UUID(int=random.getrandbits(128), version=4)),
                "accession_id": 1 + random.randrange(300),
                "borrower": _AWKWARD[number % 12] or "Botanic garden",
                "seeds": random.choice((1, 5, 50, 100000)),
                "lent_at": _instant(_START + timedelta(days=3 * number)),
                "due_on": _day(400 + number),
                "returned": number % 2 == 0,
                "release_code": None if number % 3 else f"RC{number:04d}",
                "created_at": _instant(_START + timedelta(days=3 * number)),
                "version": 1 + number % 3,
            }
            for number in range(1, 61)
        ],
        "tags": [
            {"id": number, "label": label, "colour": colour}
            for number, (label, colour) in enumerate(
                (
                    ("alpine", "#4477aa"),
                    ("edible", "#66ccee"),
                    ("Edible", "#228833"),
                    ("été", "#ccbb44"),
                    ("rare_%", "#ee6677"),
                    ("wetland", "#aa3377"),
                    ("🌱 new", "#888888"),
                ),
                1,
            )
        ],
        "species_tags": [
            {"species_id": species, "tag_id": tag}
            for species in range(1, 41)
            for tag in range(1, 8)
            if (species * tag) % 5 == 1
        ],
        "donor_contacts": [{"id": 1, "name": "Not for anyone", "phone": "+00 000"}],
    }
    return contents
