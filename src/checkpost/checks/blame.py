"""Which fields a refusal names: what is said of one field is no evidence against the value of another."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from checkpost.wire.exchange import Exchange, texts_in

_WORD = re.compile(r"\w+")
#: Members that errors have themselves: ``"name": "ValidationError"`` says nothing of a field called so.
_OF_ERRORS = re.compile(r"name|code|type|kind|key|status|title|error|source|id|reason|rule|path|field")
#: What a refusal says of a reference to nothing.
_OF_REFERENCES = re.compile(
    r"foreign[\s_-]?key|referenced (?:row|record|entity|object)|(?:does|do) not exist|\bnot found\b|\bno such\b", re.I
)
#: What a refusal says of a value that is not there, and how a member ends that holds a key.
_MISSING = re.compile(r"\b(?:null|blank|empty|required|missing|must)\b", re.I)
_KEY_ENDING = re.compile(r"_?(?:id|uuid|key)$|(?<=[a-z])(?:Id|ID|Uuid|Key)$")


def said(exchange: Exchange) -> str:
    """What a refusal says, in a line."""
    answer = exchange.answer
    return answer.detail or f"{answer.status} {' '.join(answer.text.split())[:200]}".rstrip()


def blamed(exchange: Exchange, names: Iterable[str]) -> set[str]:
    """The fields that the answer to a refused request names: as a member or a text of its own, else in a sentence,
    else in one that writes them with other capitals, else by the text that was sent for them. Empty if it names none
    of them. What an answer repeats of the request names nothing."""
    names = set(names)
    known = {name.lower(): name for name in names}
    is_json, body = exchange.answer.parsed
    sent = [*_objects_in(exchange.request.json)]
    body = _unrepeated(body, sent)
    alone = set(_alone(body)) & names if is_json else set()
    texts = [*texts_in(body)] if is_json else [exchange.answer.text]
    said = {word for text in texts for word in _WORD.findall(text)}
    return (
        alone
        or said & names
        or {known[word.lower()] for word in said if word.lower() in known}
        or {name for name in names if is_json and _is_quoted(name, sent, texts)}
    )


def _objects_in(value: Any) -> Iterator[dict[str, Any]]:
    """A value that is an object, and all objects inside it."""
    if isinstance(value, dict):
        yield value
    for each in value.values() if isinstance(value, dict) else value if isinstance(value, list) else ():
        yield from _objects_in(each)


def _unrepeated(value: Any, sent: Sequence[Mapping[str, Any]]) -> Any:
    """A value without the objects that repeat one that was sent: they share several members with it, and differ in
    none."""
    if isinstance(value, list):
        return [_unrepeated(each, sent) for each in value]
    if not isinstance(value, dict):
        return value
    for each in sent:
        shared = value.keys() & each.keys()
        if shared and len(shared) >= min(2, len(each)) and all(value[name] == each[name] for name in shared):
            return None
    return {name: _unrepeated(each, sent) for name, each in value.items()}


def _is_quoted(name: str, sent: Sequence[Mapping[str, Any]], texts: Sequence[str]) -> bool:
    """Whether one of an answer's texts quotes the text that was sent for a field."""
    values = [each[name] for each in sent if isinstance(each.get(name), str) and len(each[name]) >= 4]
    return any(value in text for value in values for text in texts)


def blames_another(exchange: Exchange, name: str, names: Iterable[str]) -> bool:
    """Whether a refusal names other fields than the one whose value is tried, and not that one."""
    found = blamed(exchange, names)
    return bool(found) and name not in found


def is_of_value(exchange: Exchange, name: str, names: Iterable[str]) -> bool:
    """Whether a refusal is of a field's value: it names no other field, and does not say that the value refers to no
    row, which makes it a reference whatever the contract calls it."""
    return not blames_another(exchange, name, names) and not _OF_REFERENCES.search(exchange.answer.text)


def wants(refused: Exchange, members: Iterable[str]) -> set[str]:
    """The members that a refusal says are missing, by their names or without the ending of a key's."""
    if not _MISSING.search(refused.answer.text):
        return set()
    members = set(members)
    by_base = {_KEY_ENDING.sub("", name): name for name in members}
    return blamed(refused, members) or {by_base[base] for base in blamed(refused, by_base)}


def members_in(value: Any) -> set[str]:
    """The names of all members in a JSON value."""
    if isinstance(value, list):
        return {name for each in value for name in members_in(each)}
    return {*value, *members_in(list(value.values()))} if isinstance(value, dict) else set()


def _alone(value: Any) -> Iterator[str]:
    """What stands by itself in an answer: members that hold words or more, and texts of one word, or a path to it."""
    if isinstance(value, dict):
        for key, each in value.items():
            about_itself = _OF_ERRORS.fullmatch(key.lower()) and isinstance(each, str) and " " not in each
            if isinstance(each, str | list | dict) and not about_itself:
                yield key
            yield from _alone(each)
    elif isinstance(value, list):
        for each in value:
            yield from _alone(each)
    elif isinstance(value, str) and " " not in value:
        yield from _WORD.findall(value)
