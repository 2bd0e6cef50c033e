"""Plain valid values, one for each field, deterministic for a seed and marked with the run's mark."""

from __future__ import annotations

import contextlib
import re
import uuid
from collections.abc import Callable
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal
from random import Random
from typing import Any
from zlib import crc32

from checkpost.model.field import MISSING, Field
from checkpost.model.fields import field_of
from checkpost.model.shape import alternatives, shape_of
from checkpost.values.coined import LONGEST, SHORTEST, coin, short

#: Valid for a field or not, by the contract's own validator.
Valid = Callable[[Field, Any], bool]

#: Kinds of values: of several that a field may have, the first is taken.
_KINDS = ("boolean", "integer", "number", "string", "array", "object")
#: Objects within this many others hold their required members alone: schemas may hold each other without end.
_FULL, _DEEPEST = 2, 8

#: Names of members that are keys of rows, inside a record.
_KEY = re.compile(r"^_?(id|ID|Id|uuid|guid|pk|key)$|(_id|Id|_uuid|Uuid)$")


class Values:
    """A source of values. ``mark`` is put into texts, so that a person recognises leftover rows; ``valid``
    decides what the contract allows."""

    def __init__(self, seed: int, mark: str, valid: Valid, first: int = 0, step: int = 1) -> None:
        """Its numbers follow ``first`` at distances of ``step``, so that sources side by side have each their own."""
        self.seed, self.mark, self.valid = seed, mark, valid
        self._last, self._step = first + 1 - step, step

    def number(self) -> int:
        """A number that this source has not given before."""
        self._last += self._step
        return self._last

    def plain(self, field: Field, number: int | None = None, depth: int = 0) -> Any:
        """A valid value that differs from the default; MISSING where none can be made. Values for one
        field differ from each other as long as its rules allow. ``depth`` is how many others it lies within."""
        number = self.number() if number is None else number
        shown = example_of(field) if depth and field.types == {"string"} else MISSING
        if shown is not MISSING and self.valid(field, shown):
            return shown  # a text within an object need not bear the run's mark
        # the same for a seed, but where a value must not have been used by another run
        random = Random(crc32(f"{self.seed}/{self.mark if field.unique else ''}/{field.name}/{number}".encode()))
        for _ in range(40):
            value = self._candidate(field, number, random, depth)
            if value is not MISSING and self.valid(field, value):
                return value
            if value is MISSING and field.types & {"array", "object"}:
                break  # what they hold was tried as often already
            number += 1
        for value in (example_of(field), field.default):
            if value is not MISSING and value is not None and self.valid(field, value):
                return value
        return None if field.nullable else MISSING

    def _candidate(self, field: Field, number: int, random: Random, depth: int) -> Any:
        words = field.keywords
        if "const" in words:
            return words["const"]
        if isinstance(words.get("enum"), list):
            choices = [value for value in words["enum"] if value is not None]
            others = [value for value in choices if value != field.default] or choices
            return others[number % len(others)] if others else MISSING
        kind = next((each for each in _KINDS if each in field.types), "" if field.types else "string")
        makers: dict[str, Callable[[Field, int, Random], Any]] = {
            "string": self._string,
            "integer": integer,
            "number": decimal,
            "boolean": lambda each, n, _: (not each.default) if isinstance(each.default, bool) else n % 2 == 0,
            "array": lambda each, n, _: self._array(each, n, depth + 1),
            "object": lambda each, n, _: self._object(each, n, depth + 1),
        }
        return makers[kind](field, number, random) if kind in makers else MISSING

    def text(self, field: Field, content: str) -> str:
        """A text with the mark, as long as the field allows."""
        limit = field.max_length
        joint = str(field.keywords.get("joint", " "))
        text = f"{content} {self.mark}".replace(" ", joint)
        text = text if joint else text.lower()
        if limit is not None and len(text) > limit:
            text = (self.mark + content.rpartition(" ")[2])[:limit]
        least = int(field.keywords.get("minLength") or 0)
        return text + "x" * (least - len(text))

    def _string(self, field: Field, number: int, random: Random) -> Any:
        if field.kind == "number":
            return _number_text(field, number, random)
        made = formatted(field.format, self.mark, number, random)
        if made is not None:
            return _written_like(str(field.keywords.get("like", "")), made)
        pattern = field.keywords.get("pattern")
        if isinstance(pattern, str):
            return self._like_a_name(pattern, field, number) or matching(pattern, field, random)
        limit = field.max_length
        if limit is not None and limit < len(self.mark) + 4:
            if limit >= SHORTEST:
                return coin(self.mark, number, min(limit, LONGEST))
            letters = "abcdefghijklmnopqrstuvwxyz0123456789"
            return "".join(random.choice(letters) for _ in range(limit))
        # what is unique may be a key, which has to stand in a path
        text = self.text(field, f"Sample {short(number)}")
        return text.replace(" ", "-") if field.unique else text

    def _like_a_name(self, pattern: str, field: Field, number: int) -> str:
        """A text with the mark that matches a regular expression, written as names usually are; "" where none does."""
        limit = field.max_length
        if limit is not None and limit < len(self.mark) + 4:
            return ""
        told = [str(field.keywords["joint"])] if "joint" in field.keywords else []
        for joint in (*told, "-", "_", "", " "):
            text = self.text(replace(field, keywords={**field.keywords, "joint": joint}), f"Sample {short(number)}")
            for each in (text, text.lower(), text.upper()):
                with contextlib.suppress(re.error):
                    if re.search(pattern, each):
                        return each
        return ""

    def _array(self, field: Field, number: int, depth: int) -> Any:
        least = int(field.keywords.get("minItems") or 0)
        item = shape_of(field.node).item
        if not least or item is None or depth > _DEEPEST:
            return [] if not least else MISSING
        inner = field_of(field.name, item)
        made = [self.plain(inner, number + turn, depth) for turn in range(least)]
        return made if MISSING not in made else MISSING

    def _object(self, field: Field, number: int, depth: int) -> Any:
        if depth > _DEEPEST:
            return MISSING
        either = [each for each in map(shape_of, alternatives(field.node)) if each.properties]
        # members of several kinds are not one of either
        shape = either[0] if len(either) > 1 else shape_of(field.node)
        wanted = shape.properties if depth <= _FULL else {each: shape.properties[each] for each in shape.required}
        inner = {name: field_of(name, node) for name, node in wanted.items()}
        # a server that looks for a key inside a record would meet somebody else's row with it
        free = {name: each for name, each in inner.items() if not (each.read_only or _KEY.search(name))}
        made = {name: self.plain(each, number, depth) for name, each in free.items()}
        known = {name: value for name, value in made.items() if value is not MISSING}
        return known if shape.required <= set(known) else MISSING


