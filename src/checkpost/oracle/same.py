"""Whether a value that came back is the one that was sent, under every reading a sensible database gives."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import UTC, datetime
from decimal import Decimal, InvalidOperation
from typing import Any

from checkpost.model.field import Field
from checkpost.model.keys import KEY_NAMES

Row = Mapping[str, Any]
#: How far from now a moment may be that the server has set, in seconds.
_AROUND = 900
#: Texts with as many signs in common are not told apart as wholly other ones.
_PART = 4
#: What stands for a secret that is not shown.
_MASK = re.compile(r"[*\u2022\u25cf]{3,}|[\[<(]?(?:redacted|masked|hidden)[\])>]?", re.I)
#: The names of fields in which servers keep who made or changed a row.
_WHO = re.compile(
    r"(?:created|updated|modified|changed|edited|inserted|added|last_?modified)_?by(?:_?id)?|user_?(?:created|updated|modified)",
    re.I,
)


def same(field: Field | None, sent: Any, got: Any) -> bool:
    """Whether ``got`` may stand for ``sent``.

    Admissible: another writing of the same number, instant or UUID; another Unicode normal form; a number
    as text or 0/1 for a boolean where the field's type tells (its schema judges the type); the row that a key
    stands for in place of the key, whatever else it shows of that row; a domain name in small letters; an empty
    list or object for null; a secret that is shown masked; an address with its host for one without.
    """
    if type(sent) is type(got) and sent == got:
        return True
    if sent is None or got is None:
        return got in ([], {})
    if isinstance(got, dict) and isinstance(sent, str | int):
        return any(same(field, sent, value) for value in got.values() if not isinstance(value, dict))
    if isinstance(sent, bool) or isinstance(got, bool):
        return bool(_truth(sent) == _truth(got))
    if field is not None and field.format == "float" and isinstance(sent, float) and isinstance(got, float):
        return _single(sent) == _single(got)
    if isinstance(sent, int | float) or (isinstance(got, int | float) and not _is_text(field)):
        return _number(sent) is not None and _number(sent) == _number(got)
    if isinstance(sent, str) and isinstance(got, str):
        if sent and _MASK.fullmatch(got):
            return True
        if field is not None and {"number", "integer"} & field.types and _number(sent) is not None:
            return _number(sent) == _number(got)  # a decimal that is also written as a text
        return _same_text(field.format if field else _format_of(sent), sent, got)
    if isinstance(sent, list) and isinstance(got, list):
        return len(sent) == len(got) and all(same(None, *pair) for pair in zip(sent, got, strict=True))
    if isinstance(sent, dict) and isinstance(got, dict):
        key = _key_of(sent, got) if field is not None and _is_reference(field) else ""
        if key:
            return same(None, sent[key], got[key])
        # an object may come back with members that the server adds
        return all(name in got and same(None, sent[name], got[name]) for name in sent)
    return bool(sent == got)


def _is_reference(field: Field) -> bool:
    """Whether an object in a field stands for another row, whose own values are none of this one's: bodies hold no
    object there."""
    return field.read_only or (bool(field.types) and "object" not in field.types)


def _key_of(one: Row, other: Row) -> str:
    """The member by which two objects name a row; "" where they have none in common."""
    usual = (name for name in KEY_NAMES if name in one and name in other)
    return next((name for name in usual if isinstance(one[name], str | int)), "")


def _format_of(text: str) -> str:
    """The format of a text inside a list or object, whose own schema is not at hand."""
    return "date-time" if len(text) > 10 and text[10] in "Tt " and instant(text) else ""


def _single(value: float) -> float:
    """A number as IEEE 754 single precision keeps it, which is what the format ``float`` means."""
    import struct

    return float(struct.unpack("f", struct.pack("f", value))[0])


def _is_text(field: Field | None) -> bool:
    return field is not None and field.type == "string"


def _truth(value: Any) -> Any:
    words = {"true": True, "false": False, "1": True, "0": False}
    return words.get(str(value).lower(), value)


def _number(value: Any) -> Decimal | None:
    try:
        return Decimal(str(value))
    except InvalidOperation:
        return None


def instant(text: str) -> datetime | None:
    """A date-time as an instant; one without an offset is read as UTC. None if it is none."""
    try:
        moment = datetime.fromisoformat(text.strip().upper().replace("Z", "+00:00"))
    except ValueError:
        return None
    return moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)


def _same_text(form: str, sent: str, got: str) -> bool:
    if sent == got or unicodedata.normalize("NFC", sent) == unicodedata.normalize("NFC", got):
        return True
    if sent.startswith("/") and "://" in got:
        return got.split("://", 1)[1].partition("/")[2] == sent[1:]  # an address that was told from its host
    if form == "date-time":
        return instant(sent) is not None and instant(sent) == instant(got)
    if form == "date":
        return got[:10] == sent and (instant(got) or datetime.max).strftime("%H%M%S") == "000000"
    if form == "time":
        return got.removesuffix("Z").removesuffix("+00:00")[:8] == sent.removesuffix("Z")[:8]
    if form == "uuid":
        return got.lower().strip("{}") == sent.lower()
    if form in {"email", "idn-email"}:
        return _domain_lowered(sent) == _domain_lowered(got)
    if form == "decimal":
        return _number(sent) is not None and _number(sent) == _number(got)
    # a moment may be written otherwise where its format is not stated too
    moments = not form and min(len(sent), len(got)) >= len("2024-01-01T00:00")
    return moments and instant(sent) is not None and instant(sent) == instant(got)


def _domain_lowered(address: str) -> str:
    local, _, domain = address.rpartition("@")
    return f"{local}@{domain.lower()}"


def kept_by_server(field: Field, before: Any, after: Any, now: datetime) -> bool:
    """Whether a value is one that servers set themselves on a write, whatever the contract says: a moment
    around ``now``, a number that counts versions, or who made or changed the row; an object in which nothing else has
    changed."""
    if isinstance(before, dict) and isinstance(after, dict):
        moved = [name for name in before.keys() | after.keys() if before.get(name) != after.get(name)]
        return all(kept_by_server(replace(field, name=name), before.get(name), after.get(name), now) for name in moved)
    if _WHO.fullmatch(field.name):
        return True
    moment = instant(after) if isinstance(after, str) else None
    if moment is not None:
        return abs((moment - now).total_seconds()) < _AROUND
    numbers = isinstance(before, int | float) and isinstance(after, int | float)
    if numbers and any(abs(after / unit - now.timestamp()) < _AROUND for unit in (1, 1000)):
        return True  # a moment as seconds or milliseconds since 1970
    counts = isinstance(before, int) and isinstance(after, int)
    return counts and any(word in field.name.lower() for word in ("version", "revision"))


def differences(fields: Mapping[str, Field], sent: Row, got: Row, names: Iterable[str] | None = None) -> list[str]:
    """The names of fields, among those that both rows have, whose values are not the same."""
    wanted = sent.keys() if names is None else names
    return [
        name for name in wanted if name in sent and name in got and not same(fields.get(name), sent[name], got[name])
    ]


def _stripped(text: str) -> str:
    decomposed = unicodedata.normalize("NFD", text)
    return "".join(sign for sign in decomposed if not unicodedata.combining(sign))


def change(field: Field, sent: Any, got: Any) -> str:
    """What happened to a value on the way, in a few words that are the same for the same cause."""
    if sent == "" and got is None:
        return "empty text became null"
    if got is None:
        return "the value was lost"
    if sent is None:
        return "null became a default"  # the one value that a server can have chosen
    if isinstance(sent, str) and isinstance(got, str):
        return _change_of_text(field, sent, got)
    first, second = _number(sent), _number(got)
    if first is not None and second is not None:
        if isinstance(sent, str):
            return "text became a number"
        if abs(first - second) < 1 and first != first.to_integral():
            return "the number was rounded"
        return "the number changed"
    return "another value came back"


#: How much of a date-time has the day and the clock, up to seconds.
_CLOCK = len("2024-03-31T01:30:00")
#: What ``change`` says of a text that has nothing of the one that was sent.
OTHER_TEXT = "the row shows another text"


def is_another(sent: str, got: str) -> bool:
    """Whether a text has no part of another one, be it a short one."""
    parts = {sent[place : place + _PART].casefold() for place in range(len(sent) - _PART + 1)}
    return bool(parts) and not any(part in got.casefold() for part in parts)


def _change_of_time(sent: str, got: str) -> str:
    if sent[:_CLOCK] == got[:_CLOCK].replace(" ", "T"):
        lost = instant(sent[:_CLOCK]) != instant(sent[:_CLOCK] + sent[_CLOCK:].lstrip(".0123456789"))
        return "its offset from UTC was lost" if lost else "a part of a second was lost"
    return "the time was shifted"


def _change_of_text(field: Field, sent: str, got: str) -> str:
    if field.format == "date-time" and instant(sent) and instant(got):
        return _change_of_time(sent, got)
    if got == sent.strip() or got in {sent.rstrip(), sent.lstrip()}:
        return "space at the ends was cut off"
    if got and len(got) < len(sent) and sent.startswith(got):
        return "the text was cut short"
    if sent.isdigit() and got == (sent.lstrip("0") or "0"):
        return "leading zeros were lost"
    if got.casefold() == sent.casefold():
        return "capital and small letters changed"
    if _stripped(sent) == got or _stripped(sent) == _stripped(got):
        return "accents were lost"
    if is_another(sent, got):
        return OTHER_TEXT
    if any(ord(sign) > 0xFFFF for sign in sent) and not any(ord(sign) > 0xFFFF for sign in got):
        return "characters beyond the basic plane were lost"
    if any(ord(sign) > 0x7F for sign in sent) and len(got) == len(sent):
        return "characters outside ASCII were changed"
    if got.strip().casefold() == sent.strip().casefold():
        return "the text was trimmed and its letters changed"
    return "the text changed"
