"""Whether a value that the API shows is the one that the table holds, under every reading a sensible API gives."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterable
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from uuid import UUID

from checkpost.model.field import Field
from checkpost.oracle.same import instant, same

#: Time zones are so many minutes apart, and no further than this many hours.
_ZONE_STEP, _ZONE_MOST = 15, 14


def plain(value: Any) -> Any:
    """A value of a driver's as JSON would have it; what JSON has no word for as text."""
    if isinstance(value, datetime | date | time):
        return value.isoformat()
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral() and abs(value) < 2**53 else float(value)
    if isinstance(value, UUID | timedelta):
        return str(value)
    if isinstance(value, memoryview):
        return bytes(value)
    if isinstance(value, list | tuple):
        return [plain(each) for each in value]
    return value


def agrees(field: Field | None, shown: Any, stored: Any) -> bool:
    """Whether ``shown``, a JSON value, may stand for ``stored``, a driver's value.

    Admissible beside what ``same`` allows: a moment without a zone in the table that the API shows in one; numbers of
    seconds for moments; bytes as text, hexadecimal, base64 or UUID; JSON that is stored as text.
    """
    if shown is None or stored is None:
        return shown is None and stored is None
    if isinstance(stored, Decimal) and not isinstance(shown, dict):
        return same(field, str(stored), shown) or same(None, float(stored), shown)
    value = plain(stored)
    if isinstance(value, bytes):
        return _bytes_agree(shown, value)
    if same(field, value, shown) or same(None, value, shown):
        return True
    if isinstance(value, str) and isinstance(shown, dict | list):
        try:
            return same(None, json.loads(value), shown)
        except ValueError:
            return isinstance(shown, list) and value.strip("{}").split(",") == [str(each) for each in shown]
    if isinstance(stored, UUID):
        return str(stored) == str(shown).lower().strip("{}")
    return _moments_agree(shown, value) or str(value) == str(shown)


def _bytes_agree(shown: Any, stored: bytes) -> bool:
    if not isinstance(shown, str):
        return True  # in what way bytes are shown is not known
    ways = {stored.hex(), base64.b64encode(stored).decode(), stored.decode("utf-8", "replace")}
    if len(stored) == 16:
        ways.add(str(UUID(bytes=stored)))
    if stored in {b"\x00", b"\x01"}:
        ways |= {str(stored[0]), str(bool(stored[0])).lower()}
    return shown.lower().removeprefix("\\x").removeprefix("0x") in {each.lower() for each in ways}


def _moments_agree(shown: Any, stored: Any) -> bool:
    moment = instant(stored) if isinstance(stored, str) else None
    if moment is None and isinstance(stored, int | float) and not isinstance(stored, bool):
        moment = _since_1970(stored)
    if moment is None:
        return False
    other = instant(shown) if isinstance(shown, str) else None
    if other is None and isinstance(shown, int | float) and not isinstance(shown, bool):
        other = _since_1970(shown)
    if other is None:
        return False
    seconds = abs((moment - other).total_seconds())
    zoned = isinstance(stored, str) and (stored.endswith("Z") or "+" in stored[10:] or "-" in stored[10:])
    if seconds < 1:
        return True  # fractions of a second are kept by the one and not by the other
    whole_steps = abs(seconds / 60 / _ZONE_STEP - round(seconds / 60 / _ZONE_STEP)) < 0.001
    return not zoned and whole_steps and seconds <= _ZONE_MOST * 3600


def _since_1970(number: float) -> datetime | None:
    """The moment that a number of seconds or of milliseconds means, if it is one of the last and next decades."""
    for seconds in (number, number / 1000):
        if 10**8 < seconds < 5 * 10**9:
            return datetime.fromtimestamp(seconds, UTC)
    return None


def as_texts(key: Iterable[Any]) -> tuple[str, ...]:
    """A key as texts, so that numbers and texts of numbers are one."""
    return tuple(str(plain(part)).lower() for part in key)
