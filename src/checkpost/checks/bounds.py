"""What a refusal says of the values that a field may have: lengths, limits, choices and formats, in the words that
programs use."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any

from checkpost.model.field import Field
from checkpost.wire.exchange import Exchange

_NUMBER = r"(-?\d+(?:\.\d+)?)"
#: Signs and words that may stand between a limit and its number, a number in words before it excepted.
_GAP = r"(?:(?!\brow\b|\bline\b)[^\d.;-]){0,24}?"
_MOST = (
    r"at most|no more than|not? (?:\w+ ){0,3}(?:more|longer|greater|higher|larger) than|max(?:imum)?(?![a-z])|up to|"
    r"exceeds?|(?:less|fewer|shorter|lower|smaller) than or equal(?: to)?|<=|≤|too long|var(?:char|ying)\s*\("
)
_LEAST = (
    r"at least|no (?:less|fewer) than|not? (?:\w+ ){0,3}(?:less|fewer|shorter|lower|smaller) than|min(?:imum)?(?![a-z])"
    r"|(?:more|longer|greater|higher|larger) than or equal(?: to)?|>=|≥|too short"
)
#: Limits as they are told, the more exact first; where two numbers are told, the lower one stands first.
_BETWEEN = re.compile(rf"\b(?:between|range|from)\b{_GAP}{_NUMBER}\s*(?:and|to|,|-|–|\.\.)\s*{_NUMBER}", re.I)
_AT_MOST, _AT_LEAST = (re.compile(rf"(?:{words}){_GAP}{_NUMBER}", re.I) for words in (_MOST, _LEAST))
_BELOW = re.compile(rf"(?<!not )(?:\b(?:less|lower|smaller) than\b(?! or)|<(?!=)){_GAP}{_NUMBER}", re.I)
_ABOVE = re.compile(rf"(?<!not )(?:\b(?:greater|more|higher|larger) than\b(?! or)|>(?!=)){_GAP}{_NUMBER}", re.I)
_POSITIVE, _NOT_NEGATIVE = re.compile(r"\bpositive\b", re.I), re.compile(r"\b(?:non|not be|not)[- ]?negative\b", re.I)
_CHOICES = re.compile(
    r"\b(?:one of|(?:allowed|valid|possible|permitted|accepted) (?:values?|choices?|options?)|input should be|choose"
    r" from)(?: the following| these)?(?: values?)?(?: are| is)?\s*:?\s*(.+)",
    re.I | re.S,
)
_QUOTED = re.compile(r"""(?<!\w)(['"`])((?:(?!\1).){1,60})\1(?!\w)""")
_CHOICE_MEMBERS = re.compile(r"enum|allowed(?:_?values)?|choices|options|permitted|valid_?values", re.I)
_OF_FORM = re.compile(r"valid|format|must|expect|should|parse|not an? ", re.I)
_FORMATS = (
    ("email", re.compile(r"\be-?mail\b", re.I)),
    ("uuid", re.compile(r"\b(?:uuid|guid)s?\b", re.I)),
    ("uri", re.compile(r"\b(?:url|uri)s?\b", re.I)),
    ("date-time", re.compile(r"\bdate-?time\b|\btimestamp\b|\bISO[- ]?8601\b|YYYY-MM-DD[T ]hh", re.I)),
    ("date", re.compile(r"\bdate\b|YYYY-MM-DD", re.I)),
    ("ipv4", re.compile(r"\bip(?:v4)?\b(?: address)?", re.I)),
)
_DEEP = 6


def stated_bounds(refused: Exchange, field: Field) -> dict[str, Any]:
    """The keywords of JSON Schema that a refusal states for a field, and that its contract does not state as narrowly:
    ``maxLength``, ``minLength``, ``maximum``, ``minimum``, ``enum``, ``format``. Empty where it states none."""
    is_json, body = refused.answer.parsed
    found: dict[str, Any] = {}
    for said in _statements(body, field.name, _DEEP) if is_json else [refused.answer.text]:
        found |= _choices_in(said, field) or (_in_words(said, field) if isinstance(said, str) else {})
    return {keyword: value for keyword, value in found.items() if _is_narrower(field.keywords, keyword, value)}


def within(field: Field, bounds: Mapping[str, Any]) -> Field:
    """The field with limits that a refusal has stated beside its own."""
    narrower = {name: value for name, value in bounds.items() if _is_narrower(field.keywords, name, value)}
    types = field.types or frozenset({"number" if narrower.keys() & {"maximum", "minimum"} else "string"})
    return replace(field, types=types, keywords={**field.keywords, **narrower}) if narrower else field


def _is_narrower(keywords: Mapping[str, Any], keyword: str, value: Any) -> bool:
    known = keywords.get(keyword)
    if known is None or keyword in {"enum", "format"}:
        return known is None
    return bool(value < known if keyword in {"maxLength", "maximum"} else value > known)


def _statements(body: Any, name: str, depth: int, named: bool = False) -> Iterator[Any]:
    """What an answer says of a field: the texts below a member of its name or in an object that names it, the lists of
    choices there, or else the sentences that name it."""
    if isinstance(body, str) and (named or re.search(rf"(?<!\w){re.escape(name)}(?!\w)", body)):
        sentences = [body] if named else re.split(r"(?<=[\w)'\"])[;.](?=\s)|\n", body)
        yield from (each for each in sentences if named or name in each)
    elif isinstance(body, list) and depth:
        for each in body:
            yield from _statements(each, name, depth - 1, named)
    elif isinstance(body, dict) and depth:
        about = named or _names(body, name)
        for member, each in body.items():
            if about and isinstance(each, list) and _CHOICE_MEMBERS.fullmatch(member):
                yield each
            yield from _statements(each, name, depth - 1, about or member == name)


def _names(body: Mapping[str, Any], name: str) -> bool:
    """Whether an object of an answer is about a field: a text in it is its name, or a path that ends with it."""
    plain = [each for each in body.values() if isinstance(each, str)]
    paths = [part for each in body.values() if isinstance(each, list) and len(each) < 4 for part in each[-1:]]
    ends = (re.split(r"[./\[\]]+", each.strip("]/."))[-1] for each in [*plain, *paths] if isinstance(each, str))
    return name in ends


def _choices_in(said: Any, field: Field) -> dict[str, Any]:
    if not _is_open(field):
        return {}
    if isinstance(said, list):
        texts = [each for each in said if isinstance(each, str) and " " not in each]
        return {"enum": texts} if len(texts) == len(said) else {}
    told = _CHOICES.search(said)
    if told is None:
        return {}
    quoted = [each for _, each in _QUOTED.findall(told[1])]
    if not quoted:
        parts = [each.strip(" .[](){}") for each in re.split(r",|\||/|\bor\b|\band\b", told[1].split(". ")[0])]
        quoted = parts if len(parts) > 1 and all(re.fullmatch(r"[\w.-]+", each) for each in parts) else []
    return {"enum": list(dict.fromkeys(quoted))} if quoted else {}


def _in_words(said: str, field: Field) -> dict[str, Any]:
    """What a sentence states for a field, of lengths where it is a text."""
    said = re.sub(rf"(?<!\w){re.escape(field.name)}(?!\w)", "#", said)
    numeric = field.kind == "number" or bool(field.types & {"integer", "number"})
    if not (numeric or _is_open(field)):
        return {}
    least, most = ("minimum", "maximum") if numeric else ("minLength", "maxLength")
    if (both := _BETWEEN.search(said)) is not None:
        return {least: _plain(both[1]), most: _plain(both[2])}
    found: dict[str, Any] = {}
    if (upper := _AT_MOST.search(said)) is not None:
        found[most] = _plain(upper[1])
    if (lower := _AT_LEAST.search(said)) is not None:
        found[least] = _plain(lower[1])
    if numeric and not found:
        step = 1 if field.types <= {"integer"} else 0.01
        if (below := _BELOW.search(said)) is not None:
            found[most] = _plain(below[1]) - step
        if (above := _ABOVE.search(said)) is not None:
            found[least] = _plain(above[1]) + step
        elif _NOT_NEGATIVE.search(said):
            found[least] = 0
        elif _POSITIVE.search(said):
            found[least] = step
    if not numeric:
        found = {name: value for name, value in found.items() if isinstance(value, int) and value > 0}
        form = next((name for name, words in _FORMATS if words.search(said)), "")
        if not found and form and _OF_FORM.search(said) and "pattern" not in field.keywords:
            found["format"] = form
    return found


def _is_open(field: Field) -> bool:
    """Whether nothing prescribes what a field's texts hold."""
    return field.is_text or not (field.types or field.keywords.keys() & {"enum", "const", "pattern"})


def _plain(number: str) -> int | float:
    return float(number) if "." in number else int(number)
