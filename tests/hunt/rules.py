"""What a column's values have to be, how they are shown in a contract, and how they compare."""

from __future__ import annotations

import re
import unicodedata
import uuid
from datetime import date, datetime
from random import Random
from typing import Any

from tests.hunt.habits import Column, Habits, Json

CHOICES = ("seed", "spore", "cutting")
_MOMENT = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)")
_UUID = re.compile(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", re.I)
_EMAIL = re.compile(r"[^@\s]+@[^@\s]+\.[a-z]+", re.I)


def schema_of(column: Column, key_type: str = "integer") -> Json:
    plain: Json = {
        "text": {"type": "string"},
        "choice": {"type": "string", "enum": list(CHOICES)},
        "integer": {"type": "integer"},
        "number": {"type": "number"},
        "boolean": {"type": "boolean"},
        "date": {"type": "string", "format": "date"},
        "moment": {"type": "string", "format": "date-time"},
        "uuid": {"type": "string", "format": "uuid"},
        "email": {"type": "string", "format": "email"},
        "reference": {"type": key_type},
    }[column.kind]
    if column.kind == "text":
        plain |= {name: each for name, each in (("minLength", column.least), ("maxLength", column.most)) if each}
    elif column.kind in {"integer", "number"}:
        plain |= {
            name: each for name, each in (("minimum", column.least), ("maximum", column.most)) if each is not None
        }
    if column.refers:
        plain["description"] = f"Refers to `{column.refers}`."
    if column.unique:
        plain["description"] = "Unique."
    if column.default is not None:
        plain["default"] = column.default
    if column.nullable:
        plain["type"] = [plain["type"], "null"]
        if "enum" in plain:
            plain["enum"] = [*plain["enum"], None]
    return plain


def wrong(column: Column, value: Any) -> bool:
    """Whether a value breaks a column's rules."""
    if value is None:
        return not column.nullable
    if column.kind in {"integer", "number"}:
        fits = isinstance(value, int | float) and not isinstance(value, bool)
        if not fits or abs(value) > 1e15 or (column.kind == "integer" and value != int(value)):
            return True
        return (column.least is not None and value < column.least) or (column.most is not None and value > column.most)
    if column.kind == "boolean":
        return not isinstance(value, bool)
    if column.kind == "reference":
        return isinstance(value, bool | float) or not isinstance(value, int | str)
    if not isinstance(value, str) or "\0" in value or any("\ud800" <= sign <= "\udfff" for sign in value):
        return True
    if column.kind == "choice":
        return value not in CHOICES
    if column.kind in {"uuid", "email"}:
        return not (_UUID if column.kind == "uuid" else _EMAIL).fullmatch(value)
    if column.kind == "date":
        return moment_of(value, date) is None
    if column.kind == "moment":
        return not _MOMENT.fullmatch(value) or moment_of(value, datetime) is None
    return len(value) < (column.least or 0) or len(value) > (column.most or 10**6)


def moment_of(text: str, kind: Any) -> Any:
    try:
        return kind.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError:
        return None


def made(column: Column, number: int, random: Random) -> Any:
    """A value as people enter it."""
    if column.nullable and random.random() < 0.3:
        return None
    low = column.least if column.least is not None else 0
    high = column.most if column.most is not None else low + 400
    values: Json = {
        "text": random.choice(("Älder", "alder", "Birch", "birch hill", "Cedar", "élan", "Zinnia")) + f" {number}",
        "choice": random.choice(CHOICES),
        "integer": random.randint(low, high),
        "number": round(random.uniform(low, high), 2),
        "boolean": random.random() < 0.5,
        "date": f"20{random.randint(10, 24)}-0{random.randint(1, 9)}-1{random.randint(0, 9)}",
        "moment": f"2021-0{random.randint(1, 9)}-03T1{random.randint(0, 9)}:30:00Z",
        "uuid": str(uuid.UUID(int=random.getrandbits(128), version=4)),
        "email": f"grower{number}@example.org",
    }
    return values[column.kind]


def comparable(habits: Habits, column: Column, value: Any) -> Any:
    """A value as it is compared."""
    if value is None:
        return None
    if column.kind == "moment":
        return moment_of(value, datetime)
    if column.kind == "uuid":
        return value.lower()
    if column.kind in {"text", "choice", "email"} and isinstance(value, str):
        if habits.collation == "accentless":
            value = "".join(sign for sign in unicodedata.normalize("NFD", value) if not unicodedata.combining(sign))
        return value if habits.collation == "binary" else value.lower()
    return value


def parsed(column: Column, text: str) -> Any:
    """A value of a query; None for one that cannot be read."""
    if column.kind == "integer" or (column.kind == "reference" and re.fullmatch(r"-?\d+", text)):
        return int(text) if re.fullmatch(r"-?\d{1,15}", text) else None
    if column.kind == "number":
        return float(text) if re.fullmatch(r"-?\d{1,15}(\.\d+)?", text) else None
    if column.kind == "boolean":
        return {"true": True, "false": False}.get(text)
    free = Column(column.name, column.kind)
    return None if column.kind not in {"text", "choice", "email", "reference"} and wrong(free, text) else text
