"""A small grammar of conditions, read for the spellings that have one: comparisons, and, or, not, brackets."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from checkpost.demo.answers import Refusal
from checkpost.demo.question import Group, Operator, Test, Where, compared
from checkpost.demo.spellings.base import column_of, test_of
from checkpost.demo.tables import Column, Table

_TOKEN = re.compile(
    r"\s*(?:('(?:[^']|'')*')|([0-9a-fA-F]{8}-[0-9a-fA-F-]{27})|([A-Za-z_][A-Za-z0-9_]*)|([0-9+-][0-9A-Za-z:.+-]*)|(<=|>=|<>|!=|=|<|>|\(|\)|,))"
)


@dataclass(frozen=True)
class Grammar:
    """The signs and words of a grammar; ``functions`` are called with a field and a text. With ``sql`` there
    are IN, LIKE, BETWEEN and IS NULL, and words are in capital or small letters."""

    comparisons: Mapping[str, Operator]
    functions: Mapping[str, Operator]
    sql: bool


def read(grammar: Grammar, table: Table, text: str) -> Where:
    """A condition from its text. Raises Refusal."""
    reader = _Reader(grammar, table, text)
    where = reader.either()
    if reader.token is not None:
        raise _unreadable(text)
    return where


def _unreadable(text: str) -> Refusal:
    return Refusal(400, "Not readable", f"The condition cannot be read: {text[:60]}")


class _Reader:
    def __init__(self, grammar: Grammar, table: Table, text: str) -> None:
        self.grammar, self.table, self.text = grammar, table, text
        self.tokens: list[str] = []
        place = 0
        while place < len(text.rstrip()):
            found = _TOKEN.match(text, place)
            if found is None:
                raise _unreadable(text)
            self.tokens.append(found[0].strip())
            place = found.end()

    @property
    def token(self) -> str | None:
        return self.tokens[0] if self.tokens else None

    def take(self) -> str:
        if not self.tokens:
            raise _unreadable(self.text)
        return self.tokens.pop(0)

    def accept(self, word: str) -> bool:
        token = self.token
        if token is None or (token.lower() if self.grammar.sql else token) != word:
            return False
        self.tokens.pop(0)
        return True

    def expect(self, word: str) -> None:
        if not self.accept(word):
            raise _unreadable(self.text)

    def either(self) -> Where:
        parts = [self.every()]
        while self.accept("or"):
            parts.append(self.every())
        return parts[0] if len(parts) == 1 else Group("or", tuple(parts))

    def every(self) -> Where:
        parts = [self.single()]
        while self.accept("and"):
            parts.append(self.single())
        return parts[0] if len(parts) == 1 else Group("and", tuple(parts))

    def single(self) -> Where:
        if self.accept("not"):
            return Group("not", (self.single(),))
        if self.accept("("):
            inner = self.either()
            self.expect(")")
            return inner
        word = self.take()
        if word in self.grammar.functions and self.accept("("):
            column = column_of(self.table, self.take())
            self.expect(",")
            text = self.literal(column)
            self.expect(")")
            return self.tested(column, self.grammar.functions[word], text)
        column = column_of(self.table, word)
        return self.comparison(column)

    def comparison(self, column: Column) -> Where:
        if self.grammar.sql and self.accept("is"):
            negated = self.accept("not")
            self.expect("null")
            return Test(column, "null", not negated)
        negated = self.grammar.sql and self.accept("not")
        if self.accept("in"):
            self.expect("(")
            values = [self.literal(column)]
            while self.accept(","):
                values.append(self.literal(column))
            self.expect(")")
            found: Where = test_of(column, "in", values)
        elif self.grammar.sql and self.accept("between"):
            low = self.literal(column)
            self.expect("and")
            found = test_of(column, "between", [low, self.literal(column)])
        elif self.grammar.sql and self.accept("like"):
            found = Test(column, "like", self.literal(column))
        else:
            sign = self.take()
            operator = self.grammar.comparisons.get(sign)
            if operator is None:
                raise _unreadable(self.text)
            if self.token == "null" and operator in {"eq", "ne"} and not self.grammar.sql:
                self.take()
                return Test(column, "null", operator == "eq")
            found = self.tested(column, operator, self.literal(column))
        return Group("not", (found,)) if negated else found

    def tested(self, column: Column, operator: Operator, text: str) -> Where:
        if operator not in compared(column):
            raise Refusal(400, "Not readable", f"{column.name} cannot be compared with {operator}.")
        return test_of(column, operator, text)

    def literal(self, column: Column) -> str:
        token = self.take()
        if token.startswith("'"):
            return token[1:-1].replace("''", "'")
        if column.type == "text" or token in {"(", ")", ","}:
            raise _unreadable(self.text)
        return token
