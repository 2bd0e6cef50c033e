"""Values that change on the way."""

from __future__ import annotations

import unicodedata
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from checkpost.demo.api import TableApi
from checkpost.demo.defects.registry import defect
from checkpost.demo.tables import Column


def _altered(name: str, table: str, says: str, alter: Callable[[Column, Any], Any]) -> None:
    """Register a defect that changes values silently before they are stored."""

    class Altering(TableApi):
        def accept(self, column: Column, value: Any) -> Any:
            return alter(column, super().accept(column, value))

    defect(name, table, "POST", "create", says)(Altering)


def _on_text(change: Callable[[str], Any]) -> Callable[[Column, Any], Any]:
    return lambda column, value: (
        change(value)
        if column.type == "text" and isinstance(value, str) and not (column.enum or column.pattern)
        else value
    )


def _no_accents(text: str) -> str:
    return "".join(sign for sign in unicodedata.normalize("NFD", text) if not unicodedata.combining(sign))


def _number_like(text: str) -> str:
    return text.lstrip("0") or "0" if text.isdigit() else text


def _hour_later(column: Column, value: Any) -> Any:
    if column.type != "date-time" or value is None:
        return value
    moment = datetime.fromisoformat(value.replace("Z", "+00:00")) + timedelta(hours=1)
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def _rounded(column: Column, value: Any) -> Any:
    return round(value, 1) if column.type == "decimal" and value is not None else value


_altered("text-trimmed", "species", "Space at the ends of a text is cut off silently.", _on_text(str.strip))
_altered("text-truncated", "species", "A long text is cut silently.", _on_text(lambda text: text[:60]))
_altered("text-recased", "loans", "Capital letters become small.", _on_text(str.lower))
_altered("accents-lost", "species", "Accents are lost.", _on_text(_no_accents))
_altered("leading-zeros-lost", "loans", "Leading zeros of a text are lost.", _on_text(_number_like))
_altered("empty-becomes-null", "species", "An empty text becomes null.", _on_text(lambda text: text if text else None))
_altered(
    "astral-lost",
    "tags",
    "Characters beyond the basic plane become question marks.",
    _on_text(lambda text: "".join(sign if ord(sign) < 0x10000 else "?" for sign in text)),
)
_altered("decimal-rounded", "species", "A decimal loses digits of its scale.", _rounded)
_altered("time-shifted", "loans", "A date-time comes back an hour later.", _hour_later)
