"""Which fields a refusal names: what is said of one field is no evidence against the value of another."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Any

from checkpost.wire.exchange import Exchange

_WORD = re.compile(r"\w+")


def blamed(exchange: Exchange, names: Iterable[str]) -> set[str]:
    """The fields that the answer to a refused request names, or else writes with other capitals as a sentence does;
    empty if it names none of them."""
    known = {name.lower(): name for name in names}
    is_json, body = exchange.answer.parsed
    said = set(_words(body) if is_json else _WORD.findall(exchange.answer.text))
    exact = said & set(known.values())
    return exact or {known[word.lower()] for word in said if word.lower() in known}


def blames_another(exchange: Exchange, name: str, names: Iterable[str]) -> bool:
    """Whether a refusal names other fields than the one whose value is tried, and not that one."""
    found = blamed(exchange, names)
    return bool(found) and name not in found


def _words(value: Any) -> Iterator[str]:
    if isinstance(value, dict):
        for key, each in value.items():
            yield key
            yield from _words(each)
    elif isinstance(value, list):
        for each in value:
            yield from _words(each)
    elif isinstance(value, str):
        yield from _WORD.findall(value)