def _limits(field: Field) -> tuple[Decimal | None, Decimal | None]:
    """The least and greatest value allowed, exclusive limits moved in by one step."""
    words, step = field.keywords, _step(field)

    def limit(inclusive: str, exclusive: str, inwards: Decimal) -> Decimal | None:
        if isinstance(words.get(exclusive), int | float) and not isinstance(words[exclusive], bool):
            return Decimal(str(words[exclusive])) + inwards
        value = words.get(inclusive)
        return Decimal(str(value)) if isinstance(value, int | float) else None

    return limit("minimum", "exclusiveMinimum", step), limit("maximum", "exclusiveMaximum", -step)


def _step(field: Field) -> Decimal:
    stated = field.keywords.get("multipleOf")
    if isinstance(stated, int | float) and stated > 0:
        return Decimal(str(stated))
    return Decimal(1) if field.type == "integer" else Decimal("0.01")


def limits(field: Field) -> tuple[Decimal | None, Decimal | None, Decimal]:
    """Least value, greatest value (None where there is none) and step of a numeric field."""
    return *_limits(field), _step(field)


def as_number(field: Field, value: Decimal) -> int | float:
    return int(value) if field.type == "integer" or value == value.to_integral() else float(value)


def integer(field: Field, number: int, random: Random) -> Any:
    least, most, step = limits(field)
    low = least if least is not None else (Decimal(1) if most is None or most >= 1 else most - 1000 * step)
    high = most if most is not None else low + 100000
    # small numbers fit the columns that a generator might have made narrower than it says, and rules that it does not
    # tell of: days of a year, percent
    room = int((min(high, low + (5000 if field.unique else 250)) - low) / step)
    first = (low / step).to_integral_value(rounding="ROUND_CEILING") * step
    return as_number(field, first + step * ((number + random.randrange(7)) % (room + 1)))


