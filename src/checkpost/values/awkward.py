"""Boundary and awkward values: all valid by the contract, and apt to be changed or refused on the way."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal
from random import Random
from typing import Any

from checkpost.model.field import MISSING, Field
from checkpost.values.coined import short
from checkpost.values.plain import Values, as_number, limits, matching

#: What a text is made of, by what is awkward about it; ``{}`` takes the run's mark, where it is not awkward then, and a
#: number that makes it unlike others.
_TEXTS = (
    ("mixed case", "MiXeD CaSe {}"),
    ("quotes", 'O\'Brien said "{}" ´`'),
    ("wildcards", "100%_wild* ?{}"),
    ("accents", "Łódź Ærø été Zúñiga {}"),
    ("combining accents", "e\u0301te\u0301 n\u0303 {}"),
    ("characters beyond the basic plane", "🌱 𝒮eed {}"),
    ("leading zeros", "000{}"),
    ("space at both ends", "  inside {}  "),
    ("separators", "a,b;c:d|e&f=g+h/{}\\"),
    ("markup", "<b>&amp;{}</b>"),
    ("a line break", "first {}\nsecond"),
)


_NUMBERS_ALONE = {"leading zeros"}
_MOST_CHOICES = 16


@dataclass(frozen=True)
class Variant:
    """A value with what is special about it."""

    label: str
    value: Any


def variants(field: Field, values: Values) -> Iterator[Variant]:
    """The awkward values of a field, each valid by the contract."""
    for variant in _candidates(field, values):
        if variant.value is not MISSING and values.valid(field, variant.value):
            yield variant


def _candidates(field: Field, values: Values) -> Iterator[Variant]:
    words = field.keywords
    if field.nullable:
        yield Variant("null", None)
    if "enum" in words or "const" in words:
        choices = [each for each in words.get("enum", ()) if each is not None]
        yield from (Variant(f"the value {each}", each) for each in choices[:_MOST_CHOICES])
    elif field.is_text:
        yield from _texts(field, values)
    elif field.type == "string":
        yield from _prescribed(field, values)
    elif field.type in {"integer", "number"}:
        yield from _numbers(field)
    elif field.type == "boolean":
        yield from (Variant(str(each).lower(), each) for each in (True, False))


def _texts(field: Field, values: Values) -> Iterator[Variant]:
    limit = field.max_length
    for label, template in _TEXTS:
        number = values.number()
        text = template.format(f"{values.mark}{short(number)}" if label not in _NUMBERS_ALONE else number)
        if limit is not None and len(text) > limit:
            text = template.format(number)
        if limit is None or len(text) <= limit:
            yield Variant(label, text)
    if limit is not None and limit <= 5000:
        filler = f"{values.mark}{short(values.number())} "
        yield Variant("as long as it may be", ((filler * (limit // len(filler) + 1))[: limit - 1] + "z")[-limit:])
    if not field.unique:
        yield Variant("empty text", "")


def _prescribed(field: Field, values: Values) -> Iterator[Variant]:
    dates = {
        "date": (("a leap day", "2024-02-29"), ("long ago", "1900-01-01"), ("far ahead", "2099-12-31")),
        "date-time": (
            ("an offset from UTC", "2024-03-31T01:30:00+05:30"),
            ("a negative offset", "2023-12-31T22:15:00-08:00"),
            ("midnight", "2000-01-01T00:00:00Z"),
        ),
    }
    yield from (Variant(label, value) for label, value in dates.get(field.format, ()))
    if field.format == "email":  # what stands before the sign may mean another address in small letters (RFC 5321, 2.4)
        yield Variant("capitals and a plus sign", f"Seed+{values.mark}{short(values.number())}@example.org")
    pattern = field.keywords.get("pattern")
    if isinstance(pattern, str):
        random = Random(f"{values.seed}/{values.mark if field.unique else ''}/{field.name}/{values.number()}")
        for _ in range(30):
            text = matching(pattern, field, random)
            if isinstance(text, str) and text.startswith("0") and text.isdigit():
                yield Variant("leading zeros", text)
                break


def _numbers(field: Field) -> Iterator[Variant]:
    if field.unique:
        return
    least, most, step = limits(field)
    if least is not None:
        yield Variant("the least value", as_number(field, least))
    if most is not None:
        yield Variant("the greatest value", as_number(field, most))
    yield Variant("zero", 0)
    yield Variant("a negative number", as_number(field, -step * 7))
    if field.type == "number":
        places = -int(step.as_tuple().exponent)
        digits = Decimal("1.23456789012"[: 2 + places]) if places > 0 else Decimal(1)
        low = least if least is not None and least > 0 else Decimal(0)
        yield Variant("every decimal place", as_number(field, low + digits if places > 0 else low + step))
        yield Variant("one step", as_number(field, step))
