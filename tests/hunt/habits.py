"""What a sound API may do one way or another, drawn by seed."""

from __future__ import annotations

from dataclasses import dataclass, replace
from random import Random
from typing import Any, Literal

Json = dict[str, Any]
Kind = Literal["text", "choice", "integer", "number", "boolean", "date", "moment", "uuid", "email", "reference"]


@dataclass(frozen=True)
class Column:
    """A column with the rules that its contract states, and that are kept."""

    name: str
    kind: Kind
    required: bool = False
    nullable: bool = False
    unique: bool = False
    least: int | None = None
    most: int | None = None
    default: Any = None
    refers: str = ""


@dataclass(frozen=True)
class Table:
    name: str
    columns: tuple[Column, ...]
    #: How its rows get their key: "number", "large number", "uuid", "client".
    key: str
    rows: int
    #: Rows show when they were made, and when they were last changed.
    stamps: bool = False

    @property
    def key_name(self) -> str:
        return "code" if self.key == "client" else "id"


@dataclass(frozen=True)
class Habits:
    tables: tuple[Table, ...]
    spelling: Literal["brackets", "suffix", "equality", "odata", "none"]
    paging: Literal["offset", "page", "cursor", "none"]
    largest: int
    usual: int
    envelope: Literal["bare", "items", "data"]
    total: Literal["", "body", "header"]
    collation: Literal["binary", "caseless", "accentless"]
    nulls: Literal["first", "last", "smallest", "largest"]
    #: Whether ``ne`` leaves rows without a value.
    not_leaves_null: bool
    order: Literal["key", "newest", "scattered"]
    #: What a create answers with: its row, nothing but its place, or the row inside ``data``.
    created: Literal["row", "place", "data"]
    update: Literal["PATCH", "PUT partial", "PATCH and PUT"]
    removed: Literal["204", "200", "row"]
    refusal: Literal["400", "422"]
    malformed_key: Literal["400", "404"]
    referred: Literal["409", "422"]
    closed: bool
    problem: bool
    tags: bool
    selects: bool
    extra_headers: bool
    location: bool
    slow: float
    others: float
    bulk: bool


_NAMES = ("samples", "plots", "batches", "jars")
_TEXTS = ("label", "remark", "grower", "place")
_FREE: tuple[Kind, ...] = ("text", "choice", "integer", "number", "boolean", "date", "moment", "uuid", "email")


def drawn(seed: int) -> Habits:
    """The habits for a seed."""
    random = Random(f"habits/{seed}")
    names = random.sample(_NAMES, random.randint(1, 3))
    tables: list[Table] = []
    for name in names:
        parents = [each.name for each in tables if each.key != "large number"]
        tables.append(_table(random, name, parents))
    spelling = random.choice(("brackets", "suffix", "equality", "odata", "none"))
    paging = random.choice(("offset", "page", "cursor", "none"))
    envelope = "items" if paging == "cursor" else random.choice(("bare", "items", "data"))
    totals = ("", "header") if envelope == "bare" else ("", "body", "header")
    habits = Habits(
        tables=tuple(tables),
        spelling=spelling,  # type: ignore[arg-type]
        paging=paging,  # type: ignore[arg-type]
        largest=random.choice((10, 25, 100)),
        usual=random.choice((5, 10)),
        envelope=envelope,  # type: ignore[arg-type]
        total=random.choice(totals),  # type: ignore[arg-type]
        collation=random.choice(("binary", "caseless", "accentless")),  # type: ignore[arg-type]
        nulls=random.choice(("first", "last", "smallest", "largest")),  # type: ignore[arg-type]
        not_leaves_null=random.random() < 0.5,
        order=random.choice(("key", "newest", "scattered")),  # type: ignore[arg-type]
        created=random.choice(("row", "place", "data")),  # type: ignore[arg-type]
        update=random.choice(("PATCH", "PUT partial", "PATCH and PUT")),  # type: ignore[arg-type]
        removed=random.choice(("204", "200", "row")),  # type: ignore[arg-type]
        refusal=random.choice(("400", "422")),  # type: ignore[arg-type]
        malformed_key=random.choice(("400", "404")),  # type: ignore[arg-type]
        referred=random.choice(("409", "422")),  # type: ignore[arg-type]
        closed=random.random() < 0.5,
        problem=random.random() < 0.5,
        tags=random.random() < 0.3,
        selects=random.random() < 0.5,
        extra_headers=random.random() < 0.3,
        location=random.random() < 0.5,
        slow=random.choice((0.0, 0.0, 0.3)),
        others=random.choice((0.0, 0.0, 0.0, 0.005)),
        bulk=random.random() < 0.3,
    )
    stamps = random.random() < 0.4
    return replace(habits, tables=tuple(replace(each, stamps=stamps) for each in tables))


def _table(random: Random, name: str, parents: list[str]) -> Table:
    columns = [
        Column("name", "text", required=True, unique=random.random() < 0.3, least=1, most=random.choice((30, 80)))
    ]
    columns += [_column(random, text, "text") for text in random.sample(_TEXTS, random.randint(0, 2))]
    kinds = enumerate(random.sample(_FREE, random.randint(2, 5)))
    columns += [_column(random, f"{kind}_{number}", kind) for number, kind in kinds]
    for parent in parents[: random.randint(0, 2)]:
        required = random.random() < 0.5
        columns.append(Column(f"{parent[:-1]}_ref", "reference", required, not required, refers=parent))
    return Table(
        name, tuple(columns), random.choice(("number", "large number", "uuid", "client")), random.choice((4, 12, 33))
    )


def _column(random: Random, name: str, kind: Kind) -> Column:
    required = random.random() < 0.3
    nullable = not required and random.random() < 0.7
    least = most = None
    if kind == "text":
        least, most = random.choice(((None, None), (None, 40), (2, 60)))
    elif kind in {"integer", "number"}:
        least, most = random.choice(((None, None), (0, None), (1, 500), (-50, 50)))
    defaults: Json = {"boolean": False, "integer": max(least or 0, 3) if kind == "integer" else 3, "choice": "seed"}
    default = defaults.get(kind) if not required and not nullable else None
    if not required and not nullable and default is None:
        nullable = True
    return Column(name, kind, required, nullable, least=least, most=most, default=default)
