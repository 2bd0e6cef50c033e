"""A role's rights from their line in the profile.

    none | all | ACTION, ACTION …          what it may do: read is list, read and aggregate where list is not named,
                                           update is replace as well, and each write is of many rows too
    own FIELD                              only rows whose field has the role's identity
    where CONDITION                        only rows that satisfy a condition
    hide FIELD, FIELD …                    fields that it is never shown
    keep FIELD, FIELD …                    fields that it may not change

A condition compares fields (also those of a row that is referred to: ``accession_id.status``) with values by
``=``, ``!=``, ``<``, ``<=``, ``>``, ``>=``, ``in (…)``, ``is null``, ``contains``, ``starts``, joined by
``and``, ``or``, ``not`` and brackets; a text stands in quotes, and ``me`` for the role's identity.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from checkpost.model.access import ACTIONS, READS, Action, Rights
from checkpost.model.query import Compare, Condition, Either, Every, Not, Operator

_CLAUSE = re.compile(r"\b(own|where|hide|keep)\s+", re.I)
_TOKEN = re.compile(
    r"""\s*(?:(?P<text>'(?:[^']|'')*'|"(?:[^"]|"")*")|(?P<number>-?\d+(?:\.\d+)?(?![\w-]))"""
    r"""|(?P<word>[A-Za-z_@$][\w.@$-]*)|(?P<sign><=|>=|!=|<>|=|<|>|\(|\)|,))"""
)
_SIGNS: dict[str, Operator] = {"=": "eq", "!=": "ne", "<>": "ne", "<": "lt", "<=": "le", ">": "gt", ">=": "ge"}
_WORDS: dict[str, Operator] = {"contains": "contains", "starts": "starts"}


#: What a word says besides, as a reader of the line takes it: who may make a row may make several, and who may change
#: one may do so by PUT where there is PUT.
_WITH: dict[str, tuple[Action, ...]] = {
    "create": ("bulk",), "update": ("replace", "bulk"), "replace": ("bulk",), "delete": ("bulk",),
}  # fmt: skip


class RightsError(ValueError):
    """Something in a line of rights cannot be read; the message says what."""


def rights(text: str, identity: Any) -> Rights:
    """The rights that a line states, for a role with an identity. Raises RightsError."""
    parts = _clauses(text)
    actions = _actions(parts.pop("", ""))
    conditions: list[Condition] = []
    owner = parts.get("own", "").strip()
    own_value = identity
    if owner:
        own_value = _identity(identity, owner)
        conditions.append(Compare(owner, "eq", own_value))
    if "where" in parts:
        conditions.append(_Reader(parts["where"], identity).condition())
    rows = conditions[0] if len(conditions) == 1 else (Every(tuple(conditions)) if conditions else None)
    hidden, kept = _names(parts.get("hide", "")), _names(parts.get("keep", ""))
    return Rights(actions, rows, owner, own_value if owner else identity, hidden, kept)


def _clauses(text: str) -> dict[str, str]:
    """The parts of a line by the word that each begins with; the first one by ""."""
    pieces = _CLAUSE.split(text)
    found = {"": pieces[0]}
    for word, rest in zip(pieces[1::2], pieces[2::2], strict=True):
        if word.lower() in found:
            raise RightsError(f"{word!r} appears twice.")
        found[word.lower()] = rest
    return found


def _actions(text: str) -> frozenset[Action]:
    words = [each for each in re.split(r"[,\s]+", text.strip().lower()) if each]
    if not words:
        raise RightsError(f"say first what the role may do: none, all, read, or some of {', '.join(ACTIONS)}.")
    found: set[Action] = set()
    for word in words:
        if word in {"all", "write"}:
            found |= set(ACTIONS)
        elif word == "read" and "list" not in words:
            found |= READS
        elif word in ACTIONS:
            found |= {word, *_WITH.get(word, ())}
        elif word != "none":
            raise RightsError(f"there is no action {word!r}; they are none, all, read, {', '.join(ACTIONS)}.")
    return frozenset(found)


def _names(text: str) -> tuple[str, ...]:
    return tuple(each for each in re.split(r"[,\s]+", text.strip()) if each)


def _identity(identity: Any, name: str) -> Any:
    value = identity.get(name) if isinstance(identity, Mapping) else identity
    if value is None:
        raise RightsError(
            f"the role has no identity for {name}; give it one: identity: VALUE, or identity: {{{name}: VALUE}}."
        )
    return value


class _Reader:
    """A condition from its text, by recursive descent."""

    def __init__(self, text: str, identity: Any) -> None:
        self.identity = identity
        self.tokens: list[tuple[str, str]] = []
        place = 0
        while text[place:].strip():
            found = _TOKEN.match(text, place)
            if found is None:
                raise RightsError(f"the condition cannot be read from {text[place:].strip()[:30]!r} on.")
            kind = str(found.lastgroup)
            self.tokens.append((kind, found[kind]))
            place = found.end()
        self.at = 0

    def condition(self) -> Condition:
        found = self._either()
        if self.at < len(self.tokens):
            raise RightsError(f"the condition goes on after its end: {self.tokens[self.at][1]!r}.")
        return found

    def _peek(self) -> str:
        return self.tokens[self.at][1].lower() if self.at < len(self.tokens) else ""

    def _take(self, *kinds: str) -> tuple[str, str]:
        if self.at >= len(self.tokens):
            raise RightsError("the condition ends too early.")
        token = self.tokens[self.at]
        if kinds and token[0] not in kinds:
            raise RightsError(f"{token[1]!r} is not expected in the condition here.")
        self.at += 1
        return token

    def _expect(self, word: str) -> None:
        if self._take()[1].lower() != word:
            raise RightsError(f"{word!r} is expected in the condition.")

    def _either(self) -> Condition:
        parts = [self._every()]
        while self._peek() == "or":
            self._take()
            parts.append(self._every())
        return parts[0] if len(parts) == 1 else Either(tuple(parts))

    def _every(self) -> Condition:
        parts = [self._one()]
        while self._peek() == "and":
            self._take()
            parts.append(self._one())
        return parts[0] if len(parts) == 1 else Every(tuple(parts))

    def _one(self) -> Condition:
        if self._peek() == "not":
            self._take()
            return Not(self._one())
        if self._peek() == "(":
            self._take()
            inner = self._either()
            self._expect(")")
            return inner
        field = self._take("word")[1]
        sign = self._take()[1].lower()
        if sign == "is":
            negated = self._peek() == "not"
            if negated:
                self._take()
            self._expect("null")
            return Compare(field, "not_null" if negated else "null")
        if sign == "in":
            self._expect("(")
            values = [self._value(field)]
            while self._peek() == ",":
                self._take()
                values.append(self._value(field))
            self._expect(")")
            return Compare(field, "in", tuple(values))
        operator = _SIGNS.get(sign) or _WORDS.get(sign)
        if operator is None:
            raise RightsError(f"{sign!r} compares nothing; use =, !=, <, <=, >, >=, in, is null, contains or starts.")
        return Compare(field, operator, self._value(field))

    def _value(self, field: str) -> Any:
        kind, text = self._take("text", "number", "word")
        if kind == "text":
            return text[1:-1].replace(text[0] * 2, text[0])
        if kind == "number":
            return float(text) if "." in text else int(text)
        known = {"true": True, "false": False}
        if text.lower() in known:
            return known[text.lower()]
        if text == "me":
            return _identity(self.identity, field)
        raise RightsError(f"the text {text!r} must be quoted.")