def decimal(field: Field, number: int, random: Random) -> Any:
    return integer(field, number * 17 + 3, random)


def _number_text(field: Field, number: int, random: Random) -> str:
    """A number as a text, with as many digits behind the point as those of rows."""
    like = str(field.keywords.get("like", ""))
    whole = field.format in {"int64", "int32", "bigint"}
    places = 0 if whole else len(like.partition(".")[2]) if like else 2
    value = (
        Decimal(str(decimal(field, number, random))) if "minimum" in field.keywords else number % 900 + Decimal("1.25")
    )
    return f"{value:.{places}f}"


def formatted(name: str, mark: str, number: int, random: Random) -> str | None:
    """A text in one of the formats that OpenAPI and JSON Schema name; None for any other."""
    make = _FORMATS.get(name)
    return make(mark, number, random) if make is not None else None


def _day(number: int) -> str:
    return (date(2001, 1, 1) + timedelta(days=37 * number % 8000)).isoformat()


def _written_like(other: str, made: str) -> str:
    """A date, or a date and time, with what another one has behind its day, or behind its seconds."""
    if not other:
        return made
    return made + other[10:] if len(made) == 10 else made[:10] + other[10] + made[11:19] + other[19:]


def _clock(number: int) -> str:
    return f"{number % 24:02d}:{number * 7 % 60:02d}:{number * 13 % 60:02d}"


_FORMATS: dict[str, Callable[[str, int, Random], str]] = {
    "date": lambda mark, n, random: _day(n),
    "date-time": lambda mark, n, random: f"{_day(n)}T{_clock(n)}Z",
    "time": lambda mark, n, random: f"{_clock(n)}Z",
    "duration": lambda mark, n, random: f"P{1 + n % 300}D",
    "uuid": lambda mark, n, random: str(uuid.UUID(int=random.getrandbits(128), version=4)),
    "hostname": lambda mark, n, random: f"{mark}-{n}.example.org",
    "ipv4": lambda mark, n, random: f"10.{n // 65536 % 256}.{n // 256 % 256}.{n % 256}",
    "ipv6": lambda mark, n, random: f"2001:db8::{n % 65536:x}",
    "byte": lambda mark, n, random: "Y2hlY2s=",
    "json": lambda mark, n, random: "{}",
    "color": lambda mark, n, random: f"#{random.getrandbits(24):06x}",
    **dict.fromkeys(("email", "idn-email"), lambda mark, n, random: f"{mark}.{n}@example.org"),
    **dict.fromkeys(("uri", "url", "uri-reference", "iri"), lambda mark, n, random: f"https://example.org/{mark}/{n}"),
}


def example_of(field: Field) -> Any:
    """The value that a schema gives as an example (JSON Schema 2020-12, validation 9.5; OpenAPI 3.0, 4.7.24); MISSING
    where it gives none."""
    example = field.keywords.get("example", (field.keywords.get("examples") or [MISSING])[:1])
    return example[0] if isinstance(example, list) and example else example


#: Signs that mean the same wherever a text is put (RFC 3986, 2.3).
_PLAIN = re.compile(r"[\w.~-]*", re.ASCII)


def matching(pattern: str, field: Field, random: Random) -> Any:
    """A text that matches a regular expression (ECMA-262, as far as Python reads it the same): of letters and digits
    alone if one of several is, else one that can be printed."""
    import rstr

    generator = rstr.Rstr(random)
    limit = field.max_length
    found: list[str] = []
    for _ in range(20):
        try:
            text = str(generator.xeger(pattern))
        except (re.error, KeyError, ValueError, RecursionError):
            return MISSING
        if limit is None or len(text) <= limit:
            if _PLAIN.fullmatch(text):
                return text
            found.append(text)
    return next((text for text in found if text.isprintable()), found[0] if found else MISSING)
