"""The keys that a lenient server may read in a value that is no key: 1.7 is cut to 1, true is 1, "12 a" is 12."""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Iterator
from typing import Any

from checkpost.model.resource import Resource
from checkpost.wire.listing import Key


def coerced(resource: Resource, key: Key) -> list[Key]:
    """What may be read in the place of a key, beside itself; empty where it is a plain key of the resource. Its parts
    may be any values of JSON."""
    names = resource.key.fields if resource.key is not None else ()
    parts = []
    for name, part in zip(names[-len(key) :], key, strict=True):
        field = resource.field(name)
        numeric = field is not None and field.kind == "number"
        parts.append([part, *_readings(part, numeric)])
    return [each for each in itertools.product(*parts) if not _same(each, key)]


def _same(one: Key, other: Key) -> bool:
    return all(type(a) is type(b) and a == b for a, b in zip(one, other, strict=True))


def _readings(part: Any, numeric: bool) -> Iterator[Any]:
    if isinstance(part, bool):
        yield int(part)
    elif isinstance(part, float) and math.isfinite(part):
        yield from (math.floor(part), math.ceil(part))
    elif isinstance(part, str):
        if part != part.strip():
            yield part.strip()
        if numeric:
            number = re.match(r"\s*[+-]?\d+", part)
            yield int(number[0]) if number else 0
    elif isinstance(part, list) and len(part) == 1:
        yield part[0]
        yield from _readings(part[0], numeric)
