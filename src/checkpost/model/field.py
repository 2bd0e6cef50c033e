"""A field of a resource with its rules, and why something is understood as it is."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cache, cached_property
from typing import Any, Literal

from checkpost.contract.node import Node
from checkpost.model.shape import alternatives

Certainty = Literal["stated", "likely", "guess"]
#: Stands for a value that there is not, where null is a value.
MISSING: Any = type("Missing", (), {"__repr__": lambda self: "MISSING"})()


@cache
def _holds_numbers(pattern: Any) -> bool:
    """Whether a pattern takes numbers with fractions, and nothing else that a table may hold."""
    try:
        rule = re.compile(pattern)
    except (re.error, TypeError):
        return False
    others = ("a", "Z", "1a", "2020-01-02", "1 2", "x-1")
    return all(rule.search(text) for text in ("0", "12", "7.5")) and not any(rule.search(text) for text in others)


#: Formats of texts that hold numbers.
_NUMBERS = frozenset({"decimal", "numeric", "number", "int64", "int32", "bigint", "float", "double", "money"})


@dataclass(frozen=True)
class Reason:
    text: str
    certainty: Certainty


#: What a field is called whose truth one row of all has: setting it takes it from that row.
_ONE_ALONE = re.compile(
    r"(?:is|as|set|make|use)?[-_]?(?:by)?[-_]?(?:default|primary|main|principal|preferred|current|latest|selected)"
    r"(?:[-_]?(?:flag|one|entry|item|row|record|address|contact|version|option|value))?",
    re.I,
)
#: What a field is called that keeps a row from being changed or removed, or takes it out of sight.
_LOCKS = re.compile(
    r"(?:is|set)?[-_]?(?:locked|read[-_]?only|immutable|finali[sz]ed|(?:soft[-_]?)?deleted|removed|trashed|purged)"
    r"(?:[-_]?flag)?|(?:is[-_]?)?lock",
    re.I,
)
#: What a number is called that is a row's place among all: a row that is put before others may move them.
_PLACE = re.compile(
    r"(?:position|ordinal|(?:sort|display|list|row|menu)[-_]?(?:order|index|position|rank|key)|order[-_]?(?:index|no|number)"
    r"|sort[-_]?(?:no|number)|ordering|rank)",
    re.I,
)
#: Marks a field that rows show and no schema has.
UNDESCRIBED = "x-undescribed"


@dataclass(frozen=True)
class Field:
    """One field of a resource and the rules that the contract has for it.

    ``keywords`` are its JSON Schema rules with references and ``allOf`` merged; ``shown`` says whether
    answers have it, ``created``, ``updated`` and ``replaced`` whether those bodies may set it.
    """

    name: str
    keywords: Mapping[str, Any] = field(repr=False)
    types: frozenset[str]
    nullable: bool
    required: bool
    read_only: bool
    write_only: bool
    shown: bool
    created: bool
    updated: bool
    replaced: bool
    unique: bool
    node: Node | None = field(default=None, repr=False, compare=False)
    unique_reason: Reason | None = None

    @property
    def type(self) -> str:
        """The one type it has beside null; empty where there are several or none."""
        return next(iter(self.types)) if len(self.types) == 1 else ""

    @property
    def format(self) -> str:
        return str(self.keywords.get("format", ""))

    @cached_property
    def kind(self) -> str:
        """What its values are when compared: ``number``, ``boolean``, ``date``, ``date-time``, ``uuid``,
        ``text``, or "" where they have no order and no equality to rely on."""
        if self.types and self.types <= {"integer", "number"}:
            return "number"
        if self.types & {"integer", "number"} and self.types <= {"integer", "number", "string"}:
            # a number, or a text that holds one
            patterns = [each.raw("pattern") for each in alternatives(self.node)] if self.node is not None else []
            digits = any(isinstance(each, str) and re.search(r"\\d|0-9", each) for each in patterns)
            return "number" if digits else ""
        if self.type == "boolean":
            return "boolean"
        if self.type == "string" and (self.format in _NUMBERS or _holds_numbers(self.keywords.get("pattern"))):
            return "number"
        if self.type == "string":
            return self.format if self.format in {"date", "date-time", "uuid"} else "text"
        return ""

    @property
    def singles_out(self) -> bool:
        """Whether one row alone may have it true, by its name, so that the API may take it from another."""
        return self.types == {"boolean"} and _ONE_ALONE.fullmatch(self.name) is not None

    @property
    def locks(self) -> bool:
        """Whether a row in which it is true may not be changed, removed or seen any more, by its name."""
        return self.types == {"boolean"} and _LOCKS.fullmatch(self.name) is not None

    @property
    def places(self) -> bool:
        """Whether it is a row's place among all, by its name, so that the API may move others for it."""
        return bool(self.types) and self.types <= {"integer", "number"} and _PLACE.fullmatch(self.name) is not None

    @property
    def default(self) -> Any:
        return self.keywords.get("default", MISSING)

    @property
    def is_text(self) -> bool:
        """Free text: a string whose content no format, pattern or enum prescribes."""
        prescribed = {"enum", "const", "pattern", "contentEncoding"} & set(self.keywords)
        return self.type == "string" and self.format in {"", "string", "text", "varchar"} and not prescribed

    @property
    def max_length(self) -> int | None:
        limit = self.keywords.get("maxLength")
        return int(limit) if isinstance(limit, int | float) else None
